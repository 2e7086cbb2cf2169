package identity

import (
	"context"
	"errors"
	"fmt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// ListOperators lists who may sign in.
func (p *People) ListOperators(ctx context.Context, _ *struct{}) (*api.OperatorList, error) {
	list, err := p.store.Operators(ctx)
	if err != nil {
		return nil, err
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
func (p *People) AddOperator(ctx context.Context, in *OperatorIn) (*api.Operator, error) {
	return p.add(ctx, in.Body, map[string]string{"role": in.Body.Role})
}

// AddHere is AddOperator for somebody at the data folder, of whom nothing else is known: the audit tells it.
func (p *People) AddHere(ctx context.Context, o api.OperatorOrder) (*api.Operator, error) {
	return p.add(ctx, o, map[string]string{"role": o.Role, "by": "somebody at the data folder"})
}

func (p *People) add(ctx context.Context, order api.OperatorOrder, detail map[string]string) (*api.Operator, error) {
	token, hash := NewToken("plo_")
	o := store.Operator{Name: order.Name, Role: order.Role, Created: p.now().UTC()}
	if by := Operator(ctx); by.Name == o.Name {
		o.Session = by.Session
	}
	e := journal.At(p.now(), journal.By(ctx), "add-operator", journal.KindOperator, o.Name)
	if err := p.store.AddOperator(ctx, o, hash, store.Noted(journal.Detailed(e, detail))); err != nil {
		return nil, lastOne(o.Name, err)
	}
	p.forget()
	p.opts.Left(o.Name)
	p.opts.Log.Info("operator added", "name", o.Name, "role", o.Role, "author", Operator(ctx).Name)
	return &api.Operator{Name: o.Name, Role: o.Role, Created: o.Created, Token: token}, nil
}

// lastOne says why the last operator stays one.
func lastOne(name string, err error) error {
	if errors.Is(err, store.ErrLastOperator) {
		return refusal.Conflict(fmt.Sprintf("%s is the last who may change anything: nothing was done; add another operator first", name))
	}
	return err
}

// OperatorPath names an operator.
type OperatorPath struct {
	Name string `path:"name"`
}

// RemoveOperator takes an operator away.
func (p *People) RemoveOperator(ctx context.Context, in *OperatorPath) error {
	if in.Name == Operator(ctx).Name {
		return refusal.Conflict("you cannot remove yourself; let another operator do it")
	}
	if err := p.store.RemoveOperator(
		ctx,
		in.Name,
		store.Noted(journal.At(p.now(), journal.By(ctx), "remove-operator", journal.KindOperator, in.Name)),
	); err != nil {
		return lastOne(in.Name, err)
	}
	p.forget()
	p.opts.Left(in.Name)
	p.opts.Log.Info("operator removed", "name", in.Name, "author", Operator(ctx).Name)
	return nil
}
