package web

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

func (w *Web) subscriptionRoutes() {
	s := w.service
	answers(w, operation("list-accounts", http.MethodGet, "/api/accounts", "Accounts at vendors' desks"), s.ListAccounts)
	answers(
		w,
		operation("add-account", http.MethodPost, "/api/accounts", "Give the service an account at a desk, or a new login for it"),
		s.AddAccount,
	)
	does(
		w,
		operation("remove-account", http.MethodDelete, "/api/accounts/{name}", "Forget an account that has no seats"),
		s.RemoveAccount,
	)
	answers(
		w,
		operation("list-contracts", http.MethodGet, "/api/contracts", "Contracts and how they stand, page by page"),
		s.ListContracts,
	)
	answers(w, operation("list-seats", http.MethodGet, "/api/seats", "Seats and who has them, page by page"), s.ListSeats)
	answers(w, operation("take-seat", http.MethodPost, "/api/seats", "Take a seat for a host"), s.TakeSeat)
	answers(
		w,
		operation("release-seat", http.MethodDelete, "/api/seats/{host}/{account}", "Give a host's seat back"),
		s.ReleaseSeat,
	)
	answers(
		w,
		operation("list-channels", http.MethodGet, "/api/channels", "Channels of the newest revision, page by page"),
		s.ListChannels,
	)
	answers(w, operation("outlook", http.MethodGet, "/api/outlook", "What contracts and seats are coming to"), s.Outlook)
	answers(
		w,
		operation("rotate-secrets", http.MethodPost, "/api/secrets/rotate", "Encrypt every secret with a new key"),
		s.RotateSecrets,
	)
	answers(w, operation("list-operators", http.MethodGet, "/api/operators", "Who may sign in"), s.ListOperators)
	answers(
		w,
		operation("add-operator", http.MethodPost, "/api/operators", "Add an operator, or give one a new token"),
		s.AddOperator,
	)
	does(
		w,
		operation("remove-operator", http.MethodDelete, "/api/operators/{name}", "Take an operator away"),
		s.RemoveOperator,
	)
}

func (w *Web) dateRoutes() {
	s := w.service
	answers(
		w,
		operation("list-dates", http.MethodGet, "/api/dates", "What falls due: contracts, keys, waivers, reviews, freezes"),
		s.ListDates,
	)
	answers(w, operation("list-days", http.MethodGet, "/api/days", "How the fleet stood, day by day"), s.ListDays)
	op := operation("calendar", http.MethodGet, "/api/calendar", "The same as a calendar (iCalendar, RFC 5545)")
	op.Responses = map[string]*huma.Response{"200": {
		Description: "OK", Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}}
	huma.Register(w.api, op, w.calendar)
}

func (w *Web) auditRoutes() {
	s := w.service
	answers(w, operation("export", http.MethodPost, "/api/export", "The files that a host would have"), s.Export)
	answers(w, operation("list-webhooks", http.MethodGet, "/api/webhooks", "Who is told of what happens"), s.ListWebhooks)
	answers(w, operation("add-webhook", http.MethodPost, "/api/webhooks", "Tell an address of what happens"), s.AddWebhook)
	does(w, operation("remove-webhook", http.MethodDelete, "/api/webhooks/{id}", "Tell an address no more"), s.RemoveWebhook)
	answers(w, operation("try-webhook", http.MethodPost, "/api/webhooks/{id}/try", "Call a webhook once, to see"), s.TryWebhook)
	answers(w, operation("audit", http.MethodGet, "/api/audit", "What people did, and what became of rollouts"), s.Audit)
	answers(
		w,
		operation("audit-chain", http.MethodGet, "/api/audit/chain", "Whether any of that was changed or taken out"),
		s.AuditChain,
	)
}

func (w *Web) settingRoutes() {
	s := w.service
	answers(w, operation("list-settings", http.MethodGet, "/api/settings", "What the service runs with"), s.ListSettings)
}

func (w *Web) shelfRoutes() {
	s := w.service
	answers(w, operation("list-shelves", http.MethodGet, "/api/shelves", "Folders that hosts are served"), s.ListShelves)
	answers(w, operation("add-shelf", http.MethodPost, "/api/shelves", "Serve a folder to hosts"), s.AddShelf)
	does(w, operation("remove-shelf", http.MethodDelete, "/api/shelves/{name}", "Serve a folder no more"), s.RemoveShelf)
}
