package policy_test

import (
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

// keyFiles are the files of some keys of the demo.
func keyFiles(t require.TestingT, names ...string) policy.Folder {
	out := policy.Folder{}
	for _, n := range names {
		text, err := os.ReadFile("../../demo/policy/keys/" + n + ".asc")
		require.NoError(t, err)
		out["keys/"+n+".asc"] = text
	}
	return out
}

// fingerprints are those of the keys that the tests name.
var fingerprints = map[string]string{
	"saltmarsh-2026": "3BFF 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E",
	"saltmarsh-2029": "8D6D 581A 37A0 41F8 EFDB  FDBD 7BE4 EC10 F290 EC00",
	"plover-2024":    "77A2 158C DCC2 E59B BFDA  A323 A3E2 7354 1A1D C1D7",
	"gannet-2025":    "DC3B 5F6F 0982 9689 A99A  91D6 5E99 6511 6CD5 2072",
}

// The entries of every kind that a key can stand in, in every way in which YAML can spell them.
func TestAKeyIsTakenOutHoweverTheFolderIsWritten(t *testing.T) {
	const old = "saltmarsh-2026"
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		d := &spelling{t: t}
		older, second := d.coin("older"), d.coin("second")
		folder := keyFiles(t, slices.Collect(maps.Keys(fingerprints))...)
		keys := []string{old, "saltmarsh-2029", "gannet-2025"}
		succeeds := map[string]string{"saltmarsh-2029": old}
		if older {
			keys, succeeds[old] = append(keys, "plover-2024"), "plover-2024"
		}
		if second {
			succeeds["gannet-2025"] = old
		}
		keys = rapid.Permutation(keys).Draw(t, "keys")
		apart := d.coin("apart") // the key that goes has a file of its own
		var entries, own []string
		for _, k := range keys {
			if apart && k == old {
				own = append(own, d.key(k, succeeds[k]))
			} else {
				entries = append(entries, d.key(k, succeeds[k]))
			}
		}
		repositories := d.repository("base", old) + d.repository("more", old, "saltmarsh-2029") + d.repository("other", "gannet-2025") +
			d.repository("both", "gannet-2025", old)
		if older {
			repositories += d.repository("oldest", "plover-2024")
		}
		used := "  - to: { hosts: [\"gw-01\"] }\n    repositories: [base, more, other, both]\n"
		text := head + "# ü is no byte, saltmarsh-2026\n" + d.section("keys", entries) + "repositories:\n" + repositories +
			"groups:\n  gateways: { hosts: [\"gw-{01..12}.brinewick.test\"] }\nassign:\n" + strings.Replace(used, "{ hosts: [\"gw-01\"] }", "gateways", 1)
		folder["p.yaml"] = d.ends(text)
		if apart {
			folder["own.yaml"] = d.ends(head + d.section("keys", own))
		}
		before, diags := policy.Load(folder, now)
		require.False(t, diag.HasErrors(diags), "%v\n%s", diags, text)
		was := maps.Clone(folder)
		got, err := policy.Retire(folder, old, now)
		require.NoError(t, err, "%s", text)
		require.Equal(t, was, folder, "the folder itself is left")
		assert.Equal(t, []string{"keys/saltmarsh-2026.asc"}, got.Gone)
		maps.Copy(folder, got.Files)
		delete(folder, "keys/saltmarsh-2026.asc")
		after, diags := policy.Load(folder, now)
		require.False(t, diag.HasErrors(diags), "%v\n%s", diags, folder["p.yaml"])
		require.NotContains(t, after.Keys, old)
		for name, r := range before.Repositories {
			want := slices.DeleteFunc(r.Trusts, func(x policy.Text) bool { return x.Value == old })
			assert.ElementsMatch(t, values(want), values(after.Repositories[name].Trusts), "%s\n%s", name, folder["p.yaml"])
		}
		for name, text := range got.Files {
			kept(t, was[name], text)
			require.NotRegexp(t, `(?m)^[^#]*saltmarsh-2026`, string(text))
		}
	})
}

// kept reports remarks that are gone, and a file that begins or ends its lines in another way.
func kept(t *rapid.T, before, after []byte) {
	for line := range strings.Lines(string(before)) {
		if strings.Contains(line, "kept:") {
			require.Contains(t, string(after), strings.TrimSpace(line[strings.Index(line, "#"):]), "a remark of others stays")
		}
	}
	require.Equal(t, strings.Contains(string(before), "\r\n"), strings.Contains(string(after), "\r\n"), "lines end as they did")
	require.Equal(t, strings.HasPrefix(string(before), "\ufeff"), strings.HasPrefix(string(after), "\ufeff"))
	require.LessOrEqual(t, strings.Count(string(after), "\n"), strings.Count(string(before), "\n")+2)
}

func values(list []policy.Text) (out []string) {
	for _, x := range list {
		out = append(out, x.Value)
	}
	return out
}

// retired is the folder of a test with one text, without a key.
func retired(t *testing.T, text, key string) (*policy.Retirement, error) {
	folder := keyFiles(t, slices.Collect(maps.Keys(fingerprints))...)
	folder["p.yaml"] = []byte(text)
	return policy.Retire(folder, key, time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC))
}

