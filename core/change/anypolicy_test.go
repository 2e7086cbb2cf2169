package change_test

import (
	"encoding/json"
	"fmt"
	"html"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// oddPieces are what formats of lines, URLs and variables stumble over.
var oddPieces = []string{
	"#", ";", ":", "=", "\"", "'", "\\", "$", "$${x}", "$releasever", "$(ARCH)", "%", "%20", "%41", "@", "/", "//", "?", "?a=b", "?repo=foreland-9-x86_64", "&", "+", ",", "[", "]", "{", "}", "(", ")",
	" ", "  ", "\t", "\n", "\r", "é", "\u2028", "\u00a0", "~", "*", "!", "|", "<", ">", "^", "`", "a", "Z", "7", ".", "..", "-", "_", "main", "stable", "no", "true", "0",
}

// oddText is a word of what people write, with something odd in it now and then.
func oddText(rt *rapid.T, what string, plain ...string) string {
	text := rapid.SampledFrom(plain).Draw(rt, what)
	for range max(0, rapid.IntRange(-24, 2).Draw(rt, what+", odd")) {
		at := rapid.IntRange(min(strings.Index(text, "://")+12, len(text)), len(text)).Draw(rt, what+", at") // of a URL the path
		text = text[:at] + rapid.SampledFrom(oddPieces).Draw(rt, what+", piece") + text[at:]
	}
	return text
}

func seldomOdd(rt *rapid.T, what string, plain ...string) string {
	if rapid.IntRange(0, 3).Draw(rt, what+", seldom") > 0 {
		return rapid.SampledFrom(plain).Draw(rt, what)
	}
	return oddText(rt, what, plain...)
}

func oddList(rt *rapid.T, what string, most int, plain ...string) (out []string) {
	for i := range rapid.IntRange(1, most).Draw(rt, what+"s") {
		out = append(out, oddText(rt, fmt.Sprint(what, i), plain...))
	}
	return out
}

// oddRepository draws what a team writes of a repository, with a slip here and there.
func oddRepository(rt *rapid.T, name string) map[string]any {
	out := map[string]any{}
	if rapid.Bool().Draw(rt, "titled") {
		out["title"] = oddText(rt, "title", "Saltmarsh database", "[x]", "a=b", "x")
	}
	if key := rapid.SampledFrom(vendorKeys()).Draw(rt, "key"); rapid.Bool().Draw(rt, "checked") {
		out["keys"] = []string{key.Name}
	} else {
		out["signatures"], out["because"] = "off", oddText(rt, "because", "a mirror of our own", "x")
	}
	if rapid.IntRange(0, 3).Draw(rt, "off") == 0 {
		out["enabled"] = false
	}
	from := func(family string) map[string]any {
		p := map[string]any{}
		places := []string{"https://packages.saltmarsh.example/", "http://127.0.0.1:7801/a/b/", "file:///srv/shelf/", "ftp://h.example/", "https://[::1]:80/"}
		for i := range places {
			places[i] += name // two repositories are not one source
		}
		if family != flatpak.Family && rapid.IntRange(0, 3).Draw(rt, family+", mirrored") == 0 {
			p["mirrors"] = oddList(rt, family+", mirror", 3, places...)
		} else {
			p["url"] = oddText(rt, family+", url", places...)
		}
		if family != arch.Family && rapid.IntRange(0, 3).Draw(rt, family+", first") == 0 {
			p["priority"] = rapid.SampledFrom([]int{-1, 1, 10, 99, 100, 500, 990, 1001, 9999}).Draw(rt, family+", priority")
		}
		return p
	}
	deb := from("deb")
	deb["suites"] = oddList(rt, "suite", 2, rapid.SampledFrom([][]string{{"stable", "mussel", "rolling/updates"}, {"./", "/", "x/"}}).Draw(rt, "suites")...)
	if strings.HasSuffix(deb["suites"].([]string)[0], "/") == (rapid.IntRange(0, 9).Draw(rt, "components") == 9) {
		deb["components"] = oddList(rt, "component", 2, "main", "contrib/free")
	}
	if _, has := deb["priority"]; has {
		deb["release"] = map[string]string{"origin": oddText(rt, "origin", "Saltmarsh", "Salt Marsh"), "codename": oddText(rt, "codename", "swift")}
	}
	if rapid.IntRange(0, 4).Draw(rt, "architectures") == 0 {
		deb["architectures"] = oddList(rt, "architecture", 2, "amd64", "arm64")
	}
	if rapid.IntRange(0, 4).Draw(rt, "kinds") == 0 {
		deb["kinds"] = rapid.Permutation([]string{"binary", "source"}).Draw(rt, "kind")[:rapid.IntRange(1, 2).Draw(rt, "of kinds")]
	}
	out["deb"] = deb
	for _, f := range []string{"rpm", "zypp", "arch", "flatpak"} {
		out[f] = from(f)
	}
	if rapid.IntRange(0, 3).Draw(rt, "files") == 0 {
		further := map[string]any{}
		for _, f := range []string{"rpm", "zypp", "arch"} {
			further[f] = map[string]any{"url": oddText(rt, "further "+f, "https://tools.saltmarsh.example/"+name)}
		}
		out["files"] = map[string]any{oddText(rt, "further", "tools", "debug"): further}
	}
	return out
}

// oddSite draws a site with mirrors of places that repositories and the distribution's own entries have.
func oddSite(rt *rapid.T) map[string]any {
	out := map[string]any{}
	from := []string{"https://packages.saltmarsh.example/", "http://127.0.0.1:7801/", "https://archive.foreland.example/", "http://archive.skerry.example/", "http://archive.skerry.example/skerry/", "https://archive.halyard.example/", "https://archive.driftwood.example/"}
	to := []string{"http://mirror.reef.brinewick.test/a/", "http://mirror.reef.brinewick.test/b", "https://[::1]:8443/c/", "file:///srv/mirror/"}
	mirrors := func(what string, from []string) map[string]string {
		out := map[string]string{}
		for i := range rapid.IntRange(1, 3).Draw(rt, what+"s") {
			at := seldomOdd(rt, fmt.Sprint(what, i, " at"), to...) // each its own: of two upstreams with one mirror the first comes back
			out[seldomOdd(rt, fmt.Sprint(what, i), from...)] = strings.TrimSuffix(at, "/") + fmt.Sprintf("/%s-%d/", what, i)
		}
		return out
	}
	out["mirrors"] = mirrors("mirror", from)
	for _, list := range []string{"metalinks", "mirrorlists"} {
		if rapid.IntRange(0, 2).Draw(rt, list) == 0 {
			out[list] = mirrors(list, []string{"https://mirrors.foreland.example/" + list + "?repo=base-$releasever&arch=$basearch", "https://mirrors.halyard.example/" + list})
		}
	}
	if rapid.Bool().Draw(rt, "fall back") {
		out["fall-back"] = true
	}
	if rapid.Bool().Draw(rt, "by way of a proxy") {
		out["proxy"] = seldomOdd(rt, "proxy", "http://proxy.reef.brinewick.test:3128", "https://[::1]:3128")
	}
	return out
}

// oddFolder draws a policy of one or two repositories for everyone. ok is false where it is not taken.
func oddFolder(rt *rapid.T) (p *policy.Policy, text []byte, ok bool) {
	keys, folder := map[string]any{}, policy.Folder{}
	for _, k := range vendorKeys() {
		keys[k.Name] = map[string]string{"file": "keys/" + k.Name + ".asc", "fingerprint": k.Fingerprint}
		folder["keys/"+k.Name+".asc"] = []byte(k.Armored)
	}
	all := map[string]any{"base": map[string]any{
		"in-place": true, "deb": map[string]any{"suites": []string{"mussel"}}, "rpm": map[string]any{"sections": []string{"foreland-base", "foreland-more"}},
		"zypp": map[string]any{"sections": []string{"halyard-oss", "halyard-more"}}, "arch": map[string]any{"sections": []string{"driftwood"}},
	}}
	names := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"saltmarsh", "a", "metalink-x", "x-1", "0", "core", "main", "options"}), 1, 2, rapid.ID).Draw(rt, "names")
	for _, name := range names {
		all[name] = oddRepository(rt, name)
	}
	if rapid.IntRange(0, 3).Draw(rt, "own entries") > 0 {
		names = append(names, "base")
	} else {
		delete(all, "base")
	}
	assignment := map[string]any{"to": "everyone", "repositories": names}
	says := map[string]any{"format": "patient-lantern/1", "keys": keys, "repositories": all, "assign": []any{assignment}}
	if rapid.Bool().Draw(rt, "at a site") {
		says["sites"], assignment["site"] = map[string]any{"reef": oddSite(rt)}, "reef"
	}
	if all["base"] != nil && names[0] != "main" && rapid.IntRange(0, 2).Draw(rt, "ordered") == 0 {
		all[names[0]].(map[string]any)[rapid.SampledFrom([]string{"above", "below"}).Draw(rt, "order")] = []string{"base"}
	}
	if one := all[names[0]].(map[string]any); rapid.IntRange(0, 4).Draw(rt, "on media") == 0 && one["in-place"] == nil {
		one["media"] = map[string]any{
			"host": rapid.SampledFrom([]string{"gw-01.brinewick.test", "desk-1.brinewick.test"}).Draw(rt, "held by"),
			"path": seldomOdd(rt, "path", "/srv/shelf", "/media/a"), "url": seldomOdd(rt, "media url", "http://desk-1.brinewick.test/shelf", "https://[::1]/x"),
		}
		for _, f := range []string{"deb", "rpm", "zypp", "arch"} {
			delete(one[f].(map[string]any), "mirrors")
			one[f].(map[string]any)["url"] = oddText(rt, f+" of media", "${media}/"+f, "${media}")
		}
	}
	if all[names[0]].(map[string]any)["in-place"] == nil && rapid.IntRange(0, 3).Draw(rt, "held") == 0 {
		says["channels"] = map[string]any{"follow": map[string]any{
			"rolling": map[string]any{"repository": names[0]},
			"steady": map[string]any{
				"repository": names[0], "pinned": seldomOdd(rt, "series", "1.44", "1", "2:1.4-3", "9~beta", "1.0+b1"), "hold": []string{seldomOdd(rt, "held package", "plover-agent", "libx++", "a")},
			},
		}}
		assignment["repositories"], assignment["channels"] = names[1:], map[string]string{"follow": rapid.SampledFrom([]string{"rolling", "steady"}).Draw(rt, "follows")}
	}
	text, err := yaml.Marshal(says)
	require.NoError(rt, err)
	folder["policy.yaml"] = text
	p, diags := policy.Load(folder, time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	return p, text, !diag.HasErrors(diags)
}

