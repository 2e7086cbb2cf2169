package fleet

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/standing"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// Host is a host with what is not stored of it.
type Host struct {
	mu       sync.Mutex // held while the row is being replaced
	current  atomic.Pointer[View]
	lastSeen atomic.Int64 // milliseconds
	dirty    atomic.Bool
	sign     atomic.Pointer[sign]
	runs     instances
	astray   atomic.Pointer[astray]
	owed     atomic.Pointer[owed]
	later    atomic.Pointer[later]
	retired  atomic.Bool
	limits   *limits // those of the fleet
}

// limits are how often hosts check in, how long one that has something to do may give no sign of life, and which rollouts are held.
type limits struct {
	interval, patience time.Duration
	held               atomic.Pointer[map[int64]bool]
}

// View is a row with what follows from it.
type View struct {
	store.Host
	Class string // traits and labels
	*System
	*resolve.Given                 // beside its sheet
	Findings       []drift.Finding // what the sheet and the survey tell, then what the time and seats do
	Keys           []string        // of the findings
	Aside          *Aside          // findings that somebody waived; nil where there are none
	Judged         *Judgement      // what the sheet and the survey tell; the first of the findings are its own
	Worst          string
	Broken         string      // why its state cannot be worked out; "" where it can
	Answered       string      // stamp of the packages that it was asked for last
	Told           *api.Traced // what it says of the files of its findings; nil where it has said nothing
	KeyEnds        time.Time   // when the next of the sources loses its last key
}

// System is what traits say of a system. Hosts with the same traits share it.
type System struct{ OS, LowerOS, Family, Arch string }

// Judgement is how a host with a survey stands under a sheet, but for what follows from the time and
// from seats. Hosts of which the same is judged share it.
type Judgement struct {
	Findings []drift.Finding `json:"findings"`
	NextEnd  time.Time       `json:"next_end,omitzero"`   // when the first of the sources loses its last key
	Unread   bool            `json:"unread,omitempty"`    // something on the host could not be read
	TextOnly []string        `json:"text_only,omitempty"` // files of the policy that mean the same and read differently
	keys     []string        // of the findings
}

// Finish fills in the keys of the findings, after which a judgement is never changed.
func (j *Judgement) Finish() *Judgement {
	j.Findings = slices.Clip(j.Findings)
	j.keys = make([]string, len(j.Findings))
	for i, f := range j.Findings {
		j.keys[i] = f.Key()
	}
	return j
}

// Keys are those of the findings, in their order.
func (j *Judgement) Keys() []string { return j.keys }

// NoSystem is that of a host that has told nothing of itself, NothingGiven what a host has beside
// its sheet to which nothing was carried, and NothingJudged how one stands of which nothing can be
// judged. None of them is ever changed.
var (
	NoSystem      = &System{}
	NothingGiven  = &resolve.Given{}
	NothingJudged = &Judgement{}
)

// Aside is what waivers make of the findings of a host.
type Aside struct {
	All    []drift.Finding // with those that are waived
	Open   []int32         // which of all are not
	Waived []int32         // which are
	Ends   time.Time       // when the first of the waivers ends
}

// Everything are the findings of a host, waived or not.
func (v *View) Everything() []drift.Finding {
	if v.Aside != nil {
		return v.Aside.All
	}
	return v.Findings
}

// Working reports whether the host has said that it carries its task out.
func (v *View) Working() bool { return v.Stage == rollout.Working }

// Behind reports whether its task goes on without it until it comes back.
func (v *View) Behind() bool { return v.Stage == rollout.Behind }

// Row is how the host stands. It is never changed.
func (h *Host) Row() *View { return h.current.Load() }

// Put replaces the row. Only the writer of the store does that, when the row stands; the
// key is given by joining alone.
func (h *Host) Put(v *View) {
	if v.System == nil {
		v.System = NoSystem
	}
	if v.Given == nil {
		v.Given = NothingGiven
	}
	if v.Judged == nil {
		v.Judged = NothingJudged
	}
	h.current.Store(v)
	if !v.LastSeen.IsZero() && v.LastSeen.UnixMilli() > h.lastSeen.Load() {
		h.lastSeen.Store(v.LastSeen.UnixMilli())
	}
}

