package rollouts

import (
	"context"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
)

// Limits of healing by itself.
const (
	healPause   = 10 * time.Second // between looks for hosts to heal
	leastBudget = 10               // hosts an hour, however small the fleet
	healShare   = 50               // of a fleet of so many hosts one an hour
	mostIll     = 3                // hosts that could not be healed within an hour, at which it stops
)

// WatchHealing heals by itself what the policy wants healed.
func (s *Rollouts) WatchHealing(ctx context.Context) {
	ground.Every(ctx, min(healPause, max(s.Opts.Interval, 100*time.Millisecond)), func() {
		if err := s.healByItself(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("healing by itself", "error", err)
		}
	})
}

func (s *Rollouts) healByItself(ctx context.Context) error {
	now := s.Now()
	lately := s.Healed.Lately(now)
	all := s.Fleet.All()
	budget := max(leastBudget, len(all)/healShare) - len(lately)
	ill := 0
	for _, name := range lately {
		if h, err := s.Fleet.Find(name); err == nil && h.Row().Failure != "" {
			ill++
		}
	}
	if ill >= mostIll || budget <= 0 {
		return nil
	}
	freezes := s.Standing()
	for _, h := range all {
		if budget <= 0 {
			return nil
		}
		v := h.Row()
		if v.Rules == nil || v.Task != 0 || !wellEnough(h, now) {
			continue
		}
		keys, classes := s.toHeal(v, now)
		if len(keys) == 0 || s.frozen(ctx, v, freezes) != nil {
			continue
		}
		if err := s.selfHeal(ctx, h, keys, classes, now); err != nil {
			return err
		}
		budget--
	}
	return nil
}

// wellEnough reports whether what is known of a host is as it stands, and its last change went well.
func wellEnough(h *fleet.Host, now time.Time) bool {
	return !slices.Contains([]string{api.StateSilent, api.StateFailed}, h.State(now)) && h.CarriedLater() == 0
}

// toHeal are the findings of a host that the policy wants healed and that did not come back
// too often: their keys and classes.
func (s *Rollouts) toHeal(v *fleet.View, now time.Time) (keys, classes []string) {
	for i, f := range v.Findings {
		if i >= len(v.Keys) || !v.Rules[f.Class].Heal || f.ClosedBy() != "" { // healing would not close it, however often
			continue
		}
		if n, _ := s.Healed.Times(v.Name, v.Keys[i], now); n >= compute.MostHealed {
			continue
		}
		keys = append(keys, v.Keys[i])
		if !slices.Contains(classes, f.Class) {
			classes = append(classes, f.Class)
		}
	}
	return keys, classes
}

func (s *Rollouts) selfHeal(ctx context.Context, h *fleet.Host, keys, classes []string, now time.Time) error {
	ro, err := s.beginHeal(ctx, h, false)
	if err != nil {
		s.Log.Debug("a host is not healed by itself now", "host", h.Row().Name, "why", err)
		return nil // somebody else was quicker
	}
	x := compute.Healed{At: now, Keys: keys}
	name := h.Row().Name
	s.Healed.Add(name, x)
	e := journal.Detailed(s.Entry(journal.Actor{Kind: journal.ActorService}, journal.CommandSelfHeal, journal.KindHost, name), x)
	e.Why = "the policy heals " + strings.Join(classes, ", ")
	s.Note(ctx, e)
	s.Log.Info("healed by itself", "host", name, "rollout", ro.ID, "classes", classes)
	return nil
}
