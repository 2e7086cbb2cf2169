package service_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/internal/cell"
	"patientlantern.example/lantern/internal/rig"
)

// damage writes something else over what a database holds of a kind, and reports of how much.
func damage(t *testing.T, data, kind string) int64 {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "lantern.db"))
	require.NoError(t, err)
	defer db.Close()
	done, err := db.Exec("UPDATE documents SET body = X'00112233' WHERE kind = ?", kind)
	require.NoError(t, err)
	n, err := done.RowsAffected()
	require.NoError(t, err)
	return n
}

// What is damaged in the database is asked for again: until it has come nothing of it is said to be well, what is asked of all is
// answered or says why not, no seat is given back for it, and then all is as it was.
func TestWhatIsDamagedIsAskedForAgain(t *testing.T) {
	t.Parallel()
	asked := cell.Share(2)
	for _, kind := range []string{"survey", "traits", "text", "sheet"} {
		if kind != "survey" && !asked() {
			continue
		}
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			r := rig.New(t)
			r.Accounts()
			for _, name := range []string{"gw-01", "arc-1"} {
				r.Up(name)
			}
			r.Publish()
			r.Carry()
			steady := func() bool {
				return state(t, r, "gw-01") == api.StateSteady && state(t, r, "arc-1") == api.StateSteady
			}
			r.Until("all is well", steady)
			seats, err := r.Operator.Seats(ctx, client.List{})
			require.NoError(t, err)
			require.NotEmpty(t, seats.Seats)

			r.Reopen(func(data string) { require.Positive(t, damage(t, data, kind)) })
			r.Tend()
			r.Until("all is asked and answered again", func() bool {
				p, err := r.Operator.Preview(ctx, 0)
				if err != nil || len(p.Groups) > 0 || len(p.Unknown) > 0 {
					return false
				}
				_, err = r.Operator.Keys(ctx, false, client.List{})
				_, also := r.Operator.Repositories(ctx, client.List{})
				_, host := r.Operator.Host(ctx, "gw-01")
				return err == nil && also == nil && host == nil && steady()
			})
			r.Tend()
			after, err := r.Operator.Seats(ctx, client.List{})
			require.NoError(t, err)
			assert.Equal(t, seats.Seats[0].Contract, after.Seats[0].Contract)
			assert.Len(t, after.Seats, len(seats.Seats))
		})
	}
}

// Of a host that does not come back what was damaged is told as not known, it keeps nobody else waiting, and its seat stays.
func TestADamagedHostThatIsAwayKeepsNobodyWaiting(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	r.Up("gw-01")
	_, h := r.Enrol("arc-1")
	stop := r.Start(h)
	r.Surveyed("arc-1")
	r.Publish()
	r.Carry()
	stop()
	r.Reopen(func(data string) {
		damage(t, data, "traits")
		damage(t, data, "survey")
	})
	r.Until("gw-01 has told all again", func() bool {
		p, err := r.Operator.Preview(ctx, 0)
		d, hostErr := r.Operator.Host(ctx, "gw-01")
		return err == nil && hostErr == nil && d.State == api.StateSteady && len(p.Unknown) == 1
	})
	r.Tend()
	seats, err := r.Operator.Seats(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, seats.Seats, 1)
	assert.Equal(t, "arc-1.brinewick.test", seats.Seats[0].Host)
	assert.False(t, seats.Seats[0].Leaving, "%+v", seats.Seats[0])
	assert.NotEqual(t, api.StateSteady, state(t, r, "arc-1"))
	_, err = r.Operator.Label(ctx, "arc-1", map[string]string{"site": "north"})
	require.NoError(t, err)
	assert.NotEqual(t, api.StateSteady, state(t, r, "arc-1"))
	r.Restart()
	assert.NotEqual(t, api.StateSteady, state(t, r, "arc-1"))
}

// A host that does not say any more which system it is keeps its seat: what it needs is not known.
func TestAHostThatSaysNotWhatItIsKeepsItsSeat(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	root := r.Up("arc-1")
	r.Publish()
	r.Carry()
	require.NoError(t, os.Remove(filepath.Join(root, "etc/os-release")))
	r.Until("the host says no more which system it is", func() bool {
		d, err := r.Operator.Host(ctx, "arc-1")
		return err == nil && slices.ContainsFunc(d.Drift, func(f api.Finding) bool { return f.Class == drift.SystemChanged })
	})
	r.Tend()
	seats, err := r.Operator.Seats(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, seats.Seats, 1)
	assert.False(t, seats.Seats[0].Leaving, "%+v", seats.Seats[0])
}

// Where what stood on a host when the policy came is damaged, that is told, the host is heard nevertheless, and accepting it as it stands
// ends it.
func TestADamagedBaseIsToldUntilTheHostIsAccepted(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	r.Carry()
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/by-hand.list"), []byte("deb http://shelf.brinewick.test/deb mussel main\n"), 0o644))
	told := func(field string) bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && slices.ContainsFunc(d.Drift, func(f api.Finding) bool { return f.Field == field })
	}
	r.Until("the source is found", func() bool { return told("source") })
	r.Reopen(func(data string) { require.Positive(t, damage(t, data, "survey")) })
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/preferences.d/by-hand"), []byte("Package: *\nPin: origin shelf.brinewick.test\nPin-Priority: 900\n"), 0o644))
	r.Until("it is told that nothing is held against what stood there", func() bool { return told("base") })
	_, err := r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "looked at"})
	require.NoError(t, err)
	r.Until("the base is another", func() bool { return !told("base") })
}
