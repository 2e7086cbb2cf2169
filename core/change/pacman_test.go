package change_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

const pacmanConf = "[options]\nArchitecture = x86_64\nSigLevel = Required DatabaseOptional\n\n[driftwood]\nServer = http://archive.driftwood.example/$repo\n"

// archSheet has each repository on, or off where it stands.
func archSheet(repositories map[string]bool) *source.Sheet {
	s := &source.Sheet{Format: source.FormName(1), Family: arch.Family, Unlisted: source.UnlistedReport}
	for _, name := range []string{"fulmar", "gannet-licensed", "gannet-open"} {
		on, there := repositories[name]
		if !there {
			continue
		}
		files, src, _ := arch.Render(family.Definition{Repository: name, Enabled: on, URL: "https://arch.gannet.example/" + name, Signatures: source.CheckRequired})
		if !on {
			files[0].IfThere, src.IfThere = true, true
		}
		s.Files, s.Sources = append(s.Files, files...), append(s.Sources, src)
	}
	return s
}

func pacmanHost(files map[string]string) survey.Result {
	root := fstest.MapFS{"etc/os-release": {Data: []byte("ID=driftwood\nID_LIKE=arch\n")}}
	for name, text := range files {
		root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	r := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64"})
	for name, text := range files { // as the agent adds what pacman does not read
		if _, ok := r.Texts["/"+name]; !ok {
			r.Texts["/"+name], r.Modes["/"+name] = []byte(text), 0o644
		}
	}
	r.Masked()
	return r
}

func TestPacmanConfIncludesWhatThePolicyGives(t *testing.T) {
	after, plan := carry(t, archSheet(map[string]bool{"fulmar": true, "gannet-open": true, "gannet-licensed": false}), pacmanHost(map[string]string{"etc/pacman.conf": pacmanConf}))
	require.Empty(t, plan.Impossible)
	assert.Equal(t, pacmanConf+"\n# Patient Lantern's repositories, each in a file of its own.\nInclude = /etc/pacman.d/lantern-fulmar.conf\nInclude = /etc/pacman.d/lantern-gannet-open.conf\n", after["etc/pacman.conf"])
	assert.NotContains(t, after, "etc/pacman.d/lantern-gannet-licensed.conf")
	have := pacmanHost(after)
	assert.Empty(t, have.Survey.Problems)
	_, again := carry(t, archSheet(map[string]bool{"fulmar": true, "gannet-open": true, "gannet-licensed": false}), have)
	assert.Empty(t, again.Edits, "it settles")
	for _, f := range drift.Compare(archSheet(map[string]bool{"fulmar": true, "gannet-open": true}), &have.Survey) {
		assert.Equal(t, drift.UnlistedSource, f.Class, "%+v", f)
		assert.Equal(t, drift.Note, f.Severity)
	}
}

func TestAnIncludeGoesWithItsFile(t *testing.T) {
	before := archSheet(map[string]bool{"fulmar": true, "gannet-open": true})
	after, _ := carry(t, before, pacmanHost(map[string]string{"etc/pacman.conf": pacmanConf}))
	have := pacmanHost(after)
	c := change.Compute(change.Input{Sheet: archSheet(map[string]bool{"gannet-open": true}), Survey: &have.Survey, Texts: have.Texts, Before: before})
	require.Len(t, c.Edits, 2)
	assert.Equal(t, "/etc/pacman.conf", c.Edits[0].Path)
	assert.NotContains(t, string(c.Edits[0].New), "lantern-fulmar")
	assert.Contains(t, string(c.Edits[0].New), "lantern-gannet-open")
	assert.Equal(t, change.Remove, c.Edits[1].Action)
}

func TestARepositoryOfTheSameNameIsNotDoubled(t *testing.T) {
	_, plan := carry(t, archSheet(map[string]bool{"fulmar": true}), pacmanHost(map[string]string{"etc/pacman.conf": pacmanConf + "[fulmar]\nServer = http://x.example/\n"}))
	require.Empty(t, plan.Impossible)
	require.Len(t, plan.Edits, 2)
	assert.Contains(t, string(plan.Edits[0].New), "\n#[fulmar]\n#Server = http://x.example/\n")
	assert.Contains(t, plan.Edits[0].Why, "line 7 defines fulmar a second time")
}

func TestWithoutAPacmanConf(t *testing.T) {
	have := survey.Result{Texts: map[string][]byte{}}
	_, plan := carry(t, archSheet(map[string]bool{"fulmar": true}), have)
	assert.Equal(t, []string{"/etc/pacman.conf is not there, so no repository of the policy can be included"}, plan.Impossible)
}
