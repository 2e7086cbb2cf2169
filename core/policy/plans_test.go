package policy_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/rollout"
)

const planned = two + `    plan: careful
plans:
  careful:
    spread: rack
    soak: 10 minutes
    quiet: { from: "22:00", until: "06:00" }
    limits: { failed: 0, silent: 10 %, drifted: 3 }
    waves:
      - { to: gw-01.brinewick.test, soak: 1 hour }
      - { hosts: 2 }
      - { share: 25 %, consent: true }
      - { to: [gateways] }
      - { rest: true }
`

func plans(t *testing.T, text string) (*policy.Policy, []diag.Diagnostic) {
	t.Helper()
	folder := policy.Folder{"p.yaml": []byte(text)}
	for _, name := range []string{"saltmarsh-2026.asc", "gannet-2025.asc"} {
		b, err := os.ReadFile("../../demo/policy/keys/" + name)
		require.NoError(t, err)
		folder["keys/"+name] = b
	}
	return policy.Load(folder, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
}

func TestAPlanIsReadAsItStands(t *testing.T) {
	p, diags := plans(t, planned)
	require.False(t, diag.HasErrors(diags), "%v", diags)
	plan := p.Plans["careful"]
	assert.Equal(t, rollout.Quiet{From: 22 * 60, Until: 6 * 60}, plan.Quiet)
	assert.Equal(t, "rack", plan.Spread)
	assert.Equal(t, rollout.Limits{Failed: rollout.Number(0), Silent: rollout.Share(10), Drifted: rollout.Number(3), Refused: rollout.Number(0)}, plan.Limits)
	assert.Equal(t, []rollout.Wave{
		{To: []string{"gw-01.brinewick.test"}, Soak: time.Hour},
		{Hosts: 2, Soak: 10 * time.Minute},
		{Share: 25, Soak: 10 * time.Minute, Consent: true},
		{To: []string{"gateways"}, Soak: 10 * time.Minute},
		{Rest: true, Soak: 10 * time.Minute},
	}, plan.Waves)
}

func TestPlansThatCannotBe(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"a wave that can never fill", "      - { rest: true }\n", "      - { rest: true }\n      - { hosts: 1 }\n", `p.yaml:34:9: error[value]: this wave can never fill: the one before it takes the rest; put rest: true last`},
		{"a wave that says it twice", "{ hosts: 2 }", "{ hosts: 2, share: 5 % }", `error[value]: a wave says in one way who is in it; give it one of: to, hosts, share, rest: true`},
		{"a wave of nobody", "{ hosts: 2 }", "{ hosts: 0 }", `error[value]: hosts is "0"; it must be a whole number from 1 to 10000000`},
		{"no share", "25 %", "0 %", `error[value]: share is "0 %"; it must be from 1 to 100`},
		{"a share that is none", "25 %", "some", `error[value]: share is "some"; write it as 10 %`},
		{"a group that there is not", "[gateways] }\n      -", "[gatways] }\n      -", `error[unknown-name]: there is no group "gatways"; define it first; did you mean "gateways"?`},
		{"quiet hours without an end", `, until: "06:00"`, "", `error[missing]: quiet hours have a beginning and an end`},
		{"quiet hours that leave no minute", `until: "06:00"`, `until: "22:00"`, `error[value]: the quiet hours leave no minute in which a host may begin`},
		{"quiet hours that leave no minute, from midnight", `from: "22:00", until: "06:00"`, `from: "00:00", until: "24:00"`, `error[value]: the quiet hours leave no minute in which a host may begin`},
		{"no time of the day", `"22:00"`, `"25:00"`, `error[value]: from is "25:00"; write a time of the day, in quotes: "22:00"`},
		{"a soak", "10 minutes", "soon", `error[value]: soak is "soon"; write it as 10 minutes, 2 hours or 1 day`},
		{"a gate that can never hold", "silent: 10 %", "silent: 101 %", `error[value]: the limit silent is "101 %"; write a number of hosts, a share as 5 %, or none`},
		{"a gate below zero", "failed: 0", "failed: -1", `error[value]: the limit failed is "-1"`},
		{"no waves", planned[strings.Index(planned, "    waves:"):], "", `error[missing]: the plan "careful" has no waves; add: waves: [{ hosts: 1 }, { rest: true }]`},
		{"a plan that there is not", "    plan: careful", "    plan: carefull", `error[unknown-name]: there is no plan "carefull"; define it first; did you mean "careful"?`},
		{"a plan that nobody follows", "    plan: careful\n", "", `warning[unused]: the plan "careful" is used nowhere; use it, or take it out`},
		{"the name of what is built in", "  careful:\n", "  built-in:\n", `error[name]: the plan built-in is there already`},
		{"a key that there is not", "spread: rack", "sprea: rack", `error[unknown-key]: the plan "careful" has no key "sprea"; did you mean "spread"?`},
	} {
		require.Contains(t, planned, c.old, c.name)
		_, diags := plans(t, strings.Replace(planned, c.old, c.new, 1))
		var all []string
		for _, d := range diags {
			all = append(all, d.String())
		}
		assert.Contains(t, strings.Join(all, "\n"), c.want, c.name)
	}
}

func TestPlansAreCompared(t *testing.T) {
	before, diags := plans(t, planned)
	require.False(t, diag.HasErrors(diags))
	after, diags := plans(t, strings.NewReplacer("{ hosts: 2 }", "{ hosts: 3, consent: true }", "failed: 0", "failed: 2 %").Replace(planned))
	require.False(t, diag.HasErrors(diags))
	var all []string
	for _, d := range policy.Compare(before, after) {
		all = append(all, d.String())
	}
	assert.Equal(t, []string{
		"changed plan careful, limit failed: 0 → 2 %",
		"changed plan careful, wave 2: 2 hosts, then 10m0s → 3 hosts, then 10m0s, with consent",
	}, all)
}
