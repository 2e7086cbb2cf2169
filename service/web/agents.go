package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/shelf"
)

// hears has a call of an agent answered by the service: what is sent is read up to a bound.
func hears[I, O any](w *Web, limit int64, do func(context.Context, *I) (*O, error)) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		var in I
		if !answer.Decode(rw, r, limit, &in) {
			return
		}
		out, err := do(r.Context(), &in)
		if err != nil {
			answer.Fail(w.log, rw, r, err)
			return
		}
		answer.Write(rw, out)
	}
}

// takes likewise, where nothing is told but that it was done.
func takes[I any](w *Web, limit int64, do func(context.Context, *I) error) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		var in I
		if !answer.Decode(rw, r, limit, &in) {
			return
		}
		if err := do(r.Context(), &in); err != nil {
			answer.Fail(w.log, rw, r, err)
			return
		}
		rw.WriteHeader(http.StatusNoContent)
	}
}

// access gives a host what opens its licensed sources. Nothing between keeps it.
func (w *Web) access(rw http.ResponseWriter, r *http.Request) {
	hears(w, maxCall, func(ctx context.Context, in *api.AccessOrder) (*api.AccessAnswer, error) {
		out, err := w.service.Access(ctx, in)
		if err == nil {
			rw.Header().Set("Cache-Control", "no-store")
		}
		return out, err
	})(rw, r)
}

// putDocuments takes documents that no host has sent before, as they come.
func (w *Web) putDocuments(rw http.ResponseWriter, r *http.Request) {
	err := w.service.PutDocuments(r.Context(), http.MaxBytesReader(rw, r.Body, maxUpload))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		answer.Problem(rw, http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d bytes", maxUpload))
	case err != nil:
		answer.Fail(w.log, rw, r, err)
	default:
		rw.WriteHeader(http.StatusNoContent)
	}
}

// delivery gives a host what it is to do, signed.
func (w *Web) delivery(rw http.ResponseWriter, r *http.Request) {
	jws, err := w.service.Delivery(r.Context())
	if err != nil {
		answer.Fail(w.log, rw, r, err)
		return
	}
	rw.Header().Set("Content-Type", "application/jose")
	_, _ = io.WriteString(rw, jws) // the agent has gone if this fails
}

// document gives a document by its digest: immutable, so any cache may keep it.
func (w *Web) document(rw http.ResponseWriter, r *http.Request) {
	digest := chi.URLParam(r, "digest")
	if !source.IsDigest(digest) {
		answer.Problem(rw, http.StatusBadRequest, "a document's name is a SHA-256 in hex")
		return
	}
	if r.Header.Get("If-None-Match") == strconv.Quote(digest) {
		rw.WriteHeader(http.StatusNotModified)
		return
	}
	text, err := w.service.SheetText(r.Context(), digest)
	if err != nil {
		answer.Fail(w.log, rw, r, err)
		return
	}
	rw.Header().Set("Content-Type", "application/json")
	rw.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	rw.Header().Set("ETag", strconv.Quote(digest))
	_, _ = rw.Write(text) // the agent has gone if this fails
}

// serveShelf answers hosts that ask for what stands on a shelf.
func (w *Web) serveShelf(rw http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	open, is := w.service.Shelf(name)
	if !is {
		http.Error(rw, "there is no such shelf", http.StatusNotFound)
		return
	}
	http.StripPrefix("/shelf/"+name, shelf.Handler(open)).ServeHTTP(rw, r)
}
