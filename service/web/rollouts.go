package web

import (
	"net/http"
)

// rolloutLevers are the calls that change where a rollout stands.
func (w *Web) rolloutLevers() {
	s := w.service
	answers(
		w,
		operation("hold-rollout", http.MethodPost, "/api/rollouts/{id}/hold", "Let no more hosts begin with a rollout"),
		s.HoldRollout,
	)
	answers(
		w,
		operation("proceed-rollout", http.MethodPost, "/api/rollouts/{id}/proceed", "Let a rollout that is held go on"),
		s.ProceedRollout,
	)
	answers(
		w,
		operation("consent-rollout", http.MethodPost, "/api/rollouts/{id}/consent", "Agree to the next wave of a rollout"),
		s.ConsentRollout,
	)
	answers(
		w,
		operation("back-out-rollout", http.MethodPost, "/api/rollouts/{id}/back-out", "Give hosts back what they had before a rollout"),
		s.BackOut,
	)
	answers(w, operation("skip-host", http.MethodPost, "/api/rollouts/{id}/skip", "Leave a host out of a rollout"), s.SkipHost)
	answers(w, operation("list-freezes", http.MethodGet, "/api/freezes", "When nothing moves"), s.ListFreezes)
	answers(w, operation("freeze", http.MethodPost, "/api/freezes", "Let nothing move in the fleet, or in a group"), s.Freeze)
	answers(w, operation("thaw", http.MethodDelete, "/api/freezes/{id}", "End a freeze"), s.Thaw)
}
