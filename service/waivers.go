package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// waivers are the findings that somebody accepts until a date.
type waivers struct {
	mu    sync.RWMutex
	list  []store.Waiver
	byKey map[string][]int // finding → places in list
}

func newWaivers(list []store.Waiver) *waivers {
	w := &waivers{}
	w.set(list)
	return w
}

func (w *waivers) set(list []store.Waiver) {
	w.list, w.byKey = list, map[string][]int{}
	for i := range list {
		k := list[i].Finding.Key()
		w.byKey[k] = append(w.byKey[k], i)
	}
}

// of returns the waiver of a finding on a host that ends last; nil where none is in force.
func (w *waivers) of(host, key string, now time.Time) (out *store.Waiver) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	for _, i := range w.byKey[key] {
		if x := w.list[i]; (x.Host == "" || x.Host == host) && now.Before(x.Ends) && (out == nil || x.Ends.After(out.Ends)) {
			out = &x
		}
	}
	return out
}

func (w *waivers) all() []store.Waiver {
	w.mu.RLock()
	defer w.mu.RUnlock()
	return slices.Clone(w.list)
}

func (w *waivers) add(x store.Waiver) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.set(append(slices.Clip(w.list), x))
}

func (w *waivers) remove(id int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.set(slices.DeleteFunc(slices.Clone(w.list), func(x store.Waiver) bool { return x.ID == id }))
}

// none reports whether nobody waives anything.
func (w *waivers) none() bool {
	w.mu.RLock()
	defer w.mu.RUnlock()
	return len(w.list) == 0
}

// waive parts a host's findings, whose keys are given, into open ones and waived ones.
func (c *computer) waive(v *hostView, keys []string, now time.Time) {
	v.aside, v.keys = nil, keys
	if c.waivers == nil || len(keys) == 0 || c.waivers.none() {
		return
	}
	out := &setAside{all: v.findings}
	for i, k := range keys {
		w := c.waivers.of(v.Name, k, now)
		if w == nil {
			out.open = append(out.open, int32(i))
			continue
		}
		out.waived = append(out.waived, int32(i))
		if out.ends.IsZero() || w.Ends.Before(out.ends) {
			out.ends = w.Ends
		}
	}
	if len(out.waived) == 0 {
		return
	}
	v.aside, v.findings, v.keys = out, nil, nil
	for _, i := range out.open {
		v.findings, v.keys = append(v.findings, out.all[i]), append(v.keys, keys[i])
	}
}

// lookAtWaivers works out anew how hosts stand whose waivers have ended since.
func (s *Service) lookAtWaivers(ctx context.Context) {
	now := s.now()
	for _, h := range s.fleet.all() {
		if v := h.row(); v.aside != nil && !now.Before(v.aside.ends) {
			if _, err := s.again(ctx, h, journal.CommandWaiverEnds); err != nil && ctx.Err() == nil {
				s.log.Error("working out how a host stands", "host", v.Name, "error", err)
			}
		}
	}
}

// reconsider works out anew how the hosts stand that have a finding.
func (s *Service) reconsider(ctx context.Context, w *store.Waiver, command string) (n int, err error) {
	key := w.Finding.Key()
	for _, h := range s.fleet.all() {
		v := h.row()
		if w.Host != "" && w.Host != v.Name || !v.has(key) {
			continue
		}
		n++
		if _, err := s.again(ctx, h, command); err != nil {
			return n, err
		}
	}
	return n, nil
}

// has reports whether a host has a finding, waived or not.
func (v *hostView) has(key string) bool {
	if v.aside == nil {
		return slices.Contains(v.keys, key)
	}
	return slices.ContainsFunc(v.aside.all, func(f drift.Finding) bool { return f.Key() == key })
}

// longestWaiver is how far ahead a waiver may end.
const longestWaiver = 366 * 24 * time.Hour

// WaiveIn is a waiver as it is sent.
type WaiveIn struct{ Body api.WaiverOrder }

