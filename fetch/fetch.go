// Package fetch gets files from upstreams over HTTP, politely and without trust in what
// answers: bounded heads, few redirects and none to where a server has no business, one
// limit a server, and what was had before is asked for by its validator.
package fetch

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/upstream"
)

const (
	mostHead      = 64 << 10
	mostRedirects = 5
	mostKept      = 1 << 20 // of one file, in bytes
	keptFiles     = 512
	atOnce        = 2 // connections to one server
)

// Agent is how we present ourselves to servers.
const Agent = "patient-lantern"

// Client gets files for many at once.
type Client struct {
	plain http.RoundTripper
	kept  *lru.Cache[string, kept]

	mu   sync.Mutex
	busy map[string]chan struct{} // server → its places
}

// kept is a file that was had before.
type kept struct {
	etag, modified string
	body           []byte
}

// New returns a client.
func New() *Client {
	c := &Client{plain: Believe(transport()), busy: map[string]chan struct{}{}}
	var err error
	if c.kept, err = lru.New[string, kept](keptFiles); err != nil {
		panic(err) // of a size that is not positive
	}
	return c
}

func transport() *http.Transport {
	return &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxResponseHeaderBytes: mostHead, DisableCompression: true, ForceAttemptHTTP2: true,
		DialContext:         (&net.Dialer{Timeout: 10 * time.Second, Control: notLink}).DialContext,
		TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 30 * time.Second, IdleConnTimeout: 30 * time.Second,
	}
}

// notLink keeps away from the link's own addresses: machines in a data centre find there what is
// for themselves alone, and an address that a host names is not to lead the service to it.
func notLink(_, address string, _ syscall.RawConn) error {
	if at, err := netip.ParseAddrPort(address); err == nil && at.Addr().Unmap().IsLinkLocalUnicast() {
		return errLeads("its address is one of the link itself, from which nothing is fetched")
	}
	return nil
}

// Way is how one source is reached; the zero value is directly and without access.
type Way struct {
	Login, Password string
	Certificate     *tls.Certificate
	Roots           *x509.CertPool // instead of the system's
	Proxy           *url.URL       // instead of the environment's
	Direct          []string       // servers that are asked without the proxy
	Token           string         // stands in URLs where they say ***
	Local           bool           // file: is opened too, on this machine
}

// By is the way through what hosts of a site go through.
func (w Way) By(t upstream.Through) (Way, error) {
	if t.Proxy == "" {
		return w, nil
	}
	proxy, err := url.Parse(t.Proxy)
	if err != nil {
		return w, &upstream.Refused{Kind: cause.Proxy, Why: "the proxy is no address"}
	}
	w.Proxy, w.Direct = proxy, strings.Fields(t.Direct)
	return w, nil
}

// through is the proxy for a request; nil where its server is asked without one.
func (w *Way) through(req *http.Request) (*url.URL, error) {
	if slices.Contains(w.Direct, req.URL.Hostname()) {
		return nil, nil
	}
	return w.Proxy, nil
}

// name is what a file is kept by: a proxy may have others than the server behind it.
func (w *Way) name(raw string) string {
	if w.Proxy == nil {
		return raw
	}
	return w.Proxy.String() + " " + raw
}

// tunnelled refuses what a proxy answers that does not connect.
func tunnelled(_ context.Context, _ *url.URL, _ *http.Request, resp *http.Response) error {
	switch {
	case resp.StatusCode == http.StatusOK:
		return nil
	case resp.StatusCode >= 500: // it would, and cannot
		return &upstream.Refused{Kind: cause.Unreachable, Why: "the proxy does not get there: it answered " + clean(resp.Status)}
	}
	return &upstream.Refused{Kind: cause.Proxy, Why: "the proxy answered " + clean(resp.Status)}
}

