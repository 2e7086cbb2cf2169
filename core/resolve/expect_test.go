package resolve_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
)

const expectedPolicy = languageKeys + `repositories:
  a: { keys: [gannet-2025], above: [b], deb: { url: "https://a.example/a", suites: [limpet], components: [main], release: { origin: A } } }
  b: { keys: [gannet-2025], enabled: false, deb: { url: "https://a.example/b", suites: ["${os.codename}"], components: [main] } }
  c: { keys: [gannet-2025], arch: { url: "https://a.example/c" } }
groups: { new: { where: 'os.major >= 12' }, both: { hosts: ["gw-{01..06}.brinewick.test"] } }
assign: [{ to: new, repositories: [a] }, { to: everyone, repositories: [b, c] }]
expect:
`

// expectedOn tries expectations on five hosts of release 12 and one of 11.
func expectedOn(t testing.TB, expectations string, some bool) []reason.Expected {
	r := resolve.New(load(t, expectedPolicy+expectations))
	f := resolve.NewFleet(r)
	for i := 0; i < 6 && some; i++ {
		h := host(fmt.Sprintf("gw-%02d.brinewick.test", i+1), traits("12", "mussel", "2.6.1"), nil)
		if i == 5 {
			h = host("gw-06.brinewick.test", traits("11", "limpet", "2.4.1"), nil)
		}
		f.Add(h, r.Resolve(h))
	}
	return f.Expected()
}

func TestExpectationsAreTriedOnTheHostsThatAreMeant(t *testing.T) {
	for _, c := range []struct {
		name, expect string
		state        string
		held, failed int
		instead      string
	}{
		{"a repository of a group", "- { that: x, to: new, on: a }", reason.ExpectHolds, 5, 0, ""},
		{"of everyone", "- { that: x, on: a }", reason.ExpectFails, 5, 1, "a is absent, and not on"},
		{"but for some", "- { that: x, on: a, except: gw-06.brinewick.test }", reason.ExpectHolds, 5, 0, ""},
		{"where something holds", "- { that: x, absent: a, where: os.major == 11 }", reason.ExpectHolds, 1, 0, ""},
		{"by name", "- { that: x, absent: a, where: 'host.name == \"gw-06.brinewick.test\"' }", reason.ExpectHolds, 1, 0, ""},
		{"kept and off", "- { that: x, off: b, absent: c }", reason.ExpectHolds, 6, 0, ""},
		{"off is not absent", "- { that: x, absent: b }", reason.ExpectFails, 0, 6, "b is off, and not absent"},
		{"an order", "- { that: x, order: [a, b] }", reason.ExpectHolds, 6, 0, ""},
		{"the other order", "- { that: x, order: [b, a] }", reason.ExpectFails, 0, 6, "b does not win over a"},
		{"a line", "- { that: x, to: new, lines: 'URIs: https://a.example/a' }", reason.ExpectHolds, 5, 0, ""},
		{"a line that must not be", "- { that: x, no-lines: 'URIs: https://a.example/a' }", reason.ExpectFails, 1, 5, "has the line"},
		{"named keys", "- { that: x, signed: true }", reason.ExpectHolds, 6, 0, ""},
		{"a condition that fails on a host", "- { that: x, on: b, where: 'label.duty == \"x\" || !has(label.site) && label[host.name] == \"\"' }", reason.ExpectFails, 0, 6, "whether it is meant cannot be told"},
		{"nobody", "- { that: x, on: a, where: os.major == 77 }", reason.ExpectNotTried, 0, 0, ""},
		{"a host that is not there", "- { that: x, on: a, host: { family: deb, id: skerry, version: \"13\", codename: whelk } }", reason.ExpectHolds, 1, 0, ""},
		{"another family", "- { that: x, on: c, host: { family: arch, id: driftwood } }", reason.ExpectHolds, 1, 0, ""},
		{"one that falls out", "- { that: x, on: a, host: { family: deb, id: skerry, version: \"11\", codename: limpet } }", reason.ExpectFails, 0, 1, "a is absent, and not on"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := expectedOn(t, "  "+c.expect+"\n", true)
			require.Len(t, got, 1)
			require.Equal(t, c.state, got[0].State, "%v", got[0].First)
			assert.Equal(t, []int{c.held, c.failed}, []int{got[0].Held, got[0].Failed})
			if c.instead != "" {
				require.NotEmpty(t, got[0].First)
				assert.Contains(t, strings.Join(got[0].First[0].Instead, "; "), c.instead)
			}
		})
	}
}

func TestWithoutHostsNothingAboutTheFleetHolds(t *testing.T) {
	got := expectedOn(t, "  - { that: fleet, off: b }\n  - { that: bare, on: a, host: { family: deb, version: \"12\", codename: mussel } }\n", false)
	assert.Equal(t, reason.ExpectNotTried, got[0].State)
	assert.Equal(t, reason.ExpectHolds, got[1].State)
}

// What an expectation says of a repository is what explain says, on every host.
func TestExpectationsAgreeWithExplain(t *testing.T) {
	states := []string{reason.On, reason.Off, reason.Absent}
	rapid.Check(t, func(rt *rapid.T) {
		repository := rapid.SampledFrom([]string{"a", "b", "c"}).Draw(rt, "repository")
		want := rapid.SampledFrom(states).Draw(rt, "state")
		version := rapid.SampledFrom([]string{"11", "12", "13"}).Draw(rt, "version")
		family := rapid.SampledFrom([]string{"deb", "arch", "rpm"}).Draw(rt, "family")
		text := fmt.Sprintf("  - { that: x, %s: %s, host: { name: h.test, family: %s, version: %q, codename: mussel } }\n", want, repository, family, version)
		got := expectedOn(t, text, false)[0]
		h := host("h.test", traits(version, "mussel", "2.6.1"), nil)
		h.Traits.Family = family
		e, err := resolve.New(load(t, expectedPolicy+text)).Explain(h)
		require.NoError(rt, err)
		i := slices.IndexFunc(e.Repositories, func(r reason.RepositoryReason) bool { return r.Name == repository })
		require.Equal(rt, e.Repositories[i].State == want, got.State == reason.ExpectHolds, "%s is %s", repository, e.Repositories[i].State)
		if got.State == reason.ExpectFails {
			require.Equal(rt, e.Repositories[i].Causes, got.First[0].Reasons[0].Causes)
		}
	})
}
