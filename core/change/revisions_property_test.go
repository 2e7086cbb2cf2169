package change_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/standin"
)

// ground is a host of a family before any revision, and how a repository of the policy
// is written there.
type ground struct {
	family string
	files  map[string]string // that every host of it has
	render func(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey)
	own    func(in, name, url, key string) (file, text string) // a definition by hand
	keyDir string
}

var grounds = []ground{
	{
		family: deb.Family,
		files:  map[string]string{"etc/os-release": osRelease, "etc/apt/sources.list": "deb http://archive.skerry.example/skerry mussel main\n"},
		render: func(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey) {
			return deb.Render(deb.Definition{Repository: d.Repository, Enabled: d.Enabled, URL: d.URL, Suites: []string{"stable"}, Components: []string{"main"}, Signatures: d.Signatures, Keys: d.Keys})
		},
		own: func(in, name, url, key string) (string, string) {
			return "etc/apt/sources.list.d/" + in + ".sources", fmt.Sprintf("Types: deb\nURIs: %s\nSuites: stable\nComponents: main\nSigned-By: %s\n", url, key)
		},
		keyDir: "etc/apt/keyrings/",
	},
	{
		family: rpm.Family,
		files:  map[string]string{"etc/os-release": "ID=foreland\nID_LIKE=\"rhel fedora\"\nVERSION_ID=9\n", "etc/dnf/dnf.conf": "[main]\ngpgcheck=1\n"},
		render: rpm.Render,
		own: func(in, name, url, key string) (string, string) {
			return "etc/yum.repos.d/" + in + ".repo", fmt.Sprintf("[%s]\nname=%s\nbaseurl=%s\ngpgkey=file://%s\nenabled=1\ngpgcheck=1\nrepo_gpgcheck=1\n", name, name, url, key)
		},
		keyDir: "etc/pki/rpm-gpg/",
	},
	{
		family: zypp.Family,
		files:  map[string]string{"etc/os-release": "ID=halyard\nID_LIKE=\"suse sles\"\nVERSION_ID=15.3\n", "etc/zypp/zypp.conf": "[main]\n"},
		render: func(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey) {
			files, src, keys, err := zypp.Render(d)
			if err != nil {
				panic(err) // the URLs below are good
			}
			return files, src, keys
		},
		own: func(in, name, url, key string) (string, string) {
			return "etc/zypp/repos.d/" + in + ".repo", fmt.Sprintf("[%s]\nname=%s\nbaseurl=%s\ngpgkey=file://%s\nenabled=1\ngpgcheck=1\nrepo_gpgcheck=1\npkg_gpgcheck=1\n", name, name, url, key)
		},
		keyDir: "etc/pki/rpm-gpg/",
	},
	{
		family: arch.Family,
		files:  map[string]string{"etc/os-release": "ID=driftwood\nID_LIKE=arch\n", "etc/pacman.conf": "[options]\nArchitecture = x86_64\nSigLevel = Required\n\n[driftwood]\nServer = https://archive.driftwood.example/\n"},
		render: arch.Render,
		keyDir: "etc/pki/rpm-gpg/",
	},
}

var vendorKeys = sync.OnceValue(func() []family.SigningKey {
	all, err := standin.Keys()
	if err != nil {
		panic(err)
	}
	var out []family.SigningKey
	for _, name := range []string{"saltmarsh-2026", "saltmarsh-2029"} {
		public, err := all[name].Public()
		if err != nil {
			panic(err)
		}
		out = append(out, family.SigningKey{Name: name, Fingerprint: all[name].Fingerprint(), Armored: public})
	}
	return out
})

