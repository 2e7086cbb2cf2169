package client

import (
	"context"
	"net/http"
	"strconv"

	"patientlantern.example/lantern/api"
)

func proposalPath(number int64) string { return "/api/proposals/" + strconv.FormatInt(number, 10) }

// Proposals lists proposals, the newest first.
func (c *Client) Proposals(ctx context.Context, l List) (api.ProposalPage, error) {
	return get[api.ProposalPage](ctx, c, "/api/proposals", l.values())
}

// Propose proposes a policy folder.
func (c *Client) Propose(ctx context.Context, o api.ProposalOrder) (api.Proposal, error) {
	return send[api.Proposal](ctx, c, http.MethodPost, "/api/proposals", o)
}

// Proposal returns a proposal with its files.
func (c *Client) Proposal(ctx context.Context, number int64) (api.Proposal, error) {
	return get[api.Proposal](ctx, c, proposalPath(number), nil)
}

// AgreeToProposal agrees to what somebody else proposes.
func (c *Client) AgreeToProposal(ctx context.Context, number int64) (api.Proposal, error) {
	return send[api.Proposal](ctx, c, http.MethodPost, proposalPath(number)+"/agree", nil)
}

// PublishProposal publishes what was proposed.
func (c *Client) PublishProposal(ctx context.Context, number int64) (api.Revision, error) {
	return send[api.Revision](ctx, c, http.MethodPost, proposalPath(number)+"/publish", nil)
}

// WithdrawProposal withdraws a proposal.
func (c *Client) WithdrawProposal(ctx context.Context, number int64) error {
	return c.call(ctx, http.MethodDelete, proposalPath(number), nil, nil)
}
