package resolve_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
)

// Each host that is meant is counted once, and what is not known of any keeps an expectation from
// holding.
func TestWhereAPackageComesFromIsCountedOnce(t *testing.T) {
	p := load(t, expectedPolicy+"  - { that: x, to: both, from: { tide-model: b, tide-base: b } }\n")
	answers := []resolve.Taking{
		{From: "b", Version: "1"}, {From: "c", Version: "2"}, {From: "https://a.example/x", Version: "2"}, {}, {Unknown: "not seen"},
	}
	rapid.Check(t, func(rt *rapid.T) {
		r := resolve.New(p)
		f := resolve.NewFleet(r)
		holds, fails, untold := 0, 0, 0
		n := rapid.IntRange(1, 6).Draw(rt, "hosts")
		for i := range n {
			h := host(fmt.Sprintf("gw-%02d.brinewick.test", i+1), traits("12", "mussel", "2.6.1"), nil)
			res := r.Resolve(h)
			f.Add(h, res)
			require.Equal(rt, []string{"tide-base", "tide-model"}, f.Asks(h, res))
			if rapid.Bool().Draw(rt, "nobody looks") {
				untold++
				continue
			}
			one, two := rapid.SampledFrom(answers).Draw(rt, "model"), rapid.SampledFrom(answers).Draw(rt, "base")
			f.Took(h, res, map[string]resolve.Taking{"tide-model": one, "tide-base": two})
			wrong := func(x resolve.Taking) bool { return x.Unknown == "" && x.From != "b" }
			switch {
			case wrong(one) || wrong(two):
				fails++
			case one.Unknown != "" || two.Unknown != "":
				untold++
			default:
				holds++
			}
		}
		got := f.Expected()[0]
		require.Equal(rt, []int{holds, fails, untold}, []int{got.Held, got.Failed, got.Untold})
		switch {
		case fails > 0:
			require.Equal(rt, reason.ExpectFails, got.State)
		case untold > 0:
			require.Equal(rt, reason.ExpectNotTried, got.State)
			require.NotEmpty(rt, got.Why)
		default:
			require.Equal(rt, reason.ExpectHolds, got.State)
		}
	})
}

func TestWhatElseIsOtherwiseFailsWithoutAskingTheService(t *testing.T) {
	got := expectedOn(t, "  - { that: x, to: both, on: a, from: { tide-model: a } }\n", true)[0]
	assert.Equal(t, reason.ExpectFails, got.State)
	assert.Equal(t, 1, got.Failed, "the one on which a is absent")
	assert.Equal(t, 5, got.Untold)
}

func TestAnExpectationAboutPackagesNamesHostsAndRepositories(t *testing.T) {
	for _, c := range []struct{ expect, says string }{
		{`{ that: x, from: { tide-model: aa } }`, `there is no repository "aa"`},
		{`{ that: x, from: { tide-model: a }, host: { family: deb } }`, "is told of hosts of the fleet"},
		{`{ that: x, from: [tide-model] }`, "from"},
	} {
		_, diags := policy.Load(policy.Folder{"policy.yaml": []byte(expectedPolicy + "  - " + c.expect + "\n")}, now)
		var said []string
		for _, d := range diags {
			said = append(said, d.String())
		}
		assert.Contains(t, strings.Join(said, "\n"), c.says)
	}
}
