package agent

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/family/flatpak"
)

// watchTime bounds one look at whether sources can be refreshed: the host says how it stands
// all the while.
const watchTime = 2 * time.Minute

// mostWatchedSources bounds how many sources that cannot be refreshed are told.
const mostWatchedSources = 50

// refreshWatch looks, now and then and not all hosts at once, whether the sources of the policy can
// still be refreshed.
type refreshWatch struct {
	next time.Time
	seen *api.SourcesLook // newest
	told bool             // the service knows it
}

// due says whether it is time to look.
func (w *refreshWatch) due(every time.Duration, now time.Time) bool {
	if every <= 0 {
		return false
	}
	if w.next.IsZero() || w.next.Sub(now) > every+every/5 { // the first time, or it is wanted more often
		w.next = now.Add(rand.N(every))
		return false
	}
	return !now.Before(w.next)
}

// lookAtSources asks on the side, so that nothing of the host changes, whether each source
// of the sheet can be refreshed.
func (a *Agent) lookAtSources(ctx context.Context, every time.Duration) {
	now := a.now()
	if !a.sources.due(every, now) {
		return
	}
	a.sources.next = now.Add(every - every/10 + rand.N(every/5+1))
	seen := a.host.sourcesLook(ctx, now)
	if seen == nil {
		return
	}
	if len(seen.Bad) > 0 || seen.Trouble != "" { // what is ill is looked at again sooner
		a.sources.next = now.Add(every / 4)
	}
	a.sources.told = a.sources.seen != nil && a.sources.told && a.sources.seen.Same(seen)
	a.sources.seen = seen
}

// sourcesLook looks once; nil where nothing was carried to the host.
func (h *Host) sourcesLook(ctx context.Context, now time.Time) *api.SourcesLook {
	sheet := h.lastSheet()
	if sheet == nil || len(sheet.Sources)+len(sheet.InPlace) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, watchTime)
	defer cancel()
	out := &api.SourcesLook{At: now.UTC(), Bad: []api.SourceOutcome{}}
	is := h.surveyFor(sheet)
	q := asked{sheet: sheet, survey: &is, stuck: stuckOn(sheet, &is, change.Change{}), at: now, scratch: h.statePath("watch")}
	if len(q.stuck.problems) > 0 {
		out.Trouble = "the package manager refuses to work, so its sources cannot be looked at"
		return out
	}
	m, err := h.manager(sheet.Family)
	if err != nil {
		return nil
	}
	removeAll(q.scratch)
	defer removeAll(q.scratch)
	_, list, err := m.refresh(ctx, q)
	if hasRemotes(sheet) && err == nil {
		more, askErr := flatpakTool{h}.ask(ctx, is.Texts[flatpak.Config], sheet, true)
		list, err = append(list, more...), askErr
	}
	if err != nil || ctx.Err() != nil {
		out.Trouble = h.clean(oneLine(errors.Join(err, ctx.Err()).Error()))
	}
	ours := (&attempt{sheet: sheet}).spoken(&is)
	for _, o := range list {
		if !ours(&o) {
			continue
		}
		if out.Looked++; o.OK || len(out.Bad) == mostWatchedSources {
			continue
		}
		o.Message, o.URL = h.clean(explainRefusal(o, sheet)), h.clean(o.URL)
		out.Bad = append(out.Bad, o)
	}
	slices.SortFunc(out.Bad, func(a, b api.SourceOutcome) int {
		return strings.Compare(a.File+" "+a.URL+" "+a.Suite, b.File+" "+b.URL+" "+b.Suite)
	})
	return out
}
