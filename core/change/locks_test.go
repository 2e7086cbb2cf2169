package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/zypp"
)

// Where zypper would not go by what is written nothing is written, and that is said.
func TestLocksAreWrittenWhereZypperGoesByThem(t *testing.T) {
	for conf, want := range map[string]string{
		"":                              "",
		"locksfile.apply = yes\n":       "",
		"locksfile.apply = no\n":        "zypper goes by no locks here (main.locksfile.apply), so nothing can be held",
		"locksfile.path = /var/locks\n": "zypper's locks stand in /var/locks (main.locksfile.path), where the policy writes nothing",
	} {
		p := zyppPlace(t).with(tree{zyppConf: "[main]\n" + conf})
		r := look(p.files, nil, p.sheet)
		plan := change.Compute(change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts})
		written := ""
		for _, e := range plan.Edits {
			if e.Path == zypp.Locks {
				written = string(e.New)
			}
		}
		if want == "" {
			assert.Empty(t, plan.Impossible)
			assert.Equal(t, p.files[zyppLock]+policysLock, written)
			continue
		}
		require.Equal(t, []string{want}, plan.Impossible)
		assert.Empty(t, written)
	}
}

// A list that a policy alone has filled goes with what it held.
func TestAListOfLocksThatNobodyElseUsesGoesAgain(t *testing.T) {
	p := zyppPlace(t)
	delete(p.files, zyppLock)
	p = p.carried(t)
	require.Equal(t, policysLock, p.files[zyppLock])
	bare := *p.sheet
	bare.Locks = nil
	r := look(p.files, p.modes, &bare)
	plan := change.Compute(change.Input{Sheet: &bare, Before: p.sheet, Survey: &r.Survey, Texts: r.Texts})
	require.Len(t, plan.Edits, 1)
	assert.Equal(t, zypp.Locks, plan.Edits[0].Path)
	assert.Equal(t, change.Remove, plan.Edits[0].Action)
}
