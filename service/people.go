package service

import (
	"context"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// ListOperators lists who may sign in.
func (s *Service) ListOperators(ctx context.Context, _ *struct{}) (*api.OperatorList, error) {
	list, err := s.store.Operators(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.OperatorList{Operators: []api.Operator{}}
	for _, o := range list {
		out.Operators = append(out.Operators, api.Operator{Name: o.Name, Role: o.Role, Created: o.Created})
	}
	out.Total = len(out.Operators)
	return &out, nil
}

// OperatorIn is an operator as they are added.
type OperatorIn struct {
	Body api.OperatorOrder
}

// AddOperator adds an operator, or gives one a new token.
func (s *Service) AddOperator(ctx context.Context, in *OperatorIn) (*api.Operator, error) {
	token, hash := NewToken("plo_")
	o := store.Operator{Name: in.Body.Name, Role: in.Body.Role, Created: s.now().UTC()}
	if err := s.store.AddOperator(
		ctx,
		o,
		hash,
		store.Noted(journal.Detailed(s.entry(journal.By(ctx), "add-operator", journal.KindOperator, o.Name), map[string]string{"role": o.Role})),
	); err != nil {
		return nil, s.refuse(err)
	}
	s.auth.forget()
	s.events.End(o.Name)
	s.log.Info("operator added", "name", o.Name, "role", o.Role, "author", operatorFrom(ctx).Name)
	return &api.Operator{Name: o.Name, Role: o.Role, Created: o.Created, Token: token}, nil
}

// OperatorPath names an operator.
type OperatorPath struct {
	Name string `path:"name"`
}

// RemoveOperator takes an operator away.
func (s *Service) RemoveOperator(ctx context.Context, in *OperatorPath) error {
	if in.Name == operatorFrom(ctx).Name {
		return refusal.Conflict("you cannot remove yourself; let another operator do it")
	}
	if err := s.store.RemoveOperator(
		ctx,
		in.Name,
		store.Noted(s.entry(journal.By(ctx), "remove-operator", journal.KindOperator, in.Name)),
	); err != nil {
		return s.refuse(err)
	}
	s.auth.forget()
	s.events.End(in.Name)
	s.log.Info("operator removed", "name", in.Name, "author", operatorFrom(ctx).Name)
	return nil
}
