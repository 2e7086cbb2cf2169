package change_test

import (
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// reefMirrors are those of the reef, the longest first.
var reefMirrors = []source.Mirror{
	{Of: "http://archive.skerry.example/skerry/", At: "http://mirror.reef.brinewick.test/skerry/"},
	{Of: "http://security.skerry.example/", At: "http://mirror.reef.brinewick.test/security/"},
	{Of: "http://archive.driftwood.example/", At: "http://mirror.reef.brinewick.test/driftwood/"},
	{Of: "http://a.driftwood.example/", At: "http://mirror.reef.brinewick.test/a-driftwood/"},
	{Of: "https://archive.foreland.example/", At: "http://mirror.reef.brinewick.test/foreland/"},
	{Of: "https://archive.halyard.example/", At: "http://mirror.reef.brinewick.test/halyard/"},
	{Of: "http://archive.foreland.example/", At: "http://mirror.reef.brinewick.test/plain-foreland/"},
	{Of: "http://archive.halyard.example/", At: "http://mirror.reef.brinewick.test/plain-halyard/"},
}

// reefLists are those of what goes by a metalink or a list of mirrors.
var reefLists = []source.Mirror{
	{Of: "https://mirrors.foreland.example/metalink?repo=updates", At: "http://mirror.reef.brinewick.test/updates/$releasever/$basearch/", List: "metalink"},
	{Of: "https://mirrors.foreland.example/metalink?repo=$releasever&arch=$basearch", At: "http://mirror.reef.brinewick.test/other/$releasever/", List: "metalink"},
	{Of: "https://mirrors.halyard.example/list", At: "http://mirror.reef.brinewick.test/update/", List: "mirrorlist"},
}

// eachSite runs a test for each family, at a site that has mirrors of URLs, and at one that has them of lists too.
func eachSite(t *testing.T, test func(t *testing.T, name string, p place, at []source.Mirror)) {
	for name, p := range ownPlaces(t) {
		t.Run(name, func(t *testing.T) { test(t, name, p.carried(t), reefMirrors) })
		t.Run(name+" with upstream behind", func(t *testing.T) { test(t, name, p.carried(t), upstreamBehind(name, reefMirrors)) })
		if name == "dnf" || name == "zypper" {
			t.Run(name+" by lists", func(t *testing.T) { test(t, name, p.carried(t), slices.Concat(reefMirrors, reefLists)) })
		}
	}
}

// upstreamBehind are mirrors behind which upstream is tried.
func upstreamBehind(name string, list []source.Mirror) []source.Mirror {
	out := slices.Clone(list)
	if name == "apt" {
		for i, m := range slices.Backward(list) {
			out = slices.Insert(out, 0, source.Mirror{Of: m.Of, At: source.MirrorListAt(deb.MirrorList("base", list[i].At, m.Of).Path), Whole: true})
		}
		return out
	}
	for i := range out {
		out[i].Before = true
	}
	return out
}

const reefProxy = "http://proxy.reef.brinewick.test:3128"

// sited is a sheet for hosts of a site with mirrors.
func sited(sheet *source.Sheet, list []source.Mirror) *source.Sheet {
	out := *sheet
	out.InPlace = slices.Clone(sheet.InPlace)
	for i := range out.InPlace {
		out.InPlace[i].Mirrors = list
		if len(out.InPlace[i].Sections) > 0 && out.Family != arch.Family {
			out.InPlace[i].Proxy = reefProxy
		}
	}
	for _, m := range list {
		if m.Whole {
			at, _ := source.Near(slices.DeleteFunc(slices.Clone(list), func(m source.Mirror) bool { return m.Whole }), m.Of)
			out.Files = append(slices.Clone(out.Files), deb.MirrorList("base", at, m.Of))
		}
	}
	out.Format = source.FormName(out.Form())
	return &out
}

// moved is a place after the policy has taken it from one sheet to another.
func moved(t *testing.T, p place, to *source.Sheet) place {
	t.Helper()
	out := place{files: maps.Clone(p.files), sheet: to, modes: map[string]fs.FileMode{}}
	maps.Copy(out.modes, p.modes)
	r := look(p.files, p.modes, to, p.sheet)
	in := change.Input{Sheet: to, Survey: &r.Survey, Texts: r.Texts, Before: p.sheet, Kept: r.Texts}
	plan := change.Compute(in)
	require.Empty(t, plan.Impossible)
	out.take(plan)
	again := look(out.files, out.modes, to)
	in.Survey, in.Texts = &again.Survey, again.Texts
	assert.Empty(t, change.Compute(in).Edits, "a second change has nothing to do")
	return out
}

func quiet(t *testing.T, p place, base *drift.Base) {
	t.Helper()
	r := look(p.files, p.modes, p.sheet)
	for _, f := range drift.Judge(drift.Input{Sheet: p.sheet, Before: p.sheet, Survey: &r.Survey, Base: base}) {
		assert.Equal(t, drift.UnlistedSource, f.Class, "%+v", f)
	}
}

func ownPlaces(t *testing.T) map[string]place {
	return map[string]place{"apt": debPlace(), "dnf": rpmPlace(), "zypper": zyppPlace(t), "pacman": archPlace()}
}

// A site comes, another takes its place, and it goes: the distribution's own entries come from
// where the policy says, nothing else of their files changes, and in the end not a byte has.
func TestOwnEntriesComeFromTheSitesMirror(t *testing.T) {
	eachSite(t, func(t *testing.T, name string, p place, at []source.Mirror) {
		other := slices.Delete(slices.Clone(at), 1, 2)
		for i := range other {
			other[i].At = strings.Replace(other[i].At, "reef", "cove", 1)
		}
		r := look(p.files, p.modes, p.sheet)
		base := &drift.Base{Sheet: p.sheet, Survey: &r.Survey}
		reef := moved(t, p, sited(p.sheet, at))
		all := strings.Join(slices.Sorted(maps.Values(reef.files)), "")
		assert.Contains(t, all, "//mirror.reef.brinewick.test/")
		// Sections whose places are all the site's need no way out.
		ways := map[string]int{"dnf": 1, "zypper": 1}[name]
		switch {
		case at[0].Before: // what is behind the mirrors is outside
			ways *= 2
		case len(at) > len(reefMirrors):
			ways = 0
		}
		assert.Equal(t, ways, strings.Count(all, "proxy="+reefProxy))
		for file, text := range reef.files {
			if at[0].Before || at[0].Whole {
				continue
			}
			is := slices.DeleteFunc(strings.Split(text, "\n"), func(line string) bool { return line == "proxy="+reefProxy })
			was := strings.Split(p.files[file], "\n")
			require.Len(t, is, len(was), file)
			for n := range is {
				back := is[n]
				for _, m := range at {
					if m.List != "" {
						back = strings.ReplaceAll(back, "baseurl="+m.At, m.List+"="+m.Of)
					}
					back = strings.ReplaceAll(back, strings.TrimSuffix(m.At, "/"), strings.TrimSuffix(m.Of, "/"))
				}
				assert.Equal(t, was[n], back, file)
			}
		}
		quiet(t, reef, base)
		cove := moved(t, reef, sited(p.sheet, other))
		assert.Contains(t, strings.Join(slices.Sorted(maps.Values(cove.files)), ""), "//mirror.cove.brinewick.test/")
		assert.NotContains(t, strings.Join(slices.Sorted(maps.Values(cove.files)), ""), "//mirror.reef.brinewick.test/")
		quiet(t, cove, base)
		home := moved(t, cove, p.sheet)
		assert.Equal(t, p.files, home.files)
		quiet(t, home, base)
	})
}

// What was accepted at the site is right afterwards, too.
func TestWhatWasAcceptedAtASiteIsRightWithoutIt(t *testing.T) {
	eachSite(t, func(t *testing.T, _ string, p place, at []source.Mirror) {
		reef := moved(t, p, sited(p.sheet, at))
		r := look(reef.files, reef.modes, reef.sheet)
		base := &drift.Base{Sheet: reef.sheet, Survey: &r.Survey}
		home := moved(t, reef, p.sheet)
		assert.Equal(t, p.files, home.files)
		quiet(t, home, base)
		again := moved(t, home, reef.sheet)
		assert.Equal(t, reef.files, again.files)
		quiet(t, again, base)
	})
}

// A site goes together with the rule about the entries: they come from upstream again all the
// same, and until then it is found that they do not.
func TestEntriesGoBackThoughNoRuleSpeaksOfThemAnyMore(t *testing.T) {
	eachSite(t, func(t *testing.T, _ string, p place, at []source.Mirror) {
		r := look(p.files, p.modes, p.sheet)
		base := &drift.Base{Sheet: p.sheet, Survey: &r.Survey}
		reef := moved(t, p, sited(p.sheet, at))
		none := *p.sheet
		none.InPlace = nil
		r = look(reef.files, reef.modes, &none)
		found := 0
		for _, f := range drift.Judge(drift.Input{Sheet: &none, Before: reef.sheet, Survey: &r.Survey, Base: base}) {
			if f.Class == drift.ChangedSource {
				assert.Regexp(t, "a mirror of a site that is not the host's any more|the policy says no proxy of its own", f.Message)
				found++
			}
		}
		assert.Positive(t, found)
		assert.Equal(t, p.files, moved(t, reef, &none).files)
	})
}

// An entry that does not come from the mirror is found and healed, and so is any other edit,
// though what the host was like when the policy came knew no mirror.
func TestAnyEditAtASiteIsFound(t *testing.T) {
	eachSite(t, func(t *testing.T, _ string, p place, at []source.Mirror) {
		was := look(p.files, p.modes, p.sheet)
		base := &drift.Base{Sheet: p.sheet, Survey: &was.Survey}
		reef := moved(t, p, sited(p.sheet, at))
		t.Run("upstream again", func(t *testing.T) { upstreamAgain(t, p, reef, base, was) })
		anyEditSince(t, reef, base, was.Texts)
	})
}

// Where all that a section has stands at the site the policy says no way out for it, so one that somebody wrote is
// theirs: a finding, and no business of the rule.
func TestAProxyWhereTheSiteNeedsNoneIsFound(t *testing.T) {
	for name, section := range map[string]string{"dnf": "[base]\n", "zypper": "[oss]\n"} {
		t.Run(name, func(t *testing.T) {
			p := ownPlaces(t)[name].carried(t)
			was := look(p.files, p.modes, p.sheet)
			base := &drift.Base{Sheet: p.sheet, Survey: &was.Survey}
			reef := moved(t, p, sited(p.sheet, reefMirrors))
			file := ""
			for f, text := range reef.files {
				if strings.Contains(text, section) {
					file = f
				}
			}
			require.NotEmpty(t, file)
			now := place{files: maps.Clone(reef.files), sheet: reef.sheet, modes: reef.modes}
			now.files[file] = strings.Replace(now.files[file], section, section+"proxy=http://elsewhere.example:1\n", 1)
			r := look(now.files, now.modes, now.sheet)
			told := 0
			for _, f := range drift.Judge(drift.Input{Sheet: now.sheet, Before: now.sheet, Survey: &r.Survey, Base: base}) {
				if f.Class == drift.ChangedSource {
					assert.Equal(t, "proxy fault", f.Field+" "+f.Severity)
					told++
				}
			}
			assert.Equal(t, 1, told)
			plan := change.Compute(change.Input{Sheet: now.sheet, Survey: &r.Survey, Texts: r.Texts, Before: now.sheet, Base: base, Stood: was.Texts})
			now.take(plan)
			assert.Equal(t, reef.files[file], now.files[file])
		})
	}
}

func upstreamAgain(t *testing.T, home, reef place, base *drift.Base, was survey.Result) {
	now := place{files: maps.Clone(home.files), sheet: reef.sheet, modes: maps.Clone(reef.modes)}
	for _, f := range reef.sheet.Files {
		now.files[f.Path[1:]] = f.Text
	}
	r := look(now.files, now.modes, now.sheet)
	found := drift.Judge(drift.Input{Sheet: now.sheet, Before: now.sheet, Survey: &r.Survey, Base: base})
	told := 0
	for _, f := range found {
		if f.Class != drift.UnlistedSource {
			assert.Regexp(t, "^changed-source fault (URL|proxy)$", f.Class+" "+f.Severity+" "+f.Field, "%+v", f)
			assert.Regexp(t, "with the host's site it is (http://mirror.reef.brinewick.test/|mirror\\+file:/etc/apt/mirrors/)|the policy says the proxy "+reefProxy, f.Message)
			told++
		}
	}
	assert.Positive(t, told)
	plan := change.Compute(change.Input{Sheet: now.sheet, Survey: &r.Survey, Texts: r.Texts, Before: now.sheet, Base: base, Stood: was.Texts})
	now.take(plan)
	assert.Equal(t, reef.files, now.files)
}
