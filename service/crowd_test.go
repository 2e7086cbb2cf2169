package service_test

import (
	"fmt"
	"net/http"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/standin"
)

// Many look and change at a time. The race detector watches, and nothing that was looked at
// is cut off by what somebody else takes away meanwhile.
func TestManyLookWhileOthersChange(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	publish(t, r, licensed(t, r))
	require.Zero(t, r.Carry().Counts["failed"])
	c := r.Operator
	looks := []func() error{
		func() error { _, err := c.Contracts(ctx, client.List{}); return err },
		func() error { _, err := c.Accounts(ctx); return err },
		func() error { _, err := c.Hosts(ctx, client.List{}); return err },
		func() error { _, err := c.Drift(ctx, client.List{}); return err },
		func() error { _, err := c.Outlook(ctx); return err },
		func() error { _, err := c.Preview(ctx, 0); return err },
		func() error { _, err := c.Rollouts(ctx, client.List{}); return err },
		func() error { _, err := c.Host(ctx, "gw-01"); return err },
	}
	var all sync.WaitGroup
	for _, look := range looks {
		for range 3 {
			all.Go(func() {
				for range 8 {
					assert.NoError(t, look())
				}
			})
		}
	}
	for n := range 4 {
		all.Go(func() {
			name := fmt.Sprintf("spare-%d", n)
			for range 4 {
				_, err := c.AddAccount(
					ctx,
					api.AccountOrder{
						Name:     name,
						Desk:     "http://" + r.World.Desks + "/gannet",
						Login:    standin.Logins()["gannet"],
						Password: standin.DeskPassword,
					},
				)
				assert.NoError(t, err)
				assert.NoError(t, c.RemoveAccount(ctx, name))
				_, err = c.Label(ctx, "gw-01", map[string]string{"turn": name})
				assert.NoError(t, err)
			}
		})
	}
	all.Wait()
}

// A host that is being healed holds no rollout up: it begins when that is done, and the
// rollout says so.
func TestAHostThatIsBeingHealedIsWaitedFor(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	_, h := r.Enrol("desk-1")
	stop := r.Start(h)
	r.Surveyed("desk-1")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	stop()
	publish(t, r, licensed(t, r))
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskSlow))
	begun := make(chan api.Rollout, 1)
	go func() {
		ro, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
		assert.NoError(t, err)
		begun <- ro
	}()
	r.Until("it asks the desk", func() bool { return r.Desk.Waiting() > 0 })
	healing, err := r.Operator.Heal(ctx, "desk-1") // whose agent does not do it yet
	require.NoError(t, err)
	require.NoError(t, r.Desk.SetFault("gannet", ""))
	ro := <-begun
	_, err = r.Operator.Label(ctx, "desk-1", map[string]string{"turn": "1"})
	require.NoError(t, err)
	r.Start(h)
	r.Ended(healing.ID)
	require.Zero(t, r.Ended(ro.ID).Counts["failed"])
	d, err := r.Operator.Host(ctx, "desk-1")
	require.NoError(t, err)
	assert.EqualValues(t, 2, d.Revision, "whether it took part or had it already")
}

// While a rollout waits for a desk that takes its time, others are healed and labelled.
func TestASlowDeskHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	r.Up("desk-1")
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	publish(t, r, licensed(t, r))
	require.NoError(t, r.Desk.SetFault("gannet", standin.DeskSlow))
	begun := make(chan error, 1)
	go func() {
		_, err := r.Operator.BeginRollout(ctx, rig.AtOnce)
		begun <- err
	}()
	r.Until("it asks the desk", func() bool {
		return r.Desk.Waiting() > 0
	})
	healed := make(chan error, 1)
	go func() {
		_, err := r.Operator.Heal(ctx, "desk-1")
		healed <- err
	}()
	select {
	case err := <-healed:
		require.NoError(t, err)
	case err := <-begun:
		require.FailNow(t, "the desk is not slow enough for this test", "%v", err)
	}
	<-begun // either it began after the healing, or it says that desk-1 is being changed
	_, err := r.Operator.Rollout(ctx, 99, client.List{})
	var no *client.Error
	require.ErrorAs(t, err, &no)
	assert.Equal(t, http.StatusNotFound, no.Status)
}
