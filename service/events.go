package service

import (
	"context"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// HoldEvents makes streams fall silent, or ends that: tests play a service that hangs.
func (s *Service) HoldEvents(hold bool) { s.events.Hold(hold) }

// Streams counts those who listen to events.
func (s *Service) Streams() int { return s.events.Listeners() }

// Listen is all that happens from now on, for an operator, until leave is called. It ends where
// that operator may not look any more, or where the service ends.
func (s *Service) Listen(ctx context.Context) (events <-chan api.Event, leave func()) {
	c := s.events.Listen(identity.Operator(ctx).Name)
	return c, func() { s.events.Leave(c) }
}

// Held reports whether streams say nothing, as those of a service that hangs.
func (s *Service) Held() bool { return s.events.Held() }

// mostMissed bounds how many events are told one by one to somebody who comes back.
const mostMissed = 256

// Missed is what came since the event that somebody heard last: everything is to be looked at
// again where that is too much, or where the number is of another journal.
func (s *Service) Missed(ctx context.Context, heard int64) (events []api.Event, err error) {
	all := []api.Event{{Kind: api.EventAll}}
	newest, err := s.Store.NewestEntry(ctx)
	if err != nil {
		s.Log.Error("reading the journal", "error", err)
		return nil, err
	}
	if heard > newest { // this journal was put back from a backup, or is new
		return all, nil
	}
	entries, err := s.Store.Journal(ctx, store.JournalQuery{After: heard, Limit: mostMissed + 1, Oldest: true})
	if err != nil {
		s.Log.Error("reading the journal", "error", err)
		return nil, err
	}
	if len(entries) > mostMissed {
		return all, nil
	}
	for _, e := range entries {
		if journal.Told(e) {
			events = append(events, api.Event{Kind: e.Kind, Name: e.Name, Command: e.Command, Seq: e.Seq})
		}
	}
	return events, nil
}
