package source

import (
	"fmt"
	"slices"
)

// The forms of a sheet. A form says which fields count: whoever understands the first one
// alone would pass over what came with the second without a word.
const (
	firstForm = "patient-lantern/sheet/1"
	// NewestForm is the highest form that this version writes and understands.
	NewestForm = 7
)

// FormName names a form.
func FormName(form int) string {
	if form <= 1 {
		return firstForm
	}
	return fmt.Sprintf("patient-lantern/sheet/%d", form)
}

// Form is the least form in which a sheet can be said: the second where it says more than
// files, sources, rules, keys and access, the third where it names the distribution's own keys,
// the fourth where a site has mirrors of the distribution's own entries, or a proxy for them, the
// fifth where it locks packages in a list that is not the policy's own, the sixth where a site has
// something in the place of lists of mirrors, the seventh where upstream stays behind a site's mirror, or
// stands beside the URLs of a source.
func (s *Sheet) Form() int {
	if slices.ContainsFunc(s.Sources, func(x SheetSource) bool { return len(x.Upstream) > 0 }) {
		return 7
	}
	for i := range s.InPlace {
		if slices.ContainsFunc(s.InPlace[i].Mirrors, func(m Mirror) bool { return m.Whole || m.Before }) {
			return 7
		}
	}
	for i := range s.InPlace {
		if slices.ContainsFunc(s.InPlace[i].Mirrors, func(m Mirror) bool { return m.List != "" }) {
			return 6
		}
	}
	if len(s.Locks) > 0 {
		return 5
	}
	for i := range s.InPlace {
		if len(s.InPlace[i].Mirrors) > 0 || s.InPlace[i].Proxy != "" {
			return 4
		}
	}
	for i := range s.InPlace {
		if len(s.InPlace[i].Keys) > 0 {
			return 3
		}
	}
	if len(s.Needs) > 0 || len(s.Witnesses) > 0 || len(s.Licensed) > 0 {
		return 2
	}
	for _, f := range s.Files {
		if f.While != "" || f.IfThere {
			return 2
		}
	}
	for i := range s.Sources {
		x := &s.Sources[i]
		if x.Family != "" || x.While != "" || x.IfThere || x.Level != 0 || len(x.Pins) > 0 || x.Mirrorlist != "" || x.Priority != nil {
			return 2
		}
	}
	for _, r := range s.InPlace {
		if len(r.Sections) > 0 {
			return 2
		}
	}
	return 1
}

// Sheet is what one host should have under one revision of the policy. It
// holds nothing that is particular to one host, so that hosts that should be
// alike share one sheet; it is stored and signed by its Digest.
type Sheet struct {
	Format    string         `json:"format"`
	Family    string         `json:"family"`
	Files     []SheetFile    `json:"files"`    // whole files that belong to the policy
	Sources   []SheetSource  `json:"sources"`  // what each repository must come to
	InPlace   []InPlace      `json:"in_place"` // what must hold of the distribution's own entries
	Keys      []SheetKey     `json:"keys"`
	Access    []SheetAccess  `json:"access,omitempty"`    // credentials that sources need; never the secrets
	Licensed  []SheetSource  `json:"licensed,omitempty"`  // of channels of which the host follows no choice: only to be known when met
	Needs     []SheetNeed    `json:"needs,omitempty"`     // what must be there before anything is changed
	Witnesses []SheetWitness `json:"witnesses,omitempty"` // what must be visible afterwards
	Locks     []SheetLock    `json:"locks,omitempty"`     // what zypper's own list of locks has to hold beside others
	Unlisted  string         `json:"unlisted"`            // report, switch-off or remove

	// Withdrawn are keys that no host may believe any more, wherever they stand. It raises no
	// form: an older agent takes away what else the sheet says of such a key, and that it is
	// still believed is a finding.
	Withdrawn []SheetWithdrawn `json:"withdrawn,omitempty"`
}

// SheetWithdrawn is a signing key that is believed no more.
type SheetWithdrawn struct {
	Key         string `json:"key"` // the policy's name for it; its fingerprint where it has none
	Fingerprint string `json:"fingerprint"`
	Because     string `json:"because"`
	// Stays is true for a key of a distribution's own entries, which are on: it is told of and
	// not taken away, since the host would get no updates at all.
	Stays bool `json:"stays,omitempty"`
}

// WithdrawnKey finds the word about a key that is believed no more; nil where it may be believed.
func (s *Sheet) WithdrawnKey(fingerprint string) *SheetWithdrawn {
	for i := range s.Withdrawn {
		if s.Withdrawn[i].Fingerprint == fingerprint {
			return &s.Withdrawn[i]
		}
	}
	return nil
}

// SheetLock keeps versions of a package away, where the package manager has a list of its own for that.
type SheetLock struct {
	Repository string `json:"repository"`
	Package    string `json:"package"`
	Criteria   string `json:"criteria"` // as Hold has them: "version: >= 2"
}

// What a policy may say about sources that it does not list.
const (
	UnlistedReport    = "report"
	UnlistedSwitchOff = "switch-off"
	UnlistedRemove    = "remove"
)

// SheetFile is a file that the policy owns whole.
type SheetFile struct {
	Path       string `json:"path"`
	Mode       string `json:"mode"` // octal
	Text       string `json:"text"`
	Repository string `json:"repository"`
	// IfThere is true for a file that stays switched off where it stands already
	// and is not made where it does not.
	IfThere bool `json:"if_there,omitempty"`
	// While is the folder of install media: the file stands there while something
	// stands in that folder, and goes with it.
	While string `json:"while,omitempty"`
}

