// Package policy reads the folder of text files that a team writes, and says
// where and why it cannot be taken.
package policy

import (
	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/source"
)

// Format is the first line of every policy file.
const Format = "patient-lantern/1"

// Everyone is the group that every host is in.
const Everyone = "everyone"

// Policy is a folder, read. Names are unique over all files.
type Policy struct {
	Keys         map[string]*Key
	Repositories map[string]*Repository
	Groups       map[string]*Group
	Assignments  []*Assignment
	Files        []string // names of the files that were read, sorted
}

// Key is a signing key, pinned.
type Key struct {
	Name        string
	Pos         diag.Pos
	File        string // inside the folder
	Fingerprint string
	Armored     string // the pinned certificate alone
	Describe    source.Key
}

// Text is a piece of text from the policy, with its place.
type Text struct {
	Value string
	Pos   diag.Pos
}

// Setting is a named value of a repository.
type Setting = Text

// Repository is one logical place that packages come from.
type Repository struct {
	Name       string
	Pos        diag.Pos
	Title      string
	Support    string
	Settings   map[string]Setting
	Keys       []Text
	Signatures string // required or off
	Because    string
	Enabled    bool
	InPlace    bool
	Deb        *Deb
	Cases      []Case
}

// Case changes a repository for the hosts on which a condition holds.
type Case struct {
	Pos     diag.Pos
	Where   *condition.Condition
	Enabled *bool
	Deb     *Deb
}

// Deb is what a repository is to apt. Nil lists are not given.
type Deb struct {
	Pos        diag.Pos
	URL        *Text
	Suites     []Text
	Components []Text
	Archs      []Text
	Kinds      []Text
	Add        []Text
	Drop       []Text
}

// Group is a named set of hosts.
type Group struct {
	Name  string
	Pos   diag.Pos
	Hosts []string // expanded names
	Where *condition.Condition
}

// Assignment gives repositories to a group.
type Assignment struct {
	Pos          diag.Pos
	To           []Text
	Over         []Text
	Repositories []Text
	Unlisted     *Text
	Settings     map[string]Setting // repository.setting → value
}
