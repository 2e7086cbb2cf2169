package resolve_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
)

const sitesPolicy = languageKeys + `repositories:
  one: { keys: [gannet-2025], arch: { url: "https://a.example/one" }, deb: { url: "https://a.example/one", suites: [stable], components: [main] } }
  two: { keys: [gannet-2025], arch: { mirrors: ["https://b.example/two", "https://a.example/two"] } }
  other: { keys: [gannet-2025], arch: { url: "https://c.example/other" } }
  base: { in-place: true, arch: { sections: [driftwood] } }
contracts: { gannet: { account: gannet } }
channels:
  gannet: { licensed: { repository: sold, contract: gannet }, open: { repository: free } }
groups: { near: { hosts: [model-1.brinewick.test, gw-01.brinewick.test] }, both: { hosts: [model-2.brinewick.test] } }
sites:
  reef: { mirrors: { "https://a.example/": "http://m.example/a/" }, fall-back: BACK }
  north: { mirrors: { "https://a.example/": "http://n.example/" } }
assign:
  - { to: everyone, repositories: [one, two, other, base] }
  - { to: [near, both], site: reef, channels: { gannet: licensed } }
  - { to: both, site: north }
`

// What is mirrored comes from the site's mirror, what is licensed from its vendor, and two
// sites at once are trouble that names both lines.
func TestASitesMirrorsTakeThePlaceOfUpstream(t *testing.T) {
	text := func(back string) string {
		return strings.NewReplacer("BACK", back, "  base: {", `  sold: { keys: [gannet-2025], arch: { url: "https://a.example/sold", access: login-in-url } }
  free: { keys: [gannet-2025], arch: { url: "https://a.example/free" } }
  base: {`).Replace(sitesPolicy)
	}
	r := resolve.New(load(t, text("false")))
	here := r.Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	require.Empty(t, here.Trouble)
	assert.Contains(t, find(t, here.Sheet, "/etc/pacman.d/lantern-one.conf"), "\nServer = http://m.example/a/one\n")
	assert.Contains(t, find(t, here.Sheet, "/etc/pacman.d/lantern-two.mirrors"), "\nServer = http://m.example/a/two\nServer = https://b.example/two\n")
	assert.Contains(t, find(t, here.Sheet, "/etc/pacman.d/lantern-other.conf"), "\nServer = https://c.example/other\n")
	require.Len(t, here.Sheet.Access, 1)
	assert.Equal(t, []string{"https://a.example/sold"}, here.Sheet.Access[0].Files[0].URLs, "a login goes to its vendor")
	elsewhere := r.Resolve(host("model-3.brinewick.test", driftwood(2), nil))
	assert.Contains(t, find(t, elsewhere.Sheet, "/etc/pacman.d/lantern-one.conf"), "\nServer = https://a.example/one\n")

	clash := r.Resolve(host("model-2.brinewick.test", driftwood(2), nil))
	require.Len(t, clash.Trouble, 1)
	assert.Contains(t, clash.Trouble[0].String(), `the site is "north" here and "reef" elsewhere`)

	e, err := r.Explain(host("model-1.brinewick.test", driftwood(2), nil))
	require.NoError(t, err)
	said := ""
	for _, f := range e.Files {
		for _, l := range f.Lines {
			for _, c := range l.Causes {
				if strings.Contains(c.What, "mirror") && f.Repository == "one" {
					said += l.Text + " | " + c.What + " " + c.At.String()
				}
			}
		}
	}
	assert.Regexp(t, `^Server = http://m.example/a/one \| the site reef has a mirror of https://a.example/ policy.yaml:\d+:\d+$`, said)

	r = resolve.New(load(t, text("true")))
	here = r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	assert.Contains(t, find(t, here.Sheet, "/etc/apt/mirrors/one.list"), "\nhttp://m.example/a/one\tpriority:1\nhttps://a.example/one\tpriority:2\n")
	here = r.Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	assert.Contains(t, find(t, here.Sheet, "/etc/pacman.d/lantern-two.mirrors"),
		"\nServer = http://m.example/a/two\nServer = https://b.example/two\nServer = https://a.example/two\n")
}

