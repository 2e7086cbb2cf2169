package api

import (
	"slices"
	"time"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trace"
)

// AgentAudience is the audience of the tokens that agents sign.
const AgentAudience = "patient-lantern"

// Types of what the service signs, in the header of the JWS.
const (
	TypeDelivery = "lantern-delivery+jws"
	TypeGrant    = "lantern-access+jws"
)

// Join asks to take a host into the fleet.
type Join struct {
	Token string `json:"token" doc:"The one-time token of an invitation"`
	Key   string `json:"key" doc:"The agent's public key, a JWK (RFC 7517) of an Ed25519 key"`
}

// Joined answers a Join.
type Joined struct {
	Host    string `json:"host" doc:"The name under which the host is enrolled"`
	Service string `json:"service" doc:"The service's signing key, a JWK; its thumbprint is in the invitation"`
}

// CheckIn says by digest how a host stands.
type CheckIn struct {
	Traits   string           `json:"traits" doc:"Digest of the traits document"`
	Survey   string           `json:"survey" doc:"Digest of the survey document"`
	Revision int64            `json:"revision" doc:"The revision that the agent last carried out"`
	Sheet    string           `json:"sheet" doc:"Digest of its sheet"`
	Agent    string           `json:"agent" doc:"Version of the agent"`
	Form     int              `json:"form,omitempty" doc:"The newest form of sheets that the agent understands"`
	Free     map[string]int64 `json:"free,omitempty" doc:"Free bytes by mount point, when they changed much"`
	Access   *HostAccess      `json:"access,omitempty" doc:"The access on the host, when it changed; never a secret"`
	Sources  *SourcesLook     `json:"sources,omitempty" doc:"Whether the sources of the policy can be refreshed, when that was looked at anew"`
	Zone     string           `json:"zone,omitempty" doc:"The host's time zone, by its name in the tz database"`
	Instance string           `json:"instance,omitempty" doc:"Tells runs of the agent apart: two that take turns are two machines"`
	Trouble  string           `json:"trouble,omitempty" doc:"What keeps the agent from working, in one line"`
	Unsent   string           `json:"unsent,omitempty" doc:"Why the service has not taken the survey, in one line"`
	Base     string           `json:"base,omitempty" doc:"Digest of the survey of which the agent keeps the files, to put them back"`
	Packages *Packages        `json:"packages,omitempty" doc:"Which of the packages that were asked for are installed"`
	Traced   *Traced          `json:"traced,omitempty" doc:"What the host knows of files that it was asked for"`
}

// Traced tells when files were written, and what stood near in time.
type Traced struct {
	Survey string                   `json:"survey" doc:"Digest of the survey as of which the host was asked"`
	Files  map[string]trace.Touched `json:"files" doc:"By path"`
}

// Packages answers which of some packages are installed on a host.
type Packages struct {
	Asked     string            `json:"asked" doc:"Stamp of the list that this answers"`
	Installed map[string]string `json:"installed" doc:"Package to version; those that are not installed are left out"`

	Came map[string]origin.Came `json:"came,omitempty" doc:"What is installed from sources that were asked for and that it has, by their keys"`
}

// HostAccess is the access on a host.
type HostAccess struct {
	Files  []credential.HeldFile `json:"files" doc:"The files that the agent keeps for sheets"`
	Others []source.Access       `json:"others" doc:"All credentials that the survey found, with what is particular to the host"`
}

// CheckInAnswer is what the service wants of the agent.
type CheckInAnswer struct {
	Want     []string `json:"want,omitempty" doc:"Digests of documents to send"`
	Work     bool     `json:"work,omitempty" doc:"A delivery waits for this host"`
	Access   string   `json:"access,omitempty" doc:"Stamp of the access that it should have; the agent asks for another one"`
	Keep     bool     `json:"keep,omitempty" doc:"The files are as they are to stay: the agent keeps them, to put them back"`
	Watch    int      `json:"watch,omitempty" doc:"Milliseconds between looks at whether sources can be refreshed; 0: none"`
	Interval int      `json:"interval" doc:"Milliseconds until the next check-in, if nothing happens"`
	Asked    string   `json:"asked,omitempty" doc:"Stamp of the list of packages that policies ask for; the agent looks for those of another"`
	Packages []string `json:"packages,omitempty" doc:"That list, where the stamp of the agent's last answer is another"`
	Trace    []string `json:"trace,omitempty" doc:"Files of findings of which it is asked when they were written, and what stood near in time"`
	Logins   bool     `json:"logins,omitempty" doc:"The policy lets the agent read who used sudo"`
	Sources  []string `json:"sources,omitempty" doc:"Keys of sources of which it is asked what is installed from them"`

	AccessStays bool `json:"access_stays,omitempty" doc:"The access stays as it is: the service knows less of the host than that has carried out"`
}

