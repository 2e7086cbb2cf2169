// Package standing says how a host stands with the contracts that its sheet needs.
package standing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/subscription"
)

// Input is what is known of a host.
type Input struct {
	Host    string
	Needs   []resolve.Needs
	Follows []resolve.Follow
	Sheet   *source.Sheet // that was carried to it, or nil
	Books   *subscription.Books
	Refused map[string]string // account → why the desk renews the access no more
	Files   []credential.HeldFile
}

// soon is how long before the end of a contract its hosts are told.
const soon = 30 * 24 * time.Hour

// Look returns what is to be said of the host, in the order of accounts and files.
func Look(in Input) []drift.Finding {
	l := looker{Input: in, now: in.Books.Now}
	for _, n := range in.Needs {
		l.seat(n)
	}
	l.files()
	for _, f := range in.Follows {
		l.decision(f)
	}
	return l.out
}

type looker struct {
	Input
	now time.Time
	out []drift.Finding
}

func (l *looker) add(f drift.Finding) { l.out = append(l.out, f) }

// source returns where the first source that an account opens stands, if one is on.
func (l *looker) source(account string) (file, repository string) {
	if l.Sheet == nil {
		return "", ""
	}
	for _, a := range l.Sheet.Access {
		if a.Account != account {
			continue
		}
		for _, s := range l.Sheet.Sources {
			if slices.Contains(a.Repositories, s.Repository) && s.Enabled {
				return s.File, s.Repository
			}
		}
	}
	return "", ""
}

func (l *looker) seat(n resolve.Needs) {
	file, repository := l.source(n.Account)
	if repository == "" {
		return
	}
	base := drift.Finding{Severity: drift.Fault, Repository: repository, File: file, Line: 1}
	short, _, _ := strings.Cut(l.Host, ".")
	remedy := fmt.Sprintf("take a seat (lantern seat take %s), or let %s follow the open choice", short, n.Group)
	s := l.Books.Seat(l.Host, n.Account)
	if s == nil {
		f := base
		f.Class = drift.NoSeat
		f.Message = fmt.Sprintf(
			"%s is on and the host has no seat in %s, so each refresh fails with 401: %s",
			repository,
			n.Contract,
			remedy,
		)
		l.add(f)
		return
	}
	c := l.Books.Contract(s.Account, s.Contract)
	if c == nil {
		f := base
		f.Class = drift.SeatEnds
		f.Message = fmt.Sprintf("the desk knows no contract %s any more, in which the host has its seat: %s", s.Contract, remedy)
		l.add(f)
		return
	}
	if ok, why := c.Good(l.now); !ok {
		f := base
		f.Class = drift.SeatEnds
		f.Message = fmt.Sprintf("the host's seat is in the contract %s, and %s: %s", s.Contract, why, remedy)
		l.add(f)
	} else if why := l.Refused[n.Account]; why != "" {
		f := base
		f.Class = drift.SeatEnds
		f.Message = fmt.Sprintf("the desk does not renew the access: %s: %s", why, remedy)
		l.add(f)
	} else if c.End.Sub(l.now) < soon {
		f := base
		f.Class, f.Severity = drift.SeatEnds, drift.Note
		f.Message = fmt.Sprintf("the contract %s, in which the host has its seat, ends on %s", s.Contract, c.End.Format(time.DateOnly))
		l.add(f)
	}
}

// files holds the access files that the sheet wants against what the agent says. A
// file that it has said nothing of yet is not judged.
func (l *looker) files() {
	for _, n := range l.Needs {
		if l.Books.Seat(l.Host, n.Account) == nil {
			continue // said already
		}
		expired := false
		for _, f := range l.Files {
			if f.Account != n.Account {
				continue
			}
			_, repository := l.source(n.Account)
			base := drift.Finding{Severity: drift.Fault, Repository: repository, File: f.Path, Want: f.Want, Have: f.Have}
			switch f.State {
			case credential.FileMissing:
				base.Class, base.Message = drift.AccessMissing, "the file with the host's access is not there"
			case credential.FileChanged:
				base.Class, base.Message = drift.AccessChanged, "the file with the host's access holds something else"
			case credential.FileMode:
				base.Class, base.Severity = drift.AccessMode, drift.Danger
				base.Message = fmt.Sprintf("the file with the host's access has mode %s; it must be %s", f.Have, f.Want)
			case credential.FileOwner:
				base.Class, base.Severity = drift.AccessMode, drift.Danger
				base.Message = fmt.Sprintf("the file with the host's access belongs to %s; it must be %s", f.Have, f.Want)
			}
			if base.Class != "" {
				l.add(base)
			}
			if f.Expires != nil && !f.Expires.After(l.now) && !expired {
				expired = true
				x := drift.Finding{Class: drift.AccessExpired, Severity: drift.Fault, Repository: repository, File: f.Path,
					Message: fmt.Sprintf(
						"the access ended at %s, so each refresh fails with 401; it is renewed as soon as the desk of %s answers",
						f.Expires.UTC().Format(time.RFC3339),
						n.Account,
					)}
				l.add(x)
			}
		}
	}
}

// decision looks at open choices of channels that could be licensed.
func (l *looker) decision(f resolve.Follow) {
	if f.Contract != "" || !f.Licensed {
		return
	}
	base := drift.Finding{Severity: drift.Note, File: f.At.File, Line: f.At.Line}
	switch d := f.Decision; {
	case d == nil:
		base.Class = drift.DecisionMissing
		base.Message = fmt.Sprintf(
			"%s follows %s of the channel %s, which needs no contract, and nobody has said that this is meant: record it with without-contract",
			f.Group,
			f.Choice,
			f.Channel,
		)
	case !l.now.Before(d.Review):
		base.Class, base.File, base.Line = drift.DecisionDue, d.Pos.File, d.Pos.Line
		base.Message = fmt.Sprintf(
			"%s decided to run %s without a contract (%s); that was to be looked at again on %s",
			d.Author,
			f.Group,
			d.Because,
			d.Review.Format(time.DateOnly),
		)
	default:
		return
	}
	l.add(base)
}

// OpenByDecision returns the decisions under which a host runs without a contract
// and which need no look yet.
func OpenByDecision(follows []resolve.Follow, now time.Time) (out []resolve.Follow) {
	for _, f := range follows {
		if f.Contract == "" && f.Licensed && f.Decision != nil && now.Before(f.Decision.Review) {
			out = append(out, f)
		}
	}
	return out
}