func TestAKeyStaysThatCannotGo(t *testing.T) {
	next := strings.Replace(two, "  gannet:\n    file", "  next:\n    file: keys/saltmarsh-2029.asc\n    fingerprint: "+
		fingerprints["saltmarsh-2029"]+"\n    succeeds: saltmarsh\n  gannet:\n    file", 1)
	for _, c := range []struct{ name, text, key, want string }{
		{"one that there is not", two, "saltmrsh", `there is no such key "saltmrsh" in the folder; did you mean "saltmarsh"?`},
		{"the only one of a repository", two, "saltmarsh", "it is the only key of a repository: saltmarsh at p.yaml:10:3; add the vendor's next one first, with succeeds: saltmarsh"},
		{"the only one that is not withdrawn", next + "withdrawn:\n  next: { because: lost }\n", "saltmarsh", "it is the only key of a repository: saltmarsh at p.yaml:14:3; add the vendor's next one first, with succeeds: saltmarsh"},
		{"one that is withdrawn", next + "withdrawn:\n  saltmarsh: { because: lost }\n", "saltmarsh", "hosts are told to take it away, so saltmarsh has to stay: it is withdrawn at p.yaml:26:3"},
		{"of a folder with an error", two + "more: 1\n", "saltmarsh", "the folder has an error: p.yaml:21:1: error[unknown-key]"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := retired(t, c.text, c.key)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
		})
	}
}

func TestWhatIsSaidOfAKeyThatGoes(t *testing.T) {
	text := strings.NewReplacer("  gannet:\n    file", "  next: # saltmarsh is over\n    file: keys/saltmarsh-2026.asc\n    fingerprint: "+
		fingerprints["saltmarsh-2026"]+"\n    succeeds: saltmarsh\n  gannet:\n    file",
		"keys: [gannet]\n", "keys: [gannet, saltmarsh]\n    rpm: { url: \"https://rpm.gannet.example/open\" }\n").Replace(two)
	got, err := retired(t, text, "saltmarsh")
	require.NoError(t, err)
	assert.Empty(t, got.Gone, "the file is that of another key as well")
	assert.Equal(t, []string{"gannet"}, got.Checked, "dnf looks at the signature of each package")
	assert.Equal(t, []diag.Pos{diag.At("p.yaml", 3, 11)}, got.Mentions)
	assert.Contains(t, string(got.Files["p.yaml"]), "keys: [gannet, next]\n")
}

// spelling draws in which way YAML spells something.
type spelling struct{ t *rapid.T }

func (d *spelling) coin(label string) bool { return rapid.Bool().Draw(d.t, label) }

func (d *spelling) quoted(s string) string {
	return rapid.SampledFrom([]string{s, s, `"` + s + `"`, "'" + s + "'"}).Draw(d.t, "quotes")
}

// remark is a comment behind something that stays.
func (d *spelling) remark(of string) string {
	if d.coin("remark") {
		return " # kept: " + of + ", it's [one, {two"
	}
	return ""
}

// key is an entry of keys, without what stands before its lines.
func (d *spelling) key(name, succeeds string) string {
	fields := []string{"file: keys/" + name + ".asc", "fingerprint: " + d.quoted(fingerprints[name])}
	if succeeds != "" {
		fields = append(fields, d.quoted("succeeds")+": "+d.quoted(succeeds))
	}
	fields = rapid.Permutation(fields).Draw(d.t, "fields")
	if d.coin("braces") {
		return d.quoted(name) + ": { " + strings.Join(fields, ", ") + " }"
	}
	sep := "\n    "
	return d.quoted(name) + ":" + sep + strings.Join(fields, sep)
}

// section is a section of entries.
func (d *spelling) section(name string, entries []string) string {
	braces := !slices.ContainsFunc(entries, func(e string) bool { return strings.Contains(e, "\n") })
	if braces && d.coin("section in braces") {
		if d.coin("on lines") {
			return name + ": {\n  " + strings.Join(entries, ",\n  ") + "\n}\n"
		}
		return name + ": { " + strings.Join(entries, ", ") + " }\n"
	}
	out := name + ":\n"
	for _, e := range entries {
		if d.coin("gap") {
			out += "\n"
		}
		if d.coin("comment") {
			out += "  # kept: what follows\n"
		}
		out += "  " + e
		if !strings.Contains(e, "saltmarsh-2026") {
			out += d.remark("a key")
		}
		out += "\n"
	}
	return out
}

// repository is one that names keys.
func (d *spelling) repository(name string, keys ...string) string {
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = d.quoted(k)
	}
	out := "  " + name + ":\n"
	switch rapid.IntRange(0, 3).Draw(d.t, "list") {
	case 0:
		out += "    keys: [" + strings.Join(list, ", ") + "]" + d.remark("a list") + "\n"
	case 1:
		out += "    keys: [\n      " + strings.Join(list, ",\n      ") + ",\n    ]\n"
	case 2:
		out += "    keys:\n    - " + strings.Join(list, "\n    - ") + "\n"
	case 3:
		out += "    keys:\n      # kept: these\n      - " + strings.Join(list, "\n      - ") + "\n"
	}
	return out + "    deb: { url: \"https://" + name + ".saltmarsh.example\", suites: [stable], components: [main] }\n"
}

// ends draws how a file begins and how its lines end.
func (d *spelling) ends(text string) []byte {
	if d.coin("windows") {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	if d.coin("mark") {
		text = "\ufeff" + text
	}
	return []byte(text)
}
