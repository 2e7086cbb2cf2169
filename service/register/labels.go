package register

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

// LabelManyIn says which labels which hosts get.
type LabelManyIn struct {
	Body api.LabelOrder
}

// LabelHosts gives labels to many hosts, or says what would come of it.
func (s *Register) LabelHosts(ctx context.Context, in *LabelManyIn) (*api.Labelled, error) {
	o := &in.Body
	who := ground.Selecting{To: o.To, Where: o.Where}
	switch {
	case !who.Some():
		return nil, refusal.Wrong("to: say which hosts are meant: names, ranges of names, groups, or a condition")
	case len(o.Set)+len(o.Unset) == 0:
		return nil, refusal.Wrong("set: say which labels they get or lose")
	}
	if err := checkLabels(o.Set); err != nil {
		return nil, err
	}
	rs, revision, err := s.Newest(ctx)
	if err != nil {
		return nil, err
	}
	hosts, unknown, err := s.Picked(ctx, rs, who, s.Fleet.All())
	if err != nil {
		return nil, err
	}
	out := api.Labelled{Moves: []api.GroupMove{}, Names: []string{}, Unknown: unknown, Revision: revision}
	var takers []*fleet.Host
	for _, h := range hosts {
		if maps.Equal(h.Row().Labels, relabelled(h.Row().Labels, o)) {
			out.Kept++
			continue
		}
		takers = append(takers, h)
		if len(out.Names) < ground.MostNames {
			out.Names = append(out.Names, h.Row().Name)
		}
	}
	out.Relabelled = len(takers)
	if err := s.foretell(ctx, rs, takers, o, &out); err != nil {
		return nil, err
	}
	if !o.Try {
		if err := s.relabel(ctx, takers, o); err != nil {
			return nil, err
		}
	}
	return &out, nil
}

// relabelled are the labels that a host has after an order.
func relabelled(labels map[string]string, o *api.LabelOrder) map[string]string {
	out := make(map[string]string, len(labels)+len(o.Set))
	maps.Copy(out, labels)
	for _, k := range o.Unset {
		delete(out, k)
	}
	maps.Copy(out, o.Set)
	return out
}

// foretell works out what the newest revision says of hosts by their new labels.
func (s *Register) foretell(ctx context.Context, rs *resolve.Resolver, takers []*fleet.Host, o *api.LabelOrder, out *api.Labelled) error {
	if rs == nil {
		return nil
	}
	moves := map[string]*api.GroupMove{}
	move := func(group string) *api.GroupMove {
		if moves[group] == nil {
			moves[group] = &api.GroupMove{Group: group}
		}
		return moves[group]
	}
	for _, h := range takers {
		v := h.Row()
		if v.Traits == "" {
			out.Unknown++
			continue
		}
		was, err := s.Compute.HostOf(ctx, v)
		if err != nil {
			return err
		}
		will := was
		will.Labels = relabelled(v.Labels, o)
		if will.Class, err = compute.ClassOf(v.Traits, will.Labels); err != nil {
			return err
		}
		if s.Compute.ResolveHost(rs, was).Digest() != s.Compute.ResolveHost(rs, will).Digest() {
			out.Changing++
		}
		before, after := s.Compute.GroupsOf(rs, was), s.Compute.GroupsOf(rs, will)
		for _, g := range after {
			if !slices.Contains(before, g) {
				move(g).Come++
			}
		}
		for _, g := range before {
			if !slices.Contains(after, g) {
				move(g).Leave++
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(moves)) {
		out.Moves = append(out.Moves, *moves[name])
	}
	return nil
}

// relabelTogether is how many hosts are labelled at the same time: they share commits.
const relabelTogether = 32

// relabel gives each host its labels, each as a change of its own.
func (s *Register) relabel(ctx context.Context, takers []*fleet.Host, o *api.LabelOrder) error {
	var done atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(relabelTogether)
	for _, h := range takers {
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			_, err := s.Change(ctx, h, "label-host", func(v *fleet.View) error { v.Labels = relabelled(v.Labels, o); return nil }, nil)
			if err == nil {
				done.Add(1)
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		s.Log.Error("hosts were not all labelled", "labelled", done.Load(), "meant", len(takers), "err", err)
		return refusal.Of(refusal.Broken, fmt.Sprintf(
			"%d of %d hosts were labelled, then the service could not go on; its log says why. Do it again: those that were are left as they are",
			done.Load(), len(takers),
		))
	}
	return nil
}

// checkLabels refuses labels that conditions could not name.
func checkLabels(labels map[string]string) error {
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		if !labelForm(k) || len(labels[k]) > 200 {
			return refusal.Wrong(
				fmt.Sprintf("the label %q cannot be taken; a label's name is letters, digits and _, at most 63, its value at most 200",
					refusal.Short(k)),
			)
		}
	}
	return nil
}

// labelForm reports whether k can be written as label.k in an expression.
func labelForm(k string) bool {
	if k == "" || len(k) > 63 || k[0] >= '0' && k[0] <= '9' {
		return false
	}
	return strings.IndexFunc(k, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_')
	}) < 0
}
