package service

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// commandSelfHeal is healing that the policy wants and nobody asked for.
const commandSelfHeal = "heal-by-itself"

// Limits of healing by itself.
const (
	healPause   = 10 * time.Second // between looks for hosts to heal
	leastBudget = 10               // hosts an hour, however small the fleet
	healShare   = 50               // of a fleet of so many hosts one an hour
	mostIll     = 3                // hosts that could not be healed within an hour, at which it stops
)

// loadHealings reads what was healed by itself before.
func (s *Service) loadHealings(ctx context.Context) error {
	list, err := s.store.Journal(ctx, store.JournalQuery{Kind: journal.KindHost, Command: commandSelfHeal, Limit: 100_000})
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(list) {
		x := compute.Healed{At: e.At}
		if s.now().Sub(e.At) < compute.HealMemory && json.Unmarshal(e.Detail, &x) == nil {
			s.healed.Add(e.Name, x)
		}
	}
	return nil
}

// watchHealing heals by itself what the policy wants healed.
func (s *Service) watchHealing(ctx context.Context) {
	every(ctx, min(healPause, max(s.opts.Interval, 100*time.Millisecond)), func() {
		if err := s.healByItself(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("healing by itself", "error", err)
		}
	})
}

func (s *Service) healByItself(ctx context.Context) error {
	now := s.now()
	lately := s.healed.Lately(now)
	all := s.fleet.All()
	budget := max(leastBudget, len(all)/healShare) - len(lately)
	ill := 0
	for _, name := range lately {
		if h, err := s.fleet.Find(name); err == nil && h.Row().Failure != "" {
			ill++
		}
	}
	if ill >= mostIll || budget <= 0 {
		return nil
	}
	freezes := s.standing()
	for _, h := range all {
		if budget <= 0 {
			return nil
		}
		v := h.Row()
		if v.Rules == nil || v.Task != 0 || v.Failure != "" || v.Broken != "" || h.State(now) == api.StateSilent {
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

// toHeal are the findings of a host that the policy wants healed and that did not come back
// too often: their keys and classes.
func (s *Service) toHeal(v *fleet.View, now time.Time) (keys, classes []string) {
	for i, f := range v.Findings {
		if i >= len(v.Keys) || !v.Rules[f.Class].Heal {
			continue
		}
		if n, _ := s.healed.Times(v.Name, v.Keys[i], now); n >= compute.MostHealed {
			continue
		}
		keys = append(keys, v.Keys[i])
		if !slices.Contains(classes, f.Class) {
			classes = append(classes, f.Class)
		}
	}
	return keys, classes
}

func (s *Service) selfHeal(ctx context.Context, h *fleet.Host, keys, classes []string, now time.Time) error {
	ro, err := s.beginHeal(ctx, h, false)
	if err != nil {
		s.log.Debug("a host is not healed by itself now", "host", h.Row().Name, "why", err)
		return nil // somebody else was quicker
	}
	x := compute.Healed{At: now, Keys: keys}
	name := h.Row().Name
	s.healed.Add(name, x)
	e := journal.Detailed(s.entry(journal.Actor{Kind: journal.ActorService}, commandSelfHeal, journal.KindHost, name), x)
	e.Why = "the policy heals " + strings.Join(classes, ", ")
	s.note(ctx, e)
	s.log.Info("healed by itself", "host", name, "rollout", ro.ID, "classes", classes)
	return nil
}
