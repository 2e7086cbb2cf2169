package choice

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/source"
)

// A lock by what no list of packages tells leaves in doubt what it may be for, and nothing else.
func TestWhatALockLeavesInDoubt(t *testing.T) {
	const by = "solvable_summary: tide*"
	for _, x := range []struct {
		criteria, taken, installed string
		doubted, anywhere          bool
	}{
		{by, "2", "", true, true},
		{by, "2", "1", true, true},
		{"type: pattern; " + by, "2", "1", false, false},
		{"match_type: exact; type: pattern; " + by, "2", "1", false, false},
		{"version: < 2; " + by, "1", "", true, true},
		{"version: < 2; " + by, "3", "", false, true},
		{"version: < 2; " + by, "3", "1", true, true}, // the installed one is not replaced then
		{"install_status: installed; " + by, "2", "1", true, true},
		{"install_status: installed; " + by, "2", "", false, true},
		{"install_status: not-installed; " + by, "2", "", true, true},
		{"solvable_name: tide", "2", "", false, false},
		{"version: < 2", "1", "1", false, false},
	} {
		hold := source.Hold{Family: source.FamilyZypp, Kind: source.HoldLock, What: "*", Criteria: x.criteria, File: "/etc/zypp/locks"}
		h := &Host{Survey: &source.Survey{Holds: []source.Hold{hold}}}
		c := &Choice{Family: source.FamilyZypp, Installed: x.installed, Taken: &Offered{Package: index.Package{Version: x.taken}}}
		h.doubt(c)
		assert.Equal(t, x.doubted, c.Untold != "", "%+v: %s", x, c.Untold)
		assert.Equal(t, x.anywhere, h.Untold() != "", "%+v", x)
	}
}
