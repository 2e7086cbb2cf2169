package drift

import (
	"fmt"
	"slices"
	"time"

	"patientlantern.example/lantern/core/source"
)

// KeyEnded is the class of a source none of whose signing keys is good any more.
const KeyEnded = "key-ended"

// KeysEnded finds the sources of a sheet that are on and none of whose signing keys, as
// the host has them, is good at a time: each refresh of them fails. next is when the next
// of the keys ends; zero where none does.
func KeysEnded(sheet *source.Sheet, survey *source.Survey, now time.Time) (out []Finding, next time.Time) {
	ends := map[string]*time.Time{}
	known := map[string]bool{}
	for i := range survey.Keys {
		k := &survey.Keys[i]
		if old, twice := ends[k.Fingerprint]; !twice || old != nil && (k.Expires == nil || k.Expires.After(*old)) {
			ends[k.Fingerprint] = k.Expires
		}
		known[k.Fingerprint] = true
	}
	for i := range sheet.Sources {
		s := &sheet.Sources[i]
		if !s.Enabled || s.IfThere || len(s.SignedBy) == 0 {
			continue
		}
		if !slices.ContainsFunc(s.SignedBy, func(fpr string) bool { return known[fpr] }) {
			continue // that the keys are not there is found elsewhere
		}
		var last time.Time
		good := false
		for _, fpr := range s.SignedBy {
			if !known[fpr] {
				continue
			}
			at := ends[fpr]
			switch {
			case at == nil:
				good = true
			case at.After(now):
				good = true
				if next.IsZero() || at.Before(next) {
					next = *at
				}
			case at.After(last):
				last = *at
			}
		}
		if !good {
			out = append(out, Finding{Class: KeyEnded, Severity: Fault, Repository: s.Repository, File: s.File,
				Message: fmt.Sprintf("the signing key of %s ended, so each refresh fails; give the policy the one that succeeds it", s.Repository), Have: "ended " + last.UTC().Format(time.DateOnly)})
		}
	}
	return out, next
}
