package ground

import (
	"context"
	"strconv"

	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Every change of the service's state goes through here: somebody asks for a command, identity
// says whether they may have it, and what comes of it is stored with an entry of the
// journal in one transaction. Streams of events read the journal.

// Entry is a line of the journal about something of a kind.
func (g *Ground) Entry(by journal.Actor, command, kind, name string) store.Entry {
	return journal.At(g.Now(), by, command, kind, name)
}

// mostNamedHosts bounds how many hosts one command names in the journal one by one.
const mostNamedHosts = 200

// HostEntries are entries about hosts: one each, or one for all where they are many.
func (g *Ground) HostEntries(by journal.Actor, command string, names []string) []store.Entry {
	if len(names) > mostNamedHosts {
		return []store.Entry{journal.Detailed(g.Entry(by, command, journal.KindHost, ""), map[string]int{"hosts": len(names)})}
	}
	out := make([]store.Entry, len(names))
	for i, n := range names {
		out[i] = g.Entry(by, command, journal.KindHost, n)
	}
	return out
}

// Note writes entries that go with no rows. What cannot be written is told in the log.
func (g *Ground) Note(ctx context.Context, entries ...store.Entry) {
	if len(entries) == 0 {
		return
	}
	if err := g.Store.Note(ctx, entries...); err != nil && ctx.Err() == nil {
		g.Log.Error("writing the journal", "command", entries[0].Command, "error", err)
	}
}

// RolloutEntry is a line of the journal about a rollout.
func (g *Ground) RolloutEntry(by journal.Actor, command string, id int64, ended bool) store.Entry {
	e := g.Entry(by, command, journal.KindRollout, strconv.FormatInt(id, 10))
	if ended {
		e = journal.Detailed(e, map[string]bool{"ended": true})
	}
	return e
}