// SourcesLook is whether the sources of the policy could be refreshed on a host, on the side
// and between changes.
type SourcesLook struct {
	At      time.Time       `json:"at"`
	Looked  int             `json:"looked" doc:"Sources that were looked at"`
	Bad     []SourceOutcome `json:"bad" doc:"Those that could not be refreshed"`
	Trouble string          `json:"trouble,omitempty" doc:"Why not all could be looked at"`
}

// Same reports whether two looks saw the same.
func (l *SourcesLook) Same(other *SourcesLook) bool {
	return l.Looked == other.Looked && l.Trouble == other.Trouble && slices.Equal(l.Bad, other.Bad)
}

// Documents brings documents that the service has not seen.
type Documents struct {
	Documents []Document `json:"documents"`
}

// Document is one document; its name is the SHA-256 of its body.
type Document struct {
	Kind string `json:"kind" enum:"traits,survey,text"`
	Body []byte `json:"body"`
}

// Delivery is the payload of a signed delivery (JWS, RFC 7515, EdDSA). It binds a
// sheet to a host for a time.
type Delivery struct {
	Host     string    `json:"host"`
	Revision int64     `json:"revision" doc:"Never less than that of an earlier delivery to this host, unless that is taken back"`
	Sheet    string    `json:"sheet" doc:"SHA-256 of the sheet document"`
	Rollout  int64     `json:"rollout"`
	BackOut  int64     `json:"back_out,omitempty" doc:"The rollout whose change is taken back, from the host's own copies"`
	PutBack  bool      `json:"put_back,omitempty" doc:"What is not as it was when the policy came is put back"`
	SetAside bool      `json:"set_aside,omitempty" doc:"Files that stop the package manager are renamed, and kept"`
	Issued   time.Time `json:"issued"`
	Expires  time.Time `json:"expires"`
}

// Steps of carrying a delivery out, in order.
const (
	StepVerify  = "verify"  // the delivery and the sheet are genuine and for this host
	StepSurvey  = "survey"  // read what stands there
	StepPlan    = "plan"    // find the edits
	StepJournal = "journal" // write down what will be done
	StepStage   = "stage"   // write the new files beside the old ones
	StepTry     = "try"     // ask the package manager on the side
	StepAccess  = "access"  // put in place what opens licensed sources
	StepSwap    = "swap"    // put the new files in place
	StepRefresh = "refresh" // refresh the metadata
	StepProve   = "prove"   // survey again and compare with the sheet
)

// Report says how carrying a delivery out went.
type Report struct {
	Rollout   int64            `json:"rollout"`
	Revision  int64            `json:"revision"`
	Sheet     string           `json:"sheet"`
	State     string           `json:"state" enum:"working,done,unchanged,failed,stopped"`
	Cause     *cause.Meaning   `json:"cause,omitempty" doc:"In answers: what the message means, where its words are known"`
	Step      string           `json:"step" doc:"The step that failed, or the last one"`
	Message   string           `json:"message" doc:"What went wrong, in one line"`
	Undone    bool             `json:"undone" doc:"The files were put back as they were"`
	Kept      []string         `json:"kept,omitempty" doc:"Files that were not put back, since that would bring a danger back"`
	Around    []string         `json:"around,omitempty" doc:"What stopped the package manager before already, and was gone around"`
	Edits     []PreviewFile    `json:"edits"`
	Sources   []SourceOutcome  `json:"sources"`
	Witnesses []WitnessSeen    `json:"witnesses,omitempty" doc:"Packages that proved that sources work"`
	Refresh   string           `json:"refresh" doc:"How the metadata was refreshed: apt-get, or own reading"`
	Survey    string           `json:"survey" doc:"Digest of the survey afterwards"`
	Took      map[string]int64 `json:"took" doc:"Milliseconds by step"`
}

// WitnessSeen is a package that proved that a repository works.
type WitnessSeen struct {
	Repository string `json:"repository"`
	Package    string `json:"package"`
	Version    string `json:"version"`
}

// SourceOutcome is how refreshing one source went.
type SourceOutcome struct {
	File    string         `json:"file"`
	Line    int            `json:"line"`
	URL     string         `json:"url"`
	Suite   string         `json:"suite"`
	OK      bool           `json:"ok"`
	Message string         `json:"message"`
	Cause   *cause.Meaning `json:"cause,omitempty" doc:"In answers: what the message means, where its words are known"`
}
