package service

import (
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// deliveryLife is how long a signed delivery is good.
const deliveryLife = 10 * time.Minute

// delivery gives a host its signed sheet, by digest.
func (s *Service) delivery(w http.ResponseWriter, r *http.Request) {
	h := agentFrom(r.Context())
	v := h.row()
	if !s.mayWork(r.Context(), v) {
		problem(w, http.StatusNotFound, "nothing waits for this host")
		return
	}
	ro, err := s.store.Rollout(r.Context(), v.Task)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	if ro.Kind == store.KindBackOut {
		s.deliverBack(w, r, v, &ro)
		return
	}
	revision := carries(&ro, v)
	rs, err := s.compute.revision(r.Context(), revision)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	res, err := s.compute.resolve(r.Context(), rs, v)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	if len(res.Trouble) > 0 {
		problem(w, http.StatusConflict, "the policy cannot be resolved for this host: "+res.Trouble[0].String())
		return
	}
	now := s.now()
	if err := s.compute.putSheet(r.Context(), res, now); err != nil {
		s.fault(w, r, err)
		return
	}
	jws, err := s.key.sign(
		api.Delivery{
			Host:     v.Name,
			Revision: revision,
			Sheet:    res.Digest(),
			Rollout:  ro.ID,
			SetAside: ro.SetAside,
			PutBack:  ro.Kind == store.KindHeal,
			Issued:   now.UTC(),
			Expires:  now.Add(deliveryLife).UTC(),
		},
	)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/jose")
	_, _ = io.WriteString(w, jws) // the agent has gone if this fails
}

// carries is the revision that a rollout carries to a host: a healing that of each host.
func carries(ro *store.Rollout, v *hostView) int64 {
	if ro.Kind == store.KindHeal && v.Revision != 0 {
		return v.Revision
	}
	return ro.Revision
}

// document gives a document by its digest: immutable, so any cache may keep it.
func (s *Service) document(w http.ResponseWriter, r *http.Request) {
	digest := chi.URLParam(r, "digest")
	if !source.IsDigest(digest) {
		problem(w, http.StatusBadRequest, "a document's name is a SHA-256 in hex")
		return
	}
	if r.Header.Get("If-None-Match") == strconv.Quote(digest) {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	// A host needs sheets and nothing else; what other hosts have is not its business.
	if !s.store.Known(digest, store.KindSheet) {
		problem(w, http.StatusNotFound, "there is no sheet of that digest")
		return
	}
	d, err := s.store.Document(r.Context(), digest, store.KindSheet)
	if err != nil {
		s.fault(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	w.Header().Set("ETag", strconv.Quote(digest))
	_, _ = w.Write(d.Body) // the agent has gone if this fails
}
