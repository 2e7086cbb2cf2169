package rpm_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

var ask = flag.Bool("ask-dnf5", false, "ask the dnf 5 of this machine about drawn trees, and keep what it says")

// fiveAnswers is what dnf 5 has said of drawn trees: Debian's packages of it are too new for the
// machine that runs the tests.
const fiveAnswers = "testdata/dnf5.jsonl"

type fiveCase struct {
	Tree    map[string]string
	Refused bool
	Facts   []string
}

// keys of the dump that are compared.
var dumped = []string{"baseurl", "mirrorlist", "metalink", "enabled", "gpgcheck", "repo_gpgcheck", "priority", "name", "gpgkey"}

// theirs5 is what dnf 5 says of the repositories of a root.
func theirs5(c *cell.Cell, root string) (out fiveCase, err error) {
	a, err := c.Run(root, "/usr/bin/dnf5", "--releasever=8.6", "--dump-repo-config=*", "repo", "list", "--all")
	if err != nil {
		return out, err
	}
	if a.Code != 0 {
		out.Refused, out.Facts = true, []string{a.Err}
		return out, nil
	}
	id, within, values := "", false, map[string]string{}
	end := func() {
		if within {
			fact := id
			for _, key := range dumped {
				fact += " " + key + "=" + values[key]
			}
			out.Facts = append(out.Facts, fact)
		}
		within, values = false, map[string]string{}
	}
	for line := range strings.Lines(a.Out) {
		line = strings.TrimRight(line, "\n")
		if rest, ok := strings.CutPrefix(line, `======== "`); ok {
			end()
			id, _, _ = strings.Cut(rest, `" `)
			within = true
			continue
		}
		if key, value, ok := strings.Cut(line, " ="); ok && within {
			values[key] = strings.TrimSpace(value)
		} else if !strings.Contains(line, "=") && strings.Contains(line, "repo id") {
			end()
		}
	}
	end()
	slices.Sort(out.Facts)
	return out, nil
}

// shown is a value as the dump's first line has it.
func shown(value string) string {
	first, _, _ := strings.Cut(value, "\n")
	return strings.TrimSpace(first)
}

// ours5 is the same by our reading.
func ours5(root string) (out fiveCase, err error) {
	dir, err := os.OpenRoot(root)
	if err != nil {
		return out, err
	}
	defer dir.Close()
	r := rpm.Read(rootfs.New(dir.FS()), family.Host{Arch: "x86_64", Release: "8.6", DNF5: "5.4.6.0"})
	flagged := map[bool]string{true: "1", false: "0"}
	for _, s := range r.Sources {
		if s.DisabledBy != "" && s.DisabledBy != "flag" {
			continue
		}
		out.Facts = append(out.Facts, fmt.Sprintf("%s baseurl=%s mirrorlist=%s metalink=%s enabled=%s gpgcheck=%s repo_gpgcheck=%s priority=%d name=%s gpgkey=%s",
			s.ID, shown(strings.Join(s.EffURLs, ",")), shown(s.Mirrorlist), shown(s.Metalink), flagged[s.Enabled], flagged[s.Checks.Packages == "required"],
			flagged[s.Checks.Metadata == "required"], *s.Priority, shown(s.Name), shown(strings.Join(s.SignedBy, ","))))
	}
	out.Refused = r.Refused()
	if out.Refused {
		out.Facts = nil
		for _, p := range r.Problems {
			out.Facts = append(out.Facts, p.Message)
		}
	}
	slices.Sort(out.Facts)
	return out, nil
}

// trees5 are trees of dnf 4 with what only dnf 5 reads.
func trees5() *rapid.Generator[map[string]string] {
	pick := func(list ...string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	base := trees()
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := base.Draw(t, "tree")
		out["usr/bin/dnf5"] = ""
		delete(out, "etc/dnf-releasever-of-the-test")
		for name := range out {
			if strings.HasSuffix(name, "vars/releasever") || strings.HasSuffix(name, "vars/arch") || strings.HasSuffix(name, "vars/basearch") {
				delete(out, name)
			}
		}
		line := pick("gpgcheck=0", "gpgcheck=1", "pkg_gpgcheck=0", "baseurl=http://o.example/${v:-none}/", "enabled=0", "enabled=1", "priority=7",
			"repo_gpgcheck=1", "name=Laid over $releasever_major", "metalink=http://m.example/", "sslverify=0", "baseurl=")
		section := pick("gannet", "g*", "*", "[gp]*", "main", "nothing", "plover", "gannet-extra", "?lover")
		for range rapid.IntRange(0, 2).Draw(t, "overrides") {
			name := "etc/dnf/repos.override.d/" + pick("10.repo", "20.repo", "5.repo", "x.conf").Draw(t, "file")
			text := ""
			for range rapid.IntRange(1, 2).Draw(t, "sections") {
				text += "[" + section.Draw(t, "section") + "]\n" + line.Draw(t, "line") + "\n" + line.Draw(t, "line") + "\n"
			}
			out[name] = text
		}
		for range rapid.IntRange(0, 2).Draw(t, "drop-ins") {
			name := "etc/dnf/libdnf5.conf.d/" + pick("10.conf", "90.conf", "x").Draw(t, "file")
			out[name] = "[main]\n" + pick("gpgcheck=1", "gpgcheck=0", "pkg_gpgcheck=1", "repo_gpgcheck=1", "enabled=0", "sslverify=0", "gpgcheck_policy=full", "gpgcheck_policy=all\ngpgcheck=1",
				"gpgcheck_policy=Full").Draw(t, "setting") + "\n"
		}
		return out
	})
}

