package compute

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/service/fleet"
)

// Limits of what is remembered of healing by itself.
const (
	HealMemory = 7 * 24 * time.Hour // how long it is remembered what was healed
	MostHealed = 2                  // times that one finding is healed within that
)

// Healings remembers what was healed by itself.
type Healings struct {
	sync.RWMutex
	byHost map[string][]Healed
}

// Healed is one healing of a host that nobody asked for.
type Healed struct {
	At   time.Time `json:"-"`
	Keys []string  `json:"keys"` // of the findings
}

// Add notes a healing of a host.
func (l *Healings) Add(host string, x Healed) {
	l.Lock()
	defer l.Unlock()
	if l.byHost == nil {
		l.byHost = map[string][]Healed{}
	}
	l.byHost[host] = append(l.byHost[host], x)
}

// Times is how often a finding of a host was healed by itself lately, and when last.
func (l *Healings) Times(host, key string, now time.Time) (n int, last time.Time) {
	l.RLock()
	defer l.RUnlock()
	for _, x := range l.byHost[host] {
		if now.Sub(x.At) < HealMemory && slices.Contains(x.Keys, key) {
			n, last = n+1, x.At
		}
	}
	return n, last
}

// Lately names the hosts that were healed by themselves within an hour.
func (l *Healings) Lately(now time.Time) (hosts []string) {
	l.Lock()
	defer l.Unlock()
	for host, list := range l.byHost {
		list = slices.DeleteFunc(list, func(x Healed) bool { return now.Sub(x.At) >= HealMemory })
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

// weigh gives findings the weight that the policy says, and says of those that came back after
// healing that something fights it.
func (c *Computer) weigh(v *fleet.View, keys []string, now time.Time) {
	if len(v.Rules) == 0 || len(v.Findings) == 0 {
		return
	}
	list := slices.Clone(v.Findings)
	for i := range list {
		f := &list[i]
		rule, said := v.Rules[f.Class]
		if !said {
			continue
		}
		if rule.Severity != "" {
			f.Severity = rule.Severity
		}
		if c.Healed == nil || !rule.Heal || i >= len(keys) {
			continue
		}
		if n, last := c.Healed.Times(v.Name, keys[i], now); n >= MostHealed {
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
	v.Findings = list
}
