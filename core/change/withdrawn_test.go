package change_test

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// A key that the policy withdraws is taken out of wherever it is believed, its neighbours stay, and no healing brings
// it back from how the host stood when the policy came.
func TestAWithdrawnKeyIsTakenOutOfWhereItIsBelieved(t *testing.T) {
	const old, ring = "etc/apt/trusted.gpg.d/old.asc", "etc/apt/trusted.gpg.d/old.gpg"
	for _, c := range []struct {
		name  string
		at    place
		key   int
		kept  bool   // it is the distribution's own
		file  string // where it stands
		left  string // what the file holds then; "-": it is set aside
		stays bool
	}{
		{"a file of its own", debPlace().with(tree{old: armoured(handKeys[3])}), 3, false, old, "-", false},
		{"beside another, binary", debPlace().with(tree{ring: binary(handKeys[2]) + binary(handKeys[3])}), 3, false, ring, binary(handKeys[2]), false},
		{"in front of another", debPlace().with(tree{ring: binary(handKeys[3]) + binary(handKeys[2])}), 3, false, ring, binary(handKeys[2]), false},
		{"beside another, in armour", debPlace().with(tree{old: armoured(handKeys[3]) + armoured(handKeys[2])}), 3, false, old, armoured(handKeys[2]), false},
		{"a file that a source names", debPlace(), 2, false, "etc/apt/keyrings/plover.asc", "-", false},
		{"a file that no change writes", debPlace(), 1, false, "usr/share/keyrings/skerry.asc", "", true},
		{"the distribution's own", debPlace(), 1, true, "etc/apt/trusted.gpg.d/skerry.asc", "", true},
		{"a file that a section names", rpmPlace(), 2, false, "etc/pki/rpm-gpg/PLOVER", "-", false},
		{"a file that only the distribution names", zyppPlace(t), 1, false, "etc/keys/halyard.asc", "", true},
		{"a file that zypper is told of", zyppPlace(t).with(tree{"etc/zypp/repos.d/own.repo": "[own]\nenabled=1\nbaseurl=http://own.example/\n" +
			"gpgkey=file:///etc/keys/own.asc\n", "etc/keys/own.asc": armoured(handKeys[3])}), 3, false, "etc/keys/own.asc", "-", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := c.at.carried(t)
			stood := look(p.files, p.modes, p.sheet)
			withdrawn := *p.sheet
			fingerprint := keyring.Fingerprint(handKeys[c.key].Entity)
			withdrawn.Withdrawn = []source.SheetWithdrawn{{Key: "somebody", Fingerprint: fingerprint, Because: "it was lost", Stays: c.kept}}
			before := p.sheet
			p.sheet = &withdrawn
			base := &drift.Base{Sheet: before, Survey: &stood.Survey}
			told := func() (out []drift.Finding) {
				r := look(p.files, p.modes, p.sheet)
				for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: before, Survey: &r.Survey, Base: base}) {
					if f.Class == drift.KeyWithdrawn && f.File == "/"+c.file {
						out = append(out, f)
					}
					assert.NotContains(t, []string{drift.MissingKey, drift.KeyAdded, drift.KeyWider, drift.ChangedText}, f.Class, "%+v", f)
				}
				return out
			}
			found := told()
			require.Len(t, found, 1)
			assert.Equal(t, drift.Danger, found[0].Severity)
			assert.Equal(t, c.stays, found[0].Stays)
			if c.stays {
				assert.NotEmpty(t, found[0].ClosedBy())
			}
			text := p.files[c.file]

			r := look(p.files, p.modes, p.sheet)
			plan := change.Compute(change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts, Before: before})
			p.take(plan)
			if c.stays {
				assert.Equal(t, text, p.files[c.file])
				return
			}
			if c.left == "-" {
				assert.NotContains(t, p.files, c.file)
				assert.Equal(t, text, p.files[c.file+change.Aside], "it is kept where nothing reads it")
			} else {
				assert.True(t, same(t, c.left, p.files[c.file]))
			}
			assert.Empty(t, told())

			r = look(p.files, p.modes, p.sheet)
			again := change.Input{Sheet: p.sheet, Survey: &r.Survey, Texts: r.Texts, Before: p.sheet, Base: base, Stood: stood.Texts}
			for _, e := range change.Compute(again).Edits {
				assert.NotEqual(t, "/"+c.file, e.Path, "healing brings nothing back")
			}

			// Somebody puts it there once more, with a word of their own.
			p.files = maps.Clone(p.files)
			p.files[c.file] = text
			require.Len(t, told(), 1)
			r = look(p.files, p.modes, p.sheet)
			again.Survey, again.Texts = &r.Survey, r.Texts
			p.take(change.Compute(again))
			assert.Empty(t, told())
		})
	}
}

// same reports whether two files hold the same certificates, the binary ones to the byte.
func same(t *testing.T, a, b string) bool {
	t.Helper()
	if !strings.HasPrefix(a, "-----") {
		return a == b
	}
	prints := func(text string) (out []string) {
		keys, err := keyring.Read([]byte(text), keyring.At{Now: asOf})
		require.NoError(t, err)
		for _, k := range keys {
			out = append(out, k.Fingerprint)
		}
		return out
	}
	return slices.Equal(prints(a), prints(b))
}

