package change_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// repoSheet is a sheet with one repository on and one kept off where it stands.
func repoSheet(unlisted string) *source.Sheet {
	s := &source.Sheet{Format: source.FormName(1), Family: rpm.Family, Unlisted: unlisted}
	for _, d := range []family.Definition{
		{Repository: "gannet-open", Enabled: true, URL: "http://rpm.gannet.example/open/9/x86_64", Signatures: source.CheckRequired, Keys: []family.SigningKey{{Name: "gannet", Fingerprint: "AA", Armored: "-----BEGIN PGP PUBLIC KEY BLOCK-----\nkey\n"}}},
		{Repository: "gannet-licensed", URL: "https://rpm.gannet.example/licensed/9/x86_64", Signatures: source.CheckRequired, Account: "gannet", Kind: "basic"},
	} {
		files, src, _ := rpm.Render(d)
		if !d.Enabled {
			src.IfThere, src.Contract = true, "gannet"
			for i := range files {
				files[i].IfThere = true
			}
		}
		s.Files = append(s.Files, files...)
		s.Sources = append(s.Sources, src)
	}
	return s
}

func dnfHost(t *testing.T, files map[string]string) survey.Result {
	t.Helper()
	root := fstest.MapFS{
		"etc/os-release":   {Data: []byte("ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n")},
		"etc/dnf/dnf.conf": {Data: []byte("[main]\ngpgcheck=1\n")},
	}
	for name, text := range files {
		root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	r := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64"})
	r.Masked()
	return r
}

func carry(t *testing.T, sheet *source.Sheet, have survey.Result) (map[string]string, change.Change) {
	t.Helper()
	c := change.Compute(change.Input{Sheet: sheet, Survey: &have.Survey, Texts: have.Texts})
	after := map[string]string{}
	for p, text := range have.Texts {
		after[p[1:]] = string(text)
	}
	for _, e := range c.Edits {
		if e.Action == change.Remove {
			delete(after, e.Path[1:])
		} else {
			after[e.Path[1:]] = string(e.New)
		}
	}
	return after, c
}

const byHand = "# somebody's own\n[gannet]\nname=Gannet\nbaseurl=https://rpm.gannet.example/licensed/9/x86_64/\n# a comment\nenabled=1\n\n[other]\nname=Other\nbaseurl=http://other.example/\n"

func TestRepoFilesOfSomebodyElse(t *testing.T) {
	for _, c := range []struct{ name, unlisted, want string }{
		{"what is of another choice goes off, whatever is said of unlisted ones", source.UnlistedReport,
			"# somebody's own\n[gannet]\nname=Gannet\nbaseurl=https://rpm.gannet.example/licensed/9/x86_64/\n# a comment\nenabled=0\n\n[other]\nname=Other\nbaseurl=http://other.example/\n"},
		{"unlisted ones go off", source.UnlistedSwitchOff,
			"# somebody's own\n[gannet]\nname=Gannet\nbaseurl=https://rpm.gannet.example/licensed/9/x86_64/\n# a comment\nenabled=0\n\n[other]\nname=Other\nbaseurl=http://other.example/\nenabled=0\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			after, plan := carry(t, repoSheet(c.unlisted), dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": byHand}))
			assert.Equal(t, c.want, after["etc/yum.repos.d/own.repo"])
			assert.Contains(t, after, "etc/yum.repos.d/gannet-open.repo")
			assert.Contains(t, after, "etc/pki/rpm-gpg/gannet.asc")
			assert.NotContains(t, after, "etc/yum.repos.d/gannet-licensed.repo", "it never stood there")
			assert.Empty(t, plan.Impossible)
		})
	}
}

func TestUnlistedSectionsAreRemoved(t *testing.T) {
	after, _ := carry(t, repoSheet(source.UnlistedRemove), dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": byHand}))
	assert.NotContains(t, after["etc/yum.repos.d/own.repo"], "[other]")
	assert.Contains(t, after["etc/yum.repos.d/own.repo"], "[gannet]", "what is of another choice is kept")
	assert.Contains(t, after["etc/yum.repos.d/own.repo"], "enabled=0")
}

func TestAChangeOfRepoFilesSettles(t *testing.T) {
	for _, unlisted := range []string{source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove} {
		sheet := repoSheet(unlisted)
		licensedOn := "[gannet-licensed]\nname=x\nbaseurl=https://rpm.gannet.example/licensed/9/x86_64\nenabled=1\n"
		after, _ := carry(t, sheet, dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": byHand, "etc/yum.repos.d/gannet-licensed.repo": licensedOn}))
		assert.Contains(t, after["etc/yum.repos.d/gannet-licensed.repo"], "enabled=0", "it stood there, so it is kept off")
		again := dnfHost(t, after)
		_, plan := carry(t, sheet, again)
		assert.Empty(t, plan.Edits, unlisted)
		for _, f := range drift.Compare(sheet, &again.Survey) {
			assert.NotEqual(t, drift.SwitchedOn, f.Class, "%+v", f)
		}
	}
}

func TestALicensedSourceOnThatTheHostDoesNotFollowIsNamed(t *testing.T) {
	have := dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": byHand})
	found := drift.Compare(repoSheet(source.UnlistedReport), &have.Survey)
	var messages []string
	for _, f := range found {
		if f.Class == drift.SwitchedOn {
			messages = append(messages, f.Message)
		}
	}
	require.Len(t, messages, 1)
	assert.Equal(t, "gannet-licensed is on here, and this host follows another choice of its channel: https://rpm.gannet.example/licensed/9/x86_64/. It needs a seat in the contract gannet", messages[0])
}

func TestASectionWhoseNameIsNotItsIDCannotBeSwitchedOff(t *testing.T) {
	_, plan := carry(t, repoSheet(source.UnlistedSwitchOff), dnfHost(t, map[string]string{"etc/yum.repos.d/own.repo": "[x-$basearch]\nname=x\nbaseurl=http://other.example/\n"}))
	require.Len(t, plan.Impossible, 1)
	assert.Equal(t, "/etc/yum.repos.d/own.repo:1: x-x86_64 cannot be edited: its section is not written [x-x86_64]", plan.Impossible[0])
}

func TestPasswordsInTextsAreMaskedForTheService(t *testing.T) {
	sheet := repoSheet(source.UnlistedReport)
	sheet.Files[len(sheet.Files)-1].IfThere = false
	have := dnfHost(t, nil)
	after, _ := carry(t, sheet, have)
	again := dnfHost(t, after)
	masked := again.Masked()
	c := change.Compute(change.Input{Sheet: sheet, Survey: &again.Survey, Texts: masked, Masked: true})
	assert.Empty(t, c.Edits, "a name of a variable behind password= is masked on both sides")
}
