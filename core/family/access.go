package family

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/url"
	"path"
	"strings"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// Login notes a login with a password that stands in a file.
func (r *Reading) Login(root *rootfs.FS, file, target, user string) {
	if r.tooManyLogins(file) {
		return
	}
	r.Access = append(r.Access, source.Access{Kind: "basic", Where: file, For: target, Identity: user, Mode: r.mode(root, file)})
}

// tooManyLogins reports whether no more logins are told, and says so once: as many are as
// sources.
func (r *Reading) tooManyLogins(file string) bool {
	if len(r.Access) < MostSources {
		return false
	}
	r.once(file, 0, fmt.Sprintf("more than %d logins are configured: those from here on are not told", MostSources))
	return true
}

// mode is the mode of a file, which is asked for once.
func (r *Reading) mode(root *rootfs.FS, file string) string {
	if have, ok := r.modes[file]; ok {
		return have
	}
	out := ""
	if info, err := root.Stat(file); err == nil {
		out = fmt.Sprintf("%04o", info.Mode().Perm())
	}
	if r.modes == nil {
		r.modes = map[string]string{}
	}
	r.modes[file] = out
	return out
}

// LoginInURL notes a login or a token that a URL in a file carries.
func (r *Reading) LoginInURL(root *rootfs.FS, file, u string) {
	scheme, rest, ok := strings.Cut(u, "://")
	if !ok {
		return
	}
	authority := rest
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		authority = rest[:i]
	}
	a := source.Access{Where: file}
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		user, _, password := strings.Cut(authority[:at], ":")
		if !password {
			return
		}
		if plain, err := url.PathUnescape(user); err == nil {
			user = plain
		}
		a.Kind, a.For, a.Identity = "basic", scheme+"://"+authority[at+1:], user
	} else if MaskURL(u) != u {
		a.Kind, a.For = "token-url", scheme+"://"+authority
	} else {
		return
	}
	if r.tooManyLogins(file) {
		return
	}
	a.Mode = r.mode(root, file)
	for i := range r.Access {
		if h := &r.Access[i]; h.Kind == a.Kind && h.Where == a.Where && h.For == a.For && h.Identity == a.Identity {
			return
		}
	}
	r.Access = append(r.Access, a)
}

// Certificate notes a client certificate that a source names; the private key
// is never opened.
func (r *Reading) Certificate(root *rootfs.FS, name, target, file string, line int) {
	name = path.Clean("/" + name)
	a := source.Access{Kind: "client-certificate", Where: name, For: target, Mode: r.mode(root, name)}
	data, err := root.ReadText(name)
	if err != nil {
		r.Problem(file, line, fmt.Sprintf("the client certificate %s cannot be read: %s", name, Plain(err)), false)
		r.Access = append(r.Access, a)
		return
	}
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != "CERTIFICATE" {
			continue
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			break
		}
		a.Identity = cert.Subject.String()
		expires := cert.NotAfter.UTC()
		a.Expires = &expires
		r.Access = append(r.Access, a)
		return
	}
	r.Problem(name, 0, "no certificate can be read in it", false)
	r.Access = append(r.Access, a)
}

// KeysAt is under what circumstances the keys of a root are judged: its moment, and what is
// left of the work that is done for one root.
func KeysAt(root *rootfs.FS) keyring.At {
	return keyring.At{
		Now: root.Now(), Work: root.Work("keys", keyring.MostWork), Seen: rootfs.Kept[keyring.Seen](root, "keys"),
	}
}
