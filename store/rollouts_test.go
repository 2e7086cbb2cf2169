package store_test

import (
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// begun is a store with a rollout to some hosts.
func begun(t *testing.T, count int) (*store.Store, store.Rollout, []*store.Host) {
	s := open(t, filepath.Join(t.TempDir(), "l.db"))
	t.Cleanup(func() { s.Close() })
	_, _, err := s.Publish(ctx, store.Revision{Policy: source.Digest([]byte("a")), Created: now}, []byte("a"), published)
	require.NoError(t, err)
	ro, hosts := begin(t, s, "gw", count)
	return s, ro, hosts
}

// waiting are the places of hosts that may begin.
func waiting(names ...string) (out []store.Placed) {
	for _, n := range names {
		out = append(out, store.Placed{Host: n, State: rollout.Waiting})
	}
	return out
}

// begin begins a rollout to hosts that are made for it.
func begin(t require.TestingT, s *store.Store, prefix string, count int) (store.Rollout, []*store.Host) {
	var hosts []*store.Host
	var names []string
	for i := range count {
		names = append(names, fmt.Sprintf("%s-%02d", prefix, i+1))
		hosts = append(hosts, &store.Host{Name: names[i], Key: make([]byte, 32)})
	}
	require.NoError(t, s.AddHosts(ctx, hosts))
	ro := store.Rollout{Kind: store.KindRollout, Revision: 1, Begun: now}
	require.NoError(t, s.BeginRollout(ctx, &ro, waiting(names...), store.Change{}))
	for _, h := range hosts {
		h.Task, h.Stage = ro.ID, rollout.Waiting
	}
	return ro, hosts
}

// said stores what a host says, and tells whether the rollout ended.
func said(s *store.Store, ro store.Rollout, h *store.Host, e rollout.Event, report string) (over bool, err error) {
	rh := store.RolloutHost{Rollout: ro.ID, Host: h.Name, Report: []byte(report), Took: []byte(`{"swap":3}`), Updated: now}
	err = s.Progress(ctx, rh, e, h, func(ended bool) store.Change { over = ended; return store.Change{} })
	return over, err
}

func TestARolloutEndsWithItsLastHost(t *testing.T) {
	s, ro, hosts := begun(t, 3)
	ended, err := said(s, ro, hosts[0], rollout.Succeeds, `{"step":"done"}`)
	require.NoError(t, err)
	assert.False(t, ended)
	_, err = said(s, ro, hosts[1], rollout.Works, `{"step":"stage"}`)
	require.NoError(t, err)
	stopped, err := s.StopRollout(ctx, ro.ID, "", nil, now, func(store.Stopped) store.Change { return store.Change{} })
	require.NoError(t, err)
	assert.Equal(t, store.Stopped{Hosts: []string{"gw-03"}}, stopped)
	_, err = s.OpenRollout(ctx, store.KindRollout)
	require.NoError(t, err, "gw-02 is still at work")
	ended, err = said(s, ro, hosts[1], rollout.Fails, `{"step":"refresh"}`)
	require.NoError(t, err)
	assert.True(t, ended)
	_, err = s.OpenRollout(ctx, store.KindRollout)
	require.ErrorIs(t, err, store.ErrNotFound)
	var place *rollout.PlaceError
	_, err = said(s, ro, hosts[1], rollout.Succeeds, `{}`)
	require.ErrorAs(t, err, &place, "what a host has said stands")
	last, err := s.LastReport(ctx, "gw-02")
	require.NoError(t, err)
	assert.Equal(t, rollout.Failed, last.State)
	assert.JSONEq(t, `{"step":"refresh"}`, string(last.Report))
	assert.JSONEq(t, `{"swap":3}`, string(last.Took))
}

// However a rollout goes, the counts that are kept are those of the rows, pages hold each
// host once, those first that need somebody, and it has ended when nobody is waited for.
func TestHostsOfARolloutAreCountedAndPaged(t *testing.T) {
	s, _, _ := begun(t, 0)
	turn := 0
	rapid.Check(t, func(rt *rapid.T) {
		turn++
		ro, hosts := begin(rt, s, fmt.Sprintf("gw-%d", turn), rapid.IntRange(1, 9).Draw(rt, "hosts"))
		events := []rollout.Event{rollout.Works, rollout.Succeeds, rollout.Rests, rollout.Fails, rollout.Loses, rollout.Stops}
		for range rapid.IntRange(0, 14).Draw(rt, "events") {
			h := hosts[rapid.IntRange(0, len(hosts)-1).Draw(rt, "host")]
			switch e := rapid.SampledFrom(events).Draw(rt, "event"); e {
			case rollout.Loses:
				current, err := s.Rollout(ctx, ro.ID)
				require.NoError(rt, err)
				require.NoError(rt, s.LeaveBehind(ctx, current, []string{h.Name}, now, func(bool) store.Change { return store.Change{} }))
			case rollout.Stops:
				was, err := s.Rollout(ctx, ro.ID)
				require.NoError(rt, err)
				_, err = s.StopRollout(ctx, ro.ID, "", nil, now, func(store.Stopped) store.Change { return store.Change{} })
				require.Equal(rt, was.Ended.IsZero(), err == nil, "%v", err)
			default:
				_, _ = said(s, ro, h, e, fmt.Sprintf(`{"step":%q}`, e)) // it may be refused
			}
		}
		current, err := s.Rollout(ctx, ro.ID)
		require.NoError(rt, err)
		list, total, err := s.RolloutHosts(ctx, ro.ID, store.RolloutHostsQuery{})
		require.NoError(rt, err)
		rows := rollout.Counts{}
		for _, h := range list {
			rows[h.State]++
		}
		require.Equal(rt, rows, current.Counts)
		require.Len(rt, list, total)
		if rows.Open() == 0 {
			require.False(rt, current.Ended.IsZero(), "nobody is waited for")
		}
		live, err := s.LiveRollouts(ctx)
		require.NoError(rt, err)
		isLive := slices.ContainsFunc(live, func(x store.Rollout) bool { return x.ID == ro.ID })
		require.Equal(rt, rows.Open() > 0 || current.Ended.IsZero(), isLive, "whoever is at work is looked after")
		var paged []store.RolloutHost
		size := rapid.IntRange(1, 4).Draw(rt, "page")
		for from := 0; from < total; from += size {
			page, all, err := s.RolloutHosts(ctx, ro.ID, store.RolloutHostsQuery{Limit: size, Offset: from})
			require.NoError(rt, err)
			require.Equal(rt, total, all)
			paged = append(paged, page...)
		}
		require.Equal(rt, list, paged)
		first := slices.IndexFunc(list, func(h store.RolloutHost) bool { return h.State == rollout.Failed })
		require.LessOrEqual(rt, first, 0, "who failed stands first")
	})
}

// Hosts that say the same share what they said, and what is old is forgotten but for each
// host's newest.
func TestReportsStandOnceAndAreForgotten(t *testing.T) {
	s, ro, hosts := begun(t, 3)
	for _, h := range hosts {
		_, err := said(s, ro, h, rollout.Succeeds, `{"step":"done","message":""}`)
		require.NoError(t, err)
	}
	again := store.Rollout{Kind: store.KindHeal, Revision: 1, Begun: now}
	require.NoError(t, s.BeginRollout(ctx, &again, waiting("gw-01"), store.Change{}))
	_, err := said(s, again, hosts[0], rollout.Fails, `{"step":"refresh"}`)
	require.NoError(t, err)
	require.NoError(t, s.Note(ctx, store.Entry{At: now, Kind: "host", Name: "gw-01"}, store.Entry{At: now, Kind: "operator", Name: "mira"},
		store.Entry{At: now, Kind: "host", Name: "gw-02", Passing: true}))
	n, err := s.Forget(ctx, now.Add(time.Hour))
	require.NoError(t, err)
	assert.EqualValues(t, 2, n, "gw-01 has said something newer, and its entry is old")
	kept, err := s.Journal(ctx, store.JournalQuery{Limit: 10})
	require.NoError(t, err)
	require.Len(t, kept, 1, "what people did stays")
	assert.Equal(t, "mira", kept[0].Name)
	list, total, err := s.RolloutHosts(ctx, ro.ID, store.RolloutHostsQuery{Part: "gw-0"})
	require.NoError(t, err)
	assert.Equal(t, 2, total)
	assert.Equal(t, list[0].Report, list[1].Report)
	current, err := s.Rollout(ctx, ro.ID)
	require.NoError(t, err)
	assert.Equal(t, rollout.Counts{rollout.Done: 3}, current.Counts, "how many there were stays")
}
