package api

import (
	"time"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/upstream"
)

// States of a place that packages come from, as the service's own looks tell.
const (
	PlaceTrouble  = "trouble"  // it was looked at, and what stands there is refused
	PlaceUnknown  = "unknown"  // it was not looked at, or cannot be
	PlaceUnsigned = "unsigned" // it was read, and nothing that the policy pins vouches for it
	PlaceGood     = "good"     // it was read, and a pinned key signed it
)

// PlaceStates are all of them, from worst to best.
var PlaceStates = []string{PlaceTrouble, PlaceUnknown, PlaceUnsigned, PlaceGood}

// RepositoryPage is one page of the places that packages come from.
type RepositoryPage struct {
	Repositories []Repository   `json:"items"`
	Total        int            `json:"total"`
	Next         int            `json:"next,omitempty" doc:"The page that follows; absent on the last one"`
	States       map[string]int `json:"states" doc:"Places by state, before they are picked by it"`
	Revision     int64          `json:"revision" doc:"The newest one; 0: nothing is published"`
	Unknown      int            `json:"unknown" doc:"Hosts of which it is not known where their packages come from: they sent no survey"`
	Silent       int            `json:"silent,omitempty" doc:"Hosts that are silent: what is told of them is what they said last"`
	Every        int            `json:"every" doc:"Seconds between looks; 0: the service looks when it is asked to, and not by itself"`
	Pending      int            `json:"pending" doc:"Places that are being looked at"`
}

// Repository is a place that packages come from, which hosts ask for alike.
type Repository struct {
	Key string `json:"key"`
	upstream.Place
	Address   string           `json:"address" doc:"What people call it by"`
	Names     []string         `json:"names" doc:"Repositories of the policy that it is of; none: the policy does not say that hosts use it"`
	Hosts     int              `json:"hosts" doc:"Hosts that get packages from it"`
	Contracts []string         `json:"opened_by,omitempty" doc:"What opens it"`
	Through   []string         `json:"through,omitempty" doc:"Proxies of sites that hosts go through to it, and the service as well"`
	Witnesses []WitnessOffered `json:"witnesses,omitempty"`
	Look      RepositoryLook   `json:"look"`
	Keys      []RepositoryKey  `json:"keys,omitempty" doc:"Keys that hosts believe it by"`
	On        []RepositoryHost `json:"on,omitempty" doc:"A page of its hosts; only where one place is shown"`
	OnTotal   int              `json:"on_total,omitempty"`
}

// RepositoryKey is a key that hosts believe a place by.
type RepositoryKey struct {
	Fingerprint string `json:"fingerprint"`
	Policy      string `json:"policy,omitempty" doc:"Its name in the newest revision; absent: the policy does not know it"`
	Signs       bool   `json:"signs,omitempty" doc:"What stands there is signed by it"`
}

// RepositoryHost is a host that gets packages from a place.
type RepositoryHost struct {
	Host string `json:"host"`
	OS   string `json:"os"`
	File string `json:"file"`
}

// WitnessOffered is a package that proves that a repository works, as the service saw it.
type WitnessOffered struct {
	Package string `json:"package"`
	AtLeast string `json:"at_least,omitempty"`
	Offered string `json:"offered,omitempty" doc:"The newest version; absent: it is not offered"`
	OK      bool   `json:"ok"`
}

// RepositoryLook is how the last look of the service at a place ended.
type RepositoryLook struct {
	State    string          `json:"state" enum:"trouble,unknown,unsigned,good"`
	Checked  *time.Time      `json:"checked,omitempty" doc:"absent: never"`
	Since    *time.Time      `json:"since,omitempty" doc:"Since when it has been so"`
	Kind     cause.Kind      `json:"kind,omitempty" doc:"Why what stands there is refused"`
	Says     string          `json:"says,omitempty" doc:"The same in words"`
	Why      string          `json:"why,omitempty" doc:"What exactly, or why it is not known"`
	Remedy   string          `json:"remedy,omitempty"`
	By       string          `json:"by,omitempty" doc:"The key that signed instead of a pinned one"`
	Found    *upstream.Found `json:"found,omitempty" doc:"What was believed last"`
	Packages int             `json:"package_count" doc:"Offered when it was believed last"`
	Read     *time.Time      `json:"read,omitempty" doc:"When it was believed last"`
	Changes  *index.Changes  `json:"changes,omitempty" doc:"How the packages differ from those of before"`
	Changed  *time.Time      `json:"changed,omitempty"`
}

// ProbeOrder asks for a look at places now.
type ProbeOrder struct {
	Which []string `json:"which,omitempty" maxItems:"1000" doc:"Keys or addresses of places, or names of repositories; empty: all"`
}