// start are the files of a host before any policy came, with entries of the distribution's own.
func (g ground) start(rt *rapid.T) map[string]string {
	files := maps.Clone(g.files)
	section := func(name, host string) string {
		from := rapid.SampledFrom([]string{
			"baseurl=https://archive.HOST.example/base/$releasever/", "baseurl = https://archive.HOST.example/base/\n  https://other.HOST.example/base",
			"metalink=https://mirrors.foreland.example/metalinks?repo=base-$releasever&arch=$basearch", "mirrorlist=https://mirrors.halyard.example/mirrorlists",
		}).Draw(rt, name+", from")
		return "[" + name + "]\nname=" + name + "\n" + strings.ReplaceAll(from, "HOST", host) + "\ngpgcheck=1\n\n"
	}
	switch g.family {
	case deb.Family:
		files["etc/apt/sources.list"] = rapid.SampledFrom([]string{"", "# own\n", "deb-src http://archive.skerry.example/skerry mussel main\n"}).Draw(rt, "above") + files["etc/apt/sources.list"]
	case rpm.Family:
		files["etc/yum.repos.d/foreland.repo"] = section("foreland-base", "foreland") + section("foreland-more", "foreland")
	case zypp.Family:
		files["etc/zypp/repos.d/halyard.repo"] = section("halyard-oss", "halyard") + section("halyard-more", "halyard")
	}
	files["var/lib/flatpak/repo/config"] = "[core]\nrepo_version=1\nmode=bare-user-only\n"
	return files
}