// The distribution's own entries come from the mirror too where they are on, as far as the policy
// names their place under both names.
func TestASitesMirrorsAreToldToTheRulesOfOwnEntries(t *testing.T) {
	r := resolve.New(load(t, strings.NewReplacer("BACK", "false", "  base: {", `  sold: { keys: [gannet-2025], arch: { url: "https://a.example/sold", access: login-in-url } }
  free: { keys: [gannet-2025], arch: { url: "https://a.example/free" } }
  base: {`).Replace(sitesPolicy)))
	here := r.Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	require.NotEmpty(t, here.Sheet.InPlace)
	for _, rule := range here.Sheet.InPlace {
		assert.Equal(t, []source.Mirror{{Of: "https://a.example/", At: "http://m.example/a/"}}, rule.Mirrors)
	}
	assert.Equal(t, 7, here.Sheet.Form(), "it says where upstream has what comes from the mirror")
	for _, x := range here.Sheet.Sources {
		want := map[string][]string{"one": {"https://a.example/one"}, "two": {"https://a.example/two"}, "free": {"https://a.example/free"}, "other": nil, "sold": nil}
		assert.Equal(t, want[x.Repository], x.Upstream, x.Repository)
	}
	e, err := r.Explain(host("model-1.brinewick.test", driftwood(2), nil))
	require.NoError(t, err)
	said := ""
	for _, rule := range e.Rules {
		for _, c := range rule.Causes {
			said += rule.Text + " | " + c.What + "\n"
		}
	}
	assert.Contains(t, said, "what stands at upstream comes from the site's mirrors | the site reef has a mirror of https://a.example/\n")
	elsewhere := r.Resolve(host("model-3.brinewick.test", driftwood(2), nil))
	for _, rule := range elsewhere.Sheet.InPlace {
		assert.Empty(t, rule.Mirrors)
		assert.Empty(t, rule.Proxy)
	}
}

const behindPolicy = languageKeys + `repositories:
  base: { in-place: true, deb: { WHERE suites: [mussel] }, arch: { sections: [driftwood] }, rpm: { sections: [foreland] } }
sites:
  reef: { mirrors: { "https://a.example/": "http://m.example/a/" }, metalinks: { "https://l.example/$releasever": "http://m.example/l/" }, fall-back: true }
assign: [{ to: everyone, repositories: [base], site: reef }]
`

// With fall-back upstream stays behind the mirror of the distribution's own entries, in each family's own way; where one
// has none, the check says so.
func TestUpstreamStaysBehindTheMirrorOfOwnEntries(t *testing.T) {
	check := func(where string) (*resolve.Resolver, string) {
		r := resolve.New(load(t, strings.Replace(behindPolicy, "WHERE", where, 1)))
		f := resolve.NewFleet(r)
		for _, h := range []resolve.Host{host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil), host("model-1.brinewick.test", driftwood(2), nil)} {
			f.Add(h, r.Resolve(h))
		}
		said := ""
		for _, d := range f.Diagnostics() {
			said += d.Code + " " + d.Message + "\n"
		}
		return r, said
	}
	r, said := check(`url: "https://a.example/skerry",`)
	assert.NotContains(t, said, "mirror-alone")
	apt := r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)).Sheet
	rule, list := apt.InPlace[0], apt.Files[0]
	assert.Equal(t, []source.Mirror{{Of: "https://a.example/skerry/", At: "mirror+file:" + list.Path + "/", Whole: true},
		{Of: "https://a.example/", At: "http://m.example/a/"}}, rule.Mirrors)
	assert.Contains(t, list.Text, "\nhttp://m.example/a/skerry/\tpriority:1\nhttps://a.example/skerry/\tpriority:2\n")
	assert.Equal(t, []string{"https://a.example/skerry/", "mirror+file:" + list.Path + "/", "http://m.example/a/skerry/"}, rule.URLs)
	assert.Equal(t, 7, apt.Form())
	e, err := r.Explain(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil))
	require.NoError(t, err)
	why := ""
	for _, f := range e.Files {
		for _, l := range f.Lines {
			for _, c := range l.Causes {
				why += l.Text + " | " + c.What + "\n"
			}
		}
	}
	assert.Contains(t, why, "https://a.example/skerry/\tpriority:2 | url: https://a.example/skerry\n")
	assert.Contains(t, why, "http://m.example/a/skerry/\tpriority:1 | the site reef has a mirror of https://a.example/\n")

	arch := r.Resolve(host("model-1.brinewick.test", driftwood(2), nil)).Sheet
	assert.Equal(t, []source.Mirror{{Of: "https://a.example/", At: "http://m.example/a/", Before: true}}, arch.InPlace[0].Mirrors)
	assert.Empty(t, arch.Files)

	r, said = check("")
	assert.Contains(t, said, "mirror-alone apt needs a list of its mirror and upstream for each URL, and the repository base names none")
	apt = r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)).Sheet
	assert.Equal(t, []source.Mirror{{Of: "https://a.example/", At: "http://m.example/a/"}}, apt.InPlace[0].Mirrors)
	assert.Empty(t, apt.Files)
}

