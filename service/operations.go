package service

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

func (s *Service) hostRoutes(a huma.API) {
	huma.Register(a, operation("list-hosts", http.MethodGet, "/api/hosts", "The fleet, page by page"), s.listHosts)
	huma.Register(a, operation("show-host", http.MethodGet, "/api/hosts/{name}", "All that is known of one host"), s.showHost)
	huma.Register(
		a,
		operation("show-history", http.MethodGet, "/api/hosts/{name}/history", "What happened to a host, the newest first"),
		s.history,
	)
	huma.Register(a, operation("retire-host", http.MethodDelete, "/api/hosts/{name}", "Forget a host"), s.retireHost)
	huma.Register(a, operation("label-host", http.MethodPut, "/api/hosts/{name}/labels", "Replace a host's labels"), s.setLabels)
	huma.Register(
		a,
		operation(
			"accept-host",
			http.MethodPost,
			"/api/hosts/{name}/accept",
			"Accept a host as it stands: what the policy says nothing of",
		),
		s.accept,
	)
	huma.Register(a, operation("show-past", http.MethodGet, "/api/hosts/{name}/past", "What a host had at a moment"), s.past)
	huma.Register(a, operation("heal-host", http.MethodPost, "/api/hosts/{name}/heal", "Put right what has drifted on a host"), s.heal)
	huma.Register(
		a,
		operation(
			"explain-host",
			http.MethodGet,
			"/api/hosts/{name}/explanation",
			"Why a host has what it should have, line by line, and why not what it has not",
		),
		s.explain,
	)
	huma.Register(
		a,
		operation(
			"show-survey",
			http.MethodGet,
			"/api/hosts/{name}/survey",
			"A host's last survey, with the texts of its source files",
		),
		s.survey,
	)
	huma.Register(
		a,
		operation("invite-host", http.MethodPost, "/api/invites", "Make a one-time token with which a host joins"),
		s.invite,
	)
	huma.Register(
		a,
		operation("group-drift", http.MethodGet, "/api/drift/groups", "Findings that are the same on many hosts, a row each"),
		s.groupDrift,
	)
	huma.Register(a, operation("show-field", http.MethodGet, "/api/field", "Every host, counted by system and state"), s.field)
	huma.Register(
		a,
		operation("list-groups", http.MethodGet, "/api/groups", "The groups of the newest revision, and their hosts"),
		s.listGroups,
	)
	huma.Register(
		a,
		operation("list-cohorts", http.MethodGet, "/api/cohorts", "Hosts that are configured alike, and by which lines others differ"),
		s.listCohorts,
	)
	huma.Register(
		a,
		operation("list-keys", http.MethodGet, "/api/keys", "Which signing keys the fleet believes, in how wide a scope"),
		s.listKeys,
	)
	huma.Register(a, operation("show-key", http.MethodGet, "/api/keys/{key}", "One signing key, and which hosts believe it"), s.showKey)
	huma.Register(
		a,
		operation("list-waivers", http.MethodGet, "/api/waivers", "Findings that somebody accepts until a date"),
		s.listWaivers,
	)
	huma.Register(a, operation("add-waiver", http.MethodPost, "/api/waivers", "Accept a finding until a date"), s.addWaiver)
	huma.Register(a, operation("end-waiver", http.MethodDelete, "/api/waivers/{id}", "Take a waiver away"), s.endWaiver)
	huma.Register(a, operation("list-drift", http.MethodGet, "/api/drift", "Findings over the fleet, page by page"), s.listDrift)
}

func (s *Service) policyRoutes(a huma.API) {
	folder := func(op huma.Operation) huma.Operation { op.MaxBodyBytes = maxUpload; return op }
	huma.Register(
		a,
		folder(
			operation("check-policy", http.MethodPost, "/api/policy/check", "Check a policy folder against the fleet; nothing is kept"),
		),
		s.checkPolicy,
	)
	huma.Register(
		a,
		folder(
			operation("preview-policy", http.MethodPost, "/api/policy/preview", "What a policy folder would change; nothing is kept"),
		),
		s.previewFolder,
	)
	huma.Register(
		a,
		folder(operation("publish-policy", http.MethodPost, "/api/revisions", "Publish a policy folder as a revision")),
		s.publish,
	)
	huma.Register(a, operation("list-revisions", http.MethodGet, "/api/revisions", "Every revision"), s.listRevisions)
	huma.Register(
		a,
		operation("show-revision", http.MethodGet, "/api/revisions/{number}", "The folder that was published as a revision"),
		s.revisionFiles,
	)
	huma.Register(
		a,
		operation("preview", http.MethodGet, "/api/preview", "What carrying a revision would change, and on which hosts"),
		s.preview,
	)
	huma.Register(
		a,
		operation("heal-hosts", http.MethodPost, "/api/heal", "Put right what has drifted on hosts, wave by wave"),
		s.healMany,
	)
	s.rolloutLevers(a)
	s.auditRoutes(a)
	s.shelfRoutes(a)
	s.proposalRoutes(a)
	s.settingRoutes(a)
	s.adoptionRoutes(a)
	huma.Register(a, operation("begin-rollout", http.MethodPost, "/api/rollouts", "Carry a revision to the hosts"), s.beginRollout)
	huma.Register(a, operation("list-rollouts", http.MethodGet, "/api/rollouts", "Rollouts, page by page"), s.listRollouts)
	huma.Register(a, operation("show-rollout", http.MethodGet, "/api/rollouts/{id}", "How far a rollout is"), s.showRollout)
	huma.Register(
		a,
		operation("stop-rollout", http.MethodPost, "/api/rollouts/{id}/stop", "Stop a rollout where it has not begun"),
		s.stopRollout,
	)
}

