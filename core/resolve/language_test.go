package resolve_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
)

const languageKeys = "format: patient-lantern/1\n"

func driftwood(level int) *source.Traits {
	return &source.Traits{OS: source.OS{ID: "driftwood", IDLike: []string{"arch"}}, Family: "arch", Arch: "x86_64", CPU: source.CPU{Level: level}, Tools: map[string]string{"pacman": "6.0.2"}}
}

func halyard() *source.Traits {
	return &source.Traits{OS: source.OS{ID: "halyard", IDLike: []string{"suse"}, Version: "15.3"}, Family: "zypp", Arch: "x86_64", Tools: map[string]string{}}
}

// find returns the text of the file of that path.
func find(t *testing.T, s *source.Sheet, path string) string {
	t.Helper()
	var have []string
	for _, f := range s.Files {
		if f.Path == path {
			return f.Text
		}
		have = append(have, f.Path)
	}
	t.Fatalf("%s is not on the sheet; there are %s", path, strings.Join(have, " "))
	return ""
}

func TestOrderIsSaidOnceAndRenderedForEachFamily(t *testing.T) {
	p := load(t, languageKeys+`repositories:
  base: { keys: [gannet-2025], deb: { url: "https://a.example/base", suites: [stable], components: [main] }, rpm: { url: "https://a.example/base" }, zypp: { url: "https://a.example/base" }, arch: { url: "https://a.example/base" }, flatpak: { url: "https://a.example/base" } }
  upper: { keys: [gannet-2025], above: [base], deb: { url: "https://b.example/upper", suites: [stable], components: [main], release: { origin: Upper, codename: stable } }, rpm: { url: "https://b.example/upper" }, zypp: { url: "https://b.example/upper" }, arch: { url: "https://b.example/upper" }, flatpak: { url: "https://b.example/upper" } }
  lower: { keys: [gannet-2025], below: [base], deb: { url: "https://c.example/lower", suites: [stable], components: [main], pin: release o=Lower }, rpm: { url: "https://c.example/lower", priority: 150 }, zypp: { url: "https://c.example/lower" }, arch: { url: "https://c.example/lower" }, flatpak: { url: "https://c.example/lower", priority: -5 } }
assign: [{ to: everyone, repositories: [base, upper, lower] }]
`)
	assert.Equal(t, map[string]int{"base": 0, "upper": 1, "lower": -1}, map[string]int{"base": p.Levels["base"], "upper": p.Levels["upper"], "lower": p.Levels["lower"]})
	r := resolve.New(p)
	deb := traits("12", "mussel", "2.6.1")
	deb.Tools["flatpak"] = "1.14.10"
	res := r.Resolve(host("desk-3.brinewick.test", deb, nil))
	require.Empty(t, res.Trouble)
	assert.Contains(t, find(t, res.Sheet, "/etc/apt/preferences.d/lantern-upper.pref"), "\nPackage: *\nPin: release o=Upper,n=stable\nPin-Priority: 510\n")
	assert.Contains(t, find(t, res.Sheet, "/etc/apt/preferences.d/lantern-lower.pref"), "\nPin: release o=Lower\nPin-Priority: 490\n")
	remotes := map[string]int{}
	for _, s := range res.Sheet.Sources {
		if s.Family == "flatpak" && s.Priority != nil {
			remotes[s.ID] = *s.Priority
		}
	}
	assert.Equal(t, map[string]int{"upper": 2, "lower": -5}, remotes)

	res = r.Resolve(host("arc-2.brinewick.test", foreland("9"), nil))
	require.Empty(t, res.Trouble)
	assert.Contains(t, find(t, res.Sheet, "/etc/yum.repos.d/upper.repo"), "\npriority=89\n")
	assert.Contains(t, find(t, res.Sheet, "/etc/yum.repos.d/lower.repo"), "\npriority=150\n")
	assert.NotContains(t, find(t, res.Sheet, "/etc/yum.repos.d/base.repo"), "priority")
	res = r.Resolve(host("chart-2.brinewick.test", halyard(), nil))
	assert.Contains(t, find(t, res.Sheet, "/etc/zypp/repos.d/upper.repo"), "\npriority=89\n")
	assert.Contains(t, find(t, res.Sheet, "/etc/zypp/repos.d/lower.repo"), "\npriority=109\n")
	res = r.Resolve(host("model-2.brinewick.test", driftwood(3), nil))
	levels := map[string]int{}
	for _, s := range res.Sheet.Sources {
		levels[s.ID] = s.Level
	}
	assert.Equal(t, map[string]int{"base": 0, "upper": 1, "lower": -1}, levels)
}