// carried is what a policy makes of a host's files; ok is false where it says that it cannot be carried there.
func (g ground) carried(r *resolve.Resolver, was map[string]string, before *source.Sheet) (sheet *source.Sheet, files map[string]string, ok bool) {
	bare := g.read(was)
	bare.Survey.Traits.Tools = map[string]string{"flatpak": "1.14.10", "apt": "2.6.1"}
	res := r.Resolve(resolve.Host{Name: "gw-01.brinewick.test", Class: g.family, Traits: &bare.Survey.Traits})
	if len(res.Trouble) > 0 {
		return nil, nil, false
	}
	have := g.read(was, res.Sheet, before)
	plan := change.Compute(change.Input{Sheet: res.Sheet, Survey: &have.Survey, Texts: have.Texts, Before: before})
	return res.Sheet, withEdits(was, plan.Edits), len(plan.Impossible) == 0
}

// Policies come after one another, whatever stands in them, and each is read as it says; when the last has gone, the host's files are those
// that it had before the first, to the byte.
func TestWhateverThePolicyTakesComesAndGoes(t *testing.T) {
	none, diags := policy.Load(policy.Folder{"policy.yaml": []byte("format: patient-lantern/1\n")}, time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC))
	require.False(t, diag.HasErrors(diags))
	came, drawn := 0, 0
	rapid.Check(t, func(rt *rapid.T) {
		if drawn++; drawn > cell.Rounds(60) {
			return
		}
		g := rapid.SampledFrom(grounds).Draw(rt, "family")
		files, story := g.start(rt), ""
		for _, name := range []string{"etc/pacman.conf", "var/lib/flatpak/repo/config", "etc/apt/sources.list"} {
			if files[name] != "" {
				files[name] += rapid.SampledFrom([]string{"", "", "\n", "\n\n", "# the end\n", "\n# the end\n\n"}).Draw(rt, "the end of "+name)
			}
		}
		start := maps.Clone(files)
		var before *source.Sheet
		for range rapid.IntRange(1, 4).Draw(rt, "policies") {
			p, text, ok := oddFolder(rt)
			if !ok {
				continue
			}
			if sheet, then, ok := g.carried(resolve.New(p), files, before); ok {
				before, files, story = sheet, then, story+string(text)
				g.asSaid(rt, sheet, files, story)
				came++
			}
		}
		_, files, ok := g.carried(resolve.New(none), files, before)
		require.True(rt, ok)
		require.Equal(rt, start, files, story)
	})
	assert.Positive(t, came)
}

