// Package fleet holds every host of a service in memory: its row, what follows from it, and what is
// known of it that is not stored. Rows are read without a lock, and replaced after the store has taken the new one.
package fleet

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/store"
)

// Fleet holds every host in memory. A row is never changed: it is replaced after
// the store has taken the new one.
type Fleet struct {
	mu     sync.RWMutex
	byName map[string]*Host
	sorted []*Host
	limits limits
}

// New takes hosts in by their rows, which come by name. What follows from a row is filled in
// by all processors, and hosts with equal surveys follow each other.
func New(rows []*store.Host, interval, patience time.Duration, fill func(*View) error) (*Fleet, error) {
	f := &Fleet{
		byName: make(map[string]*Host, len(rows)),
		limits: limits{interval: interval, patience: patience},
		sorted: make([]*Host, len(rows)),
	}
	order := bySurvey(rows)
	// Those that stand side by side in lists stand so in memory, some at a time: one that is
	// replaced later lets the others of its block go when they are replaced too.
	hosts, views := make([][]Host, (len(rows)+block-1)/block), make([][]View, (len(rows)+block-1)/block)
	for i := range hosts {
		hosts[i], views[i] = make([]Host, block), make([]View, block)
	}
	if err := ByBlocks(order, func(i int) error {
		h, v := &hosts[i/block][i%block], &views[i/block][i%block]
		v.Host = *rows[i]
		if err := fill(v); err != nil {
			return err
		}
		h.limits = &f.limits
		h.Put(v)
		rows[i] = nil
		f.sorted[i] = h
		return nil
	}); err != nil {
		return nil, err
	}
	for _, h := range f.sorted {
		f.byName[h.Row().Name] = h
	}
	return f, nil
}

// Locks are the hosts that one command holds, by name, so that two commands cannot hold
// each other up.
type Locks []*Host

// Lock holds hosts, by name, until Unlock.
func Lock(hosts []*Host) Locks {
	out := slices.Clone(hosts)
	slices.SortFunc(out, func(a, b *Host) int { return strings.Compare(a.Row().Name, b.Row().Name) })
	for _, h := range out {
		h.Lock()
	}
	return out
}

// Unlock lets the hosts go.
func (l Locks) Unlock() {
	for _, h := range l {
		h.Unlock()
	}
}

// Replace puts rows in place.
func (f *Fleet) Replace(rows []*View) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, v := range rows {
		if h := f.byName[v.Name]; h != nil {
			v.Key = h.Row().Key
			h.Put(v)
		}
	}
}

// Enter takes a host in that has joined. One that was there already has another key now.
func (f *Fleet) Enter(row *store.Host) {
	f.mu.Lock()
	defer f.mu.Unlock()
	v := &View{Host: *row}
	h := f.byName[v.Name]
	if h != nil {
		again := *h.Row()
		again.Key = row.Key
		v = &again
	} else {
		h = &Host{limits: &f.limits}
		i, _ := slices.BinarySearchFunc(f.sorted, v.Name, func(x *Host, name string) int { return strings.Compare(x.Row().Name, name) })
		f.byName[v.Name] = h
		f.sorted = slices.Insert(slices.Clip(f.sorted), i, h) // readers keep the old slice
	}
	h.Put(v)
}

// Remove takes out a host that was retired.
func (f *Fleet) Remove(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if h := f.byName[name]; h != nil {
		h.retired.Store(true)
	}
	delete(f.byName, name)
	f.sorted = slices.DeleteFunc(slices.Clone(f.sorted), func(h *Host) bool { return h.Row().Name == name })
}

// All returns the hosts by name. The slice must not be changed.
func (f *Fleet) All() []*Host {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.sorted
}

// Named returns the host of that full name; nil where there is none.
func (f *Fleet) Named(name string) *Host {
	f.mu.RLock()
	defer f.mu.RUnlock()
	return f.byName[name]
}

var ErrAmbiguous = errors.New("the name fits several hosts")

// Find returns the host of that full name, or the only one of that short name.
func (f *Fleet) Find(name string) (*Host, error) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	if h, ok := f.byName[name]; ok {
		return h, nil
	}
	var found *Host
	if name != "" && !strings.Contains(name, ".") {
		i, _ := slices.BinarySearchFunc(f.sorted, name+".", func(x *Host, n string) int { return strings.Compare(x.Row().Name, n) })
		for ; i < len(f.sorted) && strings.HasPrefix(f.sorted[i].Row().Name, name+"."); i++ {
			if found != nil {
				return nil, fmt.Errorf("%q: %w: %s and %s; write it in full", name, ErrAmbiguous, found.Row().Name, f.sorted[i].Row().Name)
			}
			found = f.sorted[i]
		}
	}
	if found == nil {
		return nil, fmt.Errorf("there is no host %q: %w", name, store.ErrNotFound)
	}
	return found, nil
}

// Names are the names by which hosts can be called.
func Names(hosts []*Host, short bool) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, h := range hosts {
			n := h.Row().Name
			if short {
				n, _, _ = strings.Cut(n, ".")
			}
			if !yield(n) {
				return
			}
		}
	}
}

// TakeSeen returns the times that are not stored yet.
func (f *Fleet) TakeSeen() map[int64]time.Time {
	out := map[int64]time.Time{}
	for _, h := range f.All() {
		if h.dirty.Swap(false) {
			out[h.Row().ID] = time.UnixMilli(h.lastSeen.Load())
		}
	}
	return out
}

// Past counts the hosts of which nothing newer is known than what they said before they fell silent.
func (f *Fleet) Past(now time.Time) int {
	n, _ := PastOf(f.All(), now, 0)
	return n
}

// PastOf counts those among some hosts, and names so many of them.
func PastOf(hosts []*Host, now time.Time, most int) (n int, names []string) {
	for _, h := range hosts {
		if !h.Past(now) {
			continue
		}
		if n++; len(names) < most {
			names = append(names, h.Row().Name)
		}
	}
	return n, names
}

// Held counts the hosts by the revision that was last carried to them.
func (f *Fleet) Held() map[int64]int {
	out := map[int64]int{}
	for _, h := range f.All() {
		out[h.Row().Revision]++
	}
	return out
}

// Untask takes a task off hosts.
func (f *Fleet) Untask(names []string, id int64) {
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, n := range names {
		h := f.byName[n]
		if h == nil || h.Row().Task != id {
			continue
		}
		v := *h.Row()
		v.Task, v.Stage = 0, ""
		h.Put(&v)
	}
}

// SetHeld notes whether a rollout is held. One at a time calls it.
func (f *Fleet) SetHeld(id int64, held bool) {
	next := map[int64]bool{}
	if now := f.limits.held.Load(); now != nil {
		maps.Copy(next, *now)
	}
	if held {
		next[id] = true
	} else {
		delete(next, id)
	}
	f.limits.held.Store(&next)
}

// HoldsBack reports whether a host that stands so is not at work on its task and must not be: the rollout is held.
func (f *Fleet) HoldsBack(v *View) bool { return f.limits.holdBack(v) }
