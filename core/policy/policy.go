// Package policy reads the folder of text files that a team writes, and says
// where and why it cannot be taken.
package policy

import (
	"time"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/series"
	"patientlantern.example/lantern/core/source"
)

// Format is the first line of every policy file.
const Format = "patient-lantern/1"

// Everyone is the group that every host is in.
const Everyone = "everyone"

// Policy is a folder, read. Names are unique over all files.
type Policy struct {
	Keys         map[string]*Key
	Withdrawn    map[string]*Withdrawal // by the name of the key
	Repositories map[string]*Repository
	Contracts    map[string]*Contract
	Channels     map[string]*Channel
	Groups       map[string]*Group
	Labels       map[string]map[string]Text // host → label → value
	Plans        map[string]*Plan
	Sites        map[string]*Site
	Assignments  []*Assignment
	Expectations []*Expectation
	Consent      bool           // somebody else than who proposes a folder must agree to it
	Notice       time.Duration  // keys that end within it are spoken of
	Levels       map[string]int // repository → how many stand below it, 0 where no order is said
	Files        []string       // names of the files that were read, sorted
}

// Key is a signing key, pinned.
type Key struct {
	Name        string
	Pos         diag.Pos
	File        string // inside the folder
	Fingerprint string
	Succeeds    *Text  // the key that it takes over from
	Because     string // why it is trusted though it is weak
	Armored     string // the pinned certificate alone
	Weakness    string // why it is weak, or empty
	Describe    source.Key
}

// Withdrawal takes a key away from every repository that names it. What a key that succeeds it
// signs stays believed; a repository that is left without a key is off.
type Withdrawal struct {
	Key     string // its name in the policy; its fingerprint where the policy has no other use for it
	Pos     diag.Pos
	Because string
	Author  string
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
	spoilt     bool                // a key of it was not understood
	At         map[string]diag.Pos // key → where it stands
	Trusts     []Text              // Keys, with those that succeed them and without those that are withdrawn
	Keyless    bool                // all of its keys are withdrawn, so it is off
	Signatures string              // required or off
	Because    string
	Enabled    bool
	InPlace    bool
	Above      []Text // repositories that it wins over
	Below      []Text // repositories that win over it
	Media      *Media
	Needs      *Needs
	Witness    *Witness
	Definition
	Cases []Case
}

// Media is install media, or a folder, that one host holds.
type Media struct {
	Pos  diag.Pos
	Host Text
	Path Text
	URL  *Text // where the other hosts find it; nil: they do not
}

// MediaName stands in a URL where media is found: file: and its path on the host that
// holds it, its URL elsewhere.
const MediaName = "media"

// Needs is what must be there before a repository is switched on.
type Needs struct {
	Pos          diag.Pos
	Packages     []Text
	Repositories []Text
	Free         map[string]int64 // folder → bytes
	Tools        map[string]Text  // tool → least version
}

// Witness is a package that proves that a repository works.
type Witness struct {
	Pos     diag.Pos
	Package Text
	AtLeast Text // empty: any version
}

// Definition is what a repository, or one file of it, is to each family of
// package managers; nil where it says nothing about one.
type Definition struct {
	Deb   *Deb
	Rpm   *Place
	Zypp  *Place
	Arch  *Place
	Flat  *Place  // flatpak, system-wide
	Files []Extra // further files of the repository
}

// Extra is a further file of a repository, for vendors that need several.
type Extra struct {
	Name string
	Pos  diag.Pos
	Definition
}

// Case changes a repository for the hosts on which a condition holds.
type Case struct {
	Pos     diag.Pos
	Where   *condition.Condition
	Enabled *bool
	Needs   *Needs   // as well as what is needed anyway
	Witness *Witness // instead
	Definition
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
	Mirrors    []Text
	Pin        *Text
	Releases   []Release // what the Release files of its suites say
	Priority   *int
	ComesBy    *Text    // in place: the package that brings the entries
	Needs      *Needs   // of hosts with apt, as well as what is needed anyway
	Witness    *Witness // of hosts with apt, instead
}

// Release is what the Release file of a suite says of it, as the policy has it.
type Release struct {
	Pos                  diag.Pos
	Origin               *Text
	Label                *Text
	Suite                *Text
	Codename             *Text
	NotAutomatic         bool
	ButAutomaticUpgrades bool
}

// Texts are the fields in which names are filled in.
func (r *Release) Texts() (out []*Text) {
	for _, t := range []*Text{r.Origin, r.Label, r.Suite, r.Codename} {
		if t != nil {
			out = append(out, t)
		}
	}
	return out
}

// Place is what a repository is to dnf, zypper, pacman or flatpak. Nil lists are not
// given.
type Place struct {
	Pos       diag.Pos
	URL       *Text
	Mirrors   []Text
	Sections  []Text // in place: names of the distribution's own sections
	ComesBy   *Text  // in place: the package that brings them
	Priority  *int
	Access    *Text    // how a licensed one is opened; nil: by login
	Authority *Text    // rpm only: certificates that vouch for the server
	Needs     *Needs   // of hosts of the family, as well as what is needed anyway
	Witness   *Witness // of hosts of the family, instead
}

