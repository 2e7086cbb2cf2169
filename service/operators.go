package service

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/store"
)

// body wraps an answer as huma wants it.
type body[T any] struct{ Body T }

// refuse turns an error into problem details.
func (s *Service) refuse(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, errAmbiguous):
		return huma.Error409Conflict(err.Error())
	}
	if errors.Is(err, context.Canceled) {
		return huma.NewError(499, "the caller has gone")
	}
	s.log.Error("answering an operator", "error", err)
	return huma.Error500InternalServerError("the service could not do it; its log says why")
}

// Paging bounds a page.
type Paging struct {
	Page    int `query:"page" minimum:"1" default:"1" doc:"Page, from 1"`
	PerPage int `query:"per_page" minimum:"1" maximum:"1000" default:"50" doc:"Rows on a page"`
}

// next is the page that follows; 0 where this is the last.
func (p Paging) next(total int) int {
	if p.Page*p.PerPage >= total {
		return 0
	}
	return p.Page + 1
}

func (p Paging) cut(total int) (from, to int) {
	from = min((p.Page-1)*p.PerPage, total)
	return from, min(from+p.PerPage, total)
}
