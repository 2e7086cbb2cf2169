package api

import (
	"time"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/preview"
)

// Preview is what carrying a revision would change.
type Preview struct {
	Revision   int64                `json:"revision" doc:"0 for a folder that is not published"`
	Changing   int                  `json:"changing" doc:"Hosts that would change"`
	Steady     int                  `json:"steady" doc:"Hosts that have all of it already"`
	Drifted    int                  `json:"drifted" doc:"Those of them with findings that carrying it leaves as they are"`
	Unknown    []string             `json:"unknown_names" doc:"Hosts that have sent no survey yet"`
	Unmanaged  int                  `json:"unmanaged" doc:"Hosts of a family that this release cannot change"`
	Unsure     []string             `json:"unsure_names" doc:"Hosts of which it is not known yet whether they have what a repository needs"`
	Silent     int                  `json:"silent,omitempty" doc:"Hosts that would change and are silent: what is told of them is what they said last"`
	Quiet      []string             `json:"silent_names,omitempty" doc:"Some of them"`
	Seats      SeatsAhead           `json:"seats_ahead" doc:"What seats it needs"`
	Gone       []preview.Gone       `json:"sources_gone" doc:"Sources in use that would go, with what came from them"`
	Swaps      []preview.Swap       `json:"swaps" doc:"Installed packages of which the change would decide otherwise, what goes down first"`
	Refused    []RefusedPlace       `json:"refused" doc:"Places that would come, and that the service saw refused"`
	Unforeseen []preview.Unforeseen `json:"unforeseen" doc:"Hosts of which it is not known, or not all, what would be swapped"`
	Waves      []RolloutPart        `json:"parts" doc:"In which waves it would be carried by the plans of the hosts, one part for each plan"`
	Groups     []PreviewGroup       `json:"groups" doc:"Hosts with identical changes, the largest group first"`
}

// RefusedPlace is a place that packages come from, and that the service refuses.
type RefusedPlace struct {
	Key     string    `json:"key"`
	Address string    `json:"address"`
	Hosts   int       `json:"hosts" doc:"Hosts that would change, and get packages from it afterwards"`
	Says    string    `json:"says"`
	Remedy  string    `json:"remedy"`
	Checked time.Time `json:"checked"`
}

// PreviewGroup is hosts that would change in the same way.
type PreviewGroup struct {
	Hosts      []string      `json:"names"`
	Weakens    []string      `json:"weakens,omitempty" doc:"What makes these hosts easier to attack"`
	Overrides  []string      `json:"overrides,omitempty" doc:"Which sources come to stand above others"`
	Diff       string        `json:"diff"`
	Files      []PreviewFile `json:"files"`
	Impossible []string      `json:"impossible"`
}

// PreviewFile is what happens to one file, and why.
type PreviewFile struct {
	Path   string   `json:"path"`
	Action string   `json:"action" enum:"create,edit,remove,distrust" doc:"distrust: a key goes out of a keyring that its package manager alone writes"`
	Why    []string `json:"reasons"`
}

// PreviewFiles tells what a change does, in its order; never nil.
func PreviewFiles(c *change.Change) []PreviewFile {
	out := []PreviewFile{}
	for _, e := range c.Edits {
		out = append(out, PreviewFile{Path: e.Path, Action: e.Action, Why: e.Why})
	}
	for _, d := range c.Distrusts {
		out = append(out, PreviewFile{Path: d.Where, Action: change.Distrust, Why: []string{d.Why}})
	}
	return out
}
