// Package diag says what is wrong with a text, where, why, and what to do.
package diag

import (
	"cmp"
	"fmt"
	"slices"
)

// Pos is a place in a folder of texts; Line and Column count from 1.
type Pos struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// At is a place in a file.
func At(file string, line, column int) Pos { return Pos{file, line, column} }

func (p Pos) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Severities.
const (
	Error   = "error"
	Warning = "warning"
)

// Diagnostic is one thing that is wrong. Codes are stable.
type Diagnostic struct {
	Code     string `json:"code"`
	Severity string `json:"severity"`
	Pos
	Message string `json:"message"`          // what is wrong and why
	Remedy  string `json:"remedy,omitempty"` // what to do
	Also    []Pos  `json:"also,omitempty"`   // other places that it is about
	Newer   bool   `json:"-"`                // earlier versions took it: what was published then is read still
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

// Sort orders diagnostics by place.
func Sort(list []Diagnostic) {
	slices.SortStableFunc(list, func(a, b Diagnostic) int {
		return cmp.Or(
			cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Message, b.Message),
		)
	})
}

// HasErrors reports whether any diagnostic of the list is an error.
func HasErrors(list []Diagnostic) bool {
	return slices.ContainsFunc(list, func(d Diagnostic) bool { return d.Severity == Error })
}

// Borne is a list in which what earlier versions took is an error no more where borne holds for it.
func Borne(list []Diagnostic, borne func(Diagnostic) bool) []Diagnostic {
	out := slices.Clone(list)
	for i := range out {
		if out[i].Newer && borne(out[i]) {
			out[i].Severity = Warning
		}
	}
	return out
}

// Errors returns the errors of a list.
func Errors(list []Diagnostic) (out []Diagnostic) {
	for _, d := range list {
		if d.Severity == Error {
			out = append(out, d)
		}
	}
	return out
}
