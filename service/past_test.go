package service_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// What a host had at a moment can be asked for, with what was wrong with it then; what is
// needed for that is not swept away.
func TestWhatAHostHadAtAMoment(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	_, err := r.Operator.Past(ctx, "gw-01", r.Clock.Now().Add(-time.Hour))
	require.ErrorContains(t, err, "what gw-01.brinewick.test had then is not known; it is from ")
	_, err = r.Operator.Past(ctx, "gw-99", r.Clock.Now())
	require.ErrorContains(t, err, `it is not known what "gw-99" had at any time`)
	_, err = r.Operator.Past(ctx, "gw-01", r.Clock.Now().Add(25*time.Hour))
	require.ErrorContains(t, err, "has not come yet")
	today, err := r.Operator.Past(ctx, "gw-01", r.Clock.Now().Add(5*time.Hour)) // the end of the day
	require.NoError(t, err)
	require.WithinDuration(t, r.Clock.Now(), today.At, time.Minute)
	bare := r.Clock.Now()
	r.Clock.Forward(time.Hour)
	r.Publish()
	require.Zero(t, r.Carry().Counts["failed"])
	right := r.Clock.Now()
	r.Clock.Forward(time.Hour)
	file := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	edited(t, file, "Components: main", "Components: main testing")
	r.Until("it has drifted", func() bool { return state(t, r, "gw-01") == api.StateDrifted })
	wrong := r.Clock.Now()
	r.Clock.Forward(time.Hour)
	_, err = r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	r.Until("it is healed", func() bool { return state(t, r, "gw-01") == api.StateSteady })
	r.Clock.Forward(48 * time.Hour)
	_, err = r.Service.Sweep(ctx)
	require.NoError(t, err)

	for _, x := range []struct {
		at       time.Time
		revision int64
		drift    int
		still    bool
	}{
		{bare, 0, 0, false},
		{right, 1, 0, false},
		{wrong, 1, 1, false},
		{r.Clock.Now(), 1, 0, true},
	} {
		p, err := r.Operator.Past(ctx, "gw-01", x.at)
		require.NoError(t, err)
		assert.Equal(t, x.revision, p.Revision, x.at)
		assert.Len(t, p.Drift, x.drift, x.at)
		assert.Equal(t, x.still, p.Until == nil, x.at)
		assert.GreaterOrEqual(t, len(p.Survey.Sources), 1)
	}
	p, err := r.Operator.Past(ctx, "gw-01", wrong)
	require.NoError(t, err)
	assert.Equal(t, "changed-source", p.Drift[0].Class)
	assert.Equal(t, "/etc/apt/sources.list.d/saltmarsh.sources", p.Drift[0].File)

	// Two moments held against each other: what changed by hand, and back.
	changed, err := r.Operator.Between(ctx, "gw-01", right, wrong, client.List{})
	require.NoError(t, err)
	assert.EqualValues(t, 1, changed.ToRevision)
	told := map[string][2]string{}
	for _, d := range changed.Items {
		if d.Kind == "source" {
			told[d.File+" "+d.Field] = [2]string{d.Was, d.Is}
		}
	}
	assert.Equal(t, map[string][2]string{
		"/etc/apt/sources.list.d/saltmarsh.sources components": {"main", "main, testing"},
	}, told)
	same, err := r.Operator.Between(ctx, "gw-01", right, time.Time{}, client.List{})
	require.NoError(t, err)
	for _, d := range same.Items {
		assert.NotEqual(t, "source", d.Kind, "%+v", d)
	}
	_, err = r.Operator.Between(ctx, "gw-01", wrong, right, client.List{})
	require.ErrorContains(t, err, "the later moment comes after the earlier one")
	_, err = r.Operator.Between(ctx, "gw-01", bare.AddDate(-1, 0, 0), right, client.List{})
	require.ErrorContains(t, err, "what gw-01.brinewick.test had then is not known")
}