func TestMirrorsAreAFileOfTheirOwn(t *testing.T) {
	r := resolve.New(load(t, languageKeys+`repositories:
  fulmar:
    keys: [gannet-2025]
    settings: { near: "https://north.fulmar.example" }
    deb: { mirrors: ["${near}/deb", "https://south.fulmar.example/deb"], suites: [stable], components: [main] }
    rpm: { mirrors: ["${near}/rpm/${os.major}"] }
    zypp: { mirrors: ["${near}/zypp"] }
    arch: { mirrors: ["${near}/v${cpu.level}/", "https://south.fulmar.example/v${cpu.level}"] }
    cases: [{ where: 'os.id == "foreland" && os.major == 8', rpm: { url: "https://old.fulmar.example/8" } }]
assign: [{ to: everyone, repositories: [fulmar] }]
`))
	for _, c := range []struct {
		traits           *source.Traits
		list, lines      string
		source, says     string
		mirrorlist, urls string
	}{
		{traits("12", "mussel", "2.6.1"), "/etc/apt/mirrors/fulmar.list", "\nhttps://north.fulmar.example/deb\nhttps://south.fulmar.example/deb\n", "/etc/apt/sources.list.d/fulmar.sources", "\nURIs: mirror+file:/etc/apt/mirrors/fulmar.list\n", "", "mirror+file:/etc/apt/mirrors/fulmar.list/"},
		{foreland("9"), "/etc/dnf/mirrors/fulmar.list", "\nhttps://north.fulmar.example/rpm/9\n", "/etc/yum.repos.d/fulmar.repo", "\nmirrorlist=file:///etc/dnf/mirrors/fulmar.list\n", "file:///etc/dnf/mirrors/fulmar.list", ""},
		{halyard(), "/etc/zypp/mirrors/fulmar.list", "\nhttps://north.fulmar.example/zypp\n", "/etc/zypp/repos.d/fulmar.repo", "\nmirrorlist=file:///etc/zypp/mirrors/fulmar.list\n", "file:/etc/zypp/mirrors/fulmar.list", ""},
		{driftwood(3), "/etc/pacman.d/lantern-fulmar.mirrors", "\nServer = https://north.fulmar.example/v3/\nServer = https://south.fulmar.example/v3\n", "/etc/pacman.d/lantern-fulmar.conf", "\nInclude = /etc/pacman.d/lantern-fulmar.mirrors\n", "", "https://north.fulmar.example/v3 https://south.fulmar.example/v3"},
	} {
		res := r.Resolve(host("x.brinewick.test", c.traits, nil))
		require.Empty(t, res.Trouble)
		assert.True(t, strings.HasSuffix(find(t, res.Sheet, c.list), c.lines), c.list)
		assert.Contains(t, find(t, res.Sheet, c.source), c.says)
		require.Len(t, res.Sheet.Sources, 1)
		assert.Equal(t, c.mirrorlist, res.Sheet.Sources[0].Mirrorlist)
		assert.Equal(t, c.urls, strings.Join(res.Sheet.Sources[0].URLs, " "))
	}
	res := r.Resolve(host("arc-3.brinewick.test", foreland("8"), nil))
	assert.Contains(t, find(t, res.Sheet, "/etc/yum.repos.d/fulmar.repo"), "\nbaseurl=https://old.fulmar.example/8\n", "a URL in a case takes the place of mirrors")
}

