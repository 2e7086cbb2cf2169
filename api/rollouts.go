package api

import (
	"time"

	"patientlantern.example/lantern/core/rollout"
)

// RolloutOrder asks for a rollout.
type RolloutOrder struct {
	Revision int64    `json:"revision,omitempty" minimum:"0" doc:"The revision to carry; 0 or absent for the newest"`
	To       []string `json:"to,omitempty" doc:"Hosts, ranges of hosts or groups; all when absent"`
	Where    string   `json:"where,omitempty" maxLength:"4096" doc:"Of them only hosts for which this condition holds, as in policies"`
	AtOnce   bool     `json:"at_once,omitempty" doc:"All hosts together, whatever their plans say, and no gate; because must be given"`
	Because  string   `json:"because,omitempty" maxLength:"500"`
	Try      bool     `json:"try,omitempty" doc:"Begins nothing, and answers what the waves would be"`
}

// LeverOrder says why something is done to a rollout.
type LeverOrder struct {
	Because string `json:"because,omitempty" maxLength:"500"`
	Host    string `json:"host,omitempty" doc:"Of the rollout, where one host is meant"`
	Try     bool   `json:"try,omitempty" doc:"Does nothing, and answers what would be done"`

	Since *time.Time `json:"since,omitempty" doc:"Since when it stands as whoever asks has read it; where it has gone on since, nothing is done"`
}

// Rollout is a revision on its way to hosts.
type Rollout struct {
	ID         int64                 `json:"id"`
	Kind       string                `json:"kind" enum:"rollout,heal,back-out"`
	Revision   int64                 `json:"revision" doc:"That it carries, or that is taken back"`
	Of         int64                 `json:"of,omitempty" doc:"The rollout that it takes back"`
	Author     string                `json:"author"`
	Because    string                `json:"because,omitempty"`
	Begun      *time.Time            `json:"begun" doc:"null for a plan"`
	Ended      *time.Time            `json:"ended"`
	Stopped    *time.Time            `json:"stopped,omitempty" doc:"When an operator stopped it"`
	Left       []string              `json:"left,omitempty" doc:"In the answer to stopping: hosts still at work, which end by themselves"`
	Phase      rollout.Phase         `json:"phase" enum:"changing,soaking,asking,held,ended"`
	Since      *time.Time            `json:"since,omitempty" doc:"Of the phase"`
	Says       string                `json:"says" doc:"What it is about, or waits for, in a sentence"`
	TimeLeft   *int                  `json:"time_left,omitempty" doc:"Seconds, guessed from what its hosts took so far; absent: not known"`
	Wave       int                   `json:"wave" doc:"The newest wave whose hosts may begin, from 1"`
	Waves      int                   `json:"wave_count"`
	Hold       *RolloutHold          `json:"hold,omitempty"`
	Parts      []RolloutPart         `json:"parts,omitempty" doc:"The waves, one part for each plan"`
	Causes     []RolloutCause        `json:"causes,omitempty" doc:"Why hosts failed, each cause once"`
	Counts     map[rollout.State]int `json:"counts" doc:"Hosts by state"`
	NotReached int                   `json:"not_reached,omitempty" doc:"Hosts of its waves that it never came to, since it was stopped"`
	Others     int                   `json:"others,omitempty" doc:"In the answer to beginning: hosts that were not asked for; to healing: hosts that are being changed just now, and are left alone"`
	Silent     int                   `json:"silent,omitempty" doc:"In the answer to trying: hosts that would change and are silent; they are waited for, and left behind then"`
	Quiet      []string              `json:"silent_names,omitempty" doc:"Some of them"`
	Unsure     int                   `json:"unknown,omitempty" doc:"In the answer to beginning: hosts of which it is not known whether they are meant: they have sent no survey"`
	Unknown    []string              `json:"unknown_names,omitempty" doc:"In the answer to backing out: what cannot be taken back, and why"`
	Dangers    []string              `json:"dangers,omitempty" doc:"In the answer to backing out: what comes back"`
	Untouched  int                   `json:"untouched,omitempty" doc:"In the answer to healing: hosts on which no file would change"`
	TookOver   int64                 `json:"took_over,omitempty" doc:"In the answer to beginning: the rollout that was held and made way"`
	Hosts      []HostProgress        `json:"progress,omitempty" doc:"A page of the hosts, those first which failed"`
	Total      int                   `json:"total,omitempty" doc:"Hosts that the page is one of, of those asked for"`
}

