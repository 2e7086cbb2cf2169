package agent

import (
	"context"
	"errors"
	"math/rand/v2"
	"sort"
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

	came chan *api.SourcesLook // of the look that is under way
	stop context.CancelFunc    // ends it; nil: none is
	done chan struct{}         // closed when it has ended
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

// lookAtSources begins to ask on the side, so that nothing of the host changes, whether each
// source of the sheet can be refreshed, and takes what came of asking before. The host says
// how it stands all the while.
func (a *Agent) lookAtSources(ctx context.Context, every time.Duration) {
	w := &a.sources
	select {
	case seen := <-w.came:
		w.take(seen, every, a.now())
	default:
	}
	if w.stop != nil || !w.due(every, a.now()) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, watchTime)
	came := make(chan *api.SourcesLook, 1)
	w.came, w.stop, w.done = came, cancel, make(chan struct{})
	root, now, done := a.host.Root, a.host.clock, w.done
	go func() {
		defer close(done)
		h, err := OpenHost(root) // of its own: what reading keeps is not for two at once
		if err != nil {
			came <- nil
			return
		}
		defer h.Close()
		h.clock = now
		came <- h.sourcesLook(ctx, h.now())
	}()
}

// take notes what a look came to, and when the next one is.
func (w *refreshWatch) take(seen *api.SourcesLook, every time.Duration, now time.Time) {
	w.stop()
	w.stop = nil
	w.next = now.Add(every - every/10 + rand.N(every/5+1))
	if seen == nil {
		return
	}
	if len(seen.Bad) > 0 || seen.Trouble != "" { // what is ill is looked at again sooner
		w.next = now.Add(every / 4)
	}
	w.told = w.seen != nil && w.told && w.seen.Same(seen)
	w.seen = seen
}

// end ends a look that is under way, whose result nobody wants any more.
func (w *refreshWatch) end() {
	if w.stop == nil {
		return
	}
	w.stop()
	<-w.done
	w.stop, w.came, w.seen = nil, nil, nil
}

// sourcesLook looks once; nil where nothing was carried to the host.
func (h *Host) sourcesLook(ctx context.Context, now time.Time) *api.SourcesLook {
	sheet := h.lastSheet()
	if sheet == nil || len(sheet.Sources)+len(sheet.InPlace) == 0 {
		return nil
	}
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
	named := func(i int) string { return out.Bad[i].File + " " + out.Bad[i].URL + " " + out.Bad[i].Suite }
	sort.SliceStable(out.Bad, func(i, j int) bool { return named(i) < named(j) })
	return out
}