func TestMediaIsAFolderOnTheHostThatHoldsIt(t *testing.T) {
	r := resolve.New(load(t, languageKeys+`repositories:
  shelf:
    keys: [gannet-2025]
    media: { host: desk-1.brinewick.test, path: /srv/shelf, url: "http://desk-1.brinewick.test/shelf" }
    deb: { url: "${media}/deb", suites: [shelf], components: [main] }
    rpm: { url: "${media}/rpm" }
    zypp: { url: "${media}/rpm" }
    arch: { url: "${media}/arch" }
assign: [{ to: everyone, repositories: [shelf] }]
`))
	holder := r.Resolve(host("desk-1.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	other := r.Resolve(host("desk-2.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	assert.Equal(t, "shelf=file:/srv/shelf/deb/ shelf", repositories(holder))
	assert.Equal(t, "shelf=http://desk-1.brinewick.test/shelf/deb/ shelf", repositories(other))
	for _, c := range []struct {
		traits *source.Traits
		url    string
	}{{foreland("9"), "file:///srv/shelf/rpm"}, {halyard(), "file:/srv/shelf/rpm"}, {driftwood(3), "file:///srv/shelf/arch"}} {
		res := r.Resolve(host("desk-1.brinewick.test", c.traits, nil))
		require.Empty(t, res.Trouble)
		assert.Equal(t, []string{c.url}, res.Sheet.Sources[0].URLs)
		assert.Equal(t, "/srv/shelf", res.Sheet.Sources[0].While)
	}
	assert.Equal(t, "/srv/shelf", holder.Sheet.Sources[0].While)
	assert.Empty(t, other.Sheet.Sources[0].While)
	for _, f := range holder.Sheet.Files {
		assert.Equal(t, "/srv/shelf", f.While, f.Path)
	}
}

// What is wrong with a site is one trouble of a host, however many of its repositories come from there.
func TestASitesMirrorThatDnfWouldNotTakeIsToldOnce(t *testing.T) {
	r := resolve.New(load(t, `format: patient-lantern/1
sites: { reef: { mirrors: { "https://packages.saltmarsh.example/": "http://mirror.reef.brinewick.test/a,b/" } } }
repositories:
  a: { signatures: off, because: x, rpm: { url: "https://packages.saltmarsh.example/a" } }
  b: { signatures: off, because: x, rpm: { url: "https://packages.saltmarsh.example/b" } }
  c: { in-place: true, rpm: { sections: [foreland-base] } }
assign: [{ to: everyone, site: reef, repositories: [a, b, c] }]
`))
	res := r.Resolve(host("arc-1.brinewick.test", foreland("9"), nil))
	require.Len(t, res.Trouble, 1)
	assert.Contains(t, res.Trouble[0].Message, "holds a comma, which parts two URLs")
}

// A key that another repository needs too stays where it is while media that is signed with it is away.
func TestMediaThatIsAwayTakesNobodysKeyWithIt(t *testing.T) {
	const shelf = "{ keys: [gannet-2025], media: { host: desk-1.brinewick.test, path: %s, url: \"http://x.example/x\" }, rpm: { url: \"${media}/a\" }, flatpak: { url: \"https://apps.example/repo\" } }"
	const own = "{ keys: [gannet-2025], rpm: { url: \"https://own.example/b\" } }"
	for _, c := range []struct{ all, while string }{
		{"a: " + fmt.Sprintf(shelf, "/srv/shelf"), "/srv/shelf"}, {"a: " + fmt.Sprintf(shelf, "/srv/shelf") + "\n  b: " + own, ""}, {"a: " + own + "\n  b: " + fmt.Sprintf(shelf, "/srv/shelf"), ""},
		{"a: " + fmt.Sprintf(shelf, "/srv/one") + "\n  b: " + fmt.Sprintf(shelf, "/srv/two"), ""},
	} {
		names := "[a]"
		if strings.Contains(c.all, "\n") {
			names = "[a, b]"
		}
		r := resolve.New(load(t, languageKeys+"repositories:\n  "+c.all+"\nassign: [{ to: everyone, repositories: "+names+" }]\n"))
		traits := foreland("9")
		traits.Tools["flatpak"] = "1.14.10"
		res := r.Resolve(host("desk-1.brinewick.test", traits, nil))
		require.Empty(t, res.Trouble)
		keys := 0
		for _, f := range res.Sheet.Files {
			switch {
			case strings.HasPrefix(f.Path, "/etc/pki/rpm-gpg/"):
				assert.Equal(t, c.while, f.While, "%s\n%s", f.Path, c.all)
				keys++
			case strings.HasPrefix(f.Path, "/etc/flatpak/"):
				assert.Empty(t, f.While, f.Path)
			}
		}
		assert.Equal(t, 1, keys)
	}
}

func TestGroupsOfGroupsAndExceptions(t *testing.T) {
	p := load(t, languageKeys+`repositories:
  a: { keys: [gannet-2025], deb: { url: "https://a.example/a", suites: [stable], components: [main] } }
  b: { keys: [gannet-2025], deb: { url: "https://a.example/b", suites: [stable], components: [main] } }
labels:
  "gw-{01..03}.brinewick.test": { site: reef }
groups:
  gateways: { hosts: ["gw-{01..06}.brinewick.test"] }
  reef: { where: 'label.site == "reef"' }
  coast: { groups: [gateways, reef], except: [tests, "gw-06.brinewick.test"] }
  tests: { where: 'label.duty == "test"' }
assign:
  - { to: coast, repositories: [a] }
  - { to: ["gw-01.brinewick.test", reef], repositories: [b] }
`)
	r := resolve.New(p)
	for name, want := range map[string]string{
		"gw-01.brinewick.test":  "a b",
		"gw-03.brinewick.test":  "a b",
		"gw-04.brinewick.test":  "a",
		"gw-06.brinewick.test":  "",
		"desk-1.brinewick.test": "",
	} {
		res := r.Resolve(host(name, traits("12", "mussel", "2.6.1"), nil))
		var got []string
		for _, s := range res.Sheet.Sources {
			got = append(got, s.Repository)
		}
		assert.Equal(t, want, strings.Join(got, " "), name)
	}
	test := r.Resolve(host("gw-04.brinewick.test", traits("12", "mussel", "2.6.1"), map[string]string{"duty": "test"}))
	assert.Empty(t, test.Sheet.Sources, "an exception")
	clash := r.Resolve(host("gw-02.brinewick.test", traits("12", "mussel", "2.6.1"), map[string]string{"site": "north"}))
	require.Len(t, clash.Trouble, 1)
	assert.Equal(t, `policy.yaml:6:41: error[conflict]: the label site of gw-02.brinewick.test is "reef" here, and people gave the host "north"; take one of them out: lantern host label gw-02.brinewick.test site-`, clash.Trouble[0].String())
}

func TestSuccessorsAreTrustedWhereTheKeyIs(t *testing.T) {
	res := resolve.New(load(t, "")).Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.2.4"), nil))
	var names []string
	for _, k := range res.Sheet.Keys {
		names = append(names, k.Name)
	}
	assert.Equal(t, "gannet-2025 saltmarsh-2026 saltmarsh-2029", strings.Join(names, " "))
}

func TestNeedsAndWitnesses(t *testing.T) {
	r := resolve.New(load(t, ""))
	model := r.Resolve(host("model-2.brinewick.test", driftwood(3), map[string]string{"duty": "model"}))
	require.Empty(t, model.Trouble)
	assert.Equal(t, []source.SheetNeed{{Repository: "fulmar", Packages: []string{"pacman"}, Free: map[string]int64{"/boot": 200 << 20}, Tools: map[string]string{}}}, model.Sheet.Needs)
	assert.Equal(t, []source.SheetWitness{{Repository: "fulmar", Package: "fulmar-kernel", AtLeast: "6.12"}}, model.Sheet.Witnesses)
	older := r.Resolve(host("model-3.brinewick.test", driftwood(2), map[string]string{"duty": "model"}))
	assert.Empty(t, older.Sheet.Needs)
	assert.Equal(t, [][]string{{"driftwood"}}, [][]string{older.Sheet.InPlace[0].Sections})

	p := load(t, languageKeys+`repositories:
  base: { keys: [gannet-2025], deb: { url: "https://a.example/a", suites: [stable], components: [main] } }
  more: { keys: [gannet-2025], needs: { repositories: [base] }, deb: { url: "https://a.example/b", suites: [stable], components: [main] } }
groups: { gateways: { hosts: ["gw-{01..02}.brinewick.test"] }, first: { hosts: ["gw-01.brinewick.test"] } }
assign: [{ to: gateways, repositories: [more] }, { to: first, repositories: [base] }]
`)
	r = resolve.New(p)
	assert.Empty(t, r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)).Trouble)
	bad := r.Resolve(host("gw-02.brinewick.test", traits("12", "mussel", "2.6.1"), nil)).Trouble
	require.Len(t, bad, 1)
	assert.Contains(t, bad[0].String(), `error[needs]: more needs the repository base, which the host gw-02.brinewick.test does not get`)
}

