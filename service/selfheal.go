package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// commandSelfHeal is healing that the policy wants and nobody asked for.
const commandSelfHeal = "heal-by-itself"

// Limits of healing by itself.
const (
	healPause   = 10 * time.Second   // between looks for hosts to heal
	healMemory  = 7 * 24 * time.Hour // how long it is remembered what was healed
	mostHealed  = 2                  // times that one finding is healed within that
	leastBudget = 10                 // hosts an hour, however small the fleet
	healShare   = 50                 // of a fleet of so many hosts one an hour
	mostIll     = 3                  // hosts that could not be healed within an hour, at which it stops
)

// healings remembers what was healed by itself.
type healings struct {
	sync.RWMutex
	byHost map[string][]healedOnce
}

type healedOnce struct {
	At   time.Time `json:"-"`
	Keys []string  `json:"keys"` // of the findings
}

func (l *healings) add(host string, x healedOnce) {
	l.Lock()
	defer l.Unlock()
	if l.byHost == nil {
		l.byHost = map[string][]healedOnce{}
	}
	l.byHost[host] = append(l.byHost[host], x)
}

// times is how often a finding of a host was healed by itself lately, and when last.
func (l *healings) times(host, key string, now time.Time) (n int, last time.Time) {
	l.RLock()
	defer l.RUnlock()
	for _, x := range l.byHost[host] {
		if now.Sub(x.At) < healMemory && slices.Contains(x.Keys, key) {
			n, last = n+1, x.At
		}
	}
	return n, last
}

// lately names the hosts that were healed by themselves within an hour.
func (l *healings) lately(now time.Time) (hosts []string) {
	l.Lock()
	defer l.Unlock()
	for host, list := range l.byHost {
		list = slices.DeleteFunc(list, func(x healedOnce) bool { return now.Sub(x.At) >= healMemory })
		if l.byHost[host] = list; len(list) == 0 {
			delete(l.byHost, host)
			continue
		}
		if now.Sub(list[len(list)-1].At) < time.Hour {
			hosts = append(hosts, host)
		}
	}
	return hosts
}

// loadHealings reads what was healed by itself before.
func (s *Service) loadHealings(ctx context.Context) error {
	list, err := s.store.Journal(ctx, store.JournalQuery{Kind: journal.KindHost, Command: commandSelfHeal, Limit: 100_000})
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(list) {
		x := healedOnce{At: e.At}
		if s.now().Sub(e.At) < healMemory && json.Unmarshal(e.Detail, &x) == nil {
			s.healed.add(e.Name, x)
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
	lately := s.healed.lately(now)
	all := s.fleet.all()
	budget := max(leastBudget, len(all)/healShare) - len(lately)
	ill := 0
	for _, name := range lately {
		if h, err := s.fleet.find(name); err == nil && h.row().Failure != "" {
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
		v := h.row()
		if v.rules == nil || v.Task != 0 || v.Failure != "" || v.broken != "" || h.state(now) == api.StateSilent {
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
func (s *Service) toHeal(v *hostView, now time.Time) (keys, classes []string) {
	for i, f := range v.findings {
		if i >= len(v.keys) || !v.rules[f.Class].Heal {
			continue
		}
		if n, _ := s.healed.times(v.Name, v.keys[i], now); n >= mostHealed {
			continue
		}
		keys = append(keys, v.keys[i])
		if !slices.Contains(classes, f.Class) {
			classes = append(classes, f.Class)
		}
	}
	return keys, classes
}

func (s *Service) selfHeal(ctx context.Context, h *host, keys, classes []string, now time.Time) error {
	ro, err := s.beginHeal(ctx, h, false)
	if err != nil {
		s.log.Debug("a host is not healed by itself now", "host", h.row().Name, "why", err)
		return nil // somebody else was quicker
	}
	x := healedOnce{At: now, Keys: keys}
	name := h.row().Name
	s.healed.add(name, x)
	e := journal.Detailed(s.entry(journal.Actor{Kind: journal.ActorService}, commandSelfHeal, journal.KindHost, name), x)
	e.Why = "the policy heals " + strings.Join(classes, ", ")
	s.note(ctx, e)
	s.log.Info("healed by itself", "host", name, "rollout", ro.ID, "classes", classes)
	return nil
}

// weigh gives findings the weight that the policy says, and says of those that came back after
// healing that something fights it.
func (c *computer) weigh(v *hostView, keys []string, now time.Time) {
	if len(v.rules) == 0 || len(v.findings) == 0 {
		return
	}
	list := slices.Clone(v.findings)
	for i := range list {
		f := &list[i]
		rule, said := v.rules[f.Class]
		if !said {
			continue
		}
		if rule.Severity != "" {
			f.Severity = rule.Severity
		}
		if c.healed == nil || !rule.Heal || i >= len(keys) {
			continue
		}
		if n, last := c.healed.times(v.Name, keys[i], now); n >= mostHealed {
			f.Message += fmt.Sprintf(
				"; it was healed %d times, last on %s, and came back: something on the host writes it, so it is healed no more by itself",
				n,
				last.UTC().Format("2006-01-02 15:04 MST"),
			)
			if f.Package != "" {
				f.Message += " (the file belongs to the package " + f.Package + ")"
			}
		}
	}
	v.findings = list
}
