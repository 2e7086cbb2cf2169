package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/internal/rig"
)

const comesFrom = `format: patient-lantern/1

expect:
  - that: models take base files from Fulmar
    to: models
    from: { driftwood-base: fulmar }
  - that: nobody takes Saltmarsh from the distribution
    to: gateways
    from: { saltmarsh-server: base }
  - that: gateways take Saltmarsh from its vendor
    to: gateways
    on: saltmarsh
    from: { saltmarsh-server: saltmarsh }
`

// From where hosts would take a package is told of the policy that is checked, and not of the one
// that they have: what is not known is no success, and an edit that turns it round is refused.
func TestExpectationsTellFromWhereAPackageComes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	for _, n := range []string{"gw-01", "model-1"} {
		r.Up(n)
	}
	_, err := r.Operator.Label(ctx, "model-1", map[string]string{"duty": "model"})
	require.NoError(t, err)
	folder := r.Policy()
	folder["expect.yaml"] = []byte(comesFrom)
	tried := func() (states []string, first reason.Expected) {
		res, err := r.Operator.Check(ctx, api.Publication{Files: folder})
		require.NoError(t, err)
		require.Len(t, res.Expectations, 3)
		for _, x := range res.Expectations {
			states = append(states, x.State)
		}
		return states, res.Expectations[0]
	}
	untried := reason.ExpectNotTried
	states, first := tried()
	assert.Equal(t, []string{untried, untried, untried}, states, "nothing was looked at yet")
	assert.Equal(t, 1, first.Untold)
	assert.Regexp(t, `^model-1.brinewick.test: what http://\S+ offers was not seen`, first.Why)

	r.Publish()
	_, err = r.Operator.Preview(ctx, 0) // plans the places that it would bring
	require.NoError(t, err)
	r.Until("the places were looked at", func() bool {
		probe(t, r)
		states, first = tried()
		return states[0] != untried && states[1] != untried
	})
	assert.Equal(t, []string{reason.ExpectHolds, reason.ExpectFails, reason.ExpectHolds}, states, "before anything is carried")
	res, err := r.Operator.Check(ctx, api.Publication{Files: folder})
	require.NoError(t, err)
	second := res.Expectations[1]
	require.Len(t, second.First, 1)
	assert.Regexp(t, `^saltmarsh-server \S+ comes from saltmarsh, and not from base$`, second.First[0].Instead[0])

	// Without Fulmar the models get it from the distribution: such a folder is not published.
	folder["expect.yaml"] = []byte(comesFrom[:strings.Index(comesFrom, "  - that: nobody")])
	folder["hosts.yaml"] = []byte(strings.Replace(string(folder["hosts.yaml"]), "repositories: [fulmar]", "repositories: [base]", 1))
	_, err = r.Operator.Publish(ctx, api.Publication{Files: folder})
	require.ErrorContains(t, err, "nothing was published")
	res, err = r.Operator.Check(ctx, api.Publication{Files: folder})
	require.NoError(t, err)
	require.Len(t, res.Expectations[0].First, 1)
	assert.Equal(t, []string{"driftwood-base 2026.11-1 comes from base, and not from fulmar"}, res.Expectations[0].First[0].Instead)
}
