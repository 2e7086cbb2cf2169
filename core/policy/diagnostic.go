package policy

import (
	"cmp"
	"fmt"
	"slices"
)

// Pos is a place in the policy folder; Line and Column count from 1.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Pos) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Severities of a diagnostic. Nothing is published while there is an error.
const (
	Error   = "error"
	Warning = "warning"
)

// Diagnostic is one thing that is wrong with a policy. Codes are stable: see
// Codes for what each means.
type Diagnostic struct {
	Code     string `json:"code"`
	Severity string `json:"severity"`
	Pos
	Message string `json:"message"`          // what is wrong and why
	Remedy  string `json:"remedy,omitempty"` // what to do
	Also    []Pos  `json:"also,omitempty"`   // other places that it is about
}

func (d Diagnostic) String() string {
	s := fmt.Sprintf("%s: %s[%s]: %s", d.Pos, d.Severity, d.Code, d.Message)
	for _, p := range d.Also {
		s += fmt.Sprintf(" (also %s)", p)
	}
	if d.Remedy != "" {
		s += "; " + d.Remedy
	}
	return s
}

// Codes lists every code and what it stands for.
var Codes = map[string]string{
	"alias":           "an anchor, alias or merge key of YAML, which a policy does not use",
	"conflict":        "two assignments say different things about the same host",
	"cycle":           "assignments that stand over each other in a circle",
	"encoding":        "a file that is not UTF-8 text",
	"expression":      "a condition that does not compile",
	"fingerprint":     "a fingerprint that is not one",
	"format":          "the format line is missing or names another format",
	"key-file":        "a key file that cannot be read",
	"key-mismatch":    "a key file that does not hold the pinned key",
	"key-missing":     "a repository whose signatures are checked but which names no key",
	"key-unusable":    "a key that is expired or revoked",
	"missing":         "something that must be given is not",
	"name":            "a name that is not allowed",
	"name-twice":      "a name that is defined twice",
	"no-reason":       "a weakened check without a reason",
	"nothing-read":    "a folder without policy files",
	"plain-transport": "unchecked signatures over a connection that anybody can change",
	"range":           "a range of host names that is empty, malformed or too large",
	"secret":          "a secret written into the policy",
	"size":            "a file that is too large for a policy",
	"syntax":          "text that is not YAML",
	"unknown-fact":    "an interpolation of something that is neither a setting nor a fact",
	"unknown-key":     "a key that the language does not know",
	"unknown-name":    "a reference to something that is not defined",
	"unused":          "a definition that nothing uses",
	"value":           "a value of the wrong kind",
}

func sortDiagnostics(list []Diagnostic) {
	slices.SortStableFunc(list, func(a, b Diagnostic) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// HasErrors reports whether any diagnostic of the list is an error.
func HasErrors(list []Diagnostic) bool {
	return slices.ContainsFunc(list, func(d Diagnostic) bool { return d.Severity == Error })
}
