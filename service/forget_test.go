package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// By a clock that runs ahead everything is old. No host comes through then, and nothing is forgotten; years later, when it is true
// and hosts agree, it is.
func TestAClockThatRunsAheadForgetsNothing(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	_, h := r.Enrol("gw-01")
	stop := r.Start(h)
	r.Surveyed("gw-01")
	bare := r.Clock.Now()
	r.Clock.Forward(time.Hour)
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	stop()
	r.Clock.Forward(2 * 365 * 24 * time.Hour)
	r.Service.Forget(ctx)
	p, err := r.Operator.Past(ctx, "gw-01", bare)
	require.NoError(t, err)
	require.Zero(t, p.Revision)

	r.Start(h)
	r.Until("it is heard of", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && d.LastSeen != nil && r.Clock.Now().Sub(*d.LastSeen) < time.Minute
	})
	r.Service.Forget(ctx)
	_, err = r.Operator.Past(ctx, "gw-01", bare)
	require.ErrorContains(t, err, "had then is not known")
}