// What the policy has switched off is as it says, however its place is said.
func TestWhatIsOffIsNoFinding(t *testing.T) {
	mirrors := []string{"http://north.saltmarsh.example/x", "http://south.saltmarsh.example/x"}
	off := func(more func(d *family.Definition)) family.Definition {
		d := saltmarsh("https://packages.saltmarsh.example/x")
		d.Enabled = false
		more(&d)
		return d
	}
	kinds := map[string]family.Definition{
		"plain":    off(func(*family.Definition) {}),
		"mirrors":  off(func(d *family.Definition) { d.URL, d.Mirrors = "", mirrors }),
		"title":    off(func(d *family.Definition) { d.Title = "Salt marshes" }),
		"proxy":    off(func(d *family.Definition) { d.Proxy = "http://proxy.brinewick.test:3128" }),
		"no check": off(func(d *family.Definition) { d.Signatures, d.Keys = source.CheckOff, nil }),
		"licensed": off(func(d *family.Definition) { d.Account, d.Kind = "gannet", credential.Basic }),
	}
	for name, d := range kinds {
		for _, p := range []place{debPlace(), rpmPlace(), zyppPlace(t), archPlace(), flatpakPlace()} {
			family := p.sheet.Family
			if name == "mirrors" && len(p.sheet.Sources) > 1 || name == "licensed" && len(p.sheet.Sources) > 1 {
				continue // flatpak has neither
			}
			t.Run(family+" "+name, func(t *testing.T) {
				sheet := *p.sheet
				sheet.Files, sheet.Sources, sheet.Keys = nil, nil, nil
				var files []source.SheetFile
				var src source.SheetSource
				var keys []source.SheetKey
				var err error
				switch {
				case len(p.sheet.Sources) > 1:
					files, src, keys = flatpak.Render(d)
				case family == deb.Family:
					files, src, keys = deb.Render(deb.Definition{Repository: d.Repository, URL: d.URL, Mirrors: d.Mirrors, Title: d.Title,
						Suites: []string{"stable"}, Components: []string{"main"}, Signatures: d.Signatures, Keys: d.Keys})
				case family == rpm.Family:
					files, src, keys = rpm.Render(d)
				case family == zypp.Family:
					files, src, keys, err = zypp.Render(d)
				default:
					files, src, _ = arch.Render(d) // what is in pacman's keyring is looked at elsewhere
				}
				require.NoError(t, err)
				sheet.Sources, sheet.Keys = []source.SheetSource{src}, keys
				for _, f := range files {
					if f.Repository != "" || family != arch.Family {
						sheet.Files = append(sheet.Files, f)
					}
				}
				p.sheet = &sheet
				done := p.carried(t)
				r := look(done.files, done.modes, done.sheet)
				for _, f := range drift.Judge(drift.Input{Sheet: done.sheet, Before: done.sheet, Survey: &r.Survey}) {
					assert.Equal(t, drift.UnlistedSource, f.Class, "%+v", f)
				}
			})
		}
	}
}

// A key that a change has put into a keyring goes out again with the last repository of the policy that goes by it, and
// no other key does.
func TestAKeyThatAChangeHasAddedGoesAgain(t *testing.T) {
	const ring, ours, other = "/etc/pacman.d/gnupg/pubring.gpg", "0123456789ABCDEF0123456789ABCDEF01234567", "FEDCBA9876543210FEDCBA9876543210FEDCBA98"
	for _, c := range []struct {
		name    string
		added   []string
		wanted  []string
		unknown bool // somebody's own source is on
		where   string
		goes    bool
	}{
		{"nothing names it any more", []string{ours}, nil, false, ring, true},
		{"a repository names it", []string{ours}, []string{ours}, false, ring, false},
		{"somebody else put it there", []string{other}, nil, false, ring, false},
		{"somebody's own source may go by it", []string{ours}, nil, true, ring, false},
		{"it stands in a file", []string{ours}, nil, false, "/etc/pacman.d/lantern-keys/x.asc", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := archPlace().carried(t)
			if c.unknown {
				p.files[pacFile] += "\n[own]\nServer = http://own.example/\n"
			}
			r := look(p.files, p.modes, p.sheet)
			r.Survey.Keys = append(r.Survey.Keys, source.Key{Fingerprint: ours, Where: c.where, Scope: source.ScopeAny, Used: true})
			sheet := *p.sheet
			for _, f := range c.wanted {
				sheet.Keys = append(sheet.Keys, source.SheetKey{Name: "x", Fingerprint: f})
			}
			got := change.Compute(change.Input{Sheet: &sheet, Before: p.sheet, Survey: &r.Survey, Texts: r.Texts, Added: c.added})
			assert.Equal(t, c.goes, len(got.Distrusts) == 1, "%+v", got.Distrusts)
			assert.Equal(t, c.goes, got.Any())
			assert.Equal(t, c.goes, strings.Contains(got.Diff(), "-key "+ours))
		})
	}
}
