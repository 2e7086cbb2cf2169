package ground

import (
	"context"
	"slices"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// askedAnew is said of a host of which something that it has told was damaged in the database, until it has told it again.
const askedAnew = "how it stands is not known: what it has told is damaged in the database, and is asked for with its next check-in"

// WatchDamaged sees to what is damaged in the database: hosts are asked again for what they told, and sheets are made again.
func (g *Ground) WatchDamaged(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case d := <-g.Store.Damaged():
			if d.Kind == store.KindPolicy { // nobody has it but whoever published it
				g.Log.Error("a folder that was published is damaged in the database: publish it again", "document", d.Digest)
				continue
			}
			g.Log.Error("what is stored is damaged, and is asked for again", "kind", d.Kind, "document", d.Digest)
			if err := g.anew(ctx, d); err != nil && ctx.Err() == nil {
				g.Log.Error("asking again for what is damaged", "kind", d.Kind, "document", d.Digest, "error", err)
			}
		}
	}
}

// anew lets a document go that is damaged, and has it come again.
func (g *Ground) anew(ctx context.Context, d store.Document) error {
	gone := []store.Document{d}
	surveys := map[string]bool{}
	if d.Kind == store.KindText { // comes with the surveys that name it
		for _, h := range g.Fleet.All() {
			digest := h.Row().Survey
			if _, asked := surveys[digest]; asked || digest == "" {
				continue
			}
			su, err := g.Compute.SurveyOf(ctx, digest)
			surveys[digest] = err == nil && slices.ContainsFunc(su.Files, func(f source.File) bool { return f.Digest == d.Digest })
			if surveys[digest] {
				gone = append(gone, store.Document{Digest: digest, Kind: store.KindSurvey})
			}
		}
	}
	if d.Kind != store.KindSheet { // is written over
		if err := g.Store.Drop(ctx, gone...); err != nil {
			return err
		}
	}
	for _, h := range g.Fleet.All() {
		v := *h.Row()
		switch {
		case d.Kind == store.KindSheet && v.Sheet == d.Digest:
			if _, err := g.Again(ctx, h, journal.CommandCheckIn); err != nil {
				return err
			}
		case g.lacking(&v):
			g.forgets(ctx, h)
		}
	}
	return nil
}

// forgets takes out of a host's row what is not stored any more. The database keeps its name, by which the host is asked again after a
// restart as well.
func (g *Ground) forgets(ctx context.Context, h *fleet.Host) {
	h.Lock()
	defer h.Unlock()
	v := *h.Row()
	if err := g.fill(ctx, &v, g.Now()); err == nil {
		h.Put(&v)
	}
}

// unheard says of a host that has carried a revision out and of which it is not known any more what it told that this is not known.
func unheard(v *fleet.View) {
	if v.Revision != 0 && (v.Survey == "" || v.Traits == "") {
		v.Broken = askedAnew
	}
}

// lacking takes out of a row what is named there and not stored, and reports whether there was any.
func (g *Ground) lacking(v *fleet.View) (some bool) {
	for _, x := range []struct {
		digest *string
		kind   string
	}{{&v.Survey, store.KindSurvey}, {&v.Traits, store.KindTraits}} {
		if *x.digest != "" && !g.Store.Known(*x.digest, x.kind) {
			*x.digest, some = "", true
		}
	}
	return some
}