// Where dnf 5 is, it is asked about drawn trees, and what it says is kept; everywhere we say the same.
func TestReadAgreesWithWhatDNF5Said(t *testing.T) {
	base := t.TempDir()
	if *ask {
		c, err := cell.Open()
		require.NoError(t, err)
		defer func() { require.NoError(t, c.Close()) }()
		var kept []fiveCase
		trees := trees5()
		for n := range 400 {
			tree := trees.Example(n)
			root := filepath.Join(base, "theirs", fmt.Sprint(n))
			require.NoError(t, cell.Write(root, tree))
			said, err := theirs5(c, root)
			require.NoError(t, err)
			said.Tree = tree
			kept = append(kept, said)
		}
		var text bytes.Buffer
		for _, x := range kept { // one on a line
			require.NoError(t, json.NewEncoder(&text).Encode(x))
		}
		require.NoError(t, os.WriteFile(fiveAnswers, text.Bytes(), 0o644))
	}
	text, err := os.ReadFile(fiveAnswers)
	require.NoError(t, err)
	var cases []fiveCase
	for line := range bytes.Lines(text) {
		var x fiveCase
		require.NoError(t, json.Unmarshal(line, &x))
		cases = append(cases, x)
	}
	require.GreaterOrEqual(t, len(cases), 300)
	for n, x := range cases {
		root := filepath.Join(base, fmt.Sprint(n))
		require.NoError(t, cell.Write(root, x.Tree))
		got, err := ours5(root)
		require.NoError(t, err)
		if x.Refused && got.Refused {
			continue // of which fault it tells is not compared
		}
		assert.Equal(t, x.Refused, got.Refused, "%d %q\ntheirs %q\nours %q", n, x.Tree, x.Facts, got.Facts)
		assert.Equal(t, x.Facts, got.Facts, "%d %q", n, x.Tree)
	}
}

// fiveSettings is what dnf 5 has said of each setting of [main] that decides something, with each of some values.
const fiveSettings = "testdata/dnf5-main.json"

// settings5 asks dnf 5 what its settings are where each that decides something has a value.
func settings5(c *cell.Cell, root, text string) (map[string]string, error) {
	if err := cell.Write(root, map[string]string{"etc/dnf/dnf.conf": text, "usr/bin/dnf5": ""}); err != nil {
		return nil, err
	}
	a, err := c.Run(root, "/usr/bin/dnf5", "--releasever=8.6", "--dump-main-config")
	out := map[string]string{}
	for line := range strings.Lines(a.Out) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\n"), " = ")
		if slices.Contains(rpm.SettingsThatDecide(), key) {
			out[key] = value
		}
	}
	return out, err
}

// everySetting is a [main] in which all have one value.
func everySetting(value string) string {
	text := "[main]\n"
	for _, key := range rpm.SettingsThatDecide() {
		follow := key == "gpgcheck_policy" && value == "all"                                 // other checks
		refused := value == "" && (key == "plugin_conf_dir" || key == "pluginconfpath")      // by dnf 5
		if !follow && !refused && (key != "installroot" || !strings.HasPrefix(value, "/")) { // which moves others
			text += key + "=" + value + "\n"
		}
	}
	return text
}

// Each setting of [main] has, with whatever value, what dnf 5 has said, and is told where that is not what it has by itself.
func TestEachSettingIsWhatDNF5Said(t *testing.T) {
	base, said := t.TempDir(), map[string]map[string]string{}
	if *ask {
		c, err := cell.Open()
		require.NoError(t, err)
		defer func() { require.NoError(t, c.Close()) }()
		said["bare"], err = settings5(c, filepath.Join(base, "bare"), "[main]\n")
		require.NoError(t, err)
		for i, value := range mainValues {
			said["="+value], err = settings5(c, filepath.Join(base, fmt.Sprint("theirs", i)), everySetting(value))
			require.NoError(t, err)
		}
		text, err := json.MarshalIndent(said, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(fiveSettings, append(text, '\n'), 0o644))
	}
	text, err := os.ReadFile(fiveSettings)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &said))
	for i, value := range mainValues {
		root := filepath.Join(base, fmt.Sprint(i))
		require.NoError(t, cell.Write(root, map[string]string{"etc/dnf/dnf.conf": everySetting(value), "usr/bin/dnf5": ""}))
		got := settingsOf(t, root)
		require.NotEmpty(t, said["="+value])
		for key, want := range said["="+value] {
			if slices.Contains(secretSettings, key) || key == "module_platform_id" { // of which the dump never says anything
				continue
			}
			have, set := got[key]
			if !set {
				have = said["bare"][key]
			}
			if want == "" && !set { // emptied: nobody can tell it from not set
				have = ""
			}
			assert.Equal(t, strings.ReplaceAll(want, ", ", ","), strings.ReplaceAll(have, ", ", ","), "%s=%s (%q by itself)", key, value, said["bare"][key])
		}
	}
}
