package change_test

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/keyforms"
)

// believed is whom a host believes: each key that is used, how widely, and until when.
func believed(r *survey.Result) []string {
	var out []string
	for _, k := range r.Survey.Keys {
		if k.Used {
			ends := "never"
			if k.Expires != nil {
				ends = k.Expires.String()
			}
			where := k.Where // sources name the file
			if k.Scope == source.ScopeAny {
				where = "" // wherever it stands
			}
			out = append(out, fmt.Sprint("key ", k.Fingerprint, " ", k.Scope, " ", where, " ends ", ends, " revoked ", k.Revoked))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// forms are ways in which keys are written; gpg itself is not asked for any.
var forms = slices.DeleteFunc(slices.Clone(keyforms.Names()), func(name string) bool { return strings.Contains(name, "keybox") })

// keyEdit draws what a hand, a script or a broken copy makes of a file of keys.
func keyEdit(rt *rapid.T, text string) (string, string) {
	key := rapid.SampledFrom(handKeys[:]).Draw(rt, "key")
	other := keyforms.Write(rapid.SampledFrom(forms).Draw(rt, "form"), []byte(binary(key)), armoured(key))
	at := rapid.IntRange(0, len(text)).Draw(rt, "at")
	switch rapid.SampledFrom([]string{"another", "before", "behind", "within", "cut", "empty", "byte", "gone", "crlf", "line"}).Draw(rt, "how") {
	case "another":
		return other, "another key"
	case "before":
		return other + "\n" + text, "another key before it"
	case "behind":
		return text + "\n" + other, "another key behind it"
	case "within":
		return text[:at] + other + text[at:], "another key within it"
	case "cut":
		return text[:at], "cut off"
	case "empty":
		return "", "emptied"
	case "byte":
		if at == len(text) {
			return text, "as it was"
		}
		return text[:at] + string(text[at]^byte(1<<rapid.IntRange(0, 7).Draw(rt, "bit"))) + text[at+1:], "another bit"
	case "crlf":
		return strings.ReplaceAll(text, "\n", "\r\n"), "with the line ends of another system"
	case "line":
		lines := strings.SplitAfter(text, "\n")
		k := rapid.IntRange(0, len(lines)-1).Draw(rt, "line")
		return strings.Join(slices.Delete(lines, k, k+1), ""), "without a line"
	}
	return "", "taken away"
}

// newKeys are where somebody may put a key that was not there.
var newKeys = map[string][]string{
	"deb": {"etc/apt/trusted.gpg", "etc/apt/trusted.gpg.d/a.gpg", "etc/apt/trusted.gpg.d/z.asc", "etc/apt/trusted.gpg.d/.x.gpg", "etc/apt/keyrings/new.asc"},
	"rpm": {"etc/pki/rpm-gpg/NEW"}, "zypp": {"etc/pki/rpm-gpg/NEW"},
}

// No key comes to be believed, goes, or is believed more widely or for longer, without a finding; and healing puts
// back what was there.
func TestAnyEditOfAKeyIsFound(t *testing.T) {
	for name, p := range map[string]place{"apt": debPlace(), "dnf": rpmPlace(), "zypper": zyppPlace(t), "flatpak": flatpakPlace()} {
		t.Run(name, func(t *testing.T) { anyKey(t, p.carried(t)) })
	}
}

func anyKey(t *testing.T, p place) {
	before := look(p.files, p.modes, p.sheet)
	base := &drift.Base{Sheet: p.sheet, Survey: &before.Survey}
	usual := map[string]bool{}
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &before.Survey, Base: base}) {
		usual[f.Key()] = true
	}
	was := believed(&before)
	require.NotEmpty(t, was)
	var files []string
	for _, k := range before.Survey.Keys {
		if _, there := p.files[strings.TrimPrefix(k.Where, "/")]; there {
			files = append(files, strings.TrimPrefix(k.Where, "/"))
		}
	}
	slices.Sort(files)
	files = slices.Compact(files)
	if len(files) == 0 {
		t.Skip("its keys stand in a database")
	}
	done, most := 0, cell.Rounds(30)
	rapid.Check(t, func(rt *rapid.T) {
		if done == most {
			return
		}
		now := place{files: maps.Clone(p.files), sheet: p.sheet, modes: maps.Clone(p.modes)}
		file := rapid.SampledFrom(files).Draw(rt, "file")
		fresh := newKeys[p.sheet.Family]
		var did string
		if len(fresh) > 0 && rapid.IntRange(0, 3).Draw(rt, "new") == 0 {
			file = rapid.SampledFrom(fresh).Draw(rt, "new file")
			now.files[file], did = keyEdit(rt, "")
		} else {
			now.files[file], did = keyEdit(rt, p.files[file])
		}
		if did == "taken away" {
			delete(now.files, file)
		}
		if rapid.IntRange(0, 5).Draw(rt, "mode") == 0 {
			now.modes[file] = rapid.SampledFrom([]fs.FileMode{0o600, 0o640, 0o666, 0o644}).Draw(rt, "as")
			did += fmt.Sprint(", mode ", now.modes[file])
		}
		r := look(now.files, now.modes, now.sheet)
		is := believed(&r)
		var found []drift.Finding
		for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
			if !usual[f.Key()] {
				found = append(found, f)
			}
		}
		if !slices.Equal(was, is) {
			require.NotEmpty(rt, found, "%s: %s\nwas %v\nis  %v", file, did, was, is)
			if slices.ContainsFunc(is, func(k string) bool { return !slices.Contains(was, k) && strings.Contains(k, " any ") }) {
				require.True(rt, slices.ContainsFunc(found, func(f drift.Finding) bool { return f.Severity == drift.Danger }), "%s: %s\n%v\n%+v", file, did, is, found)
			}
		}
		heals(rt, now, []string{file, did}, base, before, before.Texts)
		done++
	})
}
