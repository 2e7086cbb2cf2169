package resolve_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/resolve"
)

// told lists what a policy comes to on a fleet.
func fleetSays(t *testing.T, text string, hosts ...resolve.Host) (out []string) {
	t.Helper()
	r := resolve.New(load(t, text))
	f := resolve.NewFleet(r)
	for _, h := range hosts {
		f.Add(h, r.Resolve(h))
	}
	for _, d := range f.Diagnostics() {
		out = append(out, d.String())
	}
	return out
}

func TestWhatOnlyTheFleetShows(t *testing.T) {
	const repositories = languageKeys + `repositories:
  a: { keys: [gannet-2025], settings: { series: "8" }, deb: { url: "https://a.example/${series}", suites: [limpet], components: [main] } }
  b: { keys: [gannet-2025], deb: { url: "https://a.example/8", suites: ["${os.codename}"], components: [main] } }
  c: { keys: [gannet-2025], arch: { url: "https://a.example/c" } }
`
	var gateways []resolve.Host
	for i := range 5 {
		gateways = append(gateways, host(fmt.Sprintf("gw-%02d.brinewick.test", i+1), traits("12", "mussel", "2.6.1"), nil))
	}
	old := host("gw-06.brinewick.test", traits("11", "limpet", "2.4.1"), nil)
	for _, c := range []struct {
		name, assign string
		hosts        []resolve.Host
		want         []string
	}{
		{"nothing", "assign: [{ to: everyone, repositories: [b] }]\n", append(gateways, old), nil},
		{"names of hosts that there are not", "groups: { gw: { hosts: [\"gw-{01..08}.brinewick.test\"] } }\nassign: [{ to: gw, repositories: [b] }, { to: desk-9.brinewick.test, repositories: [b] }]\n", append(gateways, old), []string{
			`policy.yaml:6:11: warning[no-such-host]: the group "gw" names 2 hosts that are not enrolled: gw-07.brinewick.test, gw-08.brinewick.test; correct the name or range, or enrol them`,
			`policy.yaml:7:47: warning[no-such-host]: the host desk-9.brinewick.test is not enrolled; correct the name or range, or enrol them`,
		}},
		{"a suite of another release", "assign: [{ to: everyone, repositories: [a] }]\n", append(gateways, old), []string{
			`policy.yaml:3:108: warning[wrong-release]: a gives the suite "limpet", of release 11, to the host gw-01.brinewick.test, which has release 12 (mussel), and so for 5 hosts: gw-01.brinewick.test, gw-02.brinewick.test, gw-03.brinewick.test …; use ${os.codename}, or a case`,
		}},
		{"a repository of no family that is there", "assign: [{ to: everyone, repositories: [b, c] }]\n", gateways, []string{
			`policy.yaml:5:3: warning[never-applies]: the repository "c" comes to nothing on any of 5 hosts: none of those that get it is of a family that it speaks of (also policy.yaml:6:44); look at its groups and families, or take it out`,
		}},
		{"a group without hosts", "groups: { none: { where: 'os.major > 90' } }\nassign: [{ to: none, repositories: [b] }]\n", gateways, []string{
			`policy.yaml:4:3: warning[never-applies]: the repository "b" comes to nothing on any of 5 hosts: no host is in the groups that get it (also policy.yaml:7:37); look at its groups and families, or take it out`,
		}},
		{"one source by two names", "assign: [{ to: everyone, repositories: [a, b] }]\n", []resolve.Host{old}, []string{
			`policy.yaml:4:3: error[doubled]: a and b are the same source on the host gw-06.brinewick.test (also policy.yaml:3:3); assign one of them`,
		}},
		{"a contradiction with the hosts that it hits", "groups: { x: { where: 'os.major >= 11' }, y: { where: 'os.major >= 12' } }\nassign: [{ to: x, repositories: [a], settings: { a.series: \"8\" } }, { to: y, settings: { a.series: \"9\" } }]\n", append(gateways, old), []string{
			`policy.yaml:7:90: error[conflict]: a.series is "9" here and "8" elsewhere, for the host gw-01.brinewick.test, and so for 5 hosts: gw-01.brinewick.test, gw-02.brinewick.test, gw-03.brinewick.test … (also policy.yaml:7:50); say over: in the one that shall win`,
		}},
		{"a label that nobody has", "plans: { by-rack: { spread: rack, waves: [{ hosts: 1 }, { rest: true }] } }\nassign: [{ to: everyone, repositories: [b], plan: by-rack }]\n", gateways, []string{
			`policy.yaml:6:29: warning[no-label]: the plan "by-rack" spreads over the label rack, which none of the 5 hosts has that follow it: they stand together in its waves; give them the label, or correct its name`,
		}},
		{"a label that one has not", "labels: { \"gw-{01..04}.brinewick.test\": { rack: a } }\nplans: { by-rack: { spread: rack, waves: [{ hosts: 1 }, { rest: true }] } }\nassign: [{ to: everyone, repositories: [b], plan: by-rack }]\n", gateways, []string{
			`policy.yaml:7:29: warning[no-label]: the plan "by-rack" spreads over the label rack, which 1 of the 5 hosts that follow it do not have: gw-05.brinewick.test; give them the label`,
		}},
		{"a wave of nobody", "groups: { old: { where: 'os.major < 12' } }\nplans: { careful: { waves: [{ to: desk-1.brinewick.test }, { to: [old, gw-01.brinewick.test] }, { to: everyone }] } }\nassign: [{ to: everyone, repositories: [b], plan: careful }]\n", gateways, []string{
			`policy.yaml:7:29: warning[empty-wave]: no host of the fleet can be in wave 1 of the plan "careful"; correct the name or range, or enrol the host`,
			`policy.yaml:7:35: warning[no-such-host]: the host desk-1.brinewick.test is not enrolled; correct the name or range, or enrol them`,
		}},
		{"a plan of nobody", "groups: { old: { where: 'os.major < 12' } }\nplans: { careful: { waves: [{ rest: true }] } }\nassign: [{ to: everyone, repositories: [b] }, { to: old, plan: careful }]\n", gateways, []string{
			`policy.yaml:7:10: warning[empty-plan]: no host of the fleet follows the plan "careful"; give it with plan: to a group, or take it out`,
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, fleetSays(t, repositories+c.assign, c.hosts...))
		})
	}
}
