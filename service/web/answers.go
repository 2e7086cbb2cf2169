package web

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/service/answer"
)

// body wraps an answer as huma wants it.
type body[T any] struct{ Body T }

// answers has an operation answered by the service.
func answers[I, O any](w *Web, op huma.Operation, do func(context.Context, *I) (*O, error)) {
	huma.Register(w.api, op, func(ctx context.Context, in *I) (*body[O], error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, answer.Told(w.log, err)
		}
		return &body[O]{*out}, nil
	})
}

// does has an operation done by the service, of which nothing is told but that it was done.
func does[I any](w *Web, op huma.Operation, do func(context.Context, *I) error) {
	huma.Register(w.api, op, func(ctx context.Context, in *I) (*struct{}, error) { return nil, answer.Told(w.log, do(ctx, in)) })
}
