package policy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/policy"
)

// TestWhatAnExpectationNamesIsThere: each name that an expectation may say is looked for, so that none holds because
// of a wrong word; ranges and hosts need no definition.
func TestWhatAnExpectationNamesIsThere(t *testing.T) {
	for _, c := range []struct{ says, wanted string }{
		{`to: "gw-{31..32}.brinewick.test", on: saltmarsh`, ""},
		{`to: [gateways, tern-1.brinewick.test], except: "gw-{01..02}.brinewick.test", on: saltmarsh`, ""},
		{`to: gatewys, on: saltmarsh`, `there is no group "gatewys"`},
		{`except: gatewys, on: saltmarsh`, `there is no group "gatewys"`},
		{`on: saltmarch`, `there is no repository "saltmarch"`},
		{`off: saltmarch`, `there is no repository "saltmarch"`},
		{`absent: saltmarch`, `there is no repository "saltmarch"`},
		{`order: [saltmarsh, saltmarch]`, `there is no repository "saltmarch"`},
		{`from: { tern: saltmarch }`, `there is no repository "saltmarch"`},
		{`choices: { saltmarch: new }`, `there is no channel "saltmarch"`},
		{`absnt: saltmarsh`, `absnt`},
	} {
		_, diags := policy.Load(folder(t, map[string]string{"p.yaml": good + "expect:\n  - { that: it is so, " + c.says + " }\n"}), now)
		if c.wanted == "" {
			assert.Empty(t, diags, c.says)
			continue
		}
		said := ""
		for _, d := range diags {
			said += d.Message + "\n"
		}
		assert.Contains(t, said, c.wanted, c.says)
	}
}