// Seen notes that the host was heard of.
func (h *Host) Seen(now time.Time) {
	h.lastSeen.Store(now.UnixMilli())
	h.dirty.Store(true)
}

// SeenAt is when the host was heard of last; zero where it never was.
func (h *Host) SeenAt() time.Time {
	if ms := h.lastSeen.Load(); ms != 0 {
		return time.UnixMilli(ms).UTC()
	}
	return time.Time{}
}

// Lock is held while the row is being replaced.
func (h *Host) Lock() { h.mu.Lock() }

// Unlock ends what Lock began.
func (h *Host) Unlock() { h.mu.Unlock() }

// IsRetired reports whether the host is one of the fleet no more.
func (h *Host) IsRetired() bool { return h.retired.Load() }

// SeenMilli is when the host was last seen, in milliseconds since 1970; 0 where it never was.
func (h *Host) SeenMilli() int64 { return h.lastSeen.Load() }

// NoteRun takes note of a run of the agent, and reports whether two machines turn out to take turns.
func (h *Host) NoteRun(run string, now time.Time) (twins bool) { return h.runs.note(run, now) }

// NoteClock takes note that a call was refused because the host's clock goes wrong by so much.
func (h *Host) NoteClock(by time.Duration, now time.Time) {
	h.astray.Store(&astray{by, now})
}

// Caller is the host whose agent calls; nil where somebody else does.
func Caller(ctx context.Context) *Host {
	h, _ := journal.Who(ctx).(*Host)
	return h
}

// Silence is how long a host that checks in so often may give no sign of life.
func Silence(interval time.Duration) time.Duration { return 3*interval + 2*time.Second }

// State says how a host stands. One that is at work is not silent, however long its
// package manager takes.
func (h *Host) State(now time.Time) string {
	v := h.Row()
	switch {
	case h.AtWork(now):
		return api.StateChanging
	case h.unheard(now):
		return api.StateSilent
	case v.Broken != "" || v.Trouble != "" || h.late(now) || h.beyond(now) || h.runs.twice(now):
		return api.StateFailed
	case v.Task != 0 && !v.Behind() && !h.limits.holdBack(v):
		return api.StateChanging
	case v.Failure != "":
		return api.StateFailed
	case v.Worst == drift.Danger || v.Worst == drift.Fault:
		return api.StateDrifted
	case v.Revision == 0:
		return api.StateNew
	}
	return api.StateSteady
}

// unheard reports whether a host has not checked in of late.
func (h *Host) unheard(now time.Time) bool {
	seen := h.SeenAt()
	return !seen.IsZero() && now.Sub(seen) > Silence(h.limits.interval)
}

// Past reports whether what is known of a host is what it said before it fell silent.
func (h *Host) Past(now time.Time) bool {
	return h.unheard(now) && h.Row().Survey != "" && !h.AtWork(now)
}

// holdBack reports whether a host is not at work on its task and must not be: the rollout is held.
func (l *limits) holdBack(v *View) bool {
	held := l.held.Load()
	return v.Task != 0 && !v.Working() && held != nil && (*held)[v.Task]
}

// Busy says why nothing else can be begun on a host that stands so; empty where it can.
func (f *Fleet) Busy(v *View) string {
	switch {
	case v.Task == 0 || v.Behind():
		return ""
	case f.HoldsBack(v):
		return fmt.Sprintf("%[1]s waits in rollout %[2]d, which is held: let that go on (lantern rollout proceed %[2]d), "+
			"or stop it (lantern rollout stop %[2]d)", v.Name, v.Task)
	}
	return fmt.Sprintf("%s is being changed by rollout %d", v.Name, v.Task)
}

