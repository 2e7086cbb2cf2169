package drift

import (
	"fmt"
	"sort"
	"time"

	"patientlantern.example/lantern/core/source"
)

// KeyEnded is the class of a source none of whose signing keys is good any more.
const KeyEnded = "key-ended"

// KeyEnd is the moment at which the last signing key of a source ends: from then on each
// refresh of it fails.
type KeyEnd struct {
	At     time.Time
	source *source.SheetSource
}

// KeyEnds says when the sources of a sheet that are on lose the last of their signing
// keys, as the host has them: the soonest first. Sources with a key that never ends are
// left out, and those that have none of their keys, which is found elsewhere.
func KeyEnds(sheet *source.Sheet, survey *source.Survey) []KeyEnd {
	ends := map[string]*time.Time{} // nil: never
	for i := range survey.Keys {
		k := &survey.Keys[i]
		if !k.Good() {
			continue
		}
		if old, twice := ends[k.Fingerprint]; !twice || old != nil && (k.Expires == nil || k.Expires.After(*old)) {
			ends[k.Fingerprint] = k.Expires
		}
	}
	var out []KeyEnd
	for i := range sheet.Sources {
		s := &sheet.Sources[i]
		if !s.Enabled || s.IfThere {
			continue
		}
		if last, ok := lastEnd(s.SignedBy, ends); ok {
			out = append(out, KeyEnd{last, s})
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.Before(out[j].At) })
	return out
}

// lastEnd is when the last of the keys that the host has ends; false where one never does
// or the host has none.
func lastEnd(keys []string, ends map[string]*time.Time) (last time.Time, ok bool) {
	for _, fpr := range keys {
		at, known := ends[fpr]
		switch {
		case !known:
		case at == nil:
			return last, false
		default:
			ok = true
			if at.After(last) {
				last = *at
			}
		}
	}
	return last, ok
}

// KeysEnded returns the findings of the keys that have ended at a time. next is when the
// next one comes; zero where none does.
func KeysEnded(ends []KeyEnd, now time.Time) (out []Finding, next time.Time) {
	for _, e := range ends {
		if e.At.After(now) {
			return out, e.At
		}
		s := e.source
		out = append(out, Finding{
			Class: KeyEnded, Severity: Fault, Repository: s.Repository, File: s.File, Have: "ended " + e.At.UTC().Format(time.DateOnly),
			Message: fmt.Sprintf("the signing key of %s ended, so each refresh fails; give the policy the one that succeeds it", s.Repository),
		})
	}
	return out, time.Time{}
}
