// Package upstream looks at what stands behind a definition: it fetches the metadata of a
// repository, holds it against pinned keys and its own sums, and reads which packages it
// offers. What a server sends may be anything: it costs bounded memory, and each wrong answer
// is refused with a cause.
package upstream

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/index"
)

// Bounds of what is read, in bytes; of lists before and after they are unpacked.
const (
	mostRelease  = 8 << 20
	mostRepomd   = 4 << 20
	mostMetalink = 4 << 20
	mostSummary  = 64 << 20
	mostSig      = 256 << 10
	mostPacked   = 512 << 20
	mostPlain    = 1 << 30
)

// mostMirrors bounds how many mirrors are tried.
const mostMirrors = 5

// slack is how far a clock may be off before metadata is of a time to come.
const slack = 10 * time.Second

// Fetch opens what stands at a URL. What it returns of an answer that is not to be had is a
// *Refused, as far as it knows the cause.
type Fetch func(url string) (io.ReadCloser, error)

// Source is one place that packages come from, as a package manager asks for it.
type Source struct {
	Family     string
	URLs       []string // mirrors, tried in their order; they may end in a slash
	Mirrorlist string   // rpm, zypp: URL of a list of mirrors
	Metalink   string   // rpm: URL of a metalink
	Suite      string   // deb
	Components []string // deb
	Archs      []string // deb
	ID         string   // arch: name of the database
	// Keys are those that may sign; nil: signatures are not looked at.
	Keys openpgp.EntityList
	// Unsigned is true where nobody wants it signed: then no signature is as good as one by Keys.
	Unsigned bool
	// After is the time of metadata that was seen before: what is older is refused as a
	// replay. Zero: anything goes.
	After time.Time
}

// Found is what stands behind a source.
type Found struct {
	URL        string          `json:"url" doc:"The mirror that answered"`
	Digest     string          `json:"digest" doc:"SHA-256 of what was signed"`
	Signer     string          `json:"signer,omitempty" doc:"Fingerprint of the pinned key that signed; empty where none is asked"`
	Date       time.Time       `json:"date,omitzero" doc:"When the metadata was made; absent where it does not say"`
	ValidUntil *time.Time      `json:"valid_until,omitempty"`
	Release    *ReleaseFile    `json:"release,omitempty" doc:"apt only: what the Release file says of itself"`
	Packages   []index.Package `json:"-"`
	Notes      []string        `json:"notes,omitempty" doc:"What was seen and is not read, or weaker than it should be"`
}

// ReleaseFile is what counts of a Release file beside its sums.
type ReleaseFile struct {
	Origin               string `json:"origin,omitempty"`
	Label                string `json:"label,omitempty"`
	Suite                string `json:"suite,omitempty"`
	Codename             string `json:"codename,omitempty"`
	NotAutomatic         bool   `json:"not_automatic,omitempty"`
	ButAutomaticUpgrades bool   `json:"but_automatic_upgrades,omitempty"`
}

// Refused is why what stands behind a source is not believed.
type Refused struct {
	Kind cause.Kind
	File string // what was asked for; may be empty
	Why  string
	By   string // fingerprint or id of the key that signed, where one is told
}

// Error implements error.
func (r *Refused) Error() string {
	if r.File == "" {
		return r.Why
	}
	return r.File + ": " + r.Why
}

func refuse(kind cause.Kind, file, why string, args ...any) *Refused {
	return &Refused{Kind: kind, File: file, Why: fmt.Sprintf(why, args...)}
}

// of makes any error a refusal.
func of(err error, file string) *Refused {
	var r *Refused
	switch {
	case errors.As(err, &r):
		if r.File == "" {
			r.File = file
		}
		return r
	case errors.Is(err, io.ErrUnexpectedEOF):
		return refuse(cause.Cut, file, "it is cut off in the middle")
	}
	return refuse(cause.NotMetadata, file, "%v", err)
}

// looker looks at one source.
type looker struct {
	*Source
	fetch    Fetch
	now      time.Time
	promises []sum // that a metalink makes of repomd.xml
}