// SheetNeed is what must be there before a repository is switched on.
type SheetNeed struct {
	Repository string            `json:"repository"`
	Packages   []string          `json:"packages,omitempty"`
	ComesBy    []string          `json:"comes_by,omitempty"` // those of the packages that bring the entries which are edited in place
	Free       map[string]int64  `json:"free,omitempty"`     // folder → bytes
	Tools      map[string]string `json:"tools,omitempty"`    // tool → least version
}

// Wants says for what a repository needs one of the packages.
func (n *SheetNeed) Wants(name string) string {
	if slices.Contains(n.ComesBy, name) {
		return n.Repository + " comes by the package " + name
	}
	return n.Repository + " needs the package " + name
}

// SheetWitness is a package that proves that a repository works.
type SheetWitness struct {
	Repository string `json:"repository"`
	Package    string `json:"package"`
	AtLeast    string `json:"at_least,omitempty"`
}

// SheetSource is a source that must stand in a file of the sheet.
type SheetSource struct {
	Repository string   `json:"repository"`
	File       string   `json:"file"`
	ID         string   `json:"id,omitempty"` // name of the section; empty for deb
	Enabled    bool     `json:"enabled"`
	IfThere    bool     `json:"if_there,omitempty"` // as in SheetFile
	Contract   string   `json:"contract,omitempty"` // the contract that opens it
	Kinds      []string `json:"kinds"`
	URLs       []string `json:"urls"` // effective
	Suites     []string `json:"suites"`
	Components []string `json:"components"`
	Archs      []string `json:"architectures"` // empty: the host's own
	SignedBy   []string `json:"signed_by"`     // full fingerprints
	Signatures string   `json:"signatures"`    // required or off
	Support    string   `json:"support"`

	Family     string   `json:"family,omitempty"`     // where it is another than the sheet's: flatpak
	Title      string   `json:"title,omitempty"`      // flatpak only
	Mirrorlist string   `json:"mirrorlist,omitempty"` // effective
	Priority   *int     `json:"priority,omitempty"`   // the package manager's number; nil: none is written
	Pins       []string `json:"pins,omitempty"`       // deb: what the pins of that number match
	Level      int      `json:"level,omitempty"`      // how many repositories of the policy stand below it
	While      string   `json:"while,omitempty"`      // as in SheetFile
	Upstream   []string `json:"upstream,omitempty"`   // effective: what the URLs are at upstream, where they are of a site's mirror
}

// Rules reports whether the sheet says that a section of the distribution's own is on. It may be nil.
func (s *Sheet) Rules(section string) bool {
	return s != nil && slices.ContainsFunc(s.InPlace, func(r InPlace) bool { return r.Rules(section) })
}

// Rules reports whether the rule says that a section is on.
func (r *InPlace) Rules(section string) bool {
	return r.Enabled && slices.Contains(r.Sections, section)
}

// InPlace says what must hold of entries that belong to the distribution and
// are edited where they stand.
type InPlace struct {
	Repository string   `json:"repository"`
	URLs       []string `json:"urls"`   // effective; empty: whatever stands in Files
	Files      []string `json:"files"`  // where a distribution of this kind keeps its entries
	Suites     []string `json:"suites"` // each must be covered by an entry
	Enabled    bool     `json:"enabled"`
	Components []string `json:"components"` // exactly these, in any order; empty: no rule
	Add        []string `json:"add"`        // these as well
	Drop       []string `json:"drop"`       // none of these
	// Sections are the names of sections of the distribution's own, for package
	// managers whose files have sections. The fields from URLs to Drop but Enabled
	// are apt's.
	Sections []string `json:"sections,omitempty"`
	// Signatures is off where the policy says that nobody checks these entries; empty
	// elsewhere.
	Signatures string `json:"signatures,omitempty"`
	// ComesBy is the package that brings the entries; empty where the policy does not say.
	ComesBy string `json:"comes_by,omitempty"`
	// Keys are fingerprints of the distribution's own keys: one of them may come to be believed
	// where the distribution keeps its keys, and is what the policy expects.
	Keys []string `json:"keys,omitempty"`
	// Mirrors are those of the host's site, the longest first: entries that are on come from
	// there.
	Mirrors []Mirror `json:"mirrors,omitempty"`
	// Proxy is what sections that are on go through to all that has no mirror at the site.
	Proxy string `json:"proxy,omitempty"`
}

// Paths are the files that are the policy's own. The map is the caller's.
func (s *Sheet) Paths() map[string]bool {
	out := make(map[string]bool, len(s.Files))
	for _, f := range s.Files {
		out[f.Path] = true
	}
	return out
}

// SheetKey is a signing key that sources of the sheet name.
type SheetKey struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
	Path        string `json:"path"` // the key's own file, or empty where it is embedded
}

// SheetAccess is a credential that sources of the sheet need. A sheet says where it
// stands and in which form; its secret comes to the host apart from the sheet.
type SheetAccess struct {
	Account      string       `json:"account"`
	Contract     string       `json:"contract"` // the policy's name for it
	Kind         string       `json:"kind"`     // basic or client-certificate
	Repositories []string     `json:"repositories"`
	Files        []AccessFile `json:"files"`
}

// AccessFile is a file that holds a secret, or a part of one.
type AccessFile struct {
	Path string   `json:"path"`
	Mode string   `json:"mode"` // octal
	Form string   `json:"form"` // how the secret is written; see the package credential
	URLs []string `json:"urls,omitempty"`
	// Without is what stands there while there is no access; where it is empty there
	// is no file then.
	Without string `json:"without,omitempty"`
}