// Summary describes a host for lists.
func (h *Host) Summary(now time.Time) api.Host {
	v := h.Row()
	out := api.Host{
		Name: v.Name, State: h.State(now), OS: v.OS, Family: v.Family, Arch: v.Arch, Revision: v.Revision,
		Findings: len(v.Findings), Worst: v.Worst, Labels: v.Labels,
	}
	if out.Labels == nil {
		out.Labels = map[string]string{}
	}
	out.OldAgent = v.Agent != "" && v.Form < source.NewestForm
	if t := h.SeenAt(); !t.IsZero() {
		out.LastSeen = &t
	}
	switch out.State {
	case api.StateSilent:
		out.Detail = "no check-in since " + sinceWords(h.SeenAt(), now)
		if says := h.astray.Load().says(h.SeenAt(), now); says != "" {
			out.Detail = says
		}
		if v.Behind() {
			out.Detail += fmt.Sprintf("; left behind by rollout %d", v.Task)
		}
	case api.StateChanging:
		out.Detail = fmt.Sprintf("rollout %d", v.Task)
		if sign := h.sign.Load(); sign != nil && sign.rollout == v.Task && v.Working() {
			out.Detail += ", step " + sign.step
		}
	case api.StateFailed:
		switch {
		case v.Broken != "":
			out.Detail = v.Broken
		case v.Trouble != "":
			out.Detail = v.Trouble
		case h.late(now):
			out.Detail = h.owed.Load().says(now)
		case h.beyond(now):
			out.Detail = h.later.Load().says(v.Revision)
		case h.runs.twice(now):
			out.Detail = "two machines check in with this host's identity: one is a copy; let it begin anew (lantern-agent forget) and join " +
				"under a name of its own"
		default:
			out.Detail = v.Failure
		}
	case api.StateDrifted:
		first := slices.MinFunc(v.Findings, func(a, b drift.Finding) int { return drift.Rank(a.Severity) - drift.Rank(b.Severity) })
		out.Detail = first.Message
		if first.File != "" {
			out.Detail = fmt.Sprintf("%s: %s", first.File[strings.LastIndexByte(first.File, '/')+1:], first.Message)
		}
	case api.StateNew:
		out.Detail = "no revision was carried to it yet"
		if v.Survey == "" {
			out.Detail = "waiting for its first survey"
			if says := h.astray.Load().says(h.SeenAt(), now); says != "" {
				out.Detail = says
			}
		}
	case api.StateSteady:
		out.Detail = v.steadySays(now)
	}
	if h.limits.holdBack(v) && !v.Behind() && out.State != api.StateChanging {
		out.Detail += fmt.Sprintf("; waits in rollout %d, which is held", v.Task)
	}
	return out
}

// steadySays is what there is to know of a host that is as the policy says: what somebody accepts, what was not seen, and what
// is none of it wrong.
func (v *View) steadySays(now time.Time) string {
	var says []string
	if v.Aside != nil && len(v.Aside.Waived) > 0 {
		says = append(says, v.Aside.says())
	}
	if v.Unfetched > 0 {
		what := "sources"
		if v.Unfetched == 1 {
			what = "source"
		}
		says = append(says, fmt.Sprintf("%d %s could not be refreshed at the last change", v.Unfetched, what))
	}
	if n := len(v.Findings); n > 0 {
		says = append(says, fmt.Sprintf("%d to know: %s", n, v.Findings[0].Message))
	}
	for _, f := range standing.OpenByDecision(v.Follows, now) {
		says = append(says, fmt.Sprintf("open by decision: %s follows %s until %s", f.Channel, f.Choice, f.Decision.Review.Format(time.DateOnly)))
	}
	if len(says) == 0 {
		return "as the policy says"
	}
	return strings.Join(says, "; ")
}

// says is how many findings are waived, the weight of the worst, and when the first waiver ends.
func (a *Aside) says() string {
	worst := slices.MinFunc(a.Waived, func(x, y int32) int { return drift.Rank(a.All[x].Severity) - drift.Rank(a.All[y].Severity) })
	what, ends := a.All[worst].Severity, a.Ends.Format(time.DateOnly)
	if n := len(a.Waived); n > 1 {
		return fmt.Sprintf("%d findings waived, the worst a %s, the first until %s", n, what, ends)
	}
	return fmt.Sprintf("1 %s waived until %s", what, ends)
}

// Actor is the host in the journal.
func (h *Host) Actor() journal.Actor {
	return journal.Actor{Kind: journal.ActorHost, Name: h.Row().Name}
}

// Has reports whether a host has a finding, waived or not.
func (v *View) Has(key string) bool {
	if v.Aside == nil {
		return slices.Contains(v.Keys, key)
	}
	return slices.ContainsFunc(v.Aside.All, func(f drift.Finding) bool { return f.Key() == key })
}