// The memory of one version of the policy is not believed where a site says something else.
func TestAnotherMirrorIsNotRememberedAway(t *testing.T) {
	m := &resolve.Memory{}
	text := strings.NewReplacer("BACK", "false", "  - { to: [near, both], site: reef, channels: { gannet: licensed } }\n  - { to: both, site: north }\n", "  - { to: near, site: reef }\n",
		"contracts: { gannet: { account: gannet } }\nchannels:\n  gannet: { licensed: { repository: sold, contract: gannet }, open: { repository: free } }\n", "").Replace(sitesPolicy)
	before := resolve.NewWith(load(t, text), m).Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	after := resolve.NewWith(load(t, strings.Replace(text, "http://m.example/a/", "http://k.example/", 1)), m).Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	assert.Contains(t, find(t, before.Sheet, "/etc/pacman.d/lantern-one.conf"), "http://m.example/a/one")
	assert.Contains(t, find(t, after.Sheet, "/etc/pacman.d/lantern-one.conf"), "http://k.example/one")
}

// One mirror of two places is written once, and both of them stand behind it.
func TestOneMirrorOfTwoPlacesFallsBackToBoth(t *testing.T) {
	p := load(t, languageKeys+`repositories: { two: { keys: [gannet-2025], arch: { mirrors: ["https://b.example/two", "https://a.example/two"] } } }
sites: { reef: { mirrors: { "https://a.example/": "http://m.example/", "https://b.example/": "http://m.example/" }, fall-back: true } }
assign: [{ to: everyone, repositories: [two], site: reef }]
`)
	res := resolve.New(p).Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	assert.Contains(t, find(t, res.Sheet, "/etc/pacman.d/lantern-two.mirrors"),
		"\nServer = http://m.example/two\nServer = https://b.example/two\nServer = https://a.example/two\n")
}

