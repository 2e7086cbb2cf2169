package web

import (
	"net/http"
)

func (w *Web) hostRoutes() {
	s := w.service
	w.hostLists()
	answers(w, operation("show-host", http.MethodGet, "/api/hosts/{name}", "All that is known of one host"), s.ShowHost)
	answers(
		w,
		operation("show-history", http.MethodGet, "/api/hosts/{name}/history", "What happened to a host, the newest first"),
		s.History,
	)
	does(w, operation("retire-host", http.MethodDelete, "/api/hosts/{name}", "Forget a host"), s.RetireHost)
	answers(w, operation("label-host", http.MethodPut, "/api/hosts/{name}/labels", "Replace a host's labels"), s.SetLabels)
	answers(
		w,
		operation(
			"accept-host",
			http.MethodPost,
			"/api/hosts/{name}/accept",
			"Accept a host as it stands: what the policy says nothing of",
		),
		s.Accept,
	)
	answers(w, operation("show-past", http.MethodGet, "/api/hosts/{name}/past", "What a host had at a moment"), s.Past)
	answers(w, operation("heal-host", http.MethodPost, "/api/hosts/{name}/heal", "Put right what has drifted on a host"), s.Heal)
	answers(
		w,
		operation(
			"explain-host",
			http.MethodGet,
			"/api/hosts/{name}/explanation",
			"Why a host has what it should have, line by line, and why not what it has not",
		),
		s.Explain,
	)
	answers(
		w,
		operation(
			"show-survey",
			http.MethodGet,
			"/api/hosts/{name}/survey",
			"A host's last survey, with the texts of its source files",
		),
		s.Survey,
	)
	answers(
		w,
		operation("invite-host", http.MethodPost, "/api/invites", "Make a one-time token with which a host joins"),
		s.Invite,
	)
	answers(
		w,
		operation("group-drift", http.MethodGet, "/api/drift/groups", "Findings that are the same on many hosts, a row each"),
		s.GroupDrift,
	)
	answers(w, operation("show-field", http.MethodGet, "/api/field", "Every host, counted by system or cohort, and state"), s.Field)
	answers(
		w,
		operation("list-groups", http.MethodGet, "/api/groups", "The groups of the newest revision, and their hosts"),
		s.ListGroups,
	)
	answers(
		w,
		operation("list-cohorts", http.MethodGet, "/api/cohorts", "Hosts that are configured alike, and by which lines others differ"),
		s.ListCohorts,
	)
	answers(
		w,
		operation("list-keys", http.MethodGet, "/api/keys", "Which signing keys the fleet believes, in how wide a scope"),
		s.ListKeys,
	)
	answers(w, operation("show-key", http.MethodGet, "/api/keys/{key}", "One signing key, and which hosts believe it"), s.ShowKey)
	answers(
		w,
		operation("list-waivers", http.MethodGet, "/api/waivers", "Findings that somebody accepts until a date"),
		s.ListWaivers,
	)
	answers(w, operation("add-waiver", http.MethodPost, "/api/waivers", "Accept a finding until a date"), s.AddWaiver)
	does(w, operation("end-waiver", http.MethodDelete, "/api/waivers/{id}", "Take a waiver away"), s.EndWaiver)
	answers(w, operation("list-drift", http.MethodGet, "/api/drift", "Findings over the fleet, page by page"), s.ListDrift)
}

func (w *Web) hostLists() {
	s := w.service
	answers(w, operation("list-hosts", http.MethodGet, "/api/hosts", "The fleet, page by page"), s.ListHosts)
	answers(
		w,
		operation("list-host-names", http.MethodGet, "/api/host-names", "The names of all hosts that a filter lets through"),
		s.HostNames,
	)
}

func (w *Web) labelRoutes() {
	s := w.service
	answers(
		w,
		naming(operation("label-hosts", http.MethodPost, "/api/labels", "Give labels to many hosts, or say what would come of it")),
		s.LabelHosts,
	)
}

func (w *Web) betweenRoutes() {
	s := w.service
	answers(
		w,
		operation("compare-host", http.MethodGet, "/api/hosts/{name}/between", "What of a host is another than it was at an earlier moment"),
		s.Between,
	)
}
