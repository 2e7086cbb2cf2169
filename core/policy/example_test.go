package policy_test

import (
	"fmt"
	"time"

	"patientlantern.example/lantern/core/policy"
)

// A folder is read whole: a mistake is one line that says what, where, why and what to do.
func ExampleLoad() {
	folder := policy.Folder{"policy.yaml": []byte(`format: patient-lantern/1
groups:
  gateways: { hosts: ["gw-{01..12}.brinewick.test"] }
assign:
  - { to: gateway, repositories: [saltmarsh] }
`)}
	_, diags := policy.Load(folder, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	for _, d := range diags {
		fmt.Println(d)
	}
	// Output:
	// policy.yaml:3:3: warning[unused]: the group "gateways" is used nowhere; use it, or take it out
	// policy.yaml:5:11: error[unknown-name]: there is no group "gateway"; define it first; did you mean "gateways"?
	// policy.yaml:5:35: error[unknown-name]: there is no repository "saltmarsh"; define it first
}
