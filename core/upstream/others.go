package upstream

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/unpack"
)

// pacman looks at a database of pacman's and its signature.
func (l *looker) pacman(base string) (*Found, *Refused) {
	base = slashed(base)
	name := path.Base(l.ID) + ".db"
	found := &Found{}
	p := promised{url: base + name, name: name, size: -1, hash: sha256.New}
	if l.Keys == nil {
		var refused *Refused
		found.Digest, found.Packages, refused = l.database(p)
		return found, refused
	}
	text, refused := l.small(p.url, name, mostSummary)
	if refused != nil {
		return nil, refused
	}
	sig, refused := l.small(p.url+".sig", name+".sig", mostSig)
	if refused != nil {
		if refused.Kind == cause.Missing {
			refused = refuse(cause.Unsigned, name, "it is not signed: there is no %s.sig", name)
		}
		return nil, refused
	}
	if found.Signer, refused = l.signed(text, sig, name); refused != nil {
		return nil, refused
	}
	found.Date = signedAt(sig)
	if refused := l.fresh(found, name); refused != nil {
		return nil, refused
	}
	found.Digest = digest(text)
	_, found.Packages, refused = (&looker{Source: l.Source, fetch: held(text), now: l.now}).database(p)
	return found, refused
}

// signedAt is the newest time that signatures tell.
func signedAt(sigs []byte) (at time.Time) {
	list, err := signatures(sigs)
	if err != nil {
		return at
	}
	for _, raw := range list {
		if p, err := packet.Read(bytes.NewReader(raw)); err == nil {
			if s, is := p.(*packet.Signature); is && s.CreationTime.After(at) {
				at = s.CreationTime.UTC()
			}
		}
	}
	return at
}

// flatpak looks at what a remote says it has and at its signature: the indexed summary and its
// parts where there is one, as flatpak does, else the summary.
func (l *looker) flatpak(base string) (*Found, *Refused) {
	base = slashed(base)
	text, refused := l.small(base+"summary.idx", "summary.idx", mostSummary)
	if refused == nil {
		return l.indexed(base, text)
	}
	if refused.Kind != cause.Missing && refused.Kind != cause.Unauthorised {
		return nil, refused
	}
	text, refused = l.small(base+"summary", "summary", mostSummary)
	if refused != nil {
		return nil, refused
	}
	found := &Found{Digest: digest(text)}
	if l.Keys != nil {
		if found.Signer, refused = l.summarySigned(base, text, "summary", "summary.sig"); refused != nil {
			return nil, refused
		}
	}
	said, err := index.OSTree(text, func(p index.Package) { found.Packages = append(found.Packages, p) })
	if err != nil {
		return nil, of(err, "summary")
	}
	return found, l.dated(found, said, "summary")
}

// dated notes when a summary was made and when it ends.
func (l *looker) dated(found *Found, said index.Summary, file string) *Refused {
	found.Date = said.Modified
	if !said.Expires.IsZero() {
		found.ValidUntil = &said.Expires
	}
	return l.fresh(found, file)
}

// indexed reads an indexed summary: the parts of whole architectures, since a subset holds nothing
// that they do not.
func (l *looker) indexed(base string, text []byte) (found *Found, refused *Refused) {
	found = &Found{Digest: digest(text)}
	if l.Keys != nil {
		// Where an index and its signature are put in place one after the other, this one fits.
		own := "summaries/" + found.Digest + ".idx.sig"
		if found.Signer, refused = l.summarySigned(base, text, "summary.idx", own, "summary.idx.sig"); refused != nil {
			return nil, refused
		}
	}
	said, subs, err := index.OSTreeIndex(text)
	if err != nil {
		return nil, of(err, "summary.idx")
	}
	if refused := l.dated(found, said, "summary.idx"); refused != nil {
		return nil, refused
	}
	subset := func(s index.Sub) bool { return strings.Contains(s.Name, "-") }
	if whole := slices.DeleteFunc(slices.Clone(subs), subset); len(whole) > 0 {
		subs = whole
	}
	if len(subs) > mostSubs {
		return nil, refuse(cause.TooLarge, "summary.idx", "it has more than %d parts", mostSubs)
	}
	for _, s := range subs {
		if refused := l.part(base, s, found); refused != nil {
			return nil, refused
		}
	}
	return found, nil
}

// mostSubs bounds how many parts of a remote are read: there is one for each architecture.
const mostSubs = 64

// part reads a part of an indexed summary, whose name is its sum.
func (l *looker) part(base string, s index.Sub, found *Found) *Refused {
	name := "summaries/" + s.Digest + ".gz"
	packed, refused := l.small(base+name, name, mostSummary)
	if refused != nil {
		return refused
	}
	plain, done, err := unpack.Reader(bufio.NewReader(bytes.NewReader(packed)), ".gz")
	if err != nil {
		return of(err, name)
	}
	defer done()
	text, err := io.ReadAll(io.LimitReader(plain, mostSummary+1))
	switch {
	case err != nil:
		return of(err, name)
	case len(text) > mostSummary:
		return refuse(cause.TooLarge, name, "it is longer than %d bytes, unpacked", mostSummary)
	case digest(text) != s.Digest:
		return refuse(cause.Mismatch, name, "it does not match the expected sum")
	}
	if _, err := index.OSTree(text, func(p index.Package) { found.Packages = append(found.Packages, p) }); err != nil {
		return of(err, name)
	}
	return nil
}

// summarySigned says who signed a file, by the first of the signatures' files that is there.
func (l *looker) summarySigned(base string, text []byte, file string, sigs ...string) (string, *Refused) {
	for _, name := range sigs {
		sig, refused := l.small(base+name, name, mostSig)
		if refused != nil && refused.Kind == cause.Missing {
			continue
		}
		if refused != nil {
			return "", refused
		}
		list, err := index.OSTreeSignatures(sig)
		if err != nil {
			return "", refuse(cause.BadSignature, name, "%v", err)
		}
		return l.signed(text, bytes.Join(list, nil), file)
	}
	return "", refuse(cause.Unsigned, file, "it is not signed: there is no %s", sigs[len(sigs)-1])
}
