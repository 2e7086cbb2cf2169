package upstream

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	pgperrors "github.com/ProtonMail/go-crypto/openpgp/errors"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/keyring"
)

// mostSignatures bounds how many signatures of one file are tried.
const mostSignatures = 20

// signed holds signatures against the pinned keys, and returns the fingerprint of the key
// that made a good one. One good signature is enough: a vendor who changes keys signs twice.
func (l *looker) signed(text, sigs []byte, file string) (signer string, refused *Refused) {
	list, err := signatures(sigs)
	if err != nil {
		return "", refuse(cause.BadSignature, file, "its signature is invalid: %v", err)
	}
	if len(list) == 0 {
		return "", refuse(cause.Unsigned, file, "it is not signed")
	}
	for _, raw := range list {
		who, r := l.signature(text, raw, file)
		if r == nil {
			return who, nil
		}
		if refused == nil || rank[r.Kind] > rank[refused.Kind] {
			refused = r
		}
	}
	return "", refused
}

// rank says which cause is told where several signatures fail: the one of a key that is
// pinned says more than that of one that nobody knows.
var rank = map[cause.Kind]int{cause.UnknownKey: 1, cause.EndedKey: 2, cause.Expired: 2, cause.Future: 3, cause.BadSignature: 4}

// signature tries one signature.
func (l *looker) signature(text, raw []byte, file string) (string, *Refused) {
	p, err := packet.Read(bytes.NewReader(raw))
	sig, is := p.(*packet.Signature)
	if err != nil || !is {
		return "", refuse(cause.BadSignature, file, "its signature is invalid: it cannot be read")
	}
	by := issuer(sig)
	bad := func(kind cause.Kind, why string, args ...any) (string, *Refused) {
		r := refuse(kind, file, why, args...)
		r.By = by
		return "", r
	}
	switch {
	case sig.Hash == crypto.SHA1 || sig.Hash == crypto.MD5 || sig.Hash == crypto.RIPEMD160:
		return bad(cause.BadSignature, "its signature is invalid: it is made with %v, which can be forged", sig.Hash)
	case sig.CreationTime.Sub(l.now) > slack:
		return bad(
			cause.Future,
			"it is from the future, signed on %s (is the clock right?)",
			sig.CreationTime.UTC().Format(time.RFC3339),
		)
	}
	conf := &packet.Config{Time: func() time.Time { return l.now }}
	_, entity, err := openpgp.VerifyDetachedSignature(l.Keys, bytes.NewReader(text), bytes.NewReader(raw), conf)
	switch {
	case err == nil && entity != nil:
		return keyring.Fingerprint(entity), nil
	case errors.Is(err, pgperrors.ErrUnknownIssuer):
		return bad(cause.UnknownKey, "it is signed by the key %s, and that key is not trusted for it", by)
	case errors.Is(err, pgperrors.ErrKeyExpired), errors.Is(err, pgperrors.ErrKeyRevoked):
		return bad(cause.EndedKey, "it is signed by the expired key %s", by)
	case errors.Is(err, pgperrors.ErrSignatureExpired):
		return bad(cause.Expired, "the signature of its metadata has expired")
	}
	return bad(cause.BadSignature, "its signature is invalid: it is of the key %s, and does not fit what came", by)
}

// issuer is the key that a signature says it is of.
func issuer(sig *packet.Signature) string {
	switch {
	case len(sig.IssuerFingerprint) > 0:
		return fmt.Sprintf("%X", sig.IssuerFingerprint)
	case sig.IssuerKeyId != nil:
		return fmt.Sprintf("%016X", *sig.IssuerKeyId)
	}
	return "that it does not name"
}

// signatures parts a file of signatures, armoured or not.
func signatures(data []byte) (out [][]byte, err error) {
	if block, err := armor.Decode(bytes.NewReader(data)); err == nil {
		if data, err = io.ReadAll(block.Body); err != nil {
			return nil, err
		}
	} else if strings.HasPrefix(string(bytes.TrimSpace(data)), "-----BEGIN") {
		return nil, err
	}
	in := packet.NewOpaqueReader(bytes.NewReader(data))
	for {
		p, err := in.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if err := p.Serialize(&b); err != nil {
			return nil, err
		}
		if out = append(out, b.Bytes()); len(out) > mostSignatures {
			return nil, fmt.Errorf("it has more than %d signatures", mostSignatures)
		}
	}
}

const cleartext = "-----BEGIN PGP SIGNED MESSAGE-----"

// clear takes the text out of a file that is signed in itself. Where signatures are looked
// at, nothing may stand around what is signed.
func (l *looker) clear(text []byte, file string) (plain []byte, signer string, r *Refused) {
	block, rest := clearsign.Decode(text)
	switch {
	case block == nil && l.Keys == nil:
		return text, "", nil
	case block == nil:
		return nil, "", refuse(cause.Unsigned, file, "it is not signed")
	case l.Keys == nil:
		return block.Plaintext, "", nil
	case !bytes.HasPrefix(text, []byte(cleartext)) || len(bytes.TrimSpace(rest)) > 0:
		return nil, "", refuse(cause.BadSignature, file, "its signature is invalid: something stands around what is signed")
	}
	sigs, err := io.ReadAll(block.ArmoredSignature.Body)
	if err != nil {
		return nil, "", refuse(cause.BadSignature, file, "its signature is invalid: %v", err)
	}
	signer, r = l.signed(block.Bytes, sigs, file)
	return block.Plaintext, signer, r
}
