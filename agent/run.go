package agent

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"log/slog"
	mrand "math/rand/v2"
	"net/http"
	"reflect"
	"time"

	"github.com/fsnotify/fsnotify"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// How the agent waits.
const (
	settle     = 80 * time.Millisecond // after a change of a file, for more of them
	longSettle = 5 * settle            // after the first of changes that do not end
	lookAgain  = 5 * time.Minute       // a survey even when nothing seems to have changed
	firstPause = time.Second           // after a call that failed; doubled each time
	longPause  = 5 * time.Minute
)

// Options are what an Agent needs from outside.
type Options struct {
	Host    *Host
	Log     *slog.Logger
	Now     func() time.Time
	Version string
	Watch   func() (*fsnotify.Watcher, error) // how folders are watched; fsnotify.NewWatcher when nil
}

// Agent runs on one host. Make one with New.
type Agent struct {
	host  *Host
	log   *slog.Logger
	now   func() time.Time
	link  *link
	enrol Enrolment
	ver   string

	folders  func() (*fsnotify.Watcher, error) // watches them
	watched  *fsnotify.Watcher                 // by Run
	last     *look
	lastLook time.Time
	sentFree map[string]int64

	sentAccess []byte // what the service was told of access
	instance   string // tells this run of the agent from others
	trouble    string // what keeps the agent from working
	packages   []string
	asked      string // stamp of packages and askedSources
	answered   string // stamp of the list that the service was last answered

	keptID       *string       // of which survey the files are kept; nil before it was looked
	trace        []string      // files of which the service asks when they were written
	traceLogins  bool          // and lets the agent read who used sudo
	traceOf      string        // digest of the survey as of which it asked
	askedSources []string      // keys of sources of which it is asked what came from them
	sentPackages *api.Packages // the last answer
	have         *api.Packages // what was installed when haveFor was read
	haveFor      *look
	sources      refreshWatch
	sent         map[string]bool // digests of texts that the service has taken
	unsent       unsent
}

// New loads the enrolment of a host that has joined.
func New(o Options) (*Agent, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Watch == nil {
		o.Watch = fsnotify.NewWatcher
	}
	o.Host.clock = o.Now
	a := &Agent{host: o.Host, log: o.Host.CleanLog(o.Log), now: o.Now, ver: o.Version, folders: o.Watch, instance: rand.Text()[:16]}
	e, l, err := o.Host.enrolment()
	if err != nil {
		return nil, err
	}
	a.enrol, a.link = e, l
	a.link.now, a.link.log = o.Now, a.log
	return a, nil
}

// Run watches, checks in and carries deliveries out until the context ends.
func (a *Agent) Run(ctx context.Context) error {
	release, err := a.host.lock()
	if err != nil {
		return err
	}
	defer release()
	defer a.sources.end()
	if a.recover() {
		a.host.sweep()
	}
	w, end := a.watcher()
	defer end()
	a.watched = w
	a.watch()
	timer := time.NewTimer(0)
	defer timer.Stop()
	pause := time.Duration(0)
	changed := true
	var waited time.Time // since when changes are waited for to end; zero while none is
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-w.Errors:
			a.log.Warn("watching", "error", err)
			changed = true
			timer.Reset(settle)
		case e := <-w.Events:
			switch {
			case a.own(e.Name):
			case !changed:
				a.log.Debug("changed", "file", e.Name)
				changed, waited = true, time.Now()
				timer.Reset(settle)
			case !waited.IsZero():
				timer.Reset(min(settle, time.Until(waited.Add(longSettle))))
			}
		case <-timer.C:
			waited = time.Time{}
			if changed {
				a.watch() // folders may have come
			}
			wait, err := a.round(ctx, changed)
			switch {
			case ctx.Err() != nil:
				return nil
			case err != nil:
				// The service is away: ask again, ever more rarely, and not all hosts at once.
				pause = longer(pause)
				wait = pause/2 + mrand.N(pause)
				if errors.Is(err, errAway) {
					a.log.Warn("the service cannot be reached", "error", err, "next", wait.Round(time.Millisecond).String())
				} else {
					a.log.Error("this round could not be done", "error", err, "next", wait.Round(time.Millisecond).String())
				}
			default:
				pause, changed = 0, false
				wait += time.Duration((mrand.Float64() - 0.5) * 0.2 * float64(wait))
			}
			timer.Reset(wait)
		}
	}
}

