package upstream

import (
	"bytes"
	"crypto/sha256"
	"path"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/index"
)

// pacman looks at a database of pacman's and its signature.
func (l *looker) pacman(base string) (*Found, *Refused) {
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

// flatpak looks at the summary of a remote and its signature.
func (l *looker) flatpak(base string) (*Found, *Refused) {
	text, refused := l.small(base+"summary", "summary", mostSummary)
	if refused != nil {
		return nil, refused
	}
	found := &Found{Digest: digest(text)}
	if l.Keys != nil {
		if found.Signer, refused = l.summarySigned(base, text); refused != nil {
			return nil, refused
		}
	}
	said, err := index.OSTree(text, func(p index.Package) { found.Packages = append(found.Packages, p) })
	if err != nil {
		return nil, of(err, "summary")
	}
	found.Date = said.Modified
	if !said.Expires.IsZero() {
		found.ValidUntil = &said.Expires
	}
	return found, l.fresh(found, "summary")
}

func (l *looker) summarySigned(base string, text []byte) (string, *Refused) {
	sig, refused := l.small(base+"summary.sig", "summary.sig", mostSig)
	if refused != nil {
		if refused.Kind == cause.Missing {
			refused = refuse(cause.Unsigned, "summary", "it is not signed: there is no summary.sig")
		}
		return "", refused
	}
	list, err := index.OSTreeSignatures(sig)
	if err != nil {
		return "", refuse(cause.BadSignature, "summary.sig", "%v", err)
	}
	return l.signed(text, bytes.Join(list, nil), "summary")
}