func (g ground) read(files map[string]string, sheets ...*source.Sheet) survey.Result {
	root := fstest.MapFS{}
	for name, text := range files {
		root[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	r := survey.Read(rootfs.New(root), survey.Machine{Arch: "x86_64"})
	for _, s := range sheets { // as the agent adds what the package manager does not read as sources
		if s == nil {
			continue
		}
		for _, f := range s.Files {
			if text, there := files[f.Path[1:]]; there {
				r.Texts[f.Path], r.Modes[f.Path] = []byte(text), 0o644
			}
		}
	}
	r.Masked()
	return r
}

// revision draws what the policy says next: names, URLs and keys come from small sets,
// so that a repository is renamed, split, merged and moved all the time.
func (g ground) revision(rt *rapid.T, n int) *source.Sheet {
	s := &source.Sheet{Format: source.FormName(1), Family: g.family, Unlisted: rapid.SampledFrom([]string{source.UnlistedReport, source.UnlistedReport, source.UnlistedSwitchOff, source.UnlistedRemove}).Draw(rt, fmt.Sprint("unlisted", n))}
	urls := rapid.Permutation([]string{"https://one.saltmarsh.example/x", "https://two.saltmarsh.example/x", "https://three.saltmarsh.example/x"}).Draw(rt, fmt.Sprint("urls", n))
	names := rapid.Permutation([]string{"salt", "marsh", "reed", "own"}).Draw(rt, fmt.Sprint("names", n))
	for i := range rapid.IntRange(0, 3).Draw(rt, fmt.Sprint("repositories", n)) {
		key := rapid.SampledFrom(vendorKeys()).Draw(rt, fmt.Sprint("key", n, i))
		files, src, keys := g.render(family.Definition{Repository: names[i], Enabled: true, URL: urls[i], Signatures: source.CheckRequired, Keys: []family.SigningKey{key}})
		s.Sources = append(s.Sources, src)
		for _, f := range files {
			if !slices.ContainsFunc(s.Files, func(x source.SheetFile) bool { return x.Path == f.Path }) {
				s.Files = append(s.Files, f)
			}
		}
		for _, k := range keys {
			if !slices.Contains(s.Keys, k) {
				s.Keys = append(s.Keys, k)
			}
		}
	}
	return s
}

// TestAnySequenceOfRevisionsSettles draws revisions that rename, split, merge and move
// repositories, on hosts that have definitions by hand: after each, the host has what the
// revision says and nothing of the ones before.
func TestAnySequenceOfRevisionsSettles(t *testing.T) {
	for _, g := range grounds {
		t.Run(g.family, func(t *testing.T) {
			drawn := 0
			rapid.Check(t, func(rt *rapid.T) {
				if drawn++; drawn <= cell.Rounds(50) {
					g.sequence(rt)
				}
			})
		})
	}
}

func (g ground) sequence(rt *rapid.T) {
	files := maps.Clone(g.files)
	for _, k := range vendorKeys() {
		files[g.keyDir+"by-hand-"+k.Name] = k.Armored
	}
	if g.own != nil && rapid.Bool().Draw(rt, "own definition") {
		in := rapid.SampledFrom([]string{"by-hand", "own", "a"}).Draw(rt, "own file")
		named := rapid.SampledFrom([]string{in, "own", "salt"}).Draw(rt, "own name")
		name, text := g.own(in, named, "https://one.saltmarsh.example/x", "/"+g.keyDir+"by-hand-saltmarsh-2026")
		if rapid.Bool().Draw(rt, "own off") {
			text = strings.Replace(text, "enabled=1", "enabled=0", 1)
		}
		files[name] = text
	}
	var before *source.Sheet
	for n := range rapid.IntRange(1, 5).Draw(rt, "revisions") {
		sheet := g.revision(rt, n)
		have := g.read(files, sheet, before)
		plan := change.Compute(change.Input{Sheet: sheet, Survey: &have.Survey, Texts: have.Texts, Before: before})
		require.Empty(rt, plan.Impossible)
		was := files
		files = withEdits(files, plan.Edits)
		g.settled(rt, n, sheet, before, was, files)
		now := g.read(files, sheet)
		g.told(rt, plan, sheet, before, have.Survey.Sources, now.Survey.Sources)
		carriesOut(rt, sheet, before, &have.Survey, &now.Survey)
		before = sheet
	}
}

// withEdits are files after some edits.
func withEdits(was map[string]string, edits []change.FileEdit) map[string]string {
	files := maps.Clone(was)
	for _, e := range edits {
		if e.Action == change.Remove {
			delete(files, e.Path[1:])
		} else {
			files[e.Path[1:]] = string(e.New)
		}
	}
	return files
}

// settled holds a host after a change against what the sheet says.
func (g ground) settled(rt *rapid.T, n int, sheet, before *source.Sheet, was, files map[string]string) {
	now := g.read(files, sheet, before)
	story := fmt.Sprintf("revision %d\nbefore: %v\nafter: %v", n, shown(was), shown(files))
	for _, p := range now.Survey.Problems {
		require.False(rt, p.Fatal, "%v\n%s", p, story)
	}
	again := change.Compute(change.Input{Sheet: sheet, Survey: &now.Survey, Texts: now.Texts, Before: sheet})
	require.Empty(rt, again.Edits, story)
	for _, f := range drift.Compare(sheet, &now.Survey) {
		require.True(rt, f.Class == drift.UnlistedSource && sheet.Unlisted == source.UnlistedReport || f.Class == drift.MissingKey, "%v\n%s", f, story)
	}
	for _, want := range sheet.Sources {
		found := 0
		for _, have := range now.Survey.Sources {
			if have.Enabled && source.SameSet(have.EffURLs, want.URLs) {
				found++
			}
		}
		require.Equal(rt, 1, found, "%s %v\n%s", want.ID, want.URLs, story)
	}
	if before == nil {
		return
	}
	for _, f := range before.Files { // nothing of the one before is left, but what it says too
		stays := slices.ContainsFunc(sheet.Files, func(x source.SheetFile) bool { return x.Path == f.Path })
		if _, there := files[f.Path[1:]]; there && !stays {
			named := slices.ContainsFunc(now.Survey.Sources, func(s source.Source) bool {
				return s.Enabled && slices.ContainsFunc(s.SignedBy, func(by string) bool { return strings.TrimPrefix(by, "file://") == f.Path })
			})
			require.True(rt, f.Repository == "" && named, "%s is left\n%s", f.Path, story)
		}
	}
}

// told holds the sources that a plan says go against those that were in use and are not any
// more; what stood for a repository that the policy still has is not said to go.
func (g ground) told(rt *rapid.T, plan change.Change, sheet, before *source.Sheet, was, now []source.Source) {
	keys := func(list []source.Source) map[string]*source.Source {
		out := map[string]*source.Source{}
		for i := range list {
			for _, k := range origin.Keys(&list[i]) {
				if list[i].Enabled {
					out[k] = &list[i]
				}
			}
		}
		return out
	}
	had, has, gone := keys(was), keys(now), map[string]bool{}
	for _, x := range plan.Gone {
		require.NotNil(rt, had[x.Key], "%s goes and was not in use", x.Key)
		require.Nil(rt, has[x.Key], "%s goes and is in use afterwards", x.Key)
		gone[x.Key] = true
	}
	for k, s := range had {
		moved := slices.ContainsFunc(sheet.Sources, func(x source.SheetSource) bool {
			stood := before != nil && slices.ContainsFunc(before.Sources, func(y source.SheetSource) bool {
				return y.Repository == x.Repository && source.SameSet(y.URLs, s.EffURLs)
			})
			return x.File == s.File || stood
		})
		renamed := slices.ContainsFunc(now, func(x source.Source) bool { return x.Enabled && source.SameSet(x.EffURLs, s.EffURLs) })
		require.True(rt, has[k] != nil || gone[k] || moved || renamed, "%s is in use no more, and nobody says so", k)
	}
}

// shown leaves keys out of what a failure shows.
func shown(files map[string]string) map[string]string {
	out := map[string]string{}
	for name, text := range files {
		if !strings.Contains(text, "BEGIN PGP") || strings.HasSuffix(name, ".sources") {
			out[name] = text
		}
	}
	return out
}