// AddWaiver accepts a finding until a date.
func (s *Service) AddWaiver(ctx context.Context, in *WaiveIn) (*api.Waiver, error) {
	o, now := in.Body, s.now().UTC()
	w := store.Waiver{
		Finding: drift.Finding(o.Finding),
		Because: strings.TrimSpace(o.Because),
		Author:  identity.Operator(ctx).Name,
		Made:    now,
		Ends:    o.Ends.UTC(),
	}
	switch {
	case len(w.Because) < 3:
		return nil, refusal.Wrong("because: say in a few words why the finding may stay")
	case !w.Ends.After(now):
		return nil, refusal.Wrong("ends: a waiver ends at a moment to come")
	case w.Ends.Sub(now) > longestWaiver:
		return nil, refusal.Wrong("ends: a waiver ends within a year; waive it again then, or change the policy")
	}
	if o.Host != "" {
		h, err := s.findHost(o.Host)
		if err != nil {
			return nil, err
		}
		w.Host = h.row().Name
	}
	key, known := w.Finding.Key(), false
	for _, h := range s.fleet.all() {
		if v := h.row(); (w.Host == "" || w.Host == v.Name) && v.has(key) {
			known = true
			for _, f := range v.everything() { // as it is worked out, whatever was sent
				if f.Key() == key {
					w.Finding = f
				}
			}
			break
		}
	}
	if !known {
		return nil, refusal.Conflict("no host has that finding (any more); look again")
	}
	e := s.entry(journal.By(ctx), "add-waiver", journal.KindWaiver, w.Finding.Class+" "+w.Finding.File)
	e.Why = w.Because
	if err := s.store.AddWaiver(ctx, &w, store.Noted(e)); err != nil {
		return nil, err
	}
	s.compute.waivers.add(w)
	if _, err := s.reconsider(ctx, &w, "add-waiver"); err != nil {
		return nil, err
	}
	return new(s.waiver(&w, nil)), nil
}

// WaiverPath names a waiver.
type WaiverPath struct {
	ID int64 `path:"id"`
}

// EndWaiver takes a waiver away.
func (s *Service) EndWaiver(ctx context.Context, in *WaiverPath) error {
	list := s.compute.waivers.all()
	i := slices.IndexFunc(list, func(w store.Waiver) bool { return w.ID == in.ID })
	if i < 0 {
		return refusal.NotFound(fmt.Sprintf("there is no waiver %d", in.ID))
	}
	e := s.entry(journal.By(ctx), "end-waiver", journal.KindWaiver, strconv.FormatInt(in.ID, 10))
	if err := s.store.EndWaiver(ctx, in.ID, store.Noted(e)); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	s.compute.waivers.remove(in.ID)
	if _, err := s.reconsider(ctx, &list[i], "end-waiver"); err != nil {
		return err
	}
	return nil
}

// WaiverQuery says which waivers are asked for.
type WaiverQuery struct {
	Paging
	Over bool `query:"over" doc:"Those that have ended, too"`
}

// ListWaivers lists the findings that somebody accepts until a date.
func (s *Service) ListWaivers(ctx context.Context, in *WaiverQuery) (*api.WaiverPage, error) {
	operators, err := s.store.Operators(ctx)
	if err != nil {
		return nil, err
	}
	here := map[string]bool{}
	for _, o := range operators {
		here[o.Name] = true
	}
	now := s.now()
	list := slices.DeleteFunc(s.compute.waivers.all(), func(w store.Waiver) bool { return !in.Over && !now.Before(w.Ends) })
	slices.SortFunc(list, func(a, b store.Waiver) int { return cmp.Or(a.Ends.Compare(b.Ends), cmp.Compare(a.ID, b.ID)) })
	out := api.WaiverPage{Waivers: []api.Waiver{}, Total: len(list)}
	from, to := in.cut(len(list))
	out.Next = in.next(len(list))
	for i := range list[from:to] {
		out.Waivers = append(out.Waivers, s.waiver(&list[from+i], here))
	}
	return &out, nil
}

// waiver describes a waiver; here are the operators that there are, or nil.
func (s *Service) waiver(w *store.Waiver, here map[string]bool) api.Waiver {
	out := api.Waiver{ID: w.ID, Host: w.Host, Finding: api.Difference(w.Finding), Because: w.Because, By: w.Author, Made: w.Made, Ends: w.Ends,
		Over: !s.now().Before(w.Ends), Gone: here != nil && !here[w.Author]}
	key := w.Finding.Key()
	for _, h := range s.fleet.all() {
		if v := h.row(); (w.Host == "" || w.Host == v.Name) && v.has(key) {
			out.Hosts++
		}
	}
	return out
}

// waivedOn lists the findings of a host that somebody accepts.
func (s *Service) waivedOn(v *hostView) []api.WaivedFinding {
	out := []api.WaivedFinding{}
	if v.aside == nil {
		return out
	}
	for _, i := range v.aside.waived {
		f := v.aside.all[i]
		if w := s.compute.waivers.of(v.Name, f.Key(), s.now()); w != nil {
			since, _ := v.Since.Of(f.Key())
			out = append(out, api.WaivedFinding{Finding: api.Finding{Host: v.Name, Finding: f, Since: since},
				Waiver: w.ID, Because: w.Because, By: w.Author, Ends: w.Ends})
		}
	}
	return out
}
