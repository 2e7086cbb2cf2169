// Package reason holds the words in which it is said why something is on a host.
package reason

import "patientlantern.example/lantern/core/diag"

// Explanation says why a host has what its sheet says, and why it has not what other
// hosts have.
type Explanation struct {
	Host         string             `json:"host"`
	Files        []FileReason       `json:"files" doc:"Files that the policy owns, line by line"`
	Rules        []RuleReason       `json:"rules" doc:"What must hold of the distribution's own entries"`
	Repositories []RepositoryReason `json:"repositories" doc:"Every repository of the policy: there, kept off, or not there"`
	Fates        []Fate             `json:"fates,omitempty" doc:"What becomes of each source of its last survey"`
	Edited       *EditedFile        `json:"edited,omitempty" doc:"A file that is not the policy's own, where one was asked about"`
}

// EditedFile is a file of the distribution's, or of somebody else, with its entries.
type EditedFile struct {
	Path  string `json:"path"`
	Fates []Fate `json:"fates"`
}

// FileReason is one file of the sheet.
type FileReason struct {
	Path       string       `json:"path"`
	Repository string       `json:"repository"`
	Lines      []LineReason `json:"lines"`
	While      string       `json:"media_folder,omitempty" doc:"Folder of media with which the file comes and goes on this host"`
	Media      string       `json:"media_state,omitempty" enum:"there,away,unknown" doc:"Whether something stood in it at the last survey"`
}

// Whether media were there.
const (
	MediaThere   = "there"
	MediaAway    = "away"
	MediaUnknown = "unknown" // the file was not carried to the host yet, so nobody has looked
)

// LineReason is one line of a file, with what made it.
type LineReason struct {
	Number int     `json:"number"`
	Text   string  `json:"text"`
	Causes []Cause `json:"causes"`
}

// RuleReason is one thing that must hold of the distribution's own entries.
type RuleReason struct {
	Repository string   `json:"repository"`
	Text       string   `json:"text"`
	Causes     []Cause  `json:"causes"`
	Stands     []string `json:"kept_in,omitempty" doc:"Files in which a distribution of this kind keeps such entries"`
	Sections   []string `json:"sections,omitempty" doc:"Sections that it is about"`
}

// Cause is one reason, and where it stands in the policy; facts of the host stand
// nowhere in it.
type Cause struct {
	What string    `json:"what"`
	At   *diag.Pos `json:"place,omitempty"`
}

// Ways in which a repository can stand to a host.
const (
	On     = "on"     // its sources are on
	Off    = "off"    // they are kept, and off
	Absent = "absent" // the host does not have it
)

// RepositoryReason is one repository of the policy, as it stands to a host.
type RepositoryReason struct {
	Name   string   `json:"name"`
	State  string   `json:"state" enum:"on,off,absent"`
	Above  []string `json:"above" doc:"Repositories of the host that it wins over"`
	Causes []Cause  `json:"causes"`
}