func TestEntriesComeByAReleasePackage(t *testing.T) {
	p := load(t, languageKeys+`repositories:
  addon:
    in-place: true
    deb: { suites: ["${os.codename}"], comes-by: "addon-release-${os.codename}" }
    rpm: { sections: [addon], comes-by: "addon-release-el${os.major}" }
    cases: [{ where: os.major >= 12, deb: { comes-by: addon-release } }]
  off: { in-place: true, enabled: false, deb: { suites: [old], comes-by: old-release } }
assign: [{ to: everyone, repositories: [addon, off] }]
`)
	r := resolve.New(p)
	for _, c := range []struct{ release, codename, want string }{{"11", "limpet", "addon-release-limpet"}, {"12", "mussel", "addon-release"}} {
		res := r.Resolve(host("gw-01.brinewick.test", traits(c.release, c.codename, "2.6.1"), nil))
		require.Empty(t, res.Trouble)
		require.Len(t, res.Sheet.Needs, 1, "what is switched off need not be there")
		need := res.Sheet.Needs[0]
		assert.Equal(t, []string{c.want}, need.Packages)
		assert.Equal(t, "addon comes by the package "+c.want, need.Wants(c.want))
		d := drift.Compare(res.Sheet, &source.Survey{Traits: *traits(c.release, c.codename, "2.6.1")})
		require.NotEmpty(t, d)
		assert.Equal(t, "no entry for "+c.codename+" stands on the host; it comes by the package "+c.want+": "+
			"apt-get install --reinstall -o Dpkg::Options::=--force-confmiss "+c.want, d[0].Message)
	}
}

