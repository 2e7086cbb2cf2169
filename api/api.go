// Package api holds the types that service, client, agent and console exchange.
// The OpenAPI document is made from them.
package api

import (
	"time"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/source"
)

// States of a host, the most pressing first.
const (
	StateFailed   = "failed"   // the last rollout to it failed, and it was put back
	StateDrifted  = "drifted"  // it has findings that are no mere notes
	StateSilent   = "silent"   // it has not checked in for three intervals
	StateChanging = "changing" // it carries a rollout out
	StateNew      = "new"      // no revision was carried to it yet
	StateSteady   = "steady"   // it is as it should be
)

// States lists the states of a host, the most pressing first.
var States = []string{StateFailed, StateDrifted, StateSilent, StateChanging, StateNew, StateSteady}

// Host is one enrolled machine, as lists show it.
type Host struct {
	Name     string            `json:"name" doc:"The host's full name" example:"gw-01.brinewick.test"`
	State    string            `json:"state" enum:"failed,drifted,silent,changing,new,steady" doc:"How the host stands"`
	Detail   string            `json:"detail" doc:"Why it stands so, in one line"`
	OS       string            `json:"os" doc:"Operating system" example:"Skerry 12 (mussel)"`
	Family   string            `json:"family" doc:"Family of its package manager" example:"deb"`
	Arch     string            `json:"arch" example:"x86_64"`
	Revision int64             `json:"revision" doc:"The revision that was last carried to it; 0 for none"`
	Findings int               `json:"findings" doc:"How many findings it has"`
	Worst    string            `json:"worst" enum:",danger,fault,note" doc:"The worst severity among them"`
	LastSeen *time.Time        `json:"last_seen" doc:"When it last checked in"`
	Labels   map[string]string `json:"labels" doc:"Labels given by people"`
	OldAgent bool              `json:"old_agent,omitempty" doc:"Its agent understands less than this service may say to it"`
}