// Look fetches and verifies what stands behind a source at a time. The error is a *Refused.
func Look(s *Source, fetch Fetch, now time.Time) (*Found, error) {
	source := *s
	l := &looker{Source: &source, fetch: fetch, now: now}
	look, ok := map[string]func(base string) (*Found, *Refused){
		deb.Family: l.deb, rpm.Family: l.rpm, zypp.Family: l.rpm, arch.Family: l.pacman, flatpak.Family: l.flatpak,
	}[s.Family]
	if !ok {
		return nil, refuse(cause.NotMetadata, "", "repositories of %q are not read", s.Family)
	}
	urls, failed := l.mirrors()
	var passed []string
	for _, base := range urls {
		if r := inside(base); r != nil {
			failed = first(failed, r)
			continue
		}
		l.Keys = s.Keys
		found, r := look(base)
		if r != nil && r.Kind == cause.Unsigned && s.Unsigned && s.Keys != nil {
			l.Keys = nil
			found, r = look(base)
		}
		if r == nil {
			found.URL, found.Notes = base, append(found.Notes, passed...)
			return found, nil
		}
		failed = first(failed, r)
		if len(urls) > 1 && ends(s.Family, r) { // so it would for whoever asks as a host does
			r.Why += ", at " + base + ", which is asked before others"
			return nil, r
		}
		passed = append(passed, base+" was passed over: "+r.Error())
	}
	if failed == nil {
		failed = refuse(cause.Missing, "", "it names no address")
	}
	return nil, failed
}

// slashed is an address that ends in one slash: apt, pacman and flatpak put what they ask for behind it as it is.
func slashed(base string) string { return strings.TrimRight(base, "/") + "/" }

// ends reports whether a package manager of a family goes no further where the first of several mirrors answers so: who
// answers with what is not believed is not passed over, but for zypper, which asks the next then too. What is only not there,
// or not had, is asked of the next by all of them, and so are lists that have not the sums which were promised.
func ends(family string, r *Refused) bool {
	top := slices.Contains([]string{"InRelease", "Release", "repomd.xml"}, r.File)
	switch r.Kind {
	case cause.UnknownKey, cause.EndedKey, cause.BadSignature:
		return family != zypp.Family
	case cause.Expired, cause.Future:
		return family == deb.Family
	case cause.NotMetadata:
		return family == arch.Family || family != zypp.Family && top
	case cause.Unsigned: // of apt's files each is had where it is
		return family == rpm.Family || family == deb.Family && r.File == "InRelease"
	}
	return false
}

// first keeps what went wrong first: later mirrors are tried because of it.
func first(have, next *Refused) *Refused {
	if have != nil {
		return have
	}
	return next
}

// inside refuses addresses that no package manager would fetch over a network.
func inside(base string) *Refused {
	u, err := url.Parse(base)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "file" {
		return refuse(cause.Unreachable, "", "%.200q is no address that can be looked at from here", base)
	}
	return nil
}

// small fetches what is held in memory whole.
func (l *looker) small(url, file string, most int64) ([]byte, *Refused) {
	body, err := l.fetch(url)
	if err != nil {
		return nil, of(err, file)
	}
	defer body.Close()
	b, err := io.ReadAll(io.LimitReader(body, most+1))
	if err != nil {
		return nil, of(err, file)
	}
	if int64(len(b)) > most {
		return nil, refuse(cause.TooLarge, file, "it is longer than %d bytes", most)
	}
	return b, page(b, file)
}

// page refuses what is a page for people: networks that want a sign-in answer with one.
func page(b []byte, file string) *Refused {
	head := strings.ToLower(strings.TrimSpace(string(b[:min(len(b), 200)])))
	if strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html") {
		return refuse(cause.NotMetadata, file, "a page for people came instead of it")
	}
	return nil
}

// fresh refuses what has ended, what is of a time to come, and what is older than what was
// seen before.
func (l *looker) fresh(f *Found, file string) *Refused {
	switch {
	case f.ValidUntil != nil && l.now.After(*f.ValidUntil):
		return refuse(cause.Expired, file, "the metadata has expired on %s", f.ValidUntil.UTC().Format(time.RFC3339))
	case f.Date.Sub(l.now) > slack:
		return refuse(cause.Future, file, "it is from the future, dated %s (is the clock right?)", f.Date.UTC().Format(time.RFC3339))
	case !f.Date.IsZero() && f.Date.Before(l.After):
		return refuse(cause.Replayed, file, "it is of %s, and newer metadata of %s was seen before",
			f.Date.UTC().Format(time.RFC3339), l.After.UTC().Format(time.RFC3339))
	}
	return nil
}