// Requirements yields what a repository wants of hosts anyway, per family and in cases.
func (r *Repository) Requirements(yield func(*Needs, *Witness) bool) {
	definition := func(d *Definition) bool {
		if d.Deb != nil && !yield(d.Deb.Needs, d.Deb.Witness) {
			return false
		}
		for _, p := range []*Place{d.Rpm, d.Zypp, d.Arch, d.Flat} {
			if p != nil && !yield(p.Needs, p.Witness) {
				return false
			}
		}
		return true
	}
	if !yield(r.Needs, r.Witness) || !definition(&r.Definition) {
		return
	}
	for i := range r.Cases {
		c := &r.Cases[i]
		if !yield(c.Needs, c.Witness) || !definition(&c.Definition) {
			return
		}
	}
}

// How a licensed repository is opened on a host.
const (
	AccessLogin       = "login"
	AccessCertificate = "client-certificate" // dnf only
	AccessToken       = "token-url"          // dnf and zypper: ${access.token} stands in the url
	AccessInURL       = "login-in-url"       // pacman, which has no other way
)

// TokenName stands in a URL where the token goes.
const TokenName = "access.token"

// Accesses lists the ways of each family; the first is taken where none is given.
// pacman's must be given: a login in a URL is for those who insist.
var Accesses = map[string][]string{
	"rpm":  {AccessLogin, AccessCertificate, AccessToken},
	"zypp": {AccessLogin, AccessToken},
	"arch": {AccessInURL},
}

// Places are the parts of a definition that are Places, by family.
func (d *Definition) Places() map[string]*Place {
	return map[string]*Place{"rpm": d.Rpm, "zypp": d.Zypp, "arch": d.Arch, "flatpak": d.Flat}
}

// Empty reports whether a definition says nothing about any family.
func (d *Definition) Empty() bool {
	return d.Deb == nil && d.Rpm == nil && d.Zypp == nil && d.Arch == nil && d.Flat == nil
}

// Contract names what a vendor sold, under a name that outlasts renewals.
type Contract struct {
	Name    string
	Pos     diag.Pos
	Title   string
	Account Text
	Numbers []Text // only these of the account's contracts; empty: any
}

// Channel is a choice between repositories that stand for each other.
type Channel struct {
	Name    string
	Pos     diag.Pos
	Title   string
	Choices []*Choice // by name
}

// Choice returns the choice of that name, or nil.
func (c *Channel) Choice(name string) *Choice {
	for _, x := range c.Choices {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// Choice is one of the repositories of a channel.
type Choice struct {
	Name       string
	Pos        diag.Pos
	Repository Text
	Contract   *Text           // what it needs; nil for an open one
	Opens      Text            // what the vendor's desk calls it
	Pinned     string          // the version that it stays at; empty: rolling
	Hold       []Text          // packages that are held at the series
	Series     series.Series   // of that version, where packages are held
	Variants   map[string]Text // debug, source → repository, for those who ask for them
}

// Kinds of variant of a choice.
const (
	VariantDebug  = "debug"
	VariantSource = "source"
)

// Follow says which choice of a channel an assignment follows.
type Follow struct {
	Pos      diag.Pos
	Choice   Text
	Variants []Text
}

// How seats are taken for a group.
const (
	SeatsByHand    = "by-hand"
	SeatsAutomatic = "automatic"
)

// Decision is a recorded decision to run without a contract.
type Decision struct {
	Pos     diag.Pos
	Because string
	Author  string
	Review  time.Time // the day on which it is looked at again
}

// Group is a named set of hosts.
type Group struct {
	Name   string
	Pos    diag.Pos
	Hosts  []string // expanded names
	Where  *condition.Condition
	Of     []Text // groups whose hosts are in it too
	Except []Text // groups whose hosts are not in it
	Bare   bool   // it stands for hosts that are named where a group could be
}

// What is done about findings of a class.
const (
	DoReport = "report"
	DoHeal   = "heal"
)

// Rule says what is done about findings of a class, and what weight they have; nil where it
// does not say.
type Rule struct {
	Pos      diag.Pos
	Do       *Text
	Severity *Text
}

// Assignment gives repositories to a group.
type Assignment struct {
	Pos          diag.Pos
	To           []Text
	Over         []Text
	Repositories []Text
	Channels     map[string]Follow
	Seats        *Text // by-hand or automatic
	Without      *Decision
	Unlisted     *Text
	Plan         *Text
	Site         *Text
	ReadLogins   *Text              // "true": agents may read who used sudo
	Findings     map[string]Rule    // class of finding → what is done about it
	Settings     map[string]Setting // repository.setting → value
}
