package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// TestTheOutlookSaysWhatItDoesNotKnow: without an account, with a host that carries nothing, with
// a desk that is away; and of none of it where all is known.
func TestTheOutlookSaysWhatItDoesNotKnow(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	doubts := func() []string {
		o, err := r.Operator.Outlook(ctx)
		require.NoError(t, err)
		return o.Doubts()
	}
	none := "The service has no account at a vendor's desk: which contracts there are is not known."
	bare := "What 1 host needs is not known: no revision was carried to them yet, or they cannot be read."
	assert.Equal(t, []string{none}, doubts())
	r.Up("gw-01")
	assert.Equal(t, []string{none, bare}, doubts())
	r.Accounts()
	assert.Equal(t, []string{bare}, doubts())
	publish(t, r, licensed(t, r))
	require.Zero(t, r.Carry().Counts["failed"])
	assert.Empty(t, doubts())
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskBroken))
	r.Tend()
	away := "The desks of gannet do not answer: contracts of theirs are as they were told last."
	assert.Equal(t, []string{away}, doubts())
	dates, err := r.Operator.Dates(ctx, client.List{})
	require.NoError(t, err)
	assert.Equal(t, []string{away}, dates.Unknown())
}

// TestTheYearAheadOfTheFleet: what is looked at are the sheets of the hosts and the contracts of the
// desk, and of an account that the service was never given nobody has a seat.
func TestTheYearAheadOfTheFleet(t *testing.T) {
	t.Parallel()
	r, _ := carried(t, "arc-2", "arc-3", "gw-01")
	ahead := func(account string) (out []string) {
		o, err := r.Operator.Outlook(ctx)
		require.NoError(t, err)
		for _, f := range o.Forecast {
			if f.Account == account {
				for _, s := range f.Steps {
					out = append(out, fmt.Sprintf("%d of %d, %d short, %v", s.Needed, s.Seats, s.Short, s.Costs))
				}
			}
		}
		return out
	}
	assert.Equal(t, []string{
		"3 of 9, 0 short, []", "3 of 3, 1 short, [{EUR 108000 0}]", "3 of 3, 1 short, []", "3 of 0, 3 short, [{EUR 162000 0}]", "3 of 0, 3 short, []",
	}, ahead("gannet"), "arc-3 is of a release that the second contract does not open")
	require.NoError(t, r.Desk.Change("gannet", "GN-2026-031", func(c *subscription.Contract) {
		c.End, c.Opens[0].Releases = c.End.AddDate(1, 0, 0), nil
	}))
	r.Tend()
	assert.Equal(t, "3 of 3, 0 short, []", ahead("gannet")[4])

	o, err := r.Operator.Outlook(ctx)
	require.NoError(t, err)
	require.Len(t, o.Forecast, 2)
	assert.Nil(t, o.Forecast[0].Pace, "counted for a moment")
	r.Clock.Forward(160 * 24 * time.Hour)
	o, err = r.Operator.Outlook(ctx)
	require.NoError(t, err)
	if assert.NotNil(t, o.Forecast[0].Pace) {
		assert.Zero(t, *o.Forecast[0].Pace, "what came in at first says nothing")
	}
}
