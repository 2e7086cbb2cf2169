package fetch

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// How often the system's authorities are looked at again: of themselves, and where a server is not believed.
var (
	lookAgain = time.Minute
	lookSoon  = 5 * time.Second
)

// Where systems keep the authorities that they believe: the first of the files that is there, and all of the folders, as
// crypto/x509 has it.
var (
	authorityFiles = []string{
		"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt", "/etc/ssl/ca-bundle.pem", "/etc/pki/tls/cacert.pem",
		"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", "/etc/ssl/cert.pem",
	}
	authorityFolders = []string{"/etc/ssl/certs", "/etc/pki/tls/certs"}
)

// Believing is a transport that believes the authorities that the system believes now. crypto/x509 reads them once: who
// runs for months would not believe one that came later, and would go on believing one that went.
type Believing struct {
	mu    sync.Mutex
	t     *http.Transport
	roots *x509.CertPool // nil: those that crypto/x509 has read
}

// Believe makes a transport that names no authorities of its own go by the system's of each moment.
func Believe(t *http.Transport) *Believing {
	system.begin()
	return &Believing{t: t}
}

// Plain is how one service of the operator's is asked: as net/http does of itself, by the authorities of now.
func Plain() http.RoundTripper { return Believe(http.DefaultTransport.(*http.Transport).Clone()) }

// RoundTrip implements http.RoundTripper. Where a server is not believed the authorities are looked at anew, and it is
// asked again if they are others.
func (b *Believing) RoundTrip(req *http.Request) (*http.Response, error) {
	t := b.current(lookAgain)
	resp, err := t.RoundTrip(req)
	var unknown x509.UnknownAuthorityError
	if !errors.As(err, &unknown) {
		return resp, err
	}
	next := b.current(lookSoon)
	if next == t || req.Body != nil && req.GetBody == nil {
		return resp, err
	}
	again := req.Clone(req.Context())
	if req.GetBody != nil {
		body, cannot := req.GetBody()
		if cannot != nil {
			return resp, err
		}
		again.Body = body
	}
	return next.RoundTrip(again)
}

// CloseIdleConnections closes connections that nobody uses.
func (b *Believing) CloseIdleConnections() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.t.CloseIdleConnections()
}

// current is the transport by the authorities of now, which are taken for unchanged for a while.
func (b *Believing) current(every time.Duration) *http.Transport {
	roots := system.now(every)
	b.mu.Lock()
	defer b.mu.Unlock()
	if roots == b.roots {
		return b.t
	}
	next := b.t.Clone()
	if next.TLSClientConfig == nil {
		next.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	}
	next.TLSClientConfig.RootCAs = roots
	b.t.CloseIdleConnections() // whoever was believed by others is asked again who they are
	b.t, b.roots = next, roots
	return next
}

// system are the authorities of this machine.
var system believed

type believed struct {
	mu     sync.Mutex
	stood  string
	looked time.Time
	roots  *x509.CertPool // nil: those that crypto/x509 has read
}

// begin notes what stands there when it is read first.
func (s *believed) begin() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.looked.IsZero() {
		s.stood, s.looked = authorityStamp(), time.Now()
	}
}

// now are the authorities as they stand, looked at again when some time has gone by. Where none can be read those of before stay.
func (s *believed) now(every time.Duration) *x509.CertPool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.looked) < every {
		return s.roots
	}
	s.looked = time.Now()
	is := authorityStamp()
	if is == s.stood {
		return s.roots
	}
	if roots, some := authorities(); some {
		s.roots, s.stood = roots, is
	}
	return s.roots
}

// authorityStamp tells whether the system's authorities are others than they were.
func authorityStamp() string {
	var out strings.Builder
	files, folders := authorityPlaces()
	for _, name := range append(files, folders...) {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintln(&out, name, info.ModTime().UnixNano(), info.Size())
		}
	}
	return out.String()
}

// authorityPlaces are where the authorities stand, with what the environment says of that.
func authorityPlaces() (files, folders []string) {
	files, folders = authorityFiles, authorityFolders
	if f := os.Getenv("SSL_CERT_FILE"); f != "" {
		files = []string{f}
	}
	if d := os.Getenv("SSL_CERT_DIR"); d != "" {
		folders = strings.Split(d, ":")
	}
	return files[:len(files):len(files)], folders
}

// authorities are those that the system believes; some is false where there are none.
func authorities() (roots *x509.CertPool, some bool) {
	roots = x509.NewCertPool()
	take := func(name string) bool {
		text, err := os.ReadFile(name)
		if err == nil && roots.AppendCertsFromPEM(text) {
			some = true
		}
		return err == nil
	}
	files, folders := authorityPlaces()
	for _, name := range files {
		if take(name) {
			break
		}
	}
	for _, dir := range folders {
		names, _ := filepath.Glob(filepath.Join(dir, "*"))
		for _, name := range names {
			take(name)
		}
	}
	return roots, some
}
