package agents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/store"
)

// Report hears how carrying a delivery out went.
func (s *Agents) Report(ctx context.Context, in *api.Report) error {
	h := fleet.Caller(ctx)
	event, known := rollout.ReportEvents[in.State]
	if !known {
		return refusal.Of(refusal.Unreadable, fmt.Sprintf("the state %q is not known", refusal.Short(in.State)))
	}
	final := event != rollout.Works
	if in.Rollout == 0 { // the agent could not tell: what it was given was not genuine
		in.Rollout = h.Row().Task
	}
	if in.Rollout == 0 || h.Row().Task != in.Rollout {
		return refusal.Conflict("this host has no such task (any more)")
	}
	ro, err := s.Store.RolloutRow(ctx, in.Rollout)
	if err != nil {
		return err
	}
	if !final {
		if !s.rollouts.Hear(h, ro, in.Step) {
			return refusal.Conflict("the rollout was stopped")
		}
		if h.Row().Working() {
			return nil
		}
	}
	if event == rollout.Withdraws {
		return s.withdraw(ctx, h, ro)
	}
	s.naming.RLock()
	defer s.naming.RUnlock()
	good := event == rollout.Succeeds || event == rollout.Rests
	bare := ro.Kind == store.KindBackOut && in.Sheet == "" // nothing had been carried before
	if good && (!bare && !s.Store.Known(in.Sheet, store.KindSheet) || !s.Store.Known(in.Survey, store.KindSurvey)) {
		return refusal.Conflict("send the survey first, then the report")
	}
	if err := s.takeReport(ctx, h, ro, event, in); err != nil {
		return unfit(err)
	}
	s.Log.Info(
		"report",
		"host",
		h.Row().Name,
		"rollout",
		in.Rollout,
		"state",
		in.State,
		"step",
		in.Step,
		"message",
		family.HideWords(in.Message, nil),
	)
	return nil
}

// unfit is the refusal of a report that does not fit how far the host is.
func unfit(err error) error {
	var place *rollout.PlaceError
	if errors.As(err, &place) {
		return refusal.Conflict(place.Error())
	}
	return err
}

// takeReport stores what a host says of its task.
func (s *Agents) takeReport(ctx context.Context, h *fleet.Host, ro store.Rollout, event rollout.Event, in *api.Report) error {
	said := store.RolloutHost{Rollout: ro.ID, Updated: s.Now()}
	var err error
	if said.Took, err = json.Marshal(in.Took); err != nil {
		return err
	}
	rest := *in
	rest.Took = nil
	if said.Report, err = json.Marshal(&rest); err != nil {
		return err
	}
	over := false
	defer s.rollouts.Nudge()
	_, err = s.Change(ctx, h, journal.CommandReport, func(v *fleet.View) error {
		if said.Before, err = json.Marshal(store.Before{Revision: v.Revision, Survey: v.Survey, Carried: v.Carried}); err != nil {
			return err
		}
		v.Stage = rollout.Working
		if event != rollout.Works {
			v.Task, v.Stage, v.Failure = 0, "", ""
			v.LastSeen = said.Updated
			v.Unfetched = unfetchedOf(in)
		}
		switch event {
		case rollout.Fails:
			v.Failure = fmt.Sprintf("%s: %s", in.Step, in.Message)
		case rollout.Succeeds, rollout.Rests:
			if ro.Kind == store.KindBackOut {
				b, err := s.Store.BeforeOf(ctx, ro.Of, v.Name)
				if err != nil {
					return err
				}
				v.Revision, v.Sheet, v.Survey, v.Carried = b.Revision, b.Carried.Sheet, in.Survey, b.Carried
				return nil
			}
			v.Revision, v.Sheet, v.Survey = ro.Carries(&v.Host), in.Sheet, in.Survey
			v.Watched = fleet.StillBad(v.Watched, in.Sources)
			base := s.nextBase(ctx, v, in)
			v.Carried = store.Carried{Sheet: in.Sheet, Survey: in.Survey, At: said.Updated.UTC(), Base: base}
		}
		return nil
	}, func(v *fleet.View, c store.Change) error {
		said.Host = v.Name
		return s.Store.Progress(ctx, said, event, &v.Host, func(ended bool) store.Change {
			over = ended
			return s.withRollout(ctx, c, journal.CommandReport, ro.ID, ended)
		})
	})
	if err == nil && event != rollout.Works && !over {
		s.rollouts.Ended(ro.ID)
	}
	if over {
		s.Log.Info("rollout ended", "rollout", ro.ID)
	}
	return err
}

// nextBase is the base of a host to which something was carried: the one that it has, which
// drift does not move, or what it is like now where that is the first, or where an older
// agent had not looked at all that counts.
func (s *Agents) nextBase(ctx context.Context, v *fleet.View, in *api.Report) store.Base {
	old := v.Carried.Known()
	if old.Survey == "" || !old.Whole {
		if old.Whole = s.Compute.Whole(ctx, old.Survey); !old.Whole {
			return store.Base{Sheet: in.Sheet, Survey: in.Survey, At: s.Now().UTC(), Whole: s.Compute.Whole(ctx, in.Survey)}
		}
	}
	return old
}

// withRollout is a change that the journal also tells of a rollout.
func (s *Agents) withRollout(ctx context.Context, c store.Change, command string, id int64, ended bool) store.Change {
	return store.Change{Then: c.Then, Note: func() []store.Entry {
		e := s.RolloutEntry(journal.By(ctx), command, id, ended)
		e.Passing = !ended // the host's own entry says it, and the rollout's rows do
		return append(c.Note(), e)
	}}
}

// withdraw takes a host out of a rollout that was stopped before it had touched anything.
func (s *Agents) withdraw(ctx context.Context, h *fleet.Host, ro store.Rollout) error {
	over := false
	_, err := s.Change(ctx, h, journal.CommandWithdraw, func(v *fleet.View) error {
		v.Task, v.Stage = 0, ""
		return nil
	}, func(v *fleet.View, c store.Change) error {
		return s.Store.Withdraw(ctx, ro.ID, &v.Host, s.Now(), func(ended bool) store.Change {
			over = ended
			return s.withRollout(ctx, c, journal.CommandWithdraw, ro.ID, ended)
		})
	})
	if err != nil {
		return unfit(err)
	}
	s.Log.Info("stopped before anything was touched", "host", h.Row().Name, "rollout", ro.ID, "ended", over)
	return nil
}

// unfetchedOf counts the sources that could not be refreshed.
func unfetchedOf(rep *api.Report) (n int) {
	for _, o := range rep.Sources {
		if !o.OK {
			n++
		}
	}
	return n
}
