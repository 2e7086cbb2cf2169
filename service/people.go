package service

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/store"
)

func (s *Service) listOperators(ctx context.Context, _ *struct{}) (*body[api.OperatorList], error) {
	list, err := s.store.Operators(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.OperatorList{Operators: []api.Operator{}}
	for _, o := range list {
		out.Operators = append(out.Operators, api.Operator{Name: o.Name, Role: o.Role, Created: o.Created})
	}
	out.Total = len(out.Operators)
	return &body[api.OperatorList]{out}, nil
}

type operatorIn struct {
	Body api.OperatorOrder
}

func (s *Service) addOperator(ctx context.Context, in *operatorIn) (*body[api.Operator], error) {
	token, hash := NewToken("plo_")
	o := store.Operator{Name: in.Body.Name, Role: in.Body.Role, Created: s.now().UTC()}
	if err := s.store.AddOperator(
		ctx,
		o,
		hash,
		store.Noted(detailed(s.entry(actorFrom(ctx), "add-operator", kindOperator, o.Name), map[string]string{"role": o.Role})),
	); err != nil {
		return nil, s.refuse(err)
	}
	s.auth.forget()
	s.events.end(o.Name)
	s.log.Info("operator added", "name", o.Name, "role", o.Role, "author", operatorFrom(ctx).Name)
	return &body[api.Operator]{api.Operator{Name: o.Name, Role: o.Role, Created: o.Created, Token: token}}, nil
}

type operatorPath struct {
	Name string `path:"name"`
}

func (s *Service) removeOperator(ctx context.Context, in *operatorPath) (*struct{}, error) {
	if in.Name == operatorFrom(ctx).Name {
		return nil, huma.Error409Conflict("you cannot remove yourself; let another operator do it")
	}
	if err := s.store.RemoveOperator(
		ctx,
		in.Name,
		store.Noted(s.entry(actorFrom(ctx), "remove-operator", kindOperator, in.Name)),
	); err != nil {
		return nil, s.refuse(err)
	}
	s.auth.forget()
	s.events.end(in.Name)
	s.log.Info("operator removed", "name", in.Name, "author", operatorFrom(ctx).Name)
	return nil, nil
}
