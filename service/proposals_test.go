package service_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// consenting is the rig's policy, which wants somebody else's consent and says something of its own.
func consenting(r *rig.Rig, says string) map[string][]byte {
	files := r.Policy()
	for name, text := range files {
		if name == "policy.yaml" {
			files[name] = append(bytes.Clone(text), []byte("\npublishing: { consent: true }\n# "+says+"\n")...)
		}
	}
	return files
}

// colleague is another operator.
func colleague(t *testing.T, r *rig.Rig, name string) *client.Client {
	t.Helper()
	o, err := r.Operator.AddOperator(ctx, api.OperatorOrder{Name: name, Role: "operator"})
	require.NoError(t, err)
	return client.New(r.Server.URL, o.Token)
}

func TestASecondPersonAgreesBeforeAFolderIsPublished(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	mira, jonas := r.Operator, colleague(t, r, "jonas")
	_, err := mira.Publish(ctx, api.Publication{Files: consenting(r, "first")})
	require.NoError(t, err, "nothing wants consent yet")

	second := consenting(r, "second")
	_, err = mira.Publish(ctx, api.Publication{Files: second})
	assert.ErrorContains(t, err, "revision 1 wants that somebody else agrees before a folder is published; nothing was published")
	_, err = mira.Publish(ctx, api.Publication{Files: r.Policy()})
	assert.ErrorContains(t, err, "wants that somebody else agrees", "nor is the wish itself taken away alone")
	p, err := mira.Propose(ctx, api.ProposalOrder{Files: second, Message: "what comes second"})
	require.NoError(t, err)
	assert.Equal(t, []any{int64(1), int64(1), api.ProposalOpen, "the consent of somebody else than first"}, []any{p.Number, p.Base, p.State, p.Lacks})
	_, err = mira.AgreeToProposal(ctx, 1)
	assert.ErrorContains(t, err, "whoever proposes it cannot agree to it as well")
	_, err = jonas.PublishProposal(ctx, 1)
	assert.ErrorContains(t, err, "proposal 1 wants the consent of somebody else than first")
	p, err = jonas.AgreeToProposal(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, []string{"jonas", ""}, []string{p.Agreed, p.Lacks})
	assert.Equal(t, second, p.Files, "to the byte")
	assert.Empty(t, p.Differences, "a comment means nothing")
	_, err = jonas.AgreeToProposal(ctx, 1)
	assert.ErrorContains(t, err, "jonas has agreed to proposal 1 already")
	rev, err := jonas.PublishProposal(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, []any{int64(2), "first", "what comes second"}, []any{rev.Number, rev.Author, rev.Message})
	_, err = mira.PublishProposal(ctx, 1)
	assert.ErrorContains(t, err, "proposal 1 was published already, as revision 2")

	// What cannot wait is published alone, with a reason that stays.
	_, err = mira.Publish(ctx, api.Publication{Files: consenting(r, "third"), Alone: true})
	assert.ErrorContains(t, err, "say in a few words why it cannot wait")
	_, err = mira.Publish(ctx, api.Publication{Files: consenting(r, "third"), Alone: true, Message: "the vendor lost its key"})
	require.NoError(t, err)
	page, err := mira.Audit(ctx, client.List{PerPage: 100})
	require.NoError(t, err)
	var said []string
	for _, e := range page.Entries {
		if e.What == "publish-policy" || e.What == "agree-proposal" {
			said = append(said, e.What+" "+strings.TrimPrefix(e.By, "operator:")+" "+string(e.Detail))
		}
	}
	assert.Equal(t, []string{
		`publish-policy first {"alone":true}`, `publish-policy jonas {"author":"first","proposal":1}`, "agree-proposal jonas ", "publish-policy first ",
	}, said)
}

// A proposal is about the policy that it was made on: a newer one makes it stale, whoever has agreed.
func TestAProposalIsAboutTheNewestRevision(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	mira, jonas := r.Operator, colleague(t, r, "jonas")
	_, err := mira.Publish(ctx, api.Publication{Files: consenting(r, "first")})
	require.NoError(t, err)
	for _, says := range []string{"a", "b"} {
		_, err := mira.Propose(ctx, api.ProposalOrder{Files: consenting(r, says), Message: "it says " + says})
		require.NoError(t, err)
	}
	for _, n := range []int64{1, 2} {
		_, err := jonas.AgreeToProposal(ctx, n)
		require.NoError(t, err)
	}
	_, err = mira.PublishProposal(ctx, 2)
	require.NoError(t, err)
	_, err = mira.PublishProposal(ctx, 1)
	assert.ErrorContains(t, err, "proposal 1 wants to be proposed anew on revision 2, which was published since")
	require.NoError(t, mira.WithdrawProposal(ctx, 1))
	assert.ErrorContains(t, mira.WithdrawProposal(ctx, 1), "proposal 1 was withdrawn")
	_, err = mira.Propose(ctx, api.ProposalOrder{Files: consenting(r, "b"), Message: "once more"})
	assert.ErrorContains(t, err, "revision 2 holds this very folder already")
	_, err = mira.Propose(ctx, api.ProposalOrder{Files: map[string][]byte{"policy.yaml": []byte("repositories: [")}, Message: "broken"})
	assert.ErrorContains(t, err, "nothing was proposed")
	_, err = mira.Proposal(ctx, 9)
	assert.ErrorContains(t, err, "there is no proposal 9")
	quiet := r.Policy()
	p, err := mira.Propose(ctx, api.ProposalOrder{Files: quiet, Message: "nobody else is asked any more"})
	require.NoError(t, err)
	p, err = jonas.Proposal(ctx, p.Number)
	require.NoError(t, err)
	assert.Equal(t, []api.PolicyDifference{{Kind: "removed", What: "publishing", Before: "consent true"}}, p.Differences)
	require.NoError(t, jonas.WithdrawProposal(ctx, p.Number))
	r.Restart()
	page, err := mira.Proposals(ctx, client.List{})
	require.NoError(t, err)
	require.Len(t, page.Proposals, 3)
	assert.True(t, page.Consent)
	assert.Equal(t, []string{api.ProposalPublished, api.ProposalWithdrawn}, []string{page.Proposals[1].State, page.Proposals[2].State})
	open, err := mira.Proposals(ctx, client.List{Filter: map[string][]string{"open": {"true"}}})
	require.NoError(t, err)
	assert.Empty(t, open.Proposals)
}