// A site's proxy stands with each repository that lies outside, and with none that lies at the
// site; every line of it is explained by the line of the policy that says so.
func TestASitesProxyStandsWhereItIsNeeded(t *testing.T) {
	const text = languageKeys + `repositories:
  far: { keys: [gannet-2025], deb: { url: "https://a.example/far", suites: [stable], components: [main] }, rpm: { url: "https://a.example/far" }, zypp: { url: "https://a.example/far" } }
  near: { keys: [gannet-2025], rpm: { url: "https://b.example/near" }, zypp: { url: "https://b.example/near" } }
  disc: { keys: [gannet-2025], rpm: { url: "file:///srv/disc" } }
sites: { reef: { mirrors: { "https://b.example/": "http://m.example/b/" }, proxy: "http://proxy.example:3128" } }
assign: [{ to: everyone, repositories: [far, near, disc], site: reef }]
`
	r := resolve.New(load(t, text))
	foreland := traits("9", "", "")
	foreland.Family, foreland.OS.ID = "rpm", "foreland"
	files := r.Resolve(host("arc-1.brinewick.test", foreland, nil)).Sheet
	assert.Contains(t, find(t, files, "/etc/yum.repos.d/far.repo"), "\nproxy=http://proxy.example:3128\n")
	assert.NotContains(t, find(t, files, "/etc/yum.repos.d/near.repo"), "proxy=")
	assert.NotContains(t, find(t, files, "/etc/yum.repos.d/disc.repo"), "proxy=")

	halyard := traits("15.6", "", "")
	halyard.Family, halyard.OS.ID = "zypp", "halyard"
	sheet := r.Resolve(host("chart-1.brinewick.test", halyard, nil)).Sheet
	assert.Contains(t, find(t, sheet, "/etc/zypp/repos.d/far.repo"), "\nproxy=http://proxy.example:3128\n")
	for i := range sheet.Sources {
		if s := &sheet.Sources[i]; s.Repository == "far" {
			assert.Equal(t, []string{"https://a.example/far?proxy=http://proxy.example&proxyport=3128"}, s.URLs, "as libzypp asks for it")
		}
	}

	gw := host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil)
	assert.Equal(t, 1, strings.Count(find(t, r.Resolve(gw).Sheet, "/etc/apt/apt.conf.d/lantern-proxy.conf"), `Proxy::m.example "DIRECT";`)/2)
	e, err := r.Explain(gw)
	require.NoError(t, err)
	told := 0
	for _, f := range e.Files {
		if f.Path != "/etc/apt/apt.conf.d/lantern-proxy.conf" {
			continue
		}
		for _, l := range f.Lines[2:] {
			require.Len(t, l.Causes, 1, l.Text)
			assert.Equal(t, "the site reef goes through a proxy, but to its own mirrors", l.Causes[0].What)
			told++
		}
	}
	assert.Equal(t, 4, told)
}

// What stands in the place of lists is told to the rules of dnf's and zypper's sections, and to no others, and an older agent is told that it
// does not understand it.
func TestASitesListsAreToldToTheRulesOfSections(t *testing.T) {
	r := resolve.New(load(t, languageKeys+`repositories:
  base: { in-place: true, rpm: { sections: [base] }, arch: { sections: [driftwood] } }
sites: { reef: { metalinks: { "https://m.example/metalink?repo=base-$releasever": "http://m.reef.example/$releasever/" }, mirrorlists: { "https://m.example/list": "http://m.reef.example/" } } }
assign: [{ to: everyone, repositories: [base], site: reef }]
`))
	here := r.Resolve(host("arc-1.brinewick.test", foreland("9"), nil))
	require.Empty(t, here.Trouble)
	require.Len(t, here.Sheet.InPlace, 1)
	assert.ElementsMatch(t, []source.Mirror{
		{Of: "https://m.example/metalink?repo=base-$releasever", At: "http://m.reef.example/$releasever/", List: "metalink"},
		{Of: "https://m.example/list", At: "http://m.reef.example/", List: "mirrorlist"},
	}, here.Sheet.InPlace[0].Mirrors)
	assert.Equal(t, 6, here.Sheet.Form())
	e, err := r.Explain(host("arc-1.brinewick.test", foreland("9"), nil))
	require.NoError(t, err)
	said := ""
	for _, rule := range e.Rules {
		for _, c := range rule.Causes {
			said += c.What + "\n"
		}
	}
	assert.Contains(t, said, "the site reef has a mirror of https://m.example/metalink?repo=base-$releasever\n")
	there := r.Resolve(host("model-1.brinewick.test", driftwood(2), nil))
	require.Len(t, there.Sheet.InPlace, 1)
	assert.Empty(t, there.Sheet.InPlace[0].Mirrors)
}
