package agents

import (
	"context"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/store"
)

// Delivery gives a host its signed sheet, by digest: a compact JWS.
func (s *Agents) Delivery(ctx context.Context) (string, error) {
	v := fleet.Caller(ctx).Row()
	if !s.rollouts.MayWork(ctx, v) {
		return "", refusal.NotFound("nothing waits for this host")
	}
	ro, err := s.Store.Rollout(ctx, v.Task)
	if err != nil {
		return "", err
	}
	if ro.Kind == store.KindBackOut {
		return s.rollouts.DeliverBack(ctx, v, &ro)
	}
	revision := ro.Carries(&v.Host)
	rs, err := s.Compute.Revision(ctx, revision)
	if err != nil {
		return "", err
	}
	res, err := s.Compute.Resolve(ctx, rs, v)
	if err != nil {
		return "", err
	}
	if len(res.Trouble) > 0 {
		return "", refusal.Conflict("the policy cannot be resolved for this host: " + res.Trouble[0].String())
	}
	now := s.Now()
	if err := s.Compute.PutSheet(ctx, res, now); err != nil {
		return "", err
	}
	return s.Key.Sign(
		api.Delivery{
			Host:     v.Name,
			Revision: revision,
			Sheet:    res.Digest(),
			Rollout:  ro.ID,
			SetAside: ro.SetAside,
			PutBack:  ro.Kind == store.KindHeal,
			Issued:   now.UTC(),
			Expires:  now.Add(rollouts.DeliveryLife).UTC(),
		},
	)
}

// SheetText is a sheet by its digest, as it was signed. A host needs sheets and nothing else;
// what other hosts have is not its business.
func (s *Agents) SheetText(ctx context.Context, digest string) ([]byte, error) {
	if !s.Store.Known(digest, store.KindSheet) {
		return nil, refusal.NotFound("there is no sheet of that digest")
	}
	d, err := s.Store.Document(ctx, digest, store.KindSheet)
	return d.Body, err
}
