package service_test

import (
	"bytes"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// What falls due is told in order, and the calendar says the same in its own form.
func TestWhatFallsDueIsTold(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	before, err := r.Operator.Dates(ctx, client.List{})
	require.NoError(t, err)
	assert.Zero(t, before.Revision, "nothing is published, and that is said")
	early, err := r.Operator.Calendar(ctx)
	require.NoError(t, err)
	assert.Contains(t, string(early), "X-WR-CALDESC:Nothing is published")
	r.Publish()
	until := time.Now().Add(48 * time.Hour).UTC().Truncate(time.Second)
	_, err = r.Operator.Freeze(ctx, api.FreezeOrder{Until: until, Because: "a release; \"quiet\", please\nBEGIN:VEVENT"})
	require.NoError(t, err)
	list, err := r.Operator.Dates(ctx, client.List{})
	require.NoError(t, err)
	assert.EqualValues(t, 1, list.Revision)
	kinds := map[string]int{}
	for i, d := range list.Dates {
		kinds[d.Kind]++
		assert.True(t, d.Due.After(time.Now()), "%s is over", d.Name)
		assert.True(t, i == 0 || !d.Due.Before(list.Dates[i-1].Due), "in order")
	}
	assert.Equal(t, 1, kinds[api.DueFreeze])
	assert.Positive(t, kinds[api.DueKey])
	only, err := r.Operator.Dates(ctx, client.List{Filter: map[string][]string{"kind": {api.DueFreeze}}})
	require.NoError(t, err)
	require.Len(t, only.Dates, 1)
	assert.Equal(t, until, only.Dates[0].Due)

	text, err := r.Operator.Calendar(ctx)
	require.NoError(t, err)
	parsed, err := ics.ParseCalendar(bytes.NewReader(text))
	require.NoError(t, err)
	require.Len(t, parsed.Events(), list.Total, "what somebody wrote makes no event of its own")
	ids := map[string]bool{}
	for i, e := range parsed.Events() {
		assert.False(t, ids[e.Id()], "%s stands for two things", e.Id())
		ids[e.Id()] = true
		at, err := e.GetStartAt()
		require.NoError(t, err)
		assert.Equal(t, list.Dates[i].Due.Truncate(time.Second), at.UTC())
		assert.Contains(t, e.GetProperty(ics.ComponentPropertySummary).Value, list.Dates[i].Says)
	}
	for _, line := range bytes.Split(text, []byte("\r\n")) {
		assert.LessOrEqual(t, len(line), 75, "%q", line)
	}
}
