package service

import (
	"context"
	"fmt"

	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Every change of the service's state goes through here: somebody asks for a command, may
// says whether they may have it, and what comes of it is stored with an entry of the
// journal in one transaction. Streams of events read the journal.

// least is the role that each operation of the interface wants. What does not stand here
// is for nobody.
var least = map[string]string{
	"show-session": store.RoleReader, "sign-out": store.RoleReader,
	"list-hosts": store.RoleReader, "show-host": store.RoleReader, "explain-host": store.RoleReader,
	"show-history": store.RoleReader, "show-survey": store.RoleReader, "show-past": store.RoleReader, "compare-host": store.RoleReader,
	"events":      store.RoleReader,
	"retire-host": store.RoleOperator, "label-host": store.RoleOperator, "heal-host": store.RoleOperator, "accept-host": store.RoleOperator,
	"invite-host": store.RoleOperator, "label-hosts": store.RoleOperator,
	"list-drift": store.RoleReader, "group-drift": store.RoleReader,
	"list-waivers": store.RoleReader, "add-waiver": store.RoleOperator, "end-waiver": store.RoleOperator,
	"list-cohorts": store.RoleReader, "list-groups": store.RoleReader,
	"show-field": store.RoleReader, "list-keys": store.RoleReader, "show-key": store.RoleReader,
	"list-repositories": store.RoleReader, "show-repository": store.RoleReader, "probe-repositories": store.RoleOperator,
	"whence":       store.RoleReader,
	"check-policy": store.RoleReader, "preview-policy": store.RoleReader, "publish-policy": store.RoleOperator,
	"list-revisions": store.RoleReader, "show-revision": store.RoleReader, "preview": store.RoleReader,
	"begin-rollout": store.RoleOperator,
	"list-rollouts": store.RoleReader,
	"show-rollout":  store.RoleReader,
	"stop-rollout":  store.RoleOperator,
	"heal-hosts":    store.RoleOperator,
	"hold-rollout":  store.RoleOperator, "proceed-rollout": store.RoleOperator, "consent-rollout": store.RoleOperator,
	"back-out-rollout": store.RoleOperator, "skip-host": store.RoleOperator,
	"audit": store.RoleReader, "audit-chain": store.RoleReader,
	"export":        store.RoleReader,
	"list-webhooks": store.RoleOperator, "add-webhook": store.RoleOperator, "remove-webhook": store.RoleOperator,
	"try-webhook":  store.RoleOperator,
	"list-freezes": store.RoleReader, "freeze": store.RoleOperator, "thaw": store.RoleOperator,
	"list-accounts": store.RoleReader, "add-account": store.RoleOperator, "remove-account": store.RoleOperator,
	"list-contracts": store.RoleReader, "list-seats": store.RoleReader, "take-seat": store.RoleOperator, "release-seat": store.RoleOperator,
	"list-channels": store.RoleReader, "outlook": store.RoleReader, "rotate-secrets": store.RoleOperator,
	"list-proposals": store.RoleReader, "show-proposal": store.RoleReader, "add-proposal": store.RoleOperator,
	"agree-proposal": store.RoleOperator, "publish-proposal": store.RoleOperator, "withdraw-proposal": store.RoleOperator,
	"list-shelves": store.RoleReader, "add-shelf": store.RoleOperator, "remove-shelf": store.RoleOperator,
	"list-dates": store.RoleReader, "list-days": store.RoleReader, "list-settings": store.RoleReader,
	"adopt-source": store.RoleReader, "calendar": store.RoleReader,
	"list-operators": store.RoleOperator, "add-operator": store.RoleOperator, "remove-operator": store.RoleOperator,
}

// may says whether an operator may have an operation, and if not, why.
func may(o store.Operator, operation string) error {
	switch least[operation] {
	case store.RoleReader:
		return nil
	case store.RoleOperator:
		if o.Role == store.RoleOperator {
			return nil
		}
		return fmt.Errorf("%s may look and not change; ask an operator", o.Name)
	}
	return fmt.Errorf("nobody may ask for %q", operation)
}

// entry is a line of the journal about something of a kind.
func (s *Service) entry(by journal.Actor, command, kind, name string) store.Entry {
	return store.Entry{At: s.now(), Actor: by.String(), Command: command, Kind: kind, Name: name}
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