// HostPage is one page of hosts, with how many stand in each state overall.
type HostPage struct {
	Hosts  []Host         `json:"items"`
	Total  int            `json:"total" doc:"How many hosts match the filter"`
	Next   int            `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	All    int            `json:"all" doc:"How many hosts there are"`
	States map[string]int `json:"states" doc:"How many hosts stand in each state, whatever the filter"`

	Standing Standing `json:"standing" doc:"How much of the fleet is known, whatever the filter"`
	Unknown  int      `json:"unknown,omitempty" doc:"Hosts of which it is not known whether they are meant: they have sent no survey"`
}

// HostNames are the names of all hosts that a filter lets through.
type HostNames struct {
	Names   []string `json:"items" doc:"In order"`
	Total   int      `json:"total"`
	Unknown int      `json:"unknown,omitempty" doc:"Hosts of which it is not known whether they are meant: they have sent no survey"`
}

// Finding is a difference on one host, with when it was first seen.
type Finding struct {
	Host string `json:"host"`
	drift.Finding
	Since  time.Time `json:"since" doc:"When it was first seen"`
	Trace  string    `json:"trace,omitempty" doc:"When its file was written, and by whom, by the host's own logs; absent: not asked yet"`
	Closes string    `json:"closes,omitempty" doc:"What closes it, where healing does not"`
}

// HostDetail is all that is known of one host.
type HostDetail struct {
	Host
	Joined time.Time        `json:"joined"`
	Agent  string           `json:"agent" doc:"Version of its agent"`
	Free   map[string]int64 `json:"free" doc:"Free bytes by mount point"`
	Traits *source.Traits   `json:"traits,omitempty"`

	Groups       []string          `json:"groups" doc:"Of the newest revision, in which it is"`
	PolicyLabels map[string]string `json:"policy_labels,omitempty" doc:"Those of the newest revision, beside those that people gave"`

	Sources    []source.Source   `json:"sources"`
	Keys       []source.Key      `json:"keys"`
	Problems   []source.Problem  `json:"problems"`
	Access     []source.Access   `json:"access" doc:"Credentials on the host; never their secrets"`
	Settings   []source.Setting  `json:"settings" doc:"Configuration beyond single sources"`
	Pins       []source.Pin      `json:"pins" doc:"apt's preferences"`
	Holds      []source.Hold     `json:"holds" doc:"Packages that are kept or left out"`
	Services   []source.Service  `json:"services" doc:"zypper's services"`
	Deciding   []source.Deciding `json:"deciding" doc:"Files of other programs that decide as well"`
	Channels   []HostChannel     `json:"channels" doc:"The channels that it follows"`
	Seats      []Seat            `json:"seats_held"`
	Drift      []Finding         `json:"drift"`
	Waived     []WaivedFinding   `json:"waived_findings" doc:"Findings that somebody accepts until a date"`
	Diff       string            `json:"diff" doc:"What healing would change, as a unified diff"`
	Impossible []string          `json:"impossible" doc:"What healing cannot bring about"`
	Fates      []reason.Fate     `json:"fates" doc:"What the policy makes of each of its sources, in their order; empty without a sheet"`
	Reasons    []Reason          `json:"reasons" doc:"Why its sheet holds what it holds"`
	Carried    *time.Time        `json:"carried" doc:"When a sheet was last carried to it"`
	Base       *HostBase         `json:"base,omitempty" doc:"What the policy says nothing of is held against what it was then"`
	TextOnly   []string          `json:"text_only" doc:"Files of the policy that mean the same and read differently"`
	Document   string            `json:"document" doc:"Digest of the survey that all this follows from"`
	Report     *HostProgress     `json:"report,omitempty" doc:"How the last rollout to it went"`
}

// HostBase is when a host was last right as it stood.
type HostBase struct {
	At  time.Time `json:"at"`
	By  string    `json:"by,omitempty" doc:"Who accepted it as it stood; empty where it is what the first carrying left"`
	Why string    `json:"why,omitempty"`
}

// AcceptOrder accepts a host as it stands.
type AcceptOrder struct {
	Because  string `json:"because" minLength:"3" maxLength:"500" doc:"Why; kept in the journal"`
	Try      bool   `json:"try,omitempty" doc:"Only say what would come of it"`
	Document string `json:"document,omitempty" doc:"The survey that was looked at; where the host has another by now, nothing is accepted"`
}

// Accepted is what came of it.
type Accepted struct {
	Host     string    `json:"host"`
	Accepted []Finding `json:"accepted" doc:"Findings that are none any more"`
	Left     []Finding `json:"left" doc:"Findings that follow from the policy itself, or that no base makes right"`
}

// Configured is what the host's survey says is configured.
func (d *HostDetail) Configured() *source.Survey {
	return &source.Survey{
		Sources: d.Sources, Keys: d.Keys, Settings: d.Settings, Pins: d.Pins, Holds: d.Holds, Services: d.Services, Deciding: d.Deciding,
	}
}

// HostChannel is a channel that a host follows.
type HostChannel struct {
	Channel  string          `json:"channel"`
	Choice   string          `json:"choice"`
	Pinned   string          `json:"pinned"`
	Group    string          `json:"group" doc:"The group whose assignment says so"`
	Contract string          `json:"contract" doc:"What it needs; empty for none"`
	Open     bool            `json:"open" doc:"It needs no contract, though another choice would"`
	Decision *ChannelDecided `json:"decision,omitempty" doc:"The decision to run without one"`
	At       diag.Pos        `json:"place"`
}

// Reason says why a repository is on a host's sheet, or is not.
type Reason struct {
	Repository string     `json:"repository"`
	Because    string     `json:"because"`
	At         []diag.Pos `json:"places"`
	Left       bool       `json:"left_out" doc:"True where the repository is not on the sheet"`
}

// FindingPage is one page of findings over the fleet.
type FindingPage struct {
	Findings []Finding `json:"items"`
	Total    int       `json:"total"`
	Next     int       `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Hosts    int       `json:"hosts" doc:"How many hosts have any of them"`
	Standing Standing  `json:"standing" doc:"How much of the fleet these findings speak of"`
	Unknown  int       `json:"unknown,omitempty" doc:"Hosts of which it is not known whether they are meant: they have sent no survey"`
}

// FindingGroup is a finding that is the same on one host or many.
type FindingGroup struct {
	drift.Finding
	Hosts  int       `json:"hosts" doc:"How many hosts have it"`
	First  string    `json:"first" doc:"The host on which it was found first"`
	Since  time.Time `json:"since" doc:"When it was found there"`
	Last   time.Time `json:"last" doc:"When it was found on the last of them"`
	Names  []string  `json:"names" doc:"Some of the hosts, by name"`
	Trace  string    `json:"trace,omitempty" doc:"What the logs of that host say of when the file was written, and by whom"`
	Closes string    `json:"closes,omitempty" doc:"What closes it, where healing does not"`
}

