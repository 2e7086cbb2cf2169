package service

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// AuditIn says which lines of the audit are asked for.
type AuditIn struct {
	Before  int64  `query:"before" minimum:"0" doc:"Only entries before the one of this number"`
	PerPage int    `query:"per_page" minimum:"1" maximum:"500" default:"50"`
	By      string `query:"by" doc:"An operator's or a host's name, or service"`
	What    string `query:"what" doc:"A command, such as begin-rollout"`
	Kind    string `query:"kind" enum:"host,rollout,revision,proposal,waiver,freeze,seats,repository,operator,secrets,webhook,shelf,day" doc:"Kind of what it was done to"`
	Name    string `query:"name" doc:"Of what it was done to"`
}

// Audit tells what people did, and what became of rollouts.
func (s *Service) Audit(ctx context.Context, in *AuditIn) (*api.AuditPage, error) {
	q := store.JournalQuery{Audited: true, Before: in.Before, Limit: in.PerPage + 1, Kind: in.Kind, Name: in.Name, Command: in.What}
	switch in.By {
	case "":
	case journal.ActorService:
		q.Actor = journal.ActorService
	default:
		q.Actor = journal.Actor{Kind: journal.ActorOperator, Name: in.By}.String()
	}
	list, err := s.Store.Journal(ctx, q)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		if list, err = s.meant(ctx, in, q); err != nil {
			return nil, err
		}
	}
	out := api.AuditPage{Entries: []api.AuditEntry{}}
	if len(list) > in.PerPage {
		list = list[:in.PerPage]
		out.Next = list[in.PerPage-1].Seq
	}
	for _, e := range list {
		out.Entries = append(out.Entries, api.AuditEntry{
			Number: e.Seq, At: e.At, By: e.Actor, What: e.Command, Kind: e.Kind, Name: e.Name, Why: e.Why, Detail: e.Detail,
			Says: journal.Words(e.Detail),
		})
	}
	return &out, nil
}

// meant looks again where nothing was found: a host may be called by its short name, and who or what was never
// there is refused, so that nobody takes a wrong word for something that was not done.
func (s *Service) meant(ctx context.Context, in *AuditIn, q store.JournalQuery) ([]store.Entry, error) {
	if in.What != "" {
		known := append(identity.Commands(), journal.Commands()...)
		if !slices.Contains(known, in.What) {
			near := refusal.Meant(names.Nearest(in.What, known))
			return nil, refusal.NotFound(fmt.Sprintf("there is no command %q%s", refusal.Short(in.What), near))
		}
	}
	if h, err := s.FindHost(in.By); err == nil && in.By != "" {
		q.Actor = journal.Actor{Kind: journal.ActorHost, Name: h.Row().Name}.String()
		return s.Store.Journal(ctx, q)
	}
	if in.By != "" && in.By != journal.ActorService {
		ever, err := s.Store.Journal(ctx, store.JournalQuery{Actor: q.Actor, Limit: 1})
		if err != nil {
			return nil, err
		}
		people, err := s.Store.Operators(ctx)
		if err != nil {
			return nil, err
		}
		var known []string
		for _, o := range people {
			known = append(known, o.Name)
		}
		if len(ever) == 0 && !slices.Contains(known, in.By) {
			near := refusal.Meant(names.Nearest(in.By, known))
			return nil, refusal.NotFound(fmt.Sprintf("nobody is or was called %q%s", refusal.Short(in.By), near))
		}
	}
	if h, err := s.FindHost(in.Name); err == nil && in.Name != "" {
		q.Name = h.Row().Name
		return s.Store.Journal(ctx, q)
	}
	return nil, nil
}

// AuditChainIn says from where the chain is asked for.
type AuditChainIn struct {
	Noted string `query:"noted" doc:"A head that somebody noted before"`
}

// AuditChain checks that no entry was changed or taken out.
func (s *Service) AuditChain(ctx context.Context, in *AuditChainIn) (*api.AuditChain, error) {
	noted, err := hex.DecodeString(in.Noted)
	if err != nil || len(noted) != 0 && len(noted) != 32 {
		return nil, refusal.Wrong("noted: that is no head of the chain; it is 64 hexadecimal digits")
	}
	c, err := s.Store.VerifyChain(ctx, noted)
	if err != nil {
		return nil, err
	}
	out := api.AuditChain{Entries: c.Entries, Head: hex.EncodeToString(c.Head), Broken: c.Broken, Whole: c.Broken == 0}
	if !c.At.IsZero() {
		out.At = &c.At
	}
	if len(noted) > 0 {
		out.Met, out.Whole = &c.Met, out.Whole && c.Met
	}
	return &out, nil
}
