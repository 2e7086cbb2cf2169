// Package source holds the words of the product as types: what is configured
// on a host (Survey) and what should be (Sheet). It stands on nothing but the
// standard library; every other package of core speaks in these types.
package source

import "time"

// Survey is what one host does have. It is public: its JSON form is what
// `lantern read` prints, and docs/survey.md describes each field.
type Survey struct {
	Traits   Traits    `json:"traits"`
	Sources  []Source  `json:"sources"`
	Keys     []Key     `json:"keys"`
	Access   []Access  `json:"access"`
	Problems []Problem `json:"problems"`

	// Files names the text of every source file that was read, passwords
	// masked, by digest. Only an agent fills it: it lets the service show the
	// exact lines of a change. `lantern read` leaves it out.
	Files []File `json:"files,omitempty"`
}

// File is one source file as it stood when it was read.
type File struct {
	Path   string `json:"path"`   // inside the root, with a leading slash
	Digest string `json:"digest"` // SHA-256 (hex) of the text with passwords masked
	Mode   string `json:"mode"`   // permission bits, octal
}

// Traits are facts that are read off a host.
type Traits struct {
	OS            OS                `json:"os"`
	Family        string            `json:"family"`        // deb, rpm, zypp, arch or empty
	Arch          string            `json:"arch"`          // the kernel's word: x86_64, aarch64
	Architectures []string          `json:"architectures"` // the family's words, native first
	CPU           CPU               `json:"cpu"`
	Tools         map[string]string `json:"tools"`          // package tool → version
	Free          map[string]int64  `json:"free,omitempty"` // mount point → free bytes
}

// OS is the operating system as os-release(5) declares it.
type OS struct {
	ID       string   `json:"id"`
	IDLike   []string `json:"id_like"`
	Version  string   `json:"version"`
	Codename string   `json:"codename"`
	Name     string   `json:"name"`
}

// CPU is the processor's vendor and its x86-64 level (0 where levels do not exist).
type CPU struct {
	Vendor string `json:"vendor"`
	Level  int    `json:"level"`
}

// Reasons why a Source is off.
const (
	OffByFlag      = "flag"
	OffByComment   = "comment"
	OffByFilename  = "filename"
	OffByDuplicate = "duplicate"
	OffAsInvalid   = "invalid"
)

// How strictly a package manager checks signatures.
const (
	CheckRequired = "required"
	CheckOptional = "optional"
	CheckOff      = "off"
)

// Source is one definition of a package source as it stands in a file.
type Source struct {
	Family     string            `json:"family"`
	File       string            `json:"file"`
	Line       int               `json:"line"`
	ID         string            `json:"id"`
	Name       string            `json:"name"`
	Enabled    bool              `json:"enabled"`
	DisabledBy string            `json:"disabled_by"`
	Kinds      []string          `json:"kinds"`
	URLs       []string          `json:"urls"`
	EffURLs    []string          `json:"effective_urls"`
	Mirrorlist string            `json:"mirrorlist"`
	Metalink   string            `json:"metalink"`
	Suites     []string          `json:"suites"`
	Components []string          `json:"components"`
	Archs      []string          `json:"architectures"`
	EffSuites  []string          `json:"effective_suites"`
	EffArchs   []string          `json:"effective_architectures"`
	SignedBy   []string          `json:"signed_by"`
	Checks     Checks            `json:"checks"`
	Priority   *int              `json:"priority"`
	Position   int               `json:"position"`
	Options    map[string]string `json:"options"`
	Owner      *string           `json:"owner"`
}

// Checks tells what the package manager will really enforce.
type Checks struct {
	Packages string   `json:"packages"`
	Metadata string   `json:"metadata"`
	Trust    []string `json:"trust,omitempty"` // pacman only
}

// Scopes of a key.
const (
	ScopeAny   = "any"   // trusted for every source of the family
	ScopeNamed = "named" // used only by sources that name it
)

// Key is one OpenPGP primary key that the host trusts.
type Key struct {
	Fingerprint string     `json:"fingerprint"` // upper-case hex
	UserIDs     []string   `json:"user_ids"`
	Algorithm   string     `json:"algorithm"`
	Created     time.Time  `json:"created"`
	Expires     *time.Time `json:"expires"`
	Revoked     bool       `json:"revoked"`
	Subkeys     []Subkey   `json:"subkeys"`
	Where       string     `json:"where"`
	Scope       string     `json:"scope"`
}

// Subkey is a subkey of a Key.
type Subkey struct {
	Fingerprint string     `json:"fingerprint"`
	CanSign     bool       `json:"can_sign"`
	Expires     *time.Time `json:"expires"`
	Revoked     bool       `json:"revoked"`
}

// Access is one credential that a host holds; never its secret part.
type Access struct {
	Kind     string     `json:"kind"` // basic, client-certificate, token-url
	Where    string     `json:"where"`
	For      string     `json:"for"`
	Identity string     `json:"identity"`
	Expires  *time.Time `json:"expires"`
	Mode     string     `json:"mode"`
}

// Problem is something that could not be understood. Fatal means that the
// package manager refuses to work with this configuration.
type Problem struct {
	Family  string `json:"family"`
	File    string `json:"file"`
	Line    int    `json:"line"`
	Message string `json:"message"`
	Fatal   bool   `json:"fatal"`
}