// FindingGroupPage is one page of them.
type FindingGroupPage struct {
	Groups   []FindingGroup `json:"items"`
	Total    int            `json:"total" doc:"Different findings"`
	Next     int            `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Findings int            `json:"findings" doc:"Findings in all of them"`
	Hosts    int            `json:"hosts" doc:"How many hosts have any of them"`
	Standing Standing       `json:"standing" doc:"How much of the fleet these findings speak of"`
	Unknown  int            `json:"unknown,omitempty" doc:"Hosts of which it is not known whether they are meant: they have sent no survey"`
}

// Difference is a finding of no host in particular.
type Difference drift.Finding

// Moment is something that happened to a host.
type Moment struct {
	Number   int64        `json:"number" doc:"Of the journal's entry"`
	At       time.Time    `json:"at"`
	By       string       `json:"by" doc:"operator:NAME, host:NAME or service"`
	What     string       `json:"what" doc:"The command, such as check-in, report, heal-host, accept-host"`
	Why      string       `json:"why,omitempty"`
	Came     []MomentItem `json:"came" doc:"Findings that came"`
	Went     int          `json:"went" doc:"How many findings went"`
	Revision int64        `json:"revision,omitempty" doc:"The revision that was carried to it"`
}

// MomentItem is a finding that came.
type MomentItem struct {
	Class    string `json:"class"`
	Severity string `json:"severity"`
	File     string `json:"file,omitempty"`
}

// HistoryPage is some of what happened to a host, the newest first.
type HistoryPage struct {
	Moments []Moment `json:"items"`
	Next    int64    `json:"next,omitempty" doc:"Give it as before for what happened earlier; absent where nothing did"`
}

// WaiverOrder accepts a finding until a date.
type WaiverOrder struct {
	Host    string     `json:"host,omitempty" doc:"Only on this host; empty for every host that has it"`
	Finding Difference `json:"finding" doc:"As the service tells it; class, repository, file, want and have say which it is"`
	Because string     `json:"because" minLength:"3" maxLength:"500"`
	Ends    time.Time  `json:"ends" doc:"Within a year"`
}

// Waiver is a finding that a named person accepts until a date.
type Waiver struct {
	ID      int64      `json:"id"`
	Host    string     `json:"host,omitempty"`
	Finding Difference `json:"finding"`
	Because string     `json:"because"`
	By      string     `json:"by"`
	Gone    bool       `json:"gone" doc:"Who made it is no operator any more"`
	Made    time.Time  `json:"made"`
	Ends    time.Time  `json:"ends"`
	Over    bool       `json:"over"`
	Hosts   int        `json:"hosts" doc:"Hosts that have the finding now"`
}

// WaiverPage is one page of waivers, those that end soonest first.
type WaiverPage struct {
	Waivers []Waiver `json:"items"`
	Total   int      `json:"total"`
	Next    int      `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// WaivedFinding is a finding of a host that somebody accepts.
type WaivedFinding struct {
	Finding
	Waiver  int64     `json:"waiver"`
	Because string    `json:"because"`
	By      string    `json:"by"`
	Ends    time.Time `json:"ends"`
}

// Cohort is the hosts whose surveys are alike.
type Cohort struct {
	Survey  string   `json:"digest" doc:"Digest of the survey; empty for hosts that have sent none"`
	OS      string   `json:"os"`
	Hosts   int      `json:"hosts"`
	Names   []string `json:"names" doc:"Some of the hosts, by name"`
	Silent  int      `json:"silent,omitempty" doc:"Of so many it is what they had when they were heard last"`
	Drifted bool     `json:"differs" doc:"They have findings that are no mere notes"`
	Like    string   `json:"like,omitempty" doc:"The survey that is commonest among hosts of this system; empty for the commonest itself"`
	Diff    string   `json:"diff,omitempty" doc:"What their source files say otherwise than the commonest do, as a unified diff"`
	More    []string `json:"more,omitempty" doc:"What else differs: keys, settings, pins, holds"`
}

// CohortPage is one page of cohorts, the commonest first.
type CohortPage struct {
	Cohorts []Cohort `json:"items"`
	Total   int      `json:"total" doc:"How many different configurations there are"`
	Next    int      `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	Hosts   int      `json:"hosts"`
}

// Standing counts the hosts of which it is known how they stand, and beside them those of
// which it is not.
type Standing struct {
	Hosts      int `json:"hosts" doc:"Hosts that were looked at"`
	Steady     int `json:"steady" doc:"Hosts whose survey is fresh and as the policy says"`
	Drifted    int `json:"drifted" doc:"Hosts whose survey is fresh and has findings that are no mere notes"`
	Failed     int `json:"failed" doc:"Hosts on which the last change failed, or whose agent cannot work"`
	Silent     int `json:"silent" doc:"Hosts that have not checked in of late: how they stand now is not known"`
	Changing   int `json:"changing" doc:"Hosts that are being changed"`
	NoRevision int `json:"no_revision" doc:"Hosts to which no revision was carried yet: there is nothing to hold them against"`
	NoSurvey   int `json:"no_survey" doc:"Hosts that have joined and sent no survey yet"`
	Invited    int `json:"invited" doc:"Hosts that were invited and have not joined"`
	Unfetched  int `json:"unfetched" doc:"Hosts with sources that could not be refreshed at the last change"`
	Older      int `json:"older" doc:"Hosts that have an older revision than the newest that was carried to any"`
	Unread     int `json:"unread" doc:"Hosts on which something could not be read"`
	Waived     int `json:"waived" doc:"Hosts with findings that somebody accepts until a date"`
}

// Known reports whether every host's standing is known.
func (s Standing) Known() bool {
	return s.Hosts > 0 && s.NotKnown()+s.Unfetched+s.Older+s.Unread == 0
}

// NotKnown is of how many hosts it is not known whether they are as the policy says.
func (s Standing) NotKnown() int {
	return s.Failed + s.Silent + s.Changing + s.NoRevision + s.NoSurvey + s.Invited
}

// Publication asks for a new revision.
type Publication struct {
	Files   map[string][]byte `json:"files" doc:"The policy folder: name to content (base64)"`
	Message string            `json:"message,omitempty" maxLength:"2000" doc:"What changed, for those who come later"`
	Alone   bool              `json:"alone,omitempty" doc:"Without the consent that is wanted; the message says why, and stays"`
	Believe []string          `json:"believe,omitempty" doc:"Keys that the newest revision withdraws, and that are to be believed again"`
}

// CheckResult is what is wrong with a policy folder.
type CheckResult struct {
	Diagnostics []diag.Diagnostic `json:"diagnostics"`
	Looked      Looked            `json:"looked" doc:"What was looked at"`

	Expectations []reason.Expected `json:"expectations" doc:"What trying each expectation of the policy came to"`
}

// Looked counts what a policy defines.
type Looked struct {
	Files        int `json:"file_count"`
	Keys         int `json:"key_count"`
	Repositories int `json:"repository_count"`
	Channels     int `json:"channel_count"`
	Contracts    int `json:"contract_count"`
	Groups       int `json:"group_count"`
	Assignments  int `json:"assignments"`
	Hosts        int `json:"hosts" doc:"Hosts that it was resolved for; 0 when no service was asked"`
	Unknown      int `json:"unknown" doc:"Hosts that have sent no survey yet, so it could not be resolved for them"`
	Unsure       int `json:"unsure" doc:"Hosts of which it is not known yet whether they have what a repository needs"`
	Upstreams    int `json:"upstreams" doc:"Vendors' Release files that were asked for; 0 when none were"`
	Places       int `json:"place_count" doc:"Places that hosts would get packages from and of which it is known what stands there"`
	Unseen       int `json:"unseen_count" doc:"Places that hosts would get packages from and of which that is not known"`
}

// Revision is a published policy.
type Revision struct {
	Number      int64             `json:"number"`
	Policy      string            `json:"policy" doc:"SHA-256 of the folder"`
	Author      string            `json:"author"`
	Message     string            `json:"message"`
	Created     time.Time         `json:"created"`
	Hosts       int               `json:"hosts" doc:"Hosts that it was last carried to"`
	Fresh       bool              `json:"fresh" doc:"False where publishing found the folder to be that of the newest revision"`
	Diagnostics []diag.Diagnostic `json:"diagnostics,omitempty" doc:"Warnings"`
}

// RevisionList is every revision, the newest first.
type RevisionList struct {
	Revisions []Revision `json:"items"`
	Total     int        `json:"total"`
	Next      int        `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
}

// PastHost is what a host had at a moment.
type PastHost struct {
	Host     string         `json:"host"`
	At       time.Time      `json:"at" doc:"The moment that was asked for"`
	Since    time.Time      `json:"since" doc:"From when on it was so, as far as the host has said"`
	Until    *time.Time     `json:"until,omitempty" doc:"Until when; absent: it is so still"`
	Revision int64          `json:"revision" doc:"That had been carried; 0: none"`
	Survey   *source.Survey `json:"survey,omitempty"`
	Drift    []Finding      `json:"drift" doc:"By the judgement of today; what follows from seats and time is not worked out for the past"`
}

// HealManyOrder asks that hosts are healed, in the waves of their plans.
type HealManyOrder struct {
	To      []string    `json:"to,omitempty" doc:"Hosts, ranges of hosts or groups; all when absent"`
	Where   string      `json:"where,omitempty" maxLength:"4096" doc:"Of them only hosts for which this condition holds, as in policies"`
	Class   []string    `json:"classes,omitempty" doc:"Only hosts with a finding of these classes; of any when absent"`
	Finding *Difference `json:"finding,omitempty" doc:"Only hosts with this finding, as the service tells it"`
	Because string      `json:"because,omitempty" maxLength:"500"`
	Try     bool        `json:"try,omitempty" doc:"Begins nothing, and answers what the waves would be"`
}

// HealOrder says how a host is healed.
type HealOrder struct {
	SetAside bool `json:"set_aside,omitempty" doc:"Files that stop the package manager and are not the policy's are renamed, and kept"`
}

// InviteOrder asks for permission for one host to join.
type InviteOrder struct {
	Host  string `json:"host" minLength:"1" maxLength:"253" pattern:"^[A-Za-z0-9]([A-Za-z0-9.-]*[A-Za-z0-9])?$" doc:"Its name to be"`
	Hours int    `json:"hours,omitempty" minimum:"1" maximum:"720" doc:"How long the token is good; 24 when absent"`
}

// Invite is a one-time permission to join. It is shown once.
type Invite struct {
	Host    string    `json:"host"`
	Token   string    `json:"token" doc:"One-time token; it pins the service's signing key"`
	Expires time.Time `json:"expires"`
}

// Labels replaces the labels of a host.
type Labels struct {
	Labels map[string]string `json:"labels"`
}

// OperatorOrder asks for a new operator, or for a new token of an old one.
type OperatorOrder struct {
	Name string `json:"name" minLength:"1" maxLength:"64" pattern:"^[a-z0-9][a-z0-9._-]*$"`
	Role string `json:"role" enum:"reader,operator"`
}

// Operator is a person or program that signs in.
type Operator struct {
	Name    string    `json:"name"`
	Role    string    `json:"role" enum:"reader,operator"`
	Created time.Time `json:"created"`
	Token   string    `json:"token,omitempty" doc:"Only in the answer that makes it"`
}

// OperatorList is every operator.
type OperatorList struct {
	Operators []Operator `json:"items"`
	Total     int        `json:"total"`
}

// SignIn asks for a browser session.
type SignIn struct {
	Token string `json:"token" minLength:"1" maxLength:"200"`
}

// Session is who is signed in.
type Session struct {
	Operator string `json:"operator"`
	Role     string `json:"role"`
	Service  string `json:"service" doc:"Version of the service"`
}

// Kinds of event that stand for no single thing.
const (
	EventAll  = "all"  // some were lost: look at everything again
	EventBeat = "beat" // nothing changed; the stream is alive
)

// Event tells a listener that something changed.
type Event struct {
	Kind    string `json:"kind" enum:"host,rollout,revision,proposal,waiver,freeze,seats,repository,webhook,shelf,day,all,beat" doc:"What changed; all: look at everything; beat: nothing"`
	Name    string `json:"name" doc:"Which: a host's name, a revision's or rollout's number; empty for several"`
	Command string `json:"command,omitempty" doc:"What was asked for"`
	Seq     int64  `json:"seq,omitempty" doc:"The number of the entry in the journal"`
}
