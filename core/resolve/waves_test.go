package resolve_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rollout"
)

const laid = `format: patient-lantern/1
repositories:
  base: { title: Base, in-place: true, deb: { suites: [mussel], components: [main] } }
labels:
  gw-{01..02}.brinewick.test: { rack: a }
groups:
  gateways: { hosts: ["gw-{01..12}.brinewick.test"] }
  racked: { where: 'has(label.rack) && label.rack == "a"' }
  outer: { groups: [gateways], except: [racked] }
plans:
  lab: { waves: [{ rest: true }] }
  slow: { spread: rack, waves: [{ hosts: 1 }, { to: [outer, racked] }] }
assign:
  - { to: everyone, repositories: [base], plan: slow }
  - { to: racked, over: everyone, plan: lab }
`

func TestAHostFollowsOnePlan(t *testing.T) {
	r := resolve.New(load(t, laid))
	skerry := traits("12", "mussel", "2.6.1")
	one := host("gw-01.brinewick.test", skerry, nil)
	three := host("gw-03.brinewick.test", skerry, nil)
	desk := host("desk-1.brinewick.test", skerry, map[string]string{"rack": "b"})
	assert.Equal(t, "lab", r.Resolve(one).Plan().Name, "a condition over labels that the policy gives")
	assert.Equal(t, "slow", r.Resolve(three).Plan().Name)
	assert.Equal(t, r.Resolve(one).Digest(), r.Resolve(three).Digest(), "no sheet depends on it")
	for _, x := range []struct {
		h     resolve.Host
		group string
		want  bool
	}{
		{one, "everyone", true},
		{one, "gateways", true},
		{one, "racked", true},
		{one, "outer", false},
		{three, "outer", true},
		{three, "racked", false},
		{desk, "gateways", false},
		{desk, "racked", false},
		{desk, "nowhere", false},
	} {
		assert.Equal(t, x.want, r.In(x.h, x.group), "%s in %s", x.h.Name, x.group)
	}
	assert.Equal(t, "a", r.Label(one, "rack"))
	assert.Equal(t, "b", r.Label(desk, "rack"))
	assert.True(t, r.HasGroup("outer"))
	assert.False(t, r.HasGroup("nowhere"))
	assert.Equal(t, rollout.BuiltIn().Name, resolve.New(load(t, strings.Replace(laid, ", plan: slow", "", 1))).Resolve(desk).Plan().Name, "where no plan is given")
}
