package resolve_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/demo"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func load(t testing.TB, text string) *policy.Policy {
	t.Helper()
	files, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	if text != "" {
		files["policy.yaml"], files["hosts.yaml"] = []byte(text), []byte("format: patient-lantern/1\n")
		delete(files, "channels.yaml")
	}
	p, diags := policy.Load(files, now)
	require.False(t, diag.HasErrors(diags), "%v", diags)
	return p
}

func traits(version, codename, apt string) *source.Traits {
	return &source.Traits{
		OS: source.OS{ID: "skerry", IDLike: []string{"debian"}, Version: version, Codename: codename}, Family: "deb", Arch: "x86_64",
		Architectures: []string{"amd64"}, CPU: source.CPU{Level: 3}, Tools: map[string]string{"apt": apt},
	}
}

func host(name string, t *source.Traits, labels map[string]string) resolve.Host {
	return resolve.Host{Name: name, Class: fmt.Sprint(*t, labels), Labels: labels, Traits: t}
}

func repositories(r *resolve.Result) string {
	var out []string
	for _, s := range r.Sheet.Sources {
		if s.IfThere { // of another choice of a channel
			continue
		}
		out = append(out, s.Repository+"="+strings.Join(s.URLs, ",")+" "+strings.Join(s.Suites, ","))
	}
	for _, s := range r.Sheet.InPlace {
		out = append(out, "in place "+s.Repository+"="+strings.Join(s.Suites, ",")+"+"+strings.Join(s.Add, ","))
	}
	return strings.Join(out, "; ")
}

