package agents

import (
	"context"
	"slices"
	"time"

	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/store"
)

// sweepAge is how old a document is at least that nothing names any more.
const sweepAge = 24 * time.Hour

// keepReports is how long what hosts said of rollouts is kept, and what the journal says of
// hosts. How many hosts there were, and what people did, stays.
const keepReports = 400 * 24 * time.Hour

// heardFor is how long ago a host may have been heard of for the clock to be one that is gone by.
const heardFor = time.Hour

// WatchDocuments forgets, now and then, what is too old to be kept.
func (s *Agents) WatchDocuments(ctx context.Context) {
	ground.Every(ctx, time.Hour, func() { s.Forget(ctx) })
}

// Forget forgets documents that nothing names any more, what hosts had long ago, and old reports. By a clock that runs ahead by a
// year everything would be old: nothing is forgotten while no host is heard of, whose calls are let in by a clock that agrees with
// theirs alone.
func (s *Agents) Forget(ctx context.Context) {
	now := s.Now()
	if !slices.ContainsFunc(s.Fleet.All(), func(h *fleet.Host) bool {
		return now.Sub(h.SeenAt()).Abs() < max(heardFor, fleet.Silence(s.Opts.Interval))
	}) {
		return
	}
	if n, err := s.Sweep(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("forgetting documents that nothing names", "error", err)
	} else if n > 0 {
		s.Log.Info("documents forgotten that nothing names any more", "documents", n)
	}
	if err := s.Store.ForgetPast(ctx, now.Add(-s.Opts.Keep)); err != nil && ctx.Err() == nil {
		s.Log.Error("forgetting what hosts had long ago", "error", err)
	}
	if n, err := s.Store.Forget(ctx, now.Add(-keepReports)); err != nil && ctx.Err() == nil {
		s.Log.Error("forgetting old reports", "error", err)
	} else if n > 0 {
		s.Log.Info("old reports and entries about hosts forgotten", "rows", n)
	}
}

// backTime is how long what hosts had before a rollout is kept to take it back.
const backTime = 90 * 24 * time.Hour

// pastNames notes the documents that the past of hosts and rollouts names.
func (s *Agents) pastNames(ctx context.Context, note func(kind string, digests ...string), surveys map[string]bool) error {
	past, err := s.Store.PastDocuments(ctx)
	if err != nil {
		return err
	}
	sheets, before, err := s.Store.BeforeDocuments(ctx, s.Now().Add(-backTime))
	if err != nil {
		return err
	}
	note(store.KindSheet, sheets...)
	for kind, digests := range past {
		note(kind, digests...)
	}
	for _, d := range append(before, past[store.KindSurvey]...) {
		surveys[d] = true
	}
	return nil
}

// Sweep forgets the documents that nothing names any more, and returns how many there
// were.
func (s *Agents) Sweep(ctx context.Context) (int, error) {
	s.naming.Lock() // nobody comes to name a document meanwhile
	defer s.naming.Unlock()
	before := s.Now().Add(-sweepAge)
	named := map[[2]string]bool{} // kind and digest
	note := func(kind string, digests ...string) {
		for _, d := range digests {
			named[[2]string{kind, d}] = true
		}
	}
	surveys := map[string]bool{}
	for _, h := range s.Fleet.All() {
		v := h.Row()
		note(store.KindTraits, v.Traits)
		base := v.Carried.Known()
		note(store.KindSheet, v.Sheet, v.Carried.Sheet, base.Sheet)
		surveys[v.Survey], surveys[v.Carried.Survey], surveys[base.Survey] = true, true, true
	}
	if err := s.pastNames(ctx, note, surveys); err != nil {
		return 0, err
	}
	delete(surveys, "") // of a host that has none
	for d := range surveys {
		if !s.Store.Known(d, store.KindSurvey) {
			continue
		}
		note(store.KindSurvey, d)
		su, err := s.Compute.SurveyOf(ctx, d)
		if err != nil { // whose texts are not known, nothing is forgotten of
			return 0, err
		}
		for _, f := range su.Files {
			note(store.KindText, f.Digest)
		}
	}
	revisions, err := s.Store.Revisions(ctx)
	if err != nil {
		return 0, err
	}
	for _, r := range revisions {
		note(store.KindPolicy, r.Policy)
	}
	if err := s.Compute.ForgetVerdicts(ctx, s.Fleet.All()); err != nil {
		return 0, err
	}
	return s.Store.Sweep(ctx, before, func(kind, digest string) bool {
		return kind == store.KindPolicy || named[[2]string{kind, digest}]
	})
}
