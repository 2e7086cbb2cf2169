package upstream

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/text/deb822"
)

// release is a Release file, read.
type release struct {
	ReleaseFile
	date   time.Time
	until  *time.Time
	archs  []string
	all    bool // lists for every architecture stand in places of their own
	byHash bool
	sums   map[string]promised // name → what it says of it
}

// deb looks at an apt repository: InRelease, or Release and Release.gpg, and the lists of
// packages that it names.
func (l *looker) deb(base string) (*Found, *Refused) {
	base = slashed(base)
	dir := deb.ReleaseURL(base, l.Suite)
	text, top, signer, refused := l.release(dir)
	if refused != nil {
		return nil, refused
	}
	r, err := readRelease(text)
	if err != nil {
		return nil, refuse(cause.NotMetadata, "Release", "%v", err)
	}
	found := &Found{Digest: top, Signer: signer, Date: r.date, ValidUntil: r.until, Release: &r.ReleaseFile}
	if refused := l.fresh(found, "Release"); refused != nil {
		return nil, refused
	}
	if len(r.sums) == 0 {
		return nil, refuse(cause.Mismatch, "Release", "it has no sums that are believed (SHA256 or SHA512)")
	}
	if strings.HasSuffix(l.Suite, "/") {
		return found, l.debList(dir, r, []string{"Packages"}, found)
	}
	for _, c := range l.Components {
		var stems []string
		for _, a := range l.Archs {
			stems = append(stems, c+"/binary-"+a+"/Packages")
		}
		if r.all && !slices.Contains(l.Archs, "all") {
			stems = append(stems, c+"/binary-all/Packages")
		}
		if refused := l.debList(dir, r, stems, found); refused != nil {
			return nil, refused
		}
	}
	return found, nil
}

// release fetches the text of a Release file, and says who signed it.
func (l *looker) release(dir string) (text []byte, top, signer string, refused *Refused) {
	in, refused := l.small(dir+"InRelease", "InRelease", mostRelease)
	if refused == nil {
		text, signer, refused = l.clear(in, "InRelease")
		return text, digest(in), signer, refused
	}
	if refused.Kind != cause.Missing {
		return nil, "", "", refused
	}
	text, other := l.small(dir+"Release", "Release", mostRelease)
	if other != nil {
		return nil, "", "", refused
	}
	if l.Keys == nil {
		return text, digest(text), "", nil
	}
	sig, refused := l.small(dir+"Release.gpg", "Release.gpg", mostSig)
	if refused != nil {
		if refused.Kind == cause.Missing {
			refused = refuse(cause.Unsigned, "Release", "it is not signed")
		}
		return nil, "", "", refused
	}
	signer, refused = l.signed(text, sig, "Release")
	return text, digest(text, sig), signer, refused
}

func readRelease(text []byte) (*release, error) {
	f := deb822.Parse(text)
	if len(f.Stanzas) == 0 {
		return nil, errors.New("it is empty")
	}
	get := func(name string) string { v, _ := f.Get(0, name); return v }
	r := &release{sums: map[string]promised{}}
	r.Origin, r.Label, r.Suite, r.Codename = get("Origin"), get("Label"), get("Suite"), get("Codename")
	r.NotAutomatic = strings.EqualFold(get("NotAutomatic"), "yes")
	r.ButAutomaticUpgrades = strings.EqualFold(get("ButAutomaticUpgrades"), "yes")
	r.byHash = strings.EqualFold(get("Acquire-By-Hash"), "yes")
	r.archs = strings.Fields(get("Architectures"))
	r.all = slices.Contains(r.archs, "all") && !strings.Contains(get("No-Support-for-Architecture-all"), "Packages")
	var err error
	if r.date, err = date(get("Date")); err != nil {
		return nil, fmt.Errorf("it has no date that can be read: %w", err)
	}
	if v := get("Valid-Until"); v != "" {
		until, err := date(v)
		if err != nil {
			return nil, fmt.Errorf("it has no end that can be read: %w", err)
		}
		r.until = &until
	}
	for _, h := range slices.Backward(hashes) { // the strongest is put in last
		for line := range strings.SplitSeq(get(strings.ToUpper(h.name)), "\n") {
			w := strings.Fields(line)
			if len(w) != 3 {
				continue
			}
			if size, err := strconv.ParseInt(w[1], 10, 64); err == nil && size >= 0 {
				r.sums[w[2]] = promised{name: w[2], size: size, sum: w[0], hash: h.make}
			}
		}
	}
	return r, nil
}

func date(s string) (time.Time, error) {
	for _, layout := range []string{"Mon, _2 Jan 2006 15:04:05 MST", time.RFC1123Z} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%.80q", s)
}

// debList reads the lists under the given names. One that the release does not name is
// passed over while another is there, as apt does it.
func (l *looker) debList(dir string, r *release, stems []string, found *Found) *Refused {
	any := false
	for _, stem := range stems {
		p, ok := r.pick(stem)
		if !ok {
			continue
		}
		any = true
		packages, refused := l.debFetch(dir, r, p)
		if refused != nil {
			return refused
		}
		found.Packages = append(found.Packages, packages...)
	}
	for _, stem := range stems {
		_, ok := r.pick(stem)
		switch {
		case !any:
			return refuse(cause.Missing, stem, "it is not found in the repository")
		case !ok && !strings.Contains(stem, "/binary-all/"):
			found.Notes = append(found.Notes, "it has no list "+stem)
		}
	}
	return nil
}

// pick chooses in which form a list is fetched.
func (r *release) pick(stem string) (promised, bool) {
	for _, ext := range []string{".xz", ".zst", ".gz", ".bz2", ""} {
		if p, ok := r.sums[stem+ext]; ok {
			if plain, ok := r.sums[stem]; ok {
				p.opened = plain.size
			}
			return p, true
		}
	}
	return promised{}, false
}

// debFetch reads a list, by its sum where the repository keeps lists so: they do not change
// in the middle of an upstream's update then.
func (l *looker) debFetch(dir string, r *release, p promised) ([]index.Package, *Refused) {
	p.url = dir + p.name
	if !r.byHash {
		return l.list(p, index.Deb)
	}
	plain := p.url
	folder := map[int]string{64: "SHA256", 128: "SHA512", 96: "SHA384", 56: "SHA224"}[len(p.sum)]
	p.url = dir + path.Dir(p.name) + "/by-hash/" + folder + "/" + strings.ToLower(p.sum)
	out, refused := l.list(p, index.Deb)
	if refused != nil && refused.Kind == cause.Missing {
		p.url = plain
		return l.list(p, index.Deb)
	}
	return out, refused
}
