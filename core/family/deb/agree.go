package deb

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// maxPairs bounds how many pairs of a URL and a suite are compared.
const maxPairs = 50_000

// agree checks an enabled source against those before it, as apt does: entries
// for one release must not contradict each other.
func (r *reader) agree(s *source.Source, oneLine bool) {
	if by := unknownSigner(s.SignedBy); by != "" {
		r.Problem(
			s.File,
			s.Line,
			fmt.Sprintf("apt refuses the entry: Signed-By names %q, which is neither a path nor a fingerprint", by),
			true,
		)
		return
	}
	want := r.wanted(s, oneLine)
	for _, u := range s.EffURLs {
		for _, suite := range s.EffSuites {
			if r.pairs++; r.pairs > maxPairs {
				if r.pairs == maxPairs+1 {
					r.Problem(
						s.File,
						s.Line,
						fmt.Sprintf("more than %d releases are named: whether those from here on contradict each other is not known", maxPairs),
						false,
					)
				}
				return
			}
			key := ReleaseKey(u, suite)
			have := r.releases[key]
			if have == nil {
				w := want
				r.releases[key] = &w
				continue
			}
			if what := have.contradicts(&want, r.way != byAptKey); what != "" {
				r.Problem(
					"",
					0,
					fmt.Sprintf("apt refuses all sources: %s:%d contradicts an earlier entry for %s %s in %s", s.File, s.Line, u, suite, what),
					true,
				)
				return
			}
			if have.signedBy == "" {
				have.signedBy = want.signedBy
			}
		}
	}
}

// unknownSigner is the first of a Signed-By that is neither a path nor a fingerprint.
func unknownSigner(list []string) string {
	for _, by := range list {
		if by[0] == '/' || strings.HasPrefix(by, "embedded:") {
			continue
		}
		fpr := strings.TrimSuffix(by, "!")
		if _, err := keyring.ParseFingerprint(fpr); err != nil || len(fpr) != 40 {
			return by
		}
	}
	return ""
}

// wanted is what an entry says of its releases.
func (r *reader) wanted(s *source.Source, oneLine bool) release {
	own := func(name string) string {
		if oneLine { // stanzas have no such fields
			return s.Options[name]
		}
		return ""
	}
	return release{
		trusted:       tristate(option(s.Options, "trusted")),
		checkValid:    tristate(option(s.Options, "check-valid-until")),
		checkDate:     tristate(option(s.Options, "check-date")),
		validMin:      option(s.Options, "valid-until-min"),
		validMax:      option(s.Options, "valid-until-max"),
		dateMaxFuture: option(s.Options, "date-max-future"),
		signedBy:      strings.Join(s.SignedBy, ","),
		insecure:      isTrue(own("allow-insecure"), r.allows("Insecure")),
		weak:          isTrue(own("allow-weak"), r.allows("Weak")),
		downgrade:     isTrue(own("allow-downgrade-to-insecure"), r.allows("DowngradeToInsecure")),
		set:           true,
	}
}

// contradicts names what an entry says otherwise than those before it; empty where they
// agree. mayOmit: an entry need not say again who signs, as for apt since 2.9.
func (have *release) contradicts(want *release, mayOmit bool) string {
	switch {
	case have.insecure != want.insecure:
		return "allow-insecure"
	case have.weak != want.weak:
		return "allow-weak"
	case have.downgrade != want.downgrade:
		return "allow-downgrade-to-insecure"
	case have.trusted != want.trusted:
		return "Trusted"
	case have.checkValid != want.checkValid:
		return "Check-Valid-Until"
	case have.checkDate != want.checkDate:
		return "Check-Date"
	case have.validMin != want.validMin && have.validMin != "":
		return "Valid-Until-Min"
	case have.validMax != want.validMax && have.validMax != "":
		return "Valid-Until-Max"
	case have.dateMaxFuture != want.dateMaxFuture && have.dateMaxFuture != "":
		return "Date-Max-Future"
	case have.signedBy != want.signedBy && have.signedBy != "" && (want.signedBy != "" || !mayOmit):
		return "Signed-By"
	}
	return ""
}

func tristate(v string) string {
	switch {
	case v == "":
		return ""
	case isTrue(v, false):
		return "yes"
	}
	return "no"
}
