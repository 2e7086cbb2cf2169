package register

import (
	"context"
	"fmt"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// AcceptIn says why a host is accepted as it stands.
type AcceptIn struct {
	ground.HostPath
	Body api.AcceptOrder
}

// Accept makes what a host is like now its base: what the policy says nothing of is right as
// it stands. What the policy does say, and checks that are taken away, stay findings.
func (s *Register) Accept(ctx context.Context, in *AcceptIn) (*api.Accepted, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	why := strings.TrimSpace(in.Body.Because)
	if len(why) < 3 {
		return nil, refusal.Wrong("because: say in a few words why the host is right as it stands")
	}
	v := h.Row()
	busy := s.Fleet.Busy(v)
	switch {
	case v.Carried.Sheet == "":
		return nil, refusal.Conflict(fmt.Sprintf("nothing was carried to %s yet, so it has no state to accept; begin a rollout", v.Name))
	case busy != "":
		return nil, refusal.Conflict(busy)
	case in.Body.Document != "" && in.Body.Document != v.Survey:
		return nil, refusal.Conflict(fmt.Sprintf("%s has changed since you looked at it; look again", v.Name))
	}
	looked := v.Survey
	edit := func(v *fleet.View) error {
		if v.Survey != looked {
			return refusal.Conflict(fmt.Sprintf("%s has changed at this moment; look again", v.Name))
		}
		v.Carried.Base = store.Base{Sheet: v.Carried.Sheet, Survey: v.Survey, At: s.Now().UTC(), By: identity.Operator(ctx).Name, Why: why,
			Whole: s.Compute.Whole(ctx, v.Survey)}
		return nil
	}
	if in.Body.Try {
		tried := *v
		if err := edit(&tried); err != nil {
			return nil, err
		}
		if err := s.Compute.Complete(ctx, &tried, s.Now()); err != nil {
			return nil, err
		}
		return new(s.accepted(v, &tried)), nil
	}
	row, err := s.Change(ctx, h, "accept-host", edit, func(v *fleet.View, c store.Change) error {
		note := c.Note
		c.Note = func() []store.Entry {
			entries := note()
			for i := range entries {
				entries[i].Why = why
			}
			return entries
		}
		return s.Store.PutHost(ctx, &v.Host, c)
	})
	if err != nil {
		return nil, err
	}
	return new(s.accepted(v, row)), nil
}

// accepted parts the findings of a host into those that are none any more and those left.
func (s *Register) accepted(before, after *fleet.View) api.Accepted {
	out := api.Accepted{Host: after.Name, Accepted: []api.Finding{}, Left: s.findings(after, after.Findings)}
	left := map[string]bool{}
	for _, f := range out.Left {
		left[f.Key()] = true
	}
	for _, f := range s.findings(before, before.Findings) {
		if !left[f.Key()] {
			out.Accepted = append(out.Accepted, f)
		}
	}
	return out
}