// longer is the pause after one that was not long enough.
func longer(pause time.Duration) time.Duration { return min(max(2*pause, firstPause), longPause) }

// recover puts back what a change that was interrupted has left. It reports whether
// nothing is left; otherwise the agent does no work, says why, and tries again with each
// round.
func (a *Agent) recover() bool {
	undone, err := a.host.Recover()
	if err != nil {
		a.trouble = "a change was interrupted and cannot be put back yet, so nothing else is done: " + oneLine(a.host.clean(err.Error()))
		a.log.Error("a change was interrupted and cannot be put back yet; it is tried again", "error", err)
		return false
	}
	a.trouble = ""
	if undone {
		a.log.Warn("a change was interrupted; the files are as they were before it")
	}
	return true
}

// round surveys where that is due, checks in, and carries out what waits. It
// returns how long to wait for the next round.
func (a *Agent) round(ctx context.Context, changed bool) (time.Duration, error) {
	if a.trouble != "" && a.recover() {
		changed = true
	}
	if changed || a.last == nil || a.now().Sub(a.lastLook) > lookAgain {
		if tended, err := a.host.tendMedia(); err != nil {
			a.log.Warn("the sources of media cannot be brought up to date", "error", err)
		} else if tended {
			a.log.Info("media came or went, and its sources with it")
		}
		if err := a.look(ctx); err != nil {
			return 0, err
		}
	}
	answer, err := a.checkIn(ctx)
	if err != nil {
		return 0, err
	}
	if a.trouble != "" {
		return interval(answer), nil
	}
	if answer.Keep {
		if err := a.keep(a.last); err != nil {
			a.log.Warn("the files as they are to stay cannot be kept; it is tried again with the next round", "error", err)
		}
	}
	if !answer.Work {
		a.lookAtSources(ctx, time.Duration(answer.Watch)*time.Millisecond)
	}
	if answer.Work {
		// What the answer says of access is of before; the next round asks again.
		return interval(answer), a.carryOut(ctx)
	}
	if answer.AccessStays {
		return interval(answer), nil
	}
	if renewed, err := a.renewAccess(ctx, answer.Access); err != nil {
		a.log.Warn("the access cannot be brought up to date; it is tried again with the next round", "error", err)
	} else if renewed {
		if err := a.look(ctx); err != nil {
			return 0, err
		}
		if _, err := a.checkIn(ctx); err != nil {
			return 0, err
		}
	}
	return interval(answer), nil
}

// longest is the longest that a service can make the agent wait.
const longest = 15 * time.Minute

// interval is how long the service wants the agent to wait.
func interval(answer api.CheckInAnswer) time.Duration {
	ms := min(max(int64(answer.Interval), 100), longest.Milliseconds())
	return time.Duration(ms) * time.Millisecond
}

// listen notes which packages the service asks for; the next check-in answers.
func (a *Agent) listen(answer api.CheckInAnswer) {
	const most = 1000
	n := len(answer.Packages) + len(answer.Sources)
	if answer.Asked != "" && answer.Asked != a.answered && n > 0 && n <= most {
		a.packages, a.askedSources, a.asked = answer.Packages, answer.Sources, answer.Asked
	}
}

// installed answers which of the packages are installed; nil where nobody asked, or
// nothing has changed since.
func (a *Agent) installed() *api.Packages {
	if a.asked == "" || len(a.packages)+len(a.askedSources) == 0 {
		return nil
	}
	if a.have != nil && a.have.Asked == a.asked && a.haveFor == a.last {
		return a.have
	}
	out := &api.Packages{Asked: a.asked, Installed: map[string]string{}}
	for name, v := range survey.Installed(a.host.fs, a.packages) {
		if v != "" {
			out.Installed[name] = v
		}
	}
	if len(a.askedSources) > 0 {
		out.Came = origin.Look(a.host.fs, a.last.result.Survey.Sources, a.askedSources)
	}
	a.have, a.haveFor = out, a.last
	return out
}

