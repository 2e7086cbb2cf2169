// Package source holds the words of the product as types: what is configured
// on a host (Survey) and what should be (Sheet). It stands on nothing but the
// standard library; every other package of core speaks in these types.
package source

import (
	"time"
)

// Survey is what one host does have. It is public: its JSON form is what
// `lantern read` prints, and docs/survey.md describes each field.
type Survey struct {
	Traits   Traits    `json:"traits"`
	Sources  []Source  `json:"sources"`
	Keys     []Key     `json:"keys"`
	Access   []Access  `json:"access"`
	Settings []Setting `json:"settings"`
	Pins     []Pin     `json:"pins"`
	Holds    []Hold    `json:"holds"`
	Services []Service `json:"services"`
	Problems []Problem `json:"problems"`

	// Deciding is what files of other programs say that decides as well. It is nil where a
	// reader did not look.
	Deciding []Deciding `json:"deciding,omitzero"`

	// Reach says how widely the reader looked: what it tells of with a larger Since it would not
	// have told of before, whether it stood there or not.
	Reach int `json:"reach,omitzero" doc:"how widely it was looked: what has a larger from_reach was not looked for"`

	// Files names the text of every source file that was read, passwords
	// masked, by digest. Only an agent fills it: it lets the service show the
	// exact lines of a change. `lantern read` leaves it out.
	Files []File `json:"files,omitzero"`

	// Media lists the folders of install media that the policy names for this host and
	// in which something stands. Only an agent fills it.
	Media []string `json:"media,omitempty"`

	// Releases are what the Release files say that apt has fetched. Only an agent fills
	// it: it tells which sources a pin would match.
	Releases []Release `json:"releases,omitempty"`
}

// Release is what the Release file of a suite says of it.
type Release struct {
	URL                  string `json:"url"` // effective, as of its source
	Suite                string `json:"suite"`
	Origin               string `json:"origin,omitempty"`
	Label                string `json:"label,omitempty"`
	Archive              string `json:"archive,omitempty"` // the field Suite
	Codename             string `json:"codename,omitempty"`
	NotAutomatic         bool   `json:"not_automatic,omitempty"`
	ButAutomaticUpgrades bool   `json:"but_automatic_upgrades,omitempty"`
}

// File is one source file as it stood when it was read.
type File struct {
	Path   string `json:"path"`            // inside the root, with a leading slash
	Digest string `json:"digest"`          // SHA-256 (hex) of the text with passwords masked
	Mode   string `json:"mode"`            // permission bits, octal
	Owner  string `json:"owner,omitempty"` // number of the user that it belongs to, where that is not root
	Link   string `json:"link,omitempty"`  // where it leads, if it is a symbolic link

	Package string   `json:"package,omitempty"` // that it belongs to, as far as a database of packages can tell
	Program bool     `json:"program,omitempty"` // it says which program runs
	Mirrors []string `json:"mirrors,omitempty"` // what a list of mirrors holds, passwords masked
}

// Traits are facts that are read off a host.
type Traits struct {
	OS            OS                `json:"os"`
	Family        string            `json:"family" doc:"deb, rpm, zypp, arch or empty"`           // deb, rpm, zypp, arch or empty
	Arch          string            `json:"arch" doc:"the kernel's word"`                         // the kernel's word: x86_64, aarch64
	Architectures []string          `json:"architectures" doc:"the family's words, native first"` // the family's words, native first
	CPU           CPU               `json:"cpu"`
	Tools         map[string]string `json:"tools" doc:"package tool and its version"`            // package tool → version
	Free          map[string]int64  `json:"free,omitempty" doc:"mount point and its free bytes"` // mount point → free bytes
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
	Level  int    `json:"level" doc:"x86-64 level, 0 where levels do not exist"`
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
	Family     string            `json:"family" doc:"deb (apt), rpm (dnf, yum), zypp (zypper), arch (pacman) or flatpak"`
	File       string            `json:"file" doc:"path inside the root"`
	Line       int               `json:"line" doc:"first line of the definition, from 1"`
	ID         string            `json:"id" doc:"section name, alias or remote name; empty for deb"`
	Name       string            `json:"name" doc:"name for people, variables expanded"`
	Enabled    bool              `json:"enabled" doc:"as the package manager takes it"`
	DisabledBy string            `json:"disabled_by" doc:"empty when enabled; else flag, comment, filename, duplicate or invalid"`
	Kinds      []string          `json:"kinds" doc:"binary, source or both"`
	URLs       []string          `json:"urls" doc:"base URLs as written, passwords masked"`
	EffURLs    []string          `json:"effective_urls" doc:"base URLs as they are fetched, passwords masked"`
	Mirrorlist string            `json:"mirrorlist" doc:"URL of a list of mirrors, or empty"`
	Metalink   string            `json:"metalink" doc:"URL of a metalink, or empty"`
	Suites     []string          `json:"suites" doc:"deb only: as written"`
	Components []string          `json:"components" doc:"deb only: as written"`
	Archs      []string          `json:"architectures" doc:"deb only: as written"`
	EffSuites  []string          `json:"effective_suites" doc:"deb only: variables expanded"`
	EffArchs   []string          `json:"effective_architectures" doc:"deb only: defaults and modifiers applied"`
	SignedBy   []string          `json:"signed_by" doc:"paths, URLs or fingerprints of keys; embedded: for a key in the file itself"`
	Checks     Checks            `json:"checks"`
	Priority   *int              `json:"priority" doc:"the number that is used, its default included; null for deb and arch"`
	Position   int               `json:"position" doc:"1, 2, 3 … among the enabled sources of the family in the order of use; 0 when off"`
	Options    map[string]string `json:"options" doc:"every other key as spelled, secrets as ***"`
	Owner      *string           `json:"owner" doc:"the package whose file it is, empty for none, null when it cannot be told"`
}

