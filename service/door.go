package service

import (
	"context"

	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Every change of the service's state goes through here: somebody asks for a command, identity
// says whether they may have it, and what comes of it is stored with an entry of the
// journal in one transaction. Streams of events read the journal.

// entry is a line of the journal about something of a kind.
func (s *Service) entry(by journal.Actor, command, kind, name string) store.Entry {
	return journal.At(s.now(), by, command, kind, name)
}

// mostNamedHosts bounds how many hosts one command names in the journal one by one.
const mostNamedHosts = 200

// hostEntries are entries about hosts: one each, or one for all where they are many.
func (s *Service) hostEntries(by journal.Actor, command string, names []string) []store.Entry {
	if len(names) > mostNamedHosts {
		return []store.Entry{journal.Detailed(s.entry(by, command, journal.KindHost, ""), map[string]int{"hosts": len(names)})}
	}
	out := make([]store.Entry, len(names))
	for i, n := range names {
		out[i] = s.entry(by, command, journal.KindHost, n)
	}
	return out
}

// note writes entries that go with no rows. What cannot be written is told in the log.
func (s *Service) note(ctx context.Context, entries ...store.Entry) {
	if len(entries) == 0 {
		return
	}
	if err := s.store.Note(ctx, entries...); err != nil && ctx.Err() == nil {
		s.log.Error("writing the journal", "command", entries[0].Command, "error", err)
	}
}
