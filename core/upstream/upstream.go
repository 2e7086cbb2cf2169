// Package upstream reads and verifies the metadata of package repositories.
package upstream

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/text/deb822"
	"patientlantern.example/lantern/core/unpack"
)

// Limits of what is read from an upstream, in bytes.
const (
	MaxRelease = 8 << 20
	MaxIndex   = 512 << 20
)

// Fetch gets a URL, at most limit bytes of it.
type Fetch func(url string, limit int64) ([]byte, error)

// Source is an apt source to be checked.
type Source struct {
	URL        string // with a final slash
	Suite      string
	Components []string
	Archs      []string
	Keys       openpgp.EntityList         // nil: the signature is not checked
	Seen       func(name, version string) // is told each package; may be nil
}

// Release is what an InRelease file says.
type Release struct {
	Origin     string
	Suite      string
	Codename   string
	Date       time.Time
	ValidUntil time.Time // zero: for ever
	Signer     string    // fingerprint of the primary key; "" where it was not checked
	Indexes    map[string]Index
}

// Index is a file that a Release names.
type Index struct {
	Size   int64
	SHA256 string
}

// Kinds of refusal.
var (
	ErrSignature = errors.New("the signature is not good")
	ErrExpired   = errors.New("the metadata has expired")
	ErrFuture    = errors.New("the metadata is from the future")
	ErrMissing   = errors.New("the repository does not have it")
	ErrHash      = errors.New("a file does not have the promised hash")
)

// ReadRelease verifies an InRelease file against keys and reads it. With no keys
// the signature is not checked.
func ReadRelease(text []byte, keys openpgp.EntityList, now time.Time) (*Release, error) {
	block, _ := clearsign.Decode(text)
	plain := text
	r := &Release{Indexes: map[string]Index{}}
	switch {
	case block != nil:
		plain = block.Plaintext
		if keys == nil {
			break
		}
		signer, err := block.VerifySignature(keys, &packet.Config{Time: func() time.Time { return now }})
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrSignature, err)
		}
		r.Signer = keyring.Fingerprint(signer)
	case keys != nil:
		return nil, fmt.Errorf("%w: the release is not signed", ErrSignature)
	}
	f := deb822.Parse(plain)
	if len(f.Stanzas) == 0 {
		return nil, fmt.Errorf("%w: the release file is empty", ErrMissing)
	}
	get := func(name string) string { v, _ := f.Get(0, name); return v }
	r.Origin, r.Suite, r.Codename = get("Origin"), get("Suite"), get("Codename")
	var err error
	if r.Date, err = date(get("Date")); err != nil {
		return nil, fmt.Errorf("the release has no date that can be read: %w", err)
	}
	if v := get("Valid-Until"); v != "" {
		if r.ValidUntil, err = date(v); err != nil {
			return nil, fmt.Errorf("the release has no end that can be read: %w", err)
		}
	}
	for line := range strings.SplitSeq(get("SHA256"), "\n") {
		if w := strings.Fields(line); len(w) == 3 {
			size, err := strconv.ParseInt(w[1], 10, 64)
			if err == nil {
				r.Indexes[w[2]] = Index{size, w[0]}
			}
		}
	}
	switch {
	case !r.ValidUntil.IsZero() && now.After(r.ValidUntil):
		return nil, fmt.Errorf("%w on %s", ErrExpired, r.ValidUntil.Format(time.RFC3339))
	case r.Date.Sub(now) > 10*time.Second:
		return nil, fmt.Errorf("%w: it is dated %s (is the clock of this host right?)", ErrFuture, r.Date.Format(time.RFC3339))
	}
	return r, nil
}

func date(s string) (time.Time, error) {
	for _, layout := range []string{"Mon, 02 Jan 2006 15:04:05 MST", time.RFC1123Z} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q", s)
}

// Check fetches the release and the package indexes of a source and verifies
// them. It returns the number of packages.
func Check(s Source, fetch Fetch, now time.Time) (packages int, err error) {
	base := s.URL + "dists/" + s.Suite + "/"
	if strings.HasSuffix(s.Suite, "/") {
		base = s.URL + strings.TrimPrefix(s.Suite, "./")
	}
	text, err := fetch(base+"InRelease", MaxRelease)
	if err != nil {
		return 0, fmt.Errorf("InRelease: %w", err)
	}
	r, err := ReadRelease(text, s.Keys, now)
	if err != nil {
		return 0, err
	}
	components := s.Components
	if strings.HasSuffix(s.Suite, "/") {
		components = []string{""}
	}
	for _, c := range components {
		for _, a := range s.Archs {
			stem := c + "/binary-" + a + "/Packages"
			if c == "" {
				stem = "Packages"
			}
			n, err := countPackages(r, base, stem, fetch, s.Seen)
			if err != nil {
				return packages, err
			}
			packages += n
		}
	}
	return packages, nil
}

func countPackages(r *Release, base, stem string, fetch Fetch, seen func(name, version string)) (int, error) {
	for _, ext := range []string{".xz", ".gz", ""} {
		want, ok := r.Indexes[stem+ext]
		if !ok {
			continue
		}
		packed, err := fetch(base+stem+ext, want.Size)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", stem+ext, err)
		}
		sum := sha256.Sum256(packed)
		if hex.EncodeToString(sum[:]) != strings.ToLower(want.SHA256) {
			return 0, fmt.Errorf("%w: %s", ErrHash, stem+ext)
		}
		plain, err := unpacked(packed, ext)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", stem+ext, err)
		}
		if seen != nil {
			name := ""
			for line := range bytes.Lines(plain) {
				if rest, ok := bytes.CutPrefix(line, []byte("Package: ")); ok {
					name = string(bytes.TrimSpace(rest))
				} else if rest, ok := bytes.CutPrefix(line, []byte("Version: ")); ok {
					seen(name, string(bytes.TrimSpace(rest)))
				}
			}
		}
		return bytes.Count(append([]byte{'\n'}, plain...), []byte("\nPackage: ")), nil
	}
	return 0, fmt.Errorf("%w: no index %s", ErrMissing, stem)
}

func unpacked(packed []byte, ext string) ([]byte, error) {
	r, done, err := unpack.Reader(bytes.NewReader(packed), ext)
	if err != nil {
		return nil, err
	}
	defer done()
	plain, err := io.ReadAll(io.LimitReader(r, MaxIndex+1))
	if err == nil && len(plain) > MaxIndex {
		err = errors.New("the index is too large")
	}
	return plain, err
}
