package compute

import (
	"slices"
	"sync"
	"time"

	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/store"
)

// Waivers are the findings that somebody accepts until a date.
type Waivers struct {
	mu    sync.RWMutex
	list  []store.Waiver
	byKey map[string][]int // finding → places in list
}

// NewWaivers are those of a list.
func NewWaivers(list []store.Waiver) *Waivers {
	w := &Waivers{}
	w.set(list)
	return w
}

func (w *Waivers) set(list []store.Waiver) {
	w.list, w.byKey = list, map[string][]int{}
	for i := range list {
		k := list[i].Finding.Key()
		w.byKey[k] = append(w.byKey[k], i)
	}
}

// Of returns the waiver of a finding on a host that ends last; nil where none is in force.
func (w *Waivers) Of(host, key string, now time.Time) (out *store.Waiver) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	for _, i := range w.byKey[key] {
		if x := w.list[i]; (x.Host == "" || x.Host == host) && now.Before(x.Ends) && (out == nil || x.Ends.After(out.Ends)) {
			out = &x
		}
	}
	return out
}

// All are all that there are, those that have ended too.
func (w *Waivers) All() []store.Waiver {
	w.mu.RLock()
	defer w.mu.RUnlock()
	return slices.Clone(w.list)
}

// Add adds one that the store has taken.
func (w *Waivers) Add(x store.Waiver) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.set(append(slices.Clip(w.list), x))
}

// Remove takes one away.
func (w *Waivers) Remove(id int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.set(slices.DeleteFunc(slices.Clone(w.list), func(x store.Waiver) bool { return x.ID == id }))
}

// none reports whether nobody waives anything.
func (w *Waivers) none() bool {
	w.mu.RLock()
	defer w.mu.RUnlock()
	return len(w.list) == 0
}

// waive parts a host's findings, whose keys are given, into open ones and waived ones.
func (c *Computer) waive(v *fleet.View, keys []string, now time.Time) {
	v.Aside, v.Keys = nil, keys
	if c.Waivers == nil || len(keys) == 0 || c.Waivers.none() {
		return
	}
	out := &fleet.Aside{All: v.Findings}
	for i, k := range keys {
		w := c.Waivers.Of(v.Name, k, now)
		if w == nil {
			out.Open = append(out.Open, int32(i))
			continue
		}
		out.Waived = append(out.Waived, int32(i))
		if out.Ends.IsZero() || w.Ends.Before(out.Ends) {
			out.Ends = w.Ends
		}
	}
	if len(out.Waived) == 0 {
		return
	}
	v.Aside, v.Findings, v.Keys = out, nil, nil
	for _, i := range out.Open {
		v.Findings, v.Keys = append(v.Findings, out.All[i]), append(v.Keys, keys[i])
	}
}