func TestTheDemosHostsGetWhatThePolicySays(t *testing.T) {
	r := resolve.New(load(t, ""))
	base := "http://127.0.0.1:7801/"
	for _, c := range []struct {
		host   string
		traits *source.Traits
		labels map[string]string
		want   string
	}{
		{"gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil, "gannet-open=" + base + "apt.gannet.example/open/ mussel; gannet-open=" + base + "apt.gannet.example/open-storage/ mussel; saltmarsh=" + base + "packages.saltmarsh.example/apt/8.x/ stable; in place base=mussel,mussel-updates+firmware"},
		{"gw-04.brinewick.test", traits("11", "limpet", "2.4.1"), nil, "gannet-open=" + base + "apt.gannet.example/open/ limpet; saltmarsh=" + base + "packages.saltmarsh.example/apt/8.x/ stable; in place base=limpet,limpet-updates+"},
		{"gw-05.brinewick.test", traits("12", "mussel", "2.6.1"), map[string]string{"site": "reef"}, "gannet-open=" + base + "apt.gannet.example/open/ mussel; gannet-open=" + base + "apt.gannet.example/open-storage/ mussel; plover-pinned=" + base + "metrics.plover.example/pinned-1.44/ rolling; saltmarsh=" + base + "packages.saltmarsh.example/apt/9.x/ stable; in place base=mussel,mussel-updates+firmware"},
		{"desk-1.brinewick.test", traits("12", "mussel", "2.6.1"), nil, "brinewick-shelf=file:/srv/shelf/deb/ shelf; plover-rolling=" + base + "metrics.plover.example/apt/ rolling; in place base=mussel,mussel-updates+firmware"},
		{"gw-13.brinewick.test", traits("12", "mussel", "2.6.1"), nil, "in place base=mussel,mussel-updates+firmware"},
	} {
		res := r.Resolve(host(c.host, c.traits, c.labels))
		assert.Empty(t, res.Trouble)
		assert.Equal(t, c.want, repositories(res), c.host)
		assert.NotEmpty(t, res.Reasons())
	}
}

func TestAKeyIsEmbeddedWhereAptCanReadIt(t *testing.T) {
	r := resolve.New(load(t, ""))
	for apt, embedded := range map[string]bool{"2.6.1": true, "2.3.10": true, "2.3.9": false, "2.2.4": false, "1:2.4.0~x": true, "": false} {
		res := r.Resolve(host("gw-01.brinewick.test", traits("12", "mussel", apt), nil))
		text := ""
		for _, f := range res.Sheet.Files {
			if f.Repository == "saltmarsh" {
				text = f.Text
			}
		}
		assert.Equal(t, embedded, strings.Contains(text, "BEGIN PGP"), apt)
		assert.Equal(t, !embedded, strings.Contains(text, "Signed-By: /etc/apt/keyrings/saltmarsh-2026.asc /etc/apt/keyrings/saltmarsh-2029.asc\n"), apt)
		assert.Equal(t, !embedded, slices.ContainsFunc(res.Sheet.Files, func(f source.SheetFile) bool { return f.Path == "/etc/apt/keyrings/saltmarsh-2026.asc" }), apt)
	}
}

const conflict = `format: patient-lantern/1
repositories:
  saltmarsh:
    settings: { series: "8" }
    keys: [saltmarsh-2026, saltmarsh-2029]
    deb: { url: "https://a.example/${series}", suites: [stable], components: [main] }
groups:
  north: { where: 'label.site == "north"' }
  relays: { where: 'label.duty == "relay"' }
assign:
  - { to: everyone, repositories: [saltmarsh] }
  - to: north
    settings: { saltmarsh.series: "9" }
  - to: relays
    settings: { saltmarsh.series: "10" }
`

func TestAssignmentsThatContradictEachOtherAreTrouble(t *testing.T) {
	both := map[string]string{"site": "north", "duty": "relay"}
	res := resolve.New(load(t, conflict)).Resolve(host("gw-01", traits("12", "mussel", "2.6.1"), both))
	require.Len(t, res.Trouble, 1)
	assert.Equal(t, `policy.yaml:15:17: error[conflict]: saltmarsh.series is "10" here and "9" elsewhere, for the host gw-01 (also policy.yaml:13:17); say over: in the one that shall win`, res.Trouble[0].String())

	for _, c := range []struct{ text, want string }{
		{strings.Replace(conflict, "  - to: relays\n", "  - to: relays\n    over: north\n", 1), "10"},
		{strings.Replace(conflict, "  - to: north\n", "  - to: north\n    over: [relays]\n", 1), "9"},
		{strings.Replace(conflict, `"10"`, `"9"`, 1), "9"},
	} {
		res := resolve.New(load(t, c.text)).Resolve(host("gw-01", traits("12", "mussel", "2.6.1"), both))
		assert.Empty(t, res.Trouble)
		assert.Contains(t, repositories(res), "https://a.example/"+c.want+"/")
	}
}

func TestAnAbsentLabelIsNoError(t *testing.T) {
	res := resolve.New(load(t, conflict)).Resolve(host("gw-01", traits("12", "mussel", "2.6.1"), nil))
	assert.Empty(t, res.Trouble)
	assert.Contains(t, repositories(res), "https://a.example/8/")
}

// What a host does not tell of itself, or tells wrongly, keeps the sheet from it, and is no error of the policy's: others do not
// wait for that.
func TestAFactThatAHostLacksIsTroubleOfItsOwn(t *testing.T) {
	for _, c := range []struct{ version, codename, want string }{
		{"12", "", `"${os.codename}" needs os.codename, which the host gw-01.brinewick.test does not tell`},
		{"12", "two words", `"${os.codename}" comes to "two words" for the host gw-01.brinewick.test, which cannot stand in a source`},
	} {
		res := resolve.New(load(t, "")).Resolve(host("gw-01.brinewick.test", traits(c.version, c.codename, "2.6.1"), nil))
		require.NotEmpty(t, res.Trouble)
		assert.Contains(t, res.Trouble[0].String(), c.want)
		assert.True(t, res.Untold())
		assert.NotContains(t, res.Why(), "gw-01")
	}
	res := resolve.New(load(t, conflict)).Resolve(host("gw-01", traits("12", "mussel", "2.6.1"), map[string]string{"site": "north", "duty": "relay"}))
	assert.False(t, res.Untold())
}

// A number of a version that a host does not tell is none: it is no release 0.
func TestThereIsNoReleaseOfAHostThatTellsNone(t *testing.T) {
	r := resolve.New(load(t, strings.Replace(conflict, "https://a.example/", "https://a.example/${os.major}/", 1)))
	assert.Empty(t, r.Resolve(host("gw-01", traits("12", "mussel", "2.6.1"), nil)).Trouble)
	assert.True(t, r.Resolve(host("gw-02", traits("", "mussel", "2.6.1"), nil)).Untold())
}

const asking = `format: patient-lantern/1
groups:
  newer: { where: os.major >= 12 }
repositories:
  shelf:
    keys: [saltmarsh-2026]
    deb: { url: http://shelf.brinewick.test/deb, suites: [mussel], components: [main] }
    cases:
      - where: os.codename == "mussel"
        deb: { components: [main, firmware] }
assign:
  - { to: everyone, repositories: [shelf] }
`

// Of a host that says nothing of its system it is not known what a condition comes to that asks for it: it is not taken for one that
// the condition leaves out, which would take its sources away.
func TestOfAHostThatSaysNothingNoConditionIsSaidNotToHold(t *testing.T) {
	r := resolve.New(load(t, asking))
	silent := traits("", "", "2.6.1")
	silent.OS = source.OS{}
	res := r.Resolve(host("gw-01", silent, nil))
	require.True(t, res.Untold(), "%+v", res.Trouble)
	var says []string
	for _, d := range res.Trouble {
		says = append(says, d.Message)
	}
	assert.Equal(t, []string{
		`whether group "newer" is meant needs os.major, which the host gw-01 does not tell`,
		`whether a case of "shelf" holds needs os.codename, which the host gw-01 does not tell`,
	}, says)
	for _, t2 := range []*source.Traits{traits("", "", "2.6.1"), traits("11", "limpet", "2.6.1"), traits("12", "mussel", "2.6.1")} {
		assert.Empty(t, r.Resolve(host("gw-02", t2, nil)).Trouble, "a rolling release has no version")
	}
}

func TestOtherFamiliesAreLeftWithAReason(t *testing.T) {
	tr := traits("15.3", "", "")
	tr.Family = "hive"
	res := resolve.New(load(t, "")).Resolve(host("shelf.brinewick.test", tr, nil))
	assert.Empty(t, res.Sheet.Sources)
	require.Len(t, res.Reasons(), 1)
	assert.True(t, res.Reasons()[0].Left)
	assert.Contains(t, res.Reasons()[0].Because, "it says nothing about hive")
}

// TestSharingChangesNothing holds results of one resolver, which shares them,
// against those of a fresh one for each host.
func TestSharingChangesNothing(t *testing.T) {
	p := load(t, "")
	shared := resolve.New(p)
	rapid.Check(t, func(t *rapid.T) {
		tr := traits(rapid.SampledFrom([]string{"11", "12", "13.1"}).Draw(t, "version"), rapid.SampledFrom([]string{"limpet", "mussel"}).Draw(t, "codename"), rapid.SampledFrom([]string{"2.2.4", "2.6.1"}).Draw(t, "apt"))
		var labels map[string]string
		if rapid.Bool().Draw(t, "labelled") {
			labels = map[string]string{"site": rapid.SampledFrom([]string{"reef", "north"}).Draw(t, "site")}
		}
		h := host(rapid.SampledFrom([]string{"gw-01.brinewick.test", "gw-12.brinewick.test", "desk-2.brinewick.test", "other"}).Draw(t, "name"), tr, labels)
		a, b := shared.Resolve(h), resolve.New(p).Resolve(h)
		if a.Digest() != b.Digest() || string(a.Text()) != string(b.Text()) {
			t.Fatalf("shared %s\nfresh  %s", a.Text(), b.Text())
		}
	})
	assert.Less(t, len(shared.Distinct()), 100)
}

// TestWhatIsCarriedOverFromAnotherVersionChangesNothing holds a resolver that
// remembers earlier versions of a policy against a fresh one.
func TestWhatIsCarriedOverFromAnotherVersionChangesNothing(t *testing.T) {
	files, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	edits := [][3]string{
		{"policy.yaml", "title: Saltmarsh database", "title: Tide database"},
		{"policy.yaml", `series: "8"`, `series: "7"`},
		{"policy.yaml", "os.major >= 12", "os.major >= 11"},
		{"policy.yaml", "add-components: [firmware]", "add-components: [extra]"},
		{"policy.yaml", "keys: [saltmarsh-2026, saltmarsh-2029]", "keys: [saltmarsh-2026]"},
		{"policy.yaml", "components: [open]", "components: [open, more]"},
		{"policy.yaml", "repositories:\n", "\n\nrepositories:\n"},
		{"hosts.yaml", `saltmarsh.series: "9"`, `saltmarsh.series: "10"`},
		{"hosts.yaml", "unlisted: report", "unlisted: remove"},
		{"hosts.yaml", "repositories: [plover]", "repositories: [plover, saltmarsh]"},
	}
	memory := &resolve.Memory{}
	rapid.Check(t, func(t *rapid.T) {
		version := policy.Folder{}
		for n, d := range files {
			version[n] = d
		}
		for _, i := range rapid.SliceOfNDistinct(rapid.IntRange(0, len(edits)-1), 0, 4, rapid.ID[int]).Draw(t, "edits") {
			e := edits[i]
			version[e[0]] = []byte(strings.Replace(string(version[e[0]]), e[1], e[2], 1))
		}
		p, diags := policy.Load(version, now)
		if diag.HasErrors(diags) {
			t.Fatal(diags)
		}
		remembering, fresh := resolve.NewWith(p, memory), resolve.New(p)
		for _, h := range []resolve.Host{
			host("gw-01.brinewick.test", traits("12", "mussel", "2.6.1"), nil),
			host("gw-02.brinewick.test", traits("11", "limpet", "2.2.4"), nil),
			host("gw-05.brinewick.test", traits("12", "mussel", "2.6.1"), map[string]string{"site": "reef"}),
			host("desk-1.brinewick.test", traits("12", "mussel", "2.6.1"), nil),
		} {
			a, b := remembering.Resolve(h), fresh.Resolve(h)
			if a.Digest() != b.Digest() || fmt.Sprint(a.Reasons(), a.Trouble) != fmt.Sprint(b.Reasons(), b.Trouble) {
				t.Fatalf("%s\nremembering %s %v\nfresh       %s %v", h.Name, a.Text(), a.Reasons(), b.Text(), b.Reasons())
			}
		}
	})
}