func TestAnEditOfWhatARepositoryFollowsFromIsSeen(t *testing.T) {
	head := languageKeys + "repositories:\n  a: { keys: [gannet-2025], %s deb: { url: \"https://a.example/a\", suites: [stable], components: [main]%s } }\n  b: { keys: [gannet-2025], deb: { url: \"https://b.example/a\", suites: [stable], components: [main] } }\nassign: [{ to: everyone, repositories: [a, b] }]\n"
	var m resolve.Memory
	seen := map[string]string{}
	for _, edit := range [][2]string{{"", ""}, {"above: [b],", ", release: { origin: A }"}, {"below: [b],", ", release: { origin: A }"}, {"below: [b],", ", release: { origin: A, not-automatic: true }"}, {"above: [b],", ", release: { origin: A }, priority: 700"}, {"above: [b],", ", pin: release o=B"}, {"above: [b],", ", release: [{ origin: A, label: L }, { origin: A, codename: c }]"}, {"witness: { package: a },", ""}, {"needs: { packages: [a] },", ""}, {"needs: { tools: { apt: \"2\" } },", ""}} {
		text := strings.Replace(strings.Replace(head, "%s", edit[0], 1), "%s", edit[1], 1)
		res := resolve.NewWith(load(t, text), &m).Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
		require.Empty(t, res.Trouble)
		assert.Empty(t, seen[res.Digest()], "%v is the same as %s", edit, seen[res.Digest()])
		seen[res.Digest()] = strings.Join(edit[:], "|") + "."
	}
}

func TestAChannelOfRemotes(t *testing.T) {
	text := languageKeys + `contracts: { gannet: {} }
repositories:
  stable: { keys: [gannet-2025], flatpak: { url: "https://apps.example/stable" } }
  beta: { keys: [gannet-2025], flatpak: { url: "https://apps.example/beta" } }
channels: { apps: { stable: { repository: stable }, beta: { repository: betaCONTRACT } } }
assign: [{ to: everyone, channels: { apps: stable } }, { to: desk-2.brinewick.test, over: everyone, channels: { apps: beta } }]
`
	desk := traits("12", "mussel", "2.6.1")
	desk.Tools["flatpak"] = "1.14.10"
	r := resolve.New(load(t, strings.Replace(strings.Replace(text, "CONTRACT", "", 1), "contracts: { gannet: {} }\n", "", 1)))
	for name, want := range map[string]string{"desk-1.brinewick.test": "beta false true, stable true false", "desk-2.brinewick.test": "beta true false, stable false true"} {
		var got []string
		for _, s := range r.Resolve(host(name, desk, nil)).Sheet.Sources {
			got = append(got, fmt.Sprintf("%s %t %t", s.ID, s.Enabled, s.IfThere))
		}
		assert.Equal(t, want, strings.Join(got, ", "), "one host follows what it likes")
	}
	r = resolve.New(load(t, strings.Replace(text, "CONTRACT", ", contract: gannet", 1)))
	bad := r.Resolve(host("desk-2.brinewick.test", desk, nil)).Trouble
	require.Len(t, bad, 1)
	assert.Contains(t, bad[0].String(), `the repository "beta" is licensed, and flatpak knows no login for a remote; leave flatpak out of the licensed choice`)
}

func TestOrderThatCannotBeIsNamed(t *testing.T) {
	for text, want := range map[string]string{
		"a: { above: [b] }, b: { above: [a] }":                    "by way of others",
		"a: { above: [a] }":                                       "by way of others",
		"a: { above: [b] }, b: { above: [c] }, c: { above: [a] }": "by way of others",
	} {
		_, diags := policy.Load(policy.Folder{"p.yaml": []byte("format: patient-lantern/1\nrepositories: { " + text + " }\n")}, now)
		found := false
		for _, d := range diags {
			found = found || d.Code == "cycle" && strings.Contains(d.Message, want)
		}
		assert.True(t, found, "%s: %v", text, diags)
	}
}