// Opener returns what package upstream fetches with. What it opens ends with the context.
func (c *Client) Opener(ctx context.Context, w Way) upstream.Fetch {
	by := c.plain
	if w.Certificate != nil || w.Roots != nil || w.Proxy != nil {
		t := transport()
		t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: w.Roots}
		if w.Certificate != nil {
			t.TLSClientConfig.Certificates = []tls.Certificate{*w.Certificate}
		}
		if w.Proxy != nil {
			t.Proxy, t.OnProxyConnectResponse = w.through, tunnelled
			t.ProxyConnectHeader = http.Header{"User-Agent": {Agent}}
		}
		by = t
		if w.Roots == nil {
			by = Believe(t)
		}
		context.AfterFunc(ctx, (&http.Client{Transport: by}).CloseIdleConnections)
	}
	client := &http.Client{Transport: by, CheckRedirect: redirect}
	return func(raw string) (io.ReadCloser, error) { return c.open(ctx, client, w, raw) }
}

func (c *Client) open(ctx context.Context, client *http.Client, w Way, raw string) (io.ReadCloser, error) {
	if name, ok := strings.CutPrefix(raw, "file:"); ok {
		if !w.Local { // another machine's files are not this one's
			return nil, &upstream.Refused{
				Kind: cause.Unreachable,
				Why:  "it cannot be asked for from here: it is at hand on the host alone",
			}
		}
		return local("/" + strings.TrimLeft(name, "/"))
	}
	if w.Token != "" {
		raw = strings.ReplaceAll(raw, "***", w.Token)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, raw, nil)
	if err != nil {
		return nil, &upstream.Refused{Kind: cause.Unreachable, Why: "the address cannot be asked for"}
	}
	req.Header.Set("User-Agent", Agent)
	if w.Login != "" {
		req.SetBasicAuth(w.Login, w.Password)
	}
	had, again := kept{}, w.Login == "" && w.Certificate == nil && w.Token == ""
	if again {
		had, _ = c.kept.Get(w.name(raw))
	}
	if had.etag != "" {
		req.Header.Set("If-None-Match", had.etag)
	} else if had.modified != "" {
		req.Header.Set("If-Modified-Since", had.modified)
	}
	free, err := c.turn(ctx, req.URL.Host)
	if err != nil {
		return nil, told(err)
	}
	resp, err := client.Do(req)
	if err != nil {
		free()
		return nil, told(err)
	}
	switch {
	case resp.StatusCode == http.StatusNotModified && had.body != nil:
		resp.Body.Close()
		free()
		return io.NopCloser(bytes.NewReader(had.body)), nil
	case resp.StatusCode != http.StatusOK:
		resp.Body.Close()
		free()
		return nil, &upstream.Refused{Kind: status(resp.StatusCode), Why: "the server answered " + clean(resp.Status)}
	}
	return &body{ReadCloser: resp.Body, free: free, keep: c.keeper(w.name(raw), resp, again)}, nil
}

// turn waits for one of the places at a server.
func (c *Client) turn(ctx context.Context, server string) (free func(), err error) {
	c.mu.Lock()
	places := c.busy[server]
	if places == nil {
		places = make(chan struct{}, atOnce)
		c.busy[server] = places
	}
	c.mu.Unlock()
	select {
	case places <- struct{}{}:
		return sync.OnceFunc(func() { <-places }), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// keeper keeps a small file that has a validator once it was read whole.
func (c *Client) keeper(name string, resp *http.Response, again bool) func([]byte) {
	k := kept{etag: resp.Header.Get("ETag"), modified: resp.Header.Get("Last-Modified")}
	if !again || k.etag == "" && k.modified == "" || resp.ContentLength > mostKept {
		return nil
	}
	return func(b []byte) {
		k.body = b
		c.kept.Add(name, k)
	}
}

// body is what a server sends.
type body struct {
	io.ReadCloser
	free func()
	keep func([]byte)
	seen []byte
}

// Read implements io.Reader.
func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.keep != nil {
		if b.seen = append(b.seen, p[:n]...); len(b.seen) > mostKept {
			b.keep, b.seen = nil, nil
		}
	}
	if errors.Is(err, io.EOF) && b.keep != nil {
		b.keep(b.seen)
		b.keep = nil
	}
	if err != nil && !errors.Is(err, io.EOF) {
		err = told(err)
	}
	return n, err
}

// Close implements io.Closer.
func (b *body) Close() error {
	defer b.free()
	return b.ReadCloser.Close()
}

func local(name string) (io.ReadCloser, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &upstream.Refused{Kind: cause.Missing, Why: "there is no such file"}
	}
	if err != nil {
		return nil, &upstream.Refused{Kind: cause.Unreachable, Why: "it cannot be opened"}
	}
	return f, nil
}

