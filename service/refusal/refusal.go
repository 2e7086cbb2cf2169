// Package refusal holds what the service answers instead of doing what it was asked: of which
// kind it is, and in words for whoever asked. What a kind is on the wire is the business of
// whoever speaks there.
package refusal

import (
	"fmt"
	"strings"
)

// Kind says why something is refused.
type Kind int

// Kinds of refusals.
const (
	Broken      Kind = iota // the service could not do it
	Unreadable              // what was sent cannot be read
	Unknown                 // who asks is not known
	Forbidden               // who asks may not
	Missing                 // there is no such thing
	Conflicting             // it does not fit what stands
	Invalid                 // it was read, and cannot be taken
	TooMuch                 // whoever asks has asked for too much
	Unavailable             // something that is wanted for it is away
	Left                    // who asked has gone
)

// Error is a refusal.
type Error struct {
	Kind    Kind
	Message string
	Details []error // what is said beside it, each a *Detail or in words alone
	Cause   error   // nil for none
}

func (e *Error) Error() string { return e.Message }

func (e *Error) Unwrap() error { return e.Cause }

// Detail is one of several things that are wrong.
type Detail struct {
	Message  string
	Location string // what of the call, or where in a policy: file:line:column
	Value    any    // a word by which a program knows it; nil for none
	Own      bool   // of this program's own making, however long: it repeats nothing that was sent
}

func (d *Detail) Error() string { return d.Message }

// Of is a refusal of a kind.
func Of(kind Kind, message string, details ...error) *Error {
	return &Error{Kind: kind, Message: message, Details: details}
}

// Conflict refuses what does not fit what stands.
func Conflict(message string, details ...error) error { return Of(Conflicting, message, details...) }

// NotFound refuses what is about nothing that is known.
func NotFound(message string) error { return Of(Missing, message) }

// Wrong refuses what was read and cannot be taken.
func Wrong(message string, details ...error) error { return Of(Invalid, message, details...) }

// Inside is all that anybody is told of what went wrong inside.
const Inside = "the service could not do it; its log says why"

// Clip cuts a text off after so many bytes, and shows that it did: what repeats something that
// was sent does not grow with it.
func Clip(s string, most int) string {
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + " …"
	}
	return s
}

// Short bounds an error that may repeat what somebody sent.
func Short(s string) string { return Clip(s, 200) }

// Meant asks, behind what is refused, whether the nearest of the right words was meant; nothing where none is near.
func Meant(near string) string {
	if near == "" {
		return ""
	}
	return fmt.Sprintf("; did you mean %q?", near)
}
