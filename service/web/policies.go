package web

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

func (w *Web) policyRoutes() {
	s := w.service
	folder := func(op huma.Operation) huma.Operation { op.MaxBodyBytes = maxUpload; return op }
	answers(
		w,
		folder(
			operation("check-policy", http.MethodPost, "/api/policy/check", "Check a policy folder against the fleet; nothing is kept"),
		),
		s.CheckPolicy,
	)
	answers(
		w,
		folder(
			operation("preview-policy", http.MethodPost, "/api/policy/preview", "What a policy folder would change; nothing is kept"),
		),
		s.PreviewFolder,
	)
	answers(
		w,
		folder(operation("publish-policy", http.MethodPost, "/api/revisions", "Publish a policy folder as a revision")),
		s.Publish,
	)
	answers(w, operation("list-revisions", http.MethodGet, "/api/revisions", "Every revision"), s.ListRevisions)
	answers(
		w,
		operation("show-revision", http.MethodGet, "/api/revisions/{number}", "The folder that was published as a revision"),
		s.RevisionFiles,
	)
	answers(
		w,
		operation("preview", http.MethodGet, "/api/preview", "What carrying a revision would change, and on which hosts"),
		s.Preview,
	)
	answers(
		w,
		naming(operation("heal-hosts", http.MethodPost, "/api/heal", "Put right what has drifted on hosts, wave by wave")),
		s.HealMany,
	)
	w.rolloutLevers()
	w.auditRoutes()
	w.shelfRoutes()
	w.proposalRoutes()
	w.settingRoutes()
	w.adoptionRoutes()
	answers(w, naming(operation("begin-rollout", http.MethodPost, "/api/rollouts", "Carry a revision to the hosts")), s.BeginRollout)
	answers(w, operation("list-rollouts", http.MethodGet, "/api/rollouts", "Rollouts, page by page"), s.ListRollouts)
	answers(w, operation("show-rollout", http.MethodGet, "/api/rollouts/{id}", "How far a rollout is"), s.ShowRollout)
	answers(
		w,
		operation("stop-rollout", http.MethodPost, "/api/rollouts/{id}/stop", "Stop a rollout where it has not begun"),
		s.StopRollout,
	)
}

func (w *Web) proposalRoutes() {
	s := w.service
	answers(w, operation("list-proposals", http.MethodGet, "/api/proposals", "Policy folders that somebody proposes to publish"),
		s.ListProposals)
	answers(w, operation("add-proposal", http.MethodPost, "/api/proposals", "Propose a policy folder"), s.AddProposal)
	answers(w, operation("show-proposal", http.MethodGet, "/api/proposals/{number}", "A proposal, with its files"), s.ShowProposal)
	answers(
		w,
		operation("agree-proposal", http.MethodPost, "/api/proposals/{number}/agree", "Agree to what somebody else proposes"),
		s.AgreeProposal,
	)
	answers(w, operation("publish-proposal", http.MethodPost, "/api/proposals/{number}/publish", "Publish what was proposed"),
		s.PublishProposal)
	does(
		w,
		operation("withdraw-proposal", http.MethodDelete, "/api/proposals/{number}", "Withdraw a proposal"),
		s.WithdrawProposal,
	)
}

func (w *Web) adoptionRoutes() {
	s := w.service
	answers(
		w,
		operation("adopt-source", http.MethodPost, "/api/policy/adoption",
			"What has to be added to the policy so that a source which it does not list is as it says; changes nothing"),
		s.AdoptSource,
	)
	answers(
		w,
		operation("retire-key", http.MethodPost, "/api/policy/retirement",
			"What the policy's files are without a key that another has taken over from; changes nothing"),
		s.RetireKey,
	)
}

func (w *Web) repositoryRoutes() {
	s := w.service
	answers(w, operation("list-repositories", http.MethodGet, "/api/repositories",
		"Where the fleet gets packages from, and what the service saw there"), s.ListRepositories)
	answers(
		w,
		operation("show-repository", http.MethodGet, "/api/repositories/{key}", "One place that packages come from"),
		s.ShowRepository,
	)
	answers(
		w,
		operation("probe-repositories", http.MethodPost, "/api/repositories/probe", "Look at places now"),
		s.ProbeRepositories,
	)
}

func (w *Web) whenceRoutes() {
	s := w.service
	answers(
		w,
		operation("whence", http.MethodGet, "/api/whence", "From where, and in which version, hosts would get a package"),
		s.Whence,
	)
}
