package service

import (
	"context"
	"encoding/hex"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// AuditIn says which lines of the audit are asked for.
type AuditIn struct {
	Before  int64  `query:"before" doc:"Only entries before the one of this number"`
	PerPage int    `query:"per_page" minimum:"1" maximum:"500" default:"50"`
	By      string `query:"by" doc:"An operator's name, or service"`
	What    string `query:"what" doc:"A command, such as begin-rollout"`
	Kind    string `query:"kind" doc:"Kind of what it was done to, such as rollout"`
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
	out := api.AuditPage{Entries: []api.AuditEntry{}}
	if len(list) > in.PerPage {
		list = list[:in.PerPage]
		out.Next = list[in.PerPage-1].Seq
	}
	for _, e := range list {
		out.Entries = append(out.Entries, api.AuditEntry{
			Number: e.Seq, At: e.At, By: e.Actor, What: e.Command, Kind: e.Kind, Name: e.Name, Why: e.Why, Detail: e.Detail,
		})
	}
	return &out, nil
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