// RolloutHold says who held a rollout, and why.
type RolloutHold struct {
	By      string `json:"by,omitempty" doc:"An operator; absent: a gate"`
	Because string `json:"because,omitempty"`
	Gate    string `json:"gate,omitempty"`
	Wave    int    `json:"wave,omitempty"`
}

// RolloutPart is a wave of one plan.
type RolloutPart struct {
	Wave    int                   `json:"wave" doc:"From 1"`
	Plan    string                `json:"plan"`
	What    string                `json:"what" doc:"Who is in it"`
	Hosts   int                   `json:"hosts"`
	Names   []string              `json:"names,omitempty" doc:"Some of its hosts, in the answer to trying"`
	Soak    int                   `json:"soak,omitempty" doc:"Seconds that pass after it"`
	Consent bool                  `json:"consent,omitempty" doc:"Somebody else than who began it must agree before it"`
	Agreed  string                `json:"agreed,omitempty" doc:"Who did"`
	Quiet   string                `json:"quiet,omitempty" doc:"Hours in which no host begins, by its own clock"`
	Counts  map[rollout.State]int `json:"counts"`
	Gates   []RolloutGate         `json:"gates"`
	Refused []RefusedPlace        `json:"refused,omitempty" doc:"Places that it would bring to its hosts, and that the service saw refused"`
	Unseen  int                   `json:"unseen,omitempty" doc:"Hosts to which it brings a place of which nothing is known"`
}

// RolloutGate is what must hold before the next wave.
type RolloutGate struct {
	Name   string `json:"name" enum:"failed,silent,unrefreshed,drifted,refused"`
	Value  int    `json:"value" doc:"Hosts"`
	Limit  string `json:"limit" doc:"A number, a share, or none"`
	Most   int    `json:"most" doc:"What the limit comes to in hosts; -1: there is none"`
	Passed bool   `json:"passed"`
}

// RolloutCause is why hosts failed.
type RolloutCause struct {
	Step    string   `json:"step"`
	Kind    string   `json:"kind,omitempty" doc:"Kind of cause, where the words of the package manager are known"`
	Says    string   `json:"says,omitempty" doc:"What they mean"`
	Remedy  string   `json:"remedy,omitempty" doc:"What to do"`
	Message string   `json:"message"`
	Hosts   int      `json:"hosts"`
	Names   []string `json:"names" doc:"Some of them"`
}

// All is how many hosts take part, those that it never came to among them.
func (r *Rollout) All() int { return r.NotReached + sum(r.Counts) }

// Reached is how many hosts of the part have a place in the rollout; one that was stopped has let go of the others.
func (p *RolloutPart) Reached() int { return sum(p.Counts) }

func sum(counts map[rollout.State]int) (n int) {
	for _, hosts := range counts {
		n += hosts
	}
	return n
}

// RolloutPage is one page of rollouts, the newest first.
type RolloutPage struct {
	Rollouts []Rollout `json:"items"`
	Total    int       `json:"total"`
	Next     int       `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// HostProgress is how far one host is in a rollout.
type HostProgress struct {
	Host    string        `json:"host"`
	Wave    int           `json:"wave,omitempty" doc:"From 1; absent where nothing had to be carried to it"`
	State   rollout.State `json:"state" enum:"queued,waiting,working,done,unchanged,failed,behind,skipped" doc:"behind: it was silent"`
	Updated time.Time     `json:"at"`
	Report  *Report       `json:"report,omitempty"`
}

// FreezeOrder asks that nothing moves.
type FreezeOrder struct {
	Group   string    `json:"group,omitempty" maxLength:"300" doc:"A group, a host or a range; the whole fleet when absent"`
	Until   time.Time `json:"until"`
	Because string    `json:"because" minLength:"3" maxLength:"500"`
}

// Freeze says that no host of a group begins with a change.
type Freeze struct {
	ID      int64      `json:"id"`
	Group   string     `json:"group,omitempty" doc:"The whole fleet when absent"`
	Author  string     `json:"author"`
	Because string     `json:"because"`
	Begun   time.Time  `json:"begun"`
	Until   time.Time  `json:"until"`
	Ended   *time.Time `json:"ended,omitempty" doc:"When somebody ended it before that"`
	Stands  bool       `json:"stands"`
}

// FreezeList lists freezes, the newest first.
type FreezeList struct {
	Freezes []Freeze `json:"items"`
	Total   int      `json:"total"`
}
