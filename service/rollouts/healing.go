package rollouts

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// HealManyIn says which hosts are healed.
type HealManyIn struct {
	Body api.HealManyOrder
}

// HealMany puts right what has drifted on hosts, by the same waves and gates as a rollout.
func (s *Rollouts) HealMany(ctx context.Context, in *HealManyIn) (*api.Rollout, error) {
	for _, c := range in.Body.Class {
		if !slices.Contains(drift.Classes, c) {
			return nil, refusal.Wrong(fmt.Sprintf("class: there is no class %q of findings", refusal.Short(c)))
		}
	}
	if err := s.alone(); err != nil {
		return nil, err
	}
	defer s.beginning.Unlock()
	p, err := s.healable(ctx, &in.Body)
	if err != nil {
		return nil, err
	}
	untouched, err := s.untouched(ctx, p.Takers)
	if err != nil {
		return nil, err
	}
	if in.Body.Try {
		out := s.Tried(p)
		out.Untouched = untouched
		return &out, nil
	}
	ro, err := s.beginHealing(ctx, "heal-hosts", p)
	if err != nil {
		return nil, err
	}
	out, err := s.steered(ctx, ro.ID)
	if err == nil {
		out.Others, out.Untouched = p.others, untouched
	}
	return out, err
}

// untouched counts the hosts on which healing would change no file.
func (s *Rollouts) untouched(ctx context.Context, takers []*fleet.Host) (n int, err error) {
	nothing := map[compute.Pair]bool{}
	for _, h := range takers {
		p := compute.Healing(h.Row())
		none, known := nothing[p]
		if !known {
			o, err := s.Compute.Change(ctx, p)
			if err != nil {
				return 0, err
			}
			none = !o.Change.Any()
			nothing[p] = none
		}
		if none {
			n++
		}
	}
	return n, nil
}

func (s *Rollouts) beginHealing(ctx context.Context, command string, p *Startable) (store.Rollout, error) {
	locked := fleet.Lock(slices.Concat(p.Takers, p.unseen))
	defer locked.Unlock()
	gone := map[string]bool{}
	for _, h := range locked {
		gone[h.Row().Name] = h.IsRetired()
	}
	p.placed = slices.DeleteFunc(p.placed, func(x store.Placed) bool { return gone[x.Host] })
	return s.begin(ctx, command, p.Rollout, p.placed, func(int64) {})
}

// healable finds the hosts that an order to heal is for, and their waves.
func (s *Rollouts) healable(ctx context.Context, in *api.HealManyOrder) (*Startable, error) {
	r, err := s.Pick(ctx, 0)
	if err != nil {
		return nil, err
	}
	rs, err := s.Compute.Revision(ctx, r.Number)
	if err != nil {
		return nil, err
	}
	targets, err := s.pickHosts(ctx, rs, s.changeable(), ground.Selecting{To: in.To, Where: in.Where})
	if err != nil {
		return nil, err
	}
	p := &Startable{revision: r, Rollout: store.Rollout{Kind: store.KindHeal, Revision: r.Number, Because: strings.TrimSpace(in.Because)}}
	otherwise := "" // what closes a finding that healing does not
	for _, h := range targets {
		v := h.Row()
		if v.Revision == 0 {
			continue
		}
		if heals, how := hasFinding(v, in); !heals {
			otherwise = cmp.Or(otherwise, how)
			continue
		}
		if v.Task != 0 {
			p.others++
			continue
		}
		p.Takers = append(p.Takers, h)
	}
	if len(p.Takers) == 0 {
		why := "no host that was asked for has such a finding"
		switch {
		case p.others > 0:
			why = fmt.Sprintf("every host that has such a finding is being changed (%d)", p.others)
		case otherwise != "":
			why = "healing does not close what was asked for: " + otherwise
		}
		return nil, refusal.Conflict(why)
	}
	return p, s.layHealing(ctx, p, rs)
}

func (s *Rollouts) layHealing(ctx context.Context, p *Startable, rs *resolve.Resolver) error {
	results := make(map[*fleet.Host]*resolve.Result, len(p.Takers))
	all, why := p.Takers, ""
	p.Takers = nil
	for _, h := range all {
		res, err := s.Compute.Resolve(ctx, rs, h.Row())
		if err != nil {
			return err
		}
		results[h] = res
		if res.Untold() {
			p.unseen, why = append(p.unseen, h), res.Why()
		} else {
			p.Takers = append(p.Takers, h)
		}
	}
	if len(p.Takers) == 0 {
		return refusal.Conflict("nothing can be carried to any of the hosts: " + why)
	}
	return s.LayOut(ctx, p, rs, results, false)
}

// hasFinding reports whether a host has a finding that nobody waived and that healing may close, of those that an order is
// about; one that is more than a note where it names none. Where it has none but others, how is what closes one of these.
func hasFinding(v *fleet.View, in *api.HealManyOrder) (heals bool, how string) {
	key := ""
	if in.Finding != nil {
		key = drift.Finding(*in.Finding).Key()
	}
	for i := range v.Findings {
		f := &v.Findings[i]
		asked := slices.Contains(in.Class, f.Class) || len(in.Class) == 0 && (key != "" || f.Severity != drift.Note)
		asked = asked && (key == "" || f.Key() == key)
		switch by := f.ClosedBy(); {
		case !asked:
		case by == "":
			return true, ""
		default:
			how = cmp.Or(how, by)
		}
	}
	return false, how
}
