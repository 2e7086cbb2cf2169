package source

// What a setting touches.
const (
	TouchesOrigin    = "origin"    // where packages come from, and in what order
	TouchesTrust     = "trust"     // signatures, hashes, ages
	TouchesTransport = "transport" // TLS, proxies, certificates
	TouchesProgram   = "program"   // hooks, plugins, fetch commands
	TouchesSecret    = "secret"    // a login
)

// Setting is one setting beyond single sources that is not what the package manager has by
// itself, and that decides where packages come from, what is believed, through whom it is
// fetched, or which program runs on the way.
type Setting struct {
	Family  string   `json:"family"`
	Name    string   `json:"name" doc:"as the program's own dump spells it"`
	Value   string   `json:"value" doc:"as it holds in the end, secrets as ***"`
	File    string   `json:"file" doc:"where it was set last"`
	Line    int      `json:"line"`
	Touches []string `json:"touches" doc:"origin, trust, transport, program or secret"`
	Since   int      `json:"from_reach,omitzero" doc:"the reach of the first reader that looks for it"`
}

// Reach is how widely today's reader looks. Whoever has it look for more raises it, and gives
// what is new that number, so that no host drifts because it is looked at more closely.
const Reach = 14

// Writers is the reach of the first reader that looks whether a folder of the configuration is a link.
const Writers = 14

// Vouching is the reach of the first reader that looks at who vouches for servers: in the files that are named for it,
// and in what the system believes beyond its own.
const Vouching = 7

// Tasks is the reach of the first reader that looks at what tasks tell package managers, and whether certificates that a
// package brought are those that it brought.
const Tasks = 8

// Rooted is the reach of the first reader that knows of a root below which apt looks for everything.
const Rooted = 11

// Scopes is the reach of the first reader that looks at what is told to each of apt's programs and methods by itself, at
// what apt runs around its commands, and at the macros by which rpm finds its plugins.
const Scopes = 9

// Fetchers is the reach of the first reader that looks at what a program is told that fetches in pacman's place.
const Fetchers = 10

// Variables is the reach of the first reader that tells what stands in files of variables.
const Variables = 13

// Deciding is a file beside a package manager's own configuration that decides as well where
// packages come from, what is believed or what runs: the low-level package manager's options,
// module streams, vendors that may take each other's place, roots of certificates.
type Deciding struct {
	Family  string   `json:"family"`
	File    string   `json:"file"`
	Lines   []string `json:"lines" doc:"the lines that decide something, secrets as ***"`
	Touches []string `json:"touches" doc:"origin, trust, transport or program"`
	Since   int      `json:"from_reach,omitzero" doc:"the reach of the first reader that looks there"`
	Stays   bool     `json:"stays,omitzero" doc:"healing does not put the file back: somebody on the host has to"`
	Named   bool     `json:"named,omitzero" doc:"looked at because something else on the host names it, or needs it"`
	Unused  bool     `json:"unused,omitzero" doc:"a variable that is put in nowhere; what it says is not told"`
}

// Pin is one record of apt's preferences, in the order in which apt weighs them.
type Pin struct {
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Packages []string `json:"packages" doc:"names and patterns as written"`
	Pin      string   `json:"pin" doc:"as in: release n=mussel"`
	Priority int      `json:"priority"`
	Valid    bool     `json:"valid" doc:"apt understands it"`
}

// Kinds of holds.
const (
	HoldHold    = "hold"
	HoldExclude = "exclude"
	HoldInclude = "include"
	HoldIgnore  = "ignore"
	HoldLock    = "lock"
)

// Hold keeps a package where it is, or away.
type Hold struct {
	Family string `json:"family"`
	Kind   string `json:"kind" doc:"hold, exclude, include, ignore or lock"`
	What   string `json:"what" doc:"name or pattern"`
	Source string `json:"source" doc:"id of the source that it is for; empty for all"`
	File   string `json:"file"`
	Line   int    `json:"line"`
	// Criteria say what else a lock asks for, in the words of its file: "version: >= 2" of zypper, "evr <= 2-1" of dnf 5. Of what
	// pacman ignores Group says that it is no package.
	Criteria string `json:"criteria,omitzero" doc:"what else than a name a lock of zypper or dnf 5 asks for, in the words of its file; group: what pacman ignores is a group of packages"`
}

// Group is the criterion of a hold that is for the packages of a group.
const Group = "group"

// Service is one of zypper's services, which define repositories of their own.
type Service struct {
	ID      string `json:"id"`
	URL     string `json:"url" doc:"passwords masked"`
	Enabled bool   `json:"enabled"`
	Type    string `json:"type"`
	File    string `json:"file"`
	Line    int    `json:"line"`
}
