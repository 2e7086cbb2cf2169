package policy

import (
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/names"
)

func (l *loader) key(f field) {
	if !isNew(l, f, "key", l.policy.Keys, func(x *Key) diag.Pos { return x.Pos }) {
		return
	}
	k := &Key{Name: f.key, Pos: f.at}
	l.policy.Keys[f.key] = k
	var file, fpr Text
	for _, x := range l.mapping(f.node, fmt.Sprintf("the key %q", f.key), keysOf[keyForm]()...) {
		switch x.key {
		case "file":
			file, _ = l.text(x, "file")
		case "fingerprint":
			fpr, _ = l.text(x, "fingerprint")
		case "succeeds":
			if t, ok := l.text(x, "succeeds"); ok {
				k.Succeeds = &t
			}
		case "because":
			t, _ := l.text(x, "because")
			k.Because = strings.TrimSpace(t.Value)
		}
	}
	if file.Value == "" || fpr.Value == "" {
		l.fail("missing", f.at, fmt.Sprintf("the key %q needs a file and a fingerprint", f.key), "add what is missing")
		return
	}
	want, err := keyring.ParseFingerprint(fpr.Value)
	if err != nil {
		l.fail("fingerprint", fpr.Pos, err.Error(), "copy it from the vendor's own page, whole")
		return
	}
	k.Fingerprint, k.File = want, path.Clean(path.Join(path.Dir(l.file), file.Value))
	data, ok := l.folder[k.File]
	if !ok {
		var have []string
		for n := range l.folder {
			if ext := path.Ext(n); ext != ".yaml" && ext != ".yml" {
				have = append(have, n)
			}
		}
		remedy := "put the key file (.asc or .gpg) there; nothing is fetched from the net"
		if near := names.Nearest(k.File, have); near != "" {
			remedy = fmt.Sprintf("did you mean %q?", near)
		}
		l.fail("key-file", file.Pos, fmt.Sprintf("the key file %q is not in the folder", k.File), remedy)
		return
	}
	list, err := keyring.Certificates(data)
	if errors.Is(err, keyring.ErrSecret) {
		l.fail(
			"secret",
			file.Pos,
			fmt.Sprintf("the key file %q holds a private key", k.File),
			"put the public key alone there, and treat the private one as lost",
		)
		return
	}
	if err != nil {
		l.fail("key-file", file.Pos, fmt.Sprintf("the key file %q cannot be read: %v", k.File, err), "put an OpenPGP public key there")
		return
	}
	var have []string
	for _, e := range list {
		if keyring.Fingerprint(e) != want {
			have = append(have, keyring.Fingerprint(e))
			continue
		}
		k.Describe, k.Weakness = keyring.Describe(e), keyring.Weakness(e)
		if k.Armored, err = keyring.Armor(openpgp.EntityList{e}); err != nil {
			l.fail("key-file", file.Pos, fmt.Sprintf("the key in %q cannot be written again: %v", k.File, err), "")
		}
	}
	if k.Armored == "" {
		l.fail(
			"key-mismatch",
			fpr.Pos,
			fmt.Sprintf("the key file %q holds %s, not the pinned %s", k.File, strings.Join(have, " and "), want),
			"find out which is right before you change either",
		)
		return
	}
	if k.Describe.Revoked {
		l.fail("key-unusable", f.at, fmt.Sprintf("the key %q is revoked", f.key), "get the vendor's new key")
	}
}

// Fingerprints are those of the keys that a repository trusts.
func (r *Repository) Fingerprints(p *Policy) (out []string) {
	for _, t := range r.Trusts {
		if k := p.Keys[t.Value]; k != nil {
			out = append(out, k.Fingerprint)
		}
	}
	return out
}

// Certificates are those of keys with some fingerprints; nil where there are none. A key that is
// withdrawn is none of them, and where it is the only one the list is empty: nothing is believed.
func (p *Policy) Certificates(of func(fingerprint string) bool) (out openpgp.EntityList) {
	for _, k := range p.Keys {
		if of(k.Fingerprint) && p.WithdrawalOf(k.Name) != nil && out == nil {
			out = openpgp.EntityList{}
		} else if of(k.Fingerprint) && p.WithdrawalOf(k.Name) == nil {
			if list, err := keyring.Certificates([]byte(k.Armored)); err == nil {
				out = append(out, list...)
			}
		}
	}
	return out
}