// checkIn says how the host stands, and sends what the service has never seen.
func (a *Agent) checkIn(ctx context.Context) (api.CheckInAnswer, error) {
	var last memory
	if err := a.host.loadJSON("memory.json", &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		a.log.Error("what was carried out last cannot be read", "error", err)
	}
	in := api.CheckIn{
		Traits:   a.last.traitsID,
		Survey:   a.last.surveyID,
		Revision: last.Revision,
		Sheet:    last.Sheet,
		Agent:    a.ver,
		Form:     source.NewestForm,
		Instance: a.instance,
		Trouble:  a.trouble,
		Unsent:   a.unsent.why,
		Base:     a.kept(),
		Zone:     a.host.zone(),
	}
	if p := a.installed(); p != nil && (a.answered != p.Asked || !reflect.DeepEqual(p, a.sentPackages)) {
		in.Packages = p
	}
	if len(a.trace) > 0 {
		in.Traced = &api.Traced{Survey: a.traceOf, Files: a.host.traced(a.last.result.Survey.Traits.Family, a.trace, a.traceLogins, a.now())}
	}
	if a.sources.seen != nil && !a.sources.told {
		in.Sources = a.sources.seen
	}
	if free := a.last.result.Survey.Traits.Free; muchChanged(a.sentFree, free) {
		in.Free = free
	}
	if a.sentAccess == nil || !bytes.Equal(a.sentAccess, a.last.accessID) {
		in.Access = &a.last.access
	}
	var out api.CheckInAnswer
	if err := a.link.call(ctx, http.MethodPost, "/api/agent/check-in", in, &out); err != nil {
		return out, err
	}
	if len(out.Want) > 0 {
		if sent, err := a.send(ctx); !sent || err != nil {
			return api.CheckInAnswer{Interval: out.Interval, Watch: out.Watch, Access: out.Access, AccessStays: out.AccessStays}, err
		}
		out = api.CheckInAnswer{}
		if err := a.link.call(ctx, http.MethodPost, "/api/agent/check-in", in, &out); err != nil {
			return out, err
		}
		if len(out.Want) > 0 {
			return out, errors.New("the service asks again for what it was sent")
		}
	}
	if in.Free != nil {
		a.sentFree = in.Free
	}
	a.sources.told = a.sources.told || in.Sources != nil
	if in.Packages != nil {
		a.answered, a.sentPackages = in.Packages.Asked, in.Packages
	}
	if a.trace = nil; len(out.Trace) > 0 && len(out.Trace) <= mostTraced {
		a.trace, a.traceLogins, a.traceOf = out.Trace, out.Logins, in.Survey
	}
	a.listen(out)
	a.unsent = unsent{}
	a.sentAccess = a.last.accessID
	return out, nil
}

// muchChanged reports whether free space differs by more than a twentieth.
func muchChanged(old, now map[string]int64) bool {
	if len(old) != len(now) {
		return true
	}
	for k, n := range now {
		o := old[k]
		if d := n - o; d > o/20 || -d > o/20 {
			return true
		}
	}
	return false
}

// carryOut carries the delivery that waits out and reports.
func (a *Agent) carryOut(ctx context.Context) error {
	a.sources.end()
	c := &carrier{host: a.host, link: a.link, enrol: &a.enrol, log: a.log, now: a.now}
	rep, err := c.carry(ctx)
	if rep == nil || err != nil {
		return err
	}
	if err := a.look(ctx); err != nil {
		return err
	}
	a.sources.seen = nil // it is of before
	if _, err := a.checkIn(ctx); err != nil {
		return err
	}
	rep.Survey = a.last.surveyID
	a.log.Info(
		"carried out",
		"rollout",
		rep.Rollout,
		"revision",
		rep.Revision,
		"state",
		rep.State,
		"step",
		rep.Step,
		"message",
		rep.Message,
	)
	err = a.link.call(ctx, http.MethodPost, "/api/agent/reports", rep, nil)
	var refused *callError
	if errors.As(err, &refused) && refused.status == http.StatusConflict {
		a.log.Warn("the service does not want the report", "error", err)
		return nil
	}
	if c.delivery.BackOut != 0 {
		a.keptID = nil // it may be another, or none
		return err
	}
	if err == nil && a.kept() == "" && (rep.State == "done" || rep.State == "unchanged") {
		return a.keep(a.last) // the first that was carried out here
	}
	return err
}
