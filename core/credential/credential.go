// Package credential writes the secrets that open licensed sources in the form
// that each package manager reads.
package credential

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"patientlantern.example/lantern/core/source"
)

// Kinds of secret.
const (
	Basic       = "basic"
	Certificate = "client-certificate"
	TokenURL    = "token-url"
)

// Secret opens licensed sources for one host. It is never logged: its String
// shows nothing.
type Secret struct {
	Kind        string    `json:"kind"`
	Login       string    `json:"login,omitempty"`
	Password    string    `json:"password,omitempty"`
	Certificate string    `json:"certificate,omitempty"` // PEM
	Key         string    `json:"key,omitempty"`         // PEM
	Token       string    `json:"token,omitempty"`       // a path element of the URLs
	Expires     time.Time `json:"expires"`
}

// String hides what a Secret holds.
func (s Secret) String() string { return "a secret of kind " + s.Kind }

// GoString hides what a Secret holds from %#v.
func (s Secret) GoString() string { return s.String() }

// Forms in which a secret is written.
const (
	FormNetrc       = "netrc"            // apt_auth.conf(5): machine, login, password
	FormLogin       = "login"            // the login alone: a variable of dnf
	FormPassword    = "password"         // the password alone: a variable of dnf
	FormToken       = "token"            // the token alone: a variable of dnf or zypper
	FormCertificate = "certificate"      // PEM
	FormKey         = "private-key"      // PEM
	FormZypp        = "zypp-credentials" // username = …, password = …
	FormPacman      = "pacman-server"    // Server = https://login:password@…
)

// forms maps each form to the kind of secret that it is written from.
var forms = map[string]string{
	FormNetrc: Basic, FormLogin: Basic, FormPassword: Basic, FormZypp: Basic, FormPacman: Basic,
	FormCertificate: Certificate, FormKey: Certificate, FormToken: TokenURL,
}

// Check reports whether a secret is whole and can be written. now is the time at
// which it must be good. Errors never hold any of it.
func (s Secret) Check(now time.Time) error {
	switch s.Kind {
	case Basic:
		for what, text := range map[string]string{"login": s.Login, "password": s.Password} {
			if text == "" {
				return fmt.Errorf("the %s is empty", what)
			}
			if strings.IndexFunc(text, func(r rune) bool { return r <= ' ' || r == 0x7f }) >= 0 {
				return fmt.Errorf("the %s holds a blank or a control character, which no package manager's file can say", what)
			}
		}
		if strings.Contains(s.Login, ":") {
			return errors.New("the login holds a colon, which ends it where it is shown (RFC 7617)")
		}
	case TokenURL:
		if s.Token == "" || s.Token == "." || s.Token == ".." || url.PathEscape(s.Token) != s.Token {
			return errors.New("the token is empty or cannot stand in a URL")
		}
	case Certificate:
		block, _ := pem.Decode([]byte(s.Certificate))
		if block == nil || block.Type != "CERTIFICATE" {
			return errors.New("the client certificate is not PEM")
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return errors.New("the client certificate cannot be read")
		}
		if key, _ := pem.Decode([]byte(s.Key)); key == nil || !strings.HasSuffix(key.Type, "PRIVATE KEY") {
			return errors.New("the private key of the client certificate is not PEM")
		}
		if cert.NotBefore.After(now) {
			return fmt.Errorf("the client certificate is good from %s only", cert.NotBefore.UTC().Format(time.RFC3339))
		}
	default:
		return fmt.Errorf("access of kind %q is not known", s.Kind)
	}
	if !s.Expires.After(now) {
		return fmt.Errorf("it ended at %s already", s.Expires.UTC().Format(time.RFC3339))
	}
	return nil
}

// Write returns the text of an access file.
func (s Secret) Write(f source.AccessFile) (string, error) {
	kind, ok := forms[f.Form]
	switch {
	case !ok:
		return "", fmt.Errorf("the form %q of %s is not known", f.Form, f.Path)
	case kind != s.Kind:
		return "", fmt.Errorf("%s takes access of kind %s, and the vendor gave %s", f.Path, kind, s.Kind)
	}
	switch f.Form {
	case FormNetrc:
		return s.netrc(f.URLs), nil
	case FormLogin:
		return s.Login + "\n", nil
	case FormPassword:
		return s.Password + "\n", nil
	case FormToken:
		return literal(s.Token) + "\n", nil
	case FormCertificate:
		return endLine(s.Certificate), nil
	case FormKey:
		return endLine(s.Key), nil
	case FormZypp:
		return fmt.Sprintf("username = %s\npassword = %s\n", s.Login, s.Password), nil
	}
	var b strings.Builder
	for _, u := range f.URLs {
		scheme, rest, ok := strings.Cut(u, "://")
		if !ok {
			return "", fmt.Errorf("%s: a login cannot stand in the URL %q", f.Path, u)
		}
		fmt.Fprintf(&b, "Server = %s://%s@%s\n", scheme, literal(url.UserPassword(s.Login, s.Password).String()), rest)
	}
	return b.String(), nil
}

// literal is a piece of a URL in which nobody sees a variable: pacman puts its own in place of $repo and $arch wherever they
// stand, and dnf looks for variables in the values of variables.
func literal(piece string) string { return strings.ReplaceAll(piece, "$", "%24") }

// head tells people who open a file what it is.
const head = "# Patient Lantern writes this file and renews it.\n"

// netrc writes entries of auth.conf. apt takes one without a scheme for https
// alone, so the scheme is always written. A path matches what begins with it.
func (s Secret) netrc(urls []string) string {
	var b strings.Builder
	b.WriteString(head)
	for _, u := range urls {
		fmt.Fprintf(&b, "machine %s\nlogin %s\npassword %s\n", strings.TrimSuffix(u, "/")+"/", s.Login, s.Password)
	}
	return b.String()
}

func endLine(s string) string { return strings.TrimRight(s, "\n") + "\n" }