func (s *Service) subscriptionRoutes(a huma.API) {
	huma.Register(a, operation("list-accounts", http.MethodGet, "/api/accounts", "Accounts at vendors' desks"), s.listAccounts)
	huma.Register(
		a,
		operation("add-account", http.MethodPost, "/api/accounts", "Give the service an account at a desk, or a new login for it"),
		s.addAccount,
	)
	huma.Register(
		a,
		operation("remove-account", http.MethodDelete, "/api/accounts/{name}", "Forget an account that has no seats"),
		s.removeAccount,
	)
	huma.Register(
		a,
		operation("list-contracts", http.MethodGet, "/api/contracts", "Contracts and how they stand, page by page"),
		s.listContracts,
	)
	huma.Register(a, operation("list-seats", http.MethodGet, "/api/seats", "Seats and who has them, page by page"), s.listSeats)
	huma.Register(a, operation("take-seat", http.MethodPost, "/api/seats", "Take a seat for a host"), s.takeSeat)
	huma.Register(
		a,
		operation("release-seat", http.MethodDelete, "/api/seats/{host}/{account}", "Give a host's seat back"),
		s.releaseSeat,
	)
	huma.Register(
		a,
		operation("list-channels", http.MethodGet, "/api/channels", "Channels of the newest revision, page by page"),
		s.listChannels,
	)
	huma.Register(a, operation("outlook", http.MethodGet, "/api/outlook", "What contracts and seats are coming to"), s.outlook)
	huma.Register(
		a,
		operation("rotate-secrets", http.MethodPost, "/api/secrets/rotate", "Encrypt every secret with a new key"),
		s.rotateSecrets,
	)
	huma.Register(a, operation("list-operators", http.MethodGet, "/api/operators", "Who may sign in"), s.listOperators)
	huma.Register(
		a,
		operation("add-operator", http.MethodPost, "/api/operators", "Add an operator, or give one a new token"),
		s.addOperator,
	)
	huma.Register(
		a,
		operation("remove-operator", http.MethodDelete, "/api/operators/{name}", "Take an operator away"),
		s.removeOperator,
	)
}

func (s *Service) auditRoutes(a huma.API) {
	huma.Register(a, operation("export", http.MethodPost, "/api/export", "The files that a host would have"), s.export)
	huma.Register(a, operation("list-webhooks", http.MethodGet, "/api/webhooks", "Who is told of what happens"), s.listWebhooks)
	huma.Register(a, operation("add-webhook", http.MethodPost, "/api/webhooks", "Tell an address of what happens"), s.addWebhook)
	huma.Register(a, operation("remove-webhook", http.MethodDelete, "/api/webhooks/{id}", "Tell an address no more"), s.removeWebhook)
	huma.Register(a, operation("try-webhook", http.MethodPost, "/api/webhooks/{id}/try", "Call a webhook once, to see"), s.tryWebhook)
	huma.Register(a, operation("audit", http.MethodGet, "/api/audit", "What people did, and what became of rollouts"), s.audit)
	huma.Register(
		a,
		operation("audit-chain", http.MethodGet, "/api/audit/chain", "Whether any of that was changed or taken out"),
		s.auditChain,
	)
}

// rolloutLevers are the calls that change where a rollout stands.
func (s *Service) rolloutLevers(a huma.API) {
	huma.Register(
		a,
		operation("hold-rollout", http.MethodPost, "/api/rollouts/{id}/hold", "Let no more hosts begin with a rollout"),
		s.holdRollout,
	)
	huma.Register(
		a,
		operation("proceed-rollout", http.MethodPost, "/api/rollouts/{id}/proceed", "Let a rollout that is held go on"),
		s.proceedRollout,
	)
	huma.Register(
		a,
		operation("consent-rollout", http.MethodPost, "/api/rollouts/{id}/consent", "Agree to the next wave of a rollout"),
		s.consentRollout,
	)
	huma.Register(
		a,
		operation("back-out-rollout", http.MethodPost, "/api/rollouts/{id}/back-out", "Give hosts back what they had before a rollout"),
		s.backOut,
	)
	huma.Register(a, operation("skip-host", http.MethodPost, "/api/rollouts/{id}/skip", "Leave a host out of a rollout"), s.skipHost)
	huma.Register(a, operation("list-freezes", http.MethodGet, "/api/freezes", "When nothing moves"), s.listFreezes)
	huma.Register(a, operation("freeze", http.MethodPost, "/api/freezes", "Let nothing move in the fleet, or in a group"), s.freeze)
	huma.Register(a, operation("thaw", http.MethodDelete, "/api/freezes/{id}", "End a freeze"), s.thaw)
}
