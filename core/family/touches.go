package family

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Touch is a row of a family's table of settings that matter.
type Touch struct {
	Name    string // as the program spells it; * stands for one part of a name of apt's, ** for all below
	Default string // what holds where nobody says anything
	Touches []string
	Since   int // the reach of the first reader that looked for it
}

// Short names for the tables.
var (
	Origin    = []string{source.TouchesOrigin}
	Trust     = []string{source.TouchesTrust}
	Transport = []string{source.TouchesTransport}
	Program   = []string{source.TouchesProgram}
	Login     = []string{source.TouchesTransport, source.TouchesSecret}
)

// Both joins what two settings touch.
func Both(a, b []string) []string { return slices.Concat(a, b) }

// Set notes a setting. A value in which a secret is hidden touches one.
func (r *Reading) Set(name, value, file string, line int, touches []string) {
	if r.Crowded(len(r.Settings), "settings", file, line) {
		return
	}
	key := name[strings.LastIndexAny(name, ".:")+1:]
	shown := HideWords(Option(key, value), nil)
	if shown != value && !slices.Contains(touches, source.TouchesSecret) {
		touches = append(slices.Clone(touches), source.TouchesSecret)
	}
	r.Settings = append(r.Settings, source.Setting{Family: r.Family, Name: name, Value: shown, File: file, Line: line, Touches: touches})
}

// SetAs is Set for what a table says of the setting.
func (r *Reading) SetAs(t Touch, name, value, file string, line int) {
	before := len(r.Settings)
	r.Set(name, value, file, line, t.Touches)
	if len(r.Settings) > before { // a crowded root is not told of more
		r.Settings[before].Since = t.Since
	}
}

// Hold notes a package that is kept.
func (r *Reading) Hold(kind, what, only, file string, line int) {
	r.HoldWhere(kind, what, only, "", file, line)
}

// HoldWhere is Hold for packages that meet more than a name.
func (r *Reading) HoldWhere(kind, what, only, criteria, file string, line int) {
	if r.Crowded(len(r.Holds), "packages that are kept", file, line) {
		return
	}
	r.Holds = append(
		r.Holds,
		source.Hold{
			Family: r.Family, Kind: kind, What: HideWords(what, nil), Source: only, Criteria: HideWords(criteria, nil), File: file, Line: line,
		},
	)
}