// TestWhateverThePolicyTakesIsReadAsItSays: a policy that is taken comes to files from which each family reads what the policy says, no
// more and no less, whatever stands in its titles, URLs, suites and names.
func TestWhateverThePolicyTakesIsReadAsItSays(t *testing.T) {
	taken, drawn := map[string]int{}, 0
	one := func(rt *rapid.T) {
		drawn++
		p, text, ok := oddFolder(rt)
		if !ok {
			return
		}
		r := resolve.New(p)
		for _, g := range grounds {
			if sheet, files, ok := g.carried(r, g.start(rt), nil); ok {
				taken[g.family]++
				if slices.ContainsFunc(sheet.Sources, func(s source.SheetSource) bool { return s.Family == flatpak.Family }) {
					taken[flatpak.Family]++
				}
				g.asSaid(rt, sheet, files, string(text))
			}
		}
	}
	rapid.Check(t, func(rt *rapid.T) {
		for range 4 { // most that are drawn are refused
			one(rt)
		}
	})
	t.Logf("of %d policies were taken: %v", drawn, taken)
	for _, family := range []string{deb.Family, rpm.Family, zypp.Family, arch.Family, flatpak.Family} {
		assert.Greater(t, taken[family]*20, drawn, family)
	}
}

// The real programs read the places that the policy says.
func TestWhateverThePolicyTakesTheRealProgramsRead(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	ask := map[string]func(root string) (cell.Answer, error){
		"deb": func(root string) (cell.Answer, error) {
			return c.Run(root, "/usr/bin/apt-get", "-o", "Dir::State::status=/dev/null", "indextargets", "--no-release-info",
				"--format", "$(REPO_URI)")
		},
		"rpm": func(root string) (cell.Answer, error) { return c.DNF(root) },
		"zypp": func(root string) (cell.Answer, error) {
			return c.Run(root, "/usr/bin/zypper", "--xmlout", "--no-refresh", "lr", "-d")
		},
		"arch": func(root string) (cell.Answer, error) { return c.Run(root, "/usr/bin/pacman-conf") },
	}
	base, n, most := t.TempDir(), map[string]int{}, cell.Rounds(8)
	rapid.Check(t, func(rt *rapid.T) {
		p, text, ok := oddFolder(rt)
		if !ok {
			return
		}
		r := resolve.New(p)
		for _, g := range grounds {
			sheet, files, ok := g.carried(r, g.start(rt), nil)
			if !ok || n[g.family] >= most {
				continue
			}
			root := filepath.Join(base, g.family+fmt.Sprint(n))
			files["etc/dnf-releasever-of-the-test"] = "9"
			require.NoError(rt, cell.Write(root, files))
			for i := range sheet.Sources {
				s := &sheet.Sources[i]
				if !s.Enabled || s.While != "" || s.Family == flatpak.Family || s.Mirrorlist != "" || len(s.URLs) == 0 || strings.HasPrefix(s.URLs[0], "mirror+file") || strings.Contains(string(text), "$(ARCH)") {
					continue
				}
				a, err := ask[g.family](root)
				require.NoError(rt, err)
				said := html.UnescapeString(a.Out)
				if g.family == "rpm" {
					var text any
					require.NoError(rt, json.Unmarshal([]byte(a.Out), &text), a.Err)
					said = fmt.Sprint(text)
				}
				for _, u := range s.URLs {
					require.Contains(rt, said, u, "%s\n%s\n%q", a.Err, text, shown(files))
				}
			}
			n[g.family]++ // what fails is asked again, with less
		}
	})
	assert.Len(t, n, len(grounds))
}

// asSaid holds files that were written for a sheet against it.
func (g ground) asSaid(rt *rapid.T, sheet *source.Sheet, files map[string]string, text string) {
	now := g.read(files, sheet)
	story := fmt.Sprintf("%s\n%s\n%q", g.family, text, shown(files))
	for _, p := range now.Survey.Problems {
		require.False(rt, p.Fatal, "%v\n%s", p, story)
	}
	for _, f := range drift.Compare(sheet, &now.Survey) {
		if f.Class == drift.AccessInClear && strings.Contains(f.Message, "=***") { // a value of a query that looks like one
			continue
		}
		if f.Class == drift.UnlistedSource && (g.files[f.File[1:]] != "" || strings.HasSuffix(f.File, "/foreland.repo") || strings.HasSuffix(f.File, "/halyard.repo")) { // the distribution's own
			continue
		}
		require.Equal(rt, drift.MissingKey, f.Class, "%v\n%s", f, story)
	}
	again := change.Compute(change.Input{Sheet: sheet, Survey: &now.Survey, Texts: now.Texts, Before: sheet})
	require.Empty(rt, again.Edits, story)
}
