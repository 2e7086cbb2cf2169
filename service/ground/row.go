package ground

import (
	"context"

	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Change replaces a host's row by a command: edit changes a copy, which is completed,
// stored and put in place. save stores it; nil stores the row alone. What the journal
// keeps of it is the host's history.
func (g *Ground) Change(
	ctx context.Context,
	h *fleet.Host,
	command string,
	edit func(*fleet.View) error,
	save func(*fleet.View, store.Change) error,
) (*fleet.View, error) {
	h.Lock()
	defer h.Unlock()
	old := h.Row()
	v := *old
	if err := edit(&v); err != nil {
		return nil, err
	}
	compute.Share(&v)
	if err := g.Compute.Complete(ctx, &v, g.Now()); err != nil {
		return nil, err
	}
	v.Broken = ""
	unheard(&v)
	g.ask(ctx, &v)
	if save == nil {
		save = func(v *fleet.View, c store.Change) error { return g.Store.PutHost(ctx, &v.Host, c) }
	}
	e := g.Entry(journal.By(ctx), command, journal.KindHost, v.Name)
	if came := newsOf(old, &v, g.Now()); came != nil {
		e = journal.Detailed(e, came)
	} else {
		e.Passing = command == journal.CommandCheckIn // what stands there changed, and how it stands did not
	}
	c := store.Noted(e)
	c.Then = func() {
		v.Key = h.Row().Key // it may have joined anew meanwhile
		h.Put(&v)
	}
	if err := save(&v, c); err != nil {
		return nil, err
	}
	for i, f := range v.Findings {
		if _, before := old.Since.Of(v.Keys[i]); !before {
			g.Log.Info("drift", "host", v.Name, "class", f.Class, "severity", f.Severity, "file", f.File, "line", f.Line)
		}
	}
	return &v, nil
}

// Again works out anew how a host stands, because of a command that changed something else.
func (g *Ground) Again(ctx context.Context, h *fleet.Host, command string) (*fleet.View, error) {
	return g.Change(ctx, h, command, func(*fleet.View) error { return nil }, nil)
}
