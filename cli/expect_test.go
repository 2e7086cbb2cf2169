package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/reason"
)

// Only where all was tried and holds is the answer yes.
func TestWhatWasNotTriedIsNoSuccess(t *testing.T) {
	holds, fails, idle := reason.Expected{State: reason.ExpectHolds}, reason.Expected{State: reason.ExpectFails}, reason.Expected{State: reason.ExpectNotTried}
	for _, c := range []struct {
		name    string
		list    []reason.Expected
		unknown int
		onHosts bool
		says    string
	}{
		{"all hold", []reason.Expected{holds, holds}, 0, false, ""},
		{"one fails", []reason.Expected{holds, fails}, 0, true, "of 2 expectations 1 does not hold"},
		{"one was not tried", []reason.Expected{holds, idle}, 0, false, "1 could not be tried: try them on hosts"},
		{"one was not tried on hosts that were given", []reason.Expected{holds, idle}, 0, true, "1 could not be tried on these hosts, for the reasons"},
		{"a host is not known", []reason.Expected{holds}, 1, true, "1 expectation holds on the hosts that are known; 1 host has sent no survey"},
		{"one fails and hosts are not known", []reason.Expected{fails}, 2, true, "1 does not hold, 2 hosts have sent no survey"},
		{"nothing is expected", nil, 0, false, "nothing to test"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := &app{format: "json", out: view.To(t.Output())}
			err := a.testEnds("policy", c.list, c.unknown, c.onHosts)
			if c.says == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
}