// errLeads is why a redirect is not followed.
type errLeads string

func (e errLeads) Error() string { return string(e) }

// redirect says which redirects are followed: few, over HTTP, never from TLS to none, and
// never from outside to an address inside.
func redirect(req *http.Request, via []*http.Request) error {
	req.Header.Del("Referer") // an address may hold a token
	from := via[0].URL
	switch to := req.URL; {
	case len(via) > mostRedirects:
		return errLeads(fmt.Sprintf("it leads on more than %d times", mostRedirects))
	case to.Scheme != "http" && to.Scheme != "https":
		return errLeads("it leads to " + to.Scheme + ":, from which nothing is fetched")
	case from.Scheme == "https" && to.Scheme == "http":
		return errLeads("it leads from TLS to plain HTTP")
	case to.Hostname() != from.Hostname() && inside(req.Context(), to.Hostname()) > inside(req.Context(), from.Hostname()):
		return errLeads("it leads to an address inside")
	}
	return nil
}

// inside is how far inside an address is: 0 outside, 1 of a private network, 2 of the
// machine itself or of its link.
func inside(ctx context.Context, host string) (most int) {
	addrs := []netip.Addr{}
	if a, err := netip.ParseAddr(host); err == nil {
		addrs = append(addrs, a)
	} else if found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host); err == nil {
		addrs = found
	}
	for _, a := range addrs {
		switch a = a.Unmap(); {
		case a.IsLoopback(), a.IsLinkLocalUnicast(), a.IsUnspecified():
			return 2
		case a.IsPrivate():
			most = 1
		}
	}
	return most
}

// status is what an answer means.
func status(code int) cause.Kind {
	switch {
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return cause.Unauthorised
	case code == http.StatusProxyAuthRequired:
		return cause.Proxy
	case code == http.StatusNotFound || code == http.StatusGone:
		return cause.Missing
	case code >= 300 && code < 400:
		return cause.Redirected
	case code >= 500 || code == http.StatusTooManyRequests:
		return cause.Server
	}
	return cause.NotMetadata
}

// told makes a refusal of an error of the network. Its words hold no address: that may hold
// a secret.
func told(err error) error {
	var r *upstream.Refused
	var leads errLeads
	var dns *net.DNSError
	var op *net.OpError
	var certificate *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	var timeout interface{ Timeout() bool }
	no := func(kind cause.Kind, why string) error { return &upstream.Refused{Kind: kind, Why: why} }
	switch {
	case errors.As(err, &r):
		return r
	case errors.As(err, &leads):
		return no(cause.Redirected, leads.Error())
	case errors.As(err, &certificate):
		return no(cause.TLS, "its certificate is not believed: "+clean(certificate.Err.Error()))
	case errors.As(err, &record), errors.As(err, &alert):
		return no(cause.TLS, "it does not speak TLS as it should")
	case errors.As(err, &op) && op.Op == "proxyconnect":
		return no(cause.Proxy, "the proxy cannot be reached: "+clean(op.Err.Error()))
	case errors.As(err, &dns):
		return no(cause.Unresolved, "the name of the server is not known")
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return no(cause.Slow, "it takes too long")
	case errors.Is(err, context.Canceled):
		return no(cause.Slow, "the look was broken off")
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return no(cause.Cut, "the connection breaks off")
	case errors.As(err, &op) && op.Op == "dial":
		return no(cause.Unreachable, "the server cannot be reached: "+clean(op.Err.Error()))
	case errors.As(err, &op):
		return no(cause.Cut, "the connection breaks off")
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if strings.Contains(err.Error(), "server response headers exceeded") {
		return no(cause.TooLarge, "the head of its answer is larger than any")
	}
	return no(cause.Unreachable, clean(err.Error()))
}

// clean keeps the words of a server to one short line.
func clean(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
	return s[:min(len(s), 200)]
}
