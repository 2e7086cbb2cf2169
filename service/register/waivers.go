package register

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// LookAtWaivers works out anew how hosts stand whose waivers have ended since.
func (s *Register) LookAtWaivers(ctx context.Context) {
	now := s.Now()
	for _, h := range s.Fleet.All() {
		if v := h.Row(); v.Aside != nil && !now.Before(v.Aside.Ends) {
			if _, err := s.Again(ctx, h, journal.CommandWaiverEnds); err != nil && ctx.Err() == nil {
				s.Log.Error("working out how a host stands", "host", v.Name, "error", err)
			}
		}
	}
}

// reconsider works out anew how the hosts stand that have a finding.
func (s *Register) reconsider(ctx context.Context, w *store.Waiver, command string) (n int, err error) {
	key := w.Finding.Key()
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if w.Host != "" && w.Host != v.Name || !v.Has(key) {
			continue
		}
		n++
		if _, err := s.Again(ctx, h, command); err != nil {
			return n, err
		}
	}
	return n, nil
}

// longestWaiver is how far ahead a waiver may end.
const longestWaiver = 366 * 24 * time.Hour

// WaiveIn is a waiver as it is sent.
type WaiveIn struct{ Body api.WaiverOrder }

// AddWaiver accepts a finding until a date.
func (s *Register) AddWaiver(ctx context.Context, in *WaiveIn) (*api.Waiver, error) {
	o, now := in.Body, s.Now().UTC()
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
		h, err := s.FindHost(o.Host)
		if err != nil {
			return nil, err
		}
		w.Host = h.Row().Name
	}
	key, known := w.Finding.Key(), false
	for _, h := range s.Fleet.All() {
		if v := h.Row(); (w.Host == "" || w.Host == v.Name) && v.Has(key) {
			known = true
			for _, f := range v.Everything() { // as it is worked out, whatever was sent
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
	e := s.Entry(journal.By(ctx), "add-waiver", journal.KindWaiver, w.Finding.Class+" "+w.Finding.File)
	e.Why = w.Because
	if err := s.Store.AddWaiver(ctx, &w, store.Noted(e)); err != nil {
		return nil, err
	}
	s.Compute.Waivers.Add(w)
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
func (s *Register) EndWaiver(ctx context.Context, in *WaiverPath) error {
	list := s.Compute.Waivers.All()
	i := slices.IndexFunc(list, func(w store.Waiver) bool { return w.ID == in.ID })
	if i < 0 {
		return refusal.NotFound(fmt.Sprintf("there is no waiver %d", in.ID))
	}
	e := s.Entry(journal.By(ctx), "end-waiver", journal.KindWaiver, strconv.FormatInt(in.ID, 10))
	if err := s.Store.EndWaiver(ctx, in.ID, store.Noted(e)); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	s.Compute.Waivers.Remove(in.ID)
	if _, err := s.reconsider(ctx, &list[i], "end-waiver"); err != nil {
		return err
	}
	return nil
}

// WaiverQuery says which waivers are asked for.
type WaiverQuery struct {
	ground.Paging
	Over bool `query:"over" doc:"Those that have ended, too"`
}

// ListWaivers lists the findings that somebody accepts until a date.
func (s *Register) ListWaivers(ctx context.Context, in *WaiverQuery) (*api.WaiverPage, error) {
	operators, err := s.Store.Operators(ctx)
	if err != nil {
		return nil, err
	}
	here := map[string]bool{}
	for _, o := range operators {
		here[o.Name] = true
	}
	now := s.Now()
	list := slices.DeleteFunc(s.Compute.Waivers.All(), func(w store.Waiver) bool { return !in.Over && !now.Before(w.Ends) })
	slices.SortFunc(list, func(a, b store.Waiver) int { return cmp.Or(a.Ends.Compare(b.Ends), cmp.Compare(a.ID, b.ID)) })
	out := api.WaiverPage{Waivers: []api.Waiver{}, Total: len(list)}
	from, to := in.Cut(len(list))
	out.Next = in.Next(len(list))
	for i := range list[from:to] {
		out.Waivers = append(out.Waivers, s.waiver(&list[from+i], here))
	}
	return &out, nil
}

// waiver describes a waiver; here are the operators that there are, or nil.
func (s *Register) waiver(w *store.Waiver, here map[string]bool) api.Waiver {
	out := api.Waiver{ID: w.ID, Host: w.Host, Finding: api.Difference(w.Finding), Because: w.Because, By: w.Author, Made: w.Made, Ends: w.Ends,
		Over: !s.Now().Before(w.Ends), Gone: here != nil && !here[w.Author]}
	key := w.Finding.Key()
	for _, h := range s.Fleet.All() {
		if v := h.Row(); (w.Host == "" || w.Host == v.Name) && v.Has(key) {
			out.Hosts++
		}
	}
	return out
}

// waivedOn lists the findings of a host that somebody accepts.
func (s *Register) waivedOn(v *fleet.View) []api.WaivedFinding {
	out := []api.WaivedFinding{}
	if v.Aside == nil {
		return out
	}
	for _, i := range v.Aside.Waived {
		f := v.Aside.All[i]
		if w := s.Compute.Waivers.Of(v.Name, f.Key(), s.Now()); w != nil {
			since, _ := v.Since.Of(f.Key())
			out = append(out, api.WaivedFinding{Finding: api.Finding{Host: v.Name, Finding: f, Since: since},
				Waiver: w.ID, Because: w.Because, By: w.Author, Ends: w.Ends})
		}
	}
	return out
}

// LookAtKeys works out anew how hosts stand whose keys have ended since.
func (s *Register) LookAtKeys(ctx context.Context) {
	now := s.Now()
	for _, h := range s.Fleet.All() {
		if v := h.Row(); !v.KeyEnds.IsZero() && !now.Before(v.KeyEnds) {
			if _, err := s.Again(ctx, h, journal.CommandKeysEnd); err != nil && ctx.Err() == nil {
				s.Log.Error("working out how a host stands", "host", v.Name, "error", err)
			}
		}
	}
}
