package policies

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// consented is what the newest revision says: its number, and whether it wants somebody else's consent.
func (s *Policies) consented(ctx context.Context) (number int64, wants bool, err error) {
	p, number, err := s.NewestPolicy(ctx)
	return number, p != nil && p.Consent, err
}

// proposalOf describes a proposal beside the newest revision.
func proposalOf(p store.Proposal, newest int64, consent bool) api.Proposal {
	out := api.Proposal{
		Number: p.Number, Policy: p.Policy, Base: p.Base, Author: p.Author, Message: p.Message, Created: p.Created, State: api.ProposalOpen,
		Agreed: p.Agreed, Revision: p.Revision,
	}
	if !p.AgreedAt.IsZero() {
		out.AgreedAt = &p.AgreedAt
	}
	switch {
	case p.Revision != 0:
		out.State, out.Ended = api.ProposalPublished, &p.Ended
	case !p.Ended.IsZero():
		out.State, out.Ended = api.ProposalWithdrawn, &p.Ended
	case p.Base != newest:
		out.Stale = true
		out.Lacks = fmt.Sprintf("to be proposed anew on revision %d, which was published since", newest)
	case consent && p.Agreed == "":
		out.Lacks = "the consent of somebody else than " + p.Author
	}
	return out
}

// ProposalsQuery says which proposals are asked for.
type ProposalsQuery struct {
	ground.Paging
	Open bool `query:"open" doc:"Only those that are open"`
}

// ListProposals lists the policy folders that somebody proposes to publish.
func (s *Policies) ListProposals(ctx context.Context, in *ProposalsQuery) (*api.ProposalPage, error) {
	newest, consent, err := s.consented(ctx)
	if err != nil {
		return nil, err
	}
	list, total, err := s.Store.Proposals(ctx, in.Open, in.PerPage, in.Before())
	if err != nil {
		return nil, err
	}
	out := api.ProposalPage{Proposals: []api.Proposal{}, Total: total, Next: in.Next(total), Consent: consent}
	for _, p := range list {
		out.Proposals = append(out.Proposals, proposalOf(p, newest, consent))
	}
	return &out, nil
}

// ProposalIn is a proposal as it is sent.
type ProposalIn struct {
	Body api.ProposalOrder
}

// AddProposal stores a folder that could be published today.
func (s *Policies) AddProposal(ctx context.Context, in *ProposalIn) (*api.Proposal, error) {
	prepared, err := s.prepare(ctx, in.Body.Files)
	if err != nil {
		return nil, err
	}
	if diag.HasErrors(prepared.diags) {
		return nil, trouble(refusal.Invalid, "the policy has errors; nothing was proposed", diag.Errors(prepared.diags))
	}
	folder, err := source.Canonical(policy.Folder(in.Body.Files))
	if err != nil {
		return nil, err
	}
	newest, consent, err := s.consented(ctx)
	if err != nil {
		return nil, err
	}
	by := journal.By(ctx)
	p := store.Proposal{
		Policy: source.Digest(folder), Base: newest, Author: by.Name, Message: strings.TrimSpace(in.Body.Message), Created: s.Now(),
	}
	if r, err := s.Store.NewestRevision(ctx); err == nil && r.Policy == p.Policy {
		return nil, refusal.Conflict(
			fmt.Sprintf("revision %d holds this very folder already; there is nothing to propose", r.Number),
		)
	}
	err = s.Store.Propose(ctx, &p, folder, func(p *store.Proposal) store.Change {
		e := s.Entry(by, "add-proposal", journal.KindProposal, strconv.FormatInt(p.Number, 10))
		e.Why = p.Message
		return store.Noted(e)
	})
	if err != nil {
		return nil, err
	}
	return new(proposalOf(p, newest, consent)), nil
}

// ProposalPath names a proposal.
type ProposalPath struct {
	Number int64 `path:"number"`
}

// findProposal answers a number that is none. Beside the proposal it gives what the newest revision says.
func (s *Policies) findProposal(ctx context.Context, number int64) (p store.Proposal, newest int64, consent bool, err error) {
	if p, err = s.Store.Proposal(ctx, number); errors.Is(err, store.ErrNotFound) {
		return p, 0, false, refusal.NotFound(fmt.Sprintf("there is no proposal %d; lantern proposal list shows all", number))
	}
	if err == nil {
		newest, consent, err = s.consented(ctx)
	}
	return p, newest, consent, err
}

