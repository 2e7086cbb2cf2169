package change_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/standin"
)

// saltSheet is a sheet with Saltmarsh's repository of a series.
func saltSheet(t *testing.T, series string) *source.Sheet {
	t.Helper()
	keys, err := standin.Keys()
	require.NoError(t, err)
	public, err := keys["saltmarsh-2026"].Public()
	require.NoError(t, err)
	s := &source.Sheet{Format: source.FormName(1), Family: rpm.Family, Unlisted: source.UnlistedReport}
	files, src, list := rpm.Render(family.Definition{Repository: "saltmarsh", Enabled: true, URL: "https://packages.saltmarsh.example/rpm/" + series + "/9/x86_64", Signatures: source.CheckRequired,
		Keys: []family.SigningKey{{Name: "saltmarsh-2026", Fingerprint: "3BFF82245BECAD4F2FA48C0D00195878414CC58E", Armored: public}}})
	s.Files, s.Sources, s.Keys = files, []source.SheetSource{src}, list
	return s
}

func TestAnEqualDefinitionIsLeftWhereItStands(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	public, err := keys["saltmarsh-2026"].Public()
	require.NoError(t, err)
	const head = "[salt-8]\nname=Saltmarsh\nbaseurl=https://packages.saltmarsh.example/rpm/8.x/$releasever/$basearch/\ngpgkey=file:///etc/pki/rpm-gpg/SALT\n"
	for _, c := range []struct {
		name, text string
		equal      bool
	}{
		{"equal", head + "gpgcheck=1\nrepo_gpgcheck=1\n", true},
		{"off", head + "gpgcheck=1\nrepo_gpgcheck=1\nenabled=0\n", false},
		{"less strict", head + "gpgcheck=1\nrepo_gpgcheck=0\n", false},
		{"another URL too", "[salt-8]\nname=S\nbaseurl=https://packages.saltmarsh.example/rpm/8.x/9/x86_64 https://other.example/\ngpgkey=file:///etc/pki/rpm-gpg/SALT\ngpgcheck=1\nrepo_gpgcheck=1\n", false},
		{"no key", "[salt-8]\nname=S\nbaseurl=https://packages.saltmarsh.example/rpm/8.x/9/x86_64\ngpgcheck=1\nrepo_gpgcheck=1\n", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			have := dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": c.text, "etc/pki/rpm-gpg/SALT": public})
			sheet := saltSheet(t, "8.x")
			_, plan := carry(t, sheet, have)
			found := drift.Compare(sheet, &have.Survey)
			if c.equal {
				assert.Empty(t, plan.Edits)
				assert.Empty(t, found)
				return
			}
			assert.NotEmpty(t, plan.Edits)
			assert.NotEmpty(t, found)
		})
	}
}

func TestWhatWasLeftGoesOffWhenThePolicySaysOtherwise(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	public, err := keys["saltmarsh-2026"].Public()
	require.NoError(t, err)
	have := dnfHost(t, map[string]string{"etc/pki/rpm-gpg/SALT": public,
		"etc/yum.repos.d/own.repo": "[salt-8]\nname=S\nbaseurl=https://packages.saltmarsh.example/rpm/8.x/9/x86_64\ngpgkey=file:///etc/pki/rpm-gpg/SALT\ngpgcheck=1\nrepo_gpgcheck=1\nenabled=1\n"})
	plan := change.Compute(change.Input{Sheet: saltSheet(t, "9.x"), Survey: &have.Survey, Texts: have.Texts, Before: saltSheet(t, "8.x")})
	edits := map[string]string{}
	for _, e := range plan.Edits {
		edits[e.Path] = string(e.New)
	}
	assert.Contains(t, edits["/etc/yum.repos.d/saltmarsh.repo"], "/rpm/9.x/9/x86_64")
	assert.Contains(t, edits["/etc/yum.repos.d/own.repo"], "enabled=0")
	assert.Empty(t, plan.Impossible)
}