// Checks tells what the package manager will really enforce.
type Checks struct {
	Packages string   `json:"packages" doc:"required, optional or off"`
	Metadata string   `json:"metadata" doc:"required, optional or off"`
	Trust    []string `json:"trust,omitempty" doc:"pacman only: TrustedOnly, TrustAll or - for packages and databases"` // pacman only
}

// Scopes of a key.
const (
	ScopeAny   = "any"   // trusted for every source of the family
	ScopeNamed = "named" // used only by sources that name it
)

// Key is one OpenPGP primary key that the host trusts.
type Key struct {
	Fingerprint string     `json:"fingerprint" doc:"of the primary key, upper-case hex"` // upper-case hex
	UserIDs     []string   `json:"user_ids"`
	Algorithm   string     `json:"algorithm" doc:"as in rsa4096, ed25519"`
	Created     time.Time  `json:"created"`
	Expires     *time.Time `json:"expires" doc:"from the newest self-signature; null for never"`
	Revoked     bool       `json:"revoked"`
	Subkeys     []Subkey   `json:"subkeys"`
	Where       string     `json:"where" doc:"file or keyring inside the root"`
	Scope       string     `json:"scope" doc:"any: trusted for every source of the family; named: for sources that name it"`

	Used          bool   `json:"used" doc:"the package manager really uses it, for some source or for all"`
	UnusedBecause string `json:"unused_because,omitempty" doc:"why it is passed over"`
	Validity      string `json:"validity,omitempty" doc:"pacman only: what its keyring gives: full, ultimate, marginal, unknown"`
	Agents        bool   `json:"agents,omitempty" doc:"pacman only: the agent made it, with the keyring that was not there"`
}

// NotNamed is why a key is not used that only sources would use that name it.
const NotNamed = "no source that is on names it"

// Good reports whether the package manager takes a key from where it stands, or would for a
// source that names it. What older agents say of keys holds no word about it, and counts.
func (k *Key) Good() bool { return k.Used || k.UnusedBecause == "" || k.UnusedBecause == NotNamed }

// Subkey is a subkey of a Key.
type Subkey struct {
	Fingerprint string     `json:"fingerprint"`
	CanSign     bool       `json:"can_sign"`
	Expires     *time.Time `json:"expires"`
	Revoked     bool       `json:"revoked"`
}

// Access is one credential that a host holds; never its secret part.
type Access struct {
	Kind     string     `json:"kind" doc:"basic, client-certificate or token-url"` // basic, client-certificate, token-url
	Where    string     `json:"where" doc:"file that holds it"`
	For      string     `json:"for" doc:"host, URL or source id"`
	Identity string     `json:"identity" doc:"login, or the certificate's subject"`
	Expires  *time.Time `json:"expires"`
	Mode     string     `json:"mode" doc:"permission bits of the file, octal"`
}

// Problem is something that could not be understood. Fatal means that the
// package manager refuses to work with this configuration.
type Problem struct {
	Family  string `json:"family"`
	File    string `json:"file" doc:"empty when several files contradict each other"`
	Line    int    `json:"line"`
	Message string `json:"message"`
	Fatal   bool   `json:"fatal" doc:"the package manager refuses to work"`
	Unread  bool   `json:"not_read,omitzero" doc:"what stands there was not read, or not to its end: nothing is known of it"`
}