// openProposal finds a proposal that nobody has ended, beside the newest revision.
func (s *Policies) openProposal(ctx context.Context, number int64) (p store.Proposal, newest int64, consent bool, err error) {
	p, newest, consent, err = s.findProposal(ctx, number)
	switch {
	case err != nil:
	case p.Revision != 0:
		err = refusal.Conflict(fmt.Sprintf("proposal %d was published already, as revision %d", number, p.Revision))
	case !p.Ended.IsZero():
		err = refusal.Conflict(fmt.Sprintf("proposal %d was withdrawn", number))
	}
	return p, newest, consent, err
}

// ShowProposal shows a proposal, with its files.
func (s *Policies) ShowProposal(ctx context.Context, in *ProposalPath) (*api.Proposal, error) {
	p, newest, consent, err := s.findProposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	out := proposalOf(p, newest, consent)
	out.Files, err = s.filesOf(ctx, p.Policy)
	if err == nil {
		out.Differences, err = s.differs(ctx, p.Base, out.Files)
	}
	if err != nil {
		return nil, err
	}
	return &out, nil
}

// differs says what a folder says otherwise than a revision; 0 is an empty one.
func (s *Policies) differs(ctx context.Context, base int64, files map[string][]byte) (out []api.PolicyDifference, err error) {
	before := &policy.Policy{Notice: policy.DefaultNotice}
	if base > 0 {
		rs, err := s.Compute.Revision(ctx, base)
		if err != nil {
			return nil, err
		}
		before = rs.Policy()
	}
	after, _ := policy.Load(policy.Folder(files), s.Now()) // it was checked when it was proposed
	for _, d := range policy.Compare(before, after) {
		out = append(out, api.PolicyDifference{Kind: d.Kind, What: d.What, Part: d.Part, Before: d.Before, After: d.After})
	}
	return out, nil
}

// filesOf are the files of a folder by its digest.
func (s *Policies) filesOf(ctx context.Context, digest string) (files map[string][]byte, err error) {
	doc, err := s.Store.Document(ctx, digest, store.KindPolicy)
	if err == nil {
		err = json.Unmarshal(doc.Body, &files)
	}
	return files, err
}

// AgreeProposal notes that somebody else than its author agrees.
func (s *Policies) AgreeProposal(ctx context.Context, in *ProposalPath) (*api.Proposal, error) {
	p, newest, _, err := s.openProposal(ctx, in.Number)
	by := journal.By(ctx)
	switch {
	case err != nil:
		return nil, err
	case p.Author == by.Name:
		return nil, refusal.Conflict("whoever proposes it cannot agree to it as well; somebody else must")
	case p.Agreed != "":
		return nil, refusal.Conflict(fmt.Sprintf("%s has agreed to proposal %d already", p.Agreed, in.Number))
	case p.Base != newest:
		return nil, refusal.Conflict(
			fmt.Sprintf("revision %d was published since: what proposal %d would change is not what it says any more; "+
				"have it proposed anew", newest, in.Number),
		)
	}
	e := s.Entry(by, "agree-proposal", journal.KindProposal, strconv.FormatInt(in.Number, 10))
	if err := s.Store.AgreeTo(ctx, in.Number, by.Name, s.Now(), store.Noted(e)); err != nil {
		return nil, err
	}
	return s.ShowProposal(ctx, in)
}

// PublishProposal publishes what was proposed, once all that it wants is there.
func (s *Policies) PublishProposal(ctx context.Context, in *ProposalPath) (*api.Revision, error) {
	p, newest, consent, err := s.openProposal(ctx, in.Number)
	if err != nil {
		return nil, err
	}
	if wants := proposalOf(p, newest, consent).Lacks; wants != "" {
		return nil, refusal.Conflict(fmt.Sprintf("proposal %d wants %s", in.Number, wants))
	}
	files, err := s.filesOf(ctx, p.Policy)
	if err != nil {
		return nil, err
	}
	return s.publishAs(ctx, &api.Publication{Files: files}, store.Revision{Author: p.Author, Message: p.Message, Proposal: p.Number})
}

// WithdrawProposal withdraws a proposal.
func (s *Policies) WithdrawProposal(ctx context.Context, in *ProposalPath) error {
	if _, _, _, err := s.openProposal(ctx, in.Number); err != nil {
		return err
	}
	e := s.Entry(journal.By(ctx), "withdraw-proposal", journal.KindProposal, strconv.FormatInt(in.Number, 10))
	return s.Store.WithdrawProposal(ctx, in.Number, s.Now(), store.Noted(e))
}
