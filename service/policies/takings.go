package policies

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/choice"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/compute"
)

// taker is a host of which an expectation asks from where it would take packages.
type taker struct {
	at    resolve.Host
	res   *resolve.Result
	pair  compute.Pair
	names []string // packages
}

// take tells the judge from where hosts would take packages once a policy is carried: their files
// are read as it would leave them, and weighed against what places were seen to offer.
func (s *Policies) take(ctx context.Context, judge *resolve.Fleet, takers []taker) error {
	if len(takers) == 0 {
		return nil
	}
	after, err := s.afterwards(ctx, takers)
	if err != nil {
		return err
	}
	w := newWeigher(s)
	type asked struct {
		turn  turn
		names string
	}
	known := map[asked]map[string]resolve.Taking{}
	for i := range takers {
		x := &takers[i]
		k := asked{turnOf(x.pair), strings.Join(x.names, " ")}
		if known[k] == nil {
			known[k] = w.taken(ctx, x, after[k.turn])
		}
		judge.Took(x.at, x.res, known[k])
	}
	return ctx.Err()
}

// afterward is what decides on hosts once a policy is carried, or why that cannot be told.
type afterward struct {
	host *choice.Host
	why  string
}

// afterwards works out what decides on hosts once a policy is carried.
func (s *Policies) afterwards(ctx context.Context, takers []taker) (map[turn]*afterward, error) {
	out := map[turn]*afterward{}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i := range takers {
		x := &takers[i]
		k := turnOf(x.pair)
		if out[k] != nil {
			continue
		}
		at := &afterward{}
		out[k] = at
		group.Go(func() (err error) {
			*at, err = s.standsAfter(ctx, x)
			return err
		})
	}
	return out, group.Wait()
}

func (s *Policies) standsAfter(ctx context.Context, x *taker) (afterward, error) {
	if x.pair.Survey == "" {
		return afterward{why: "it has sent no survey"}, nil
	}
	o, err := s.Compute.Work(ctx, x.pair, x.res.Sheet)
	if err != nil {
		return afterward{}, err
	}
	if len(o.Change.Impossible) > 0 {
		return afterward{why: "it cannot be changed as the policy says: " + o.Change.Impossible[0]}, nil
	}
	host, err := s.Compute.Deciding(ctx, x.pair.Survey)
	if err != nil || !o.Change.Any() {
		return afterward{host: host}, err
	}
	shown := &shown{pair: x.pair, res: x.res, group: groupOf(x.res, o)}
	if err := s.turnOne(ctx, shown); err != nil {
		return afterward{}, err
	}
	t, there := s.turns.kept.Look(shown.turn())
	switch {
	case !there || t.unclear:
		return afterward{why: "its files alone do not tell what its package manager makes of them"}, nil
	case t.after != nil:
		host = t.after
	}
	return afterward{host: host}, nil
}

// taken says of each package from where a host would take it.
func (w *weigher) taken(ctx context.Context, x *taker, at *afterward) map[string]resolve.Taking {
	out := map[string]resolve.Taking{}
	unknown := at.why
	if unknown == "" {
		unknown = w.unseen(ctx, at.host)
	}
	for _, name := range x.names {
		if unknown != "" {
			out[name] = resolve.Taking{Unknown: unknown}
			continue
		}
		c, places := w.shared.Choose(at.host, name, "")
		t := resolve.Taking{Unknown: c.Untold}
		if c.Taken != nil && c.Untold == "" {
			t.Version = c.Taken.Version
			t.From = named(at.host, x.res.Sheet)(places[c.Taken.Use])
		}
		out[name] = t
	}
	return out
}

// unseen names the places of a host's own package manager of which it is not known what they
// offer; empty where all were seen.
func (w *weigher) unseen(ctx context.Context, h *choice.Host) string {
	if w.load(ctx, h) {
		return ""
	}
	var list []string
	for i := range h.Uses {
		if u := h.Uses[i]; u.Family == h.Survey.Traits.Family && w.shared.Lists[u.Key] == nil {
			list = append(list, strings.TrimSpace(u.Address()+" "+u.Suite))
		}
	}
	if len(list) == 0 {
		return ""
	}
	slices.Sort(list)
	if list = slices.Compact(list); len(list) > 1 {
		return fmt.Sprintf("what %s offers was not seen, nor what %d more of its places do", list[0], len(list)-1)
	}
	return "what " + list[0] + " offers was not seen"
}
