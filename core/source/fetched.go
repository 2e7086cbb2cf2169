package source

import (
	"slices"
	"strings"
)

// HostOf is the name of the host in a URL, in small letters; empty where it names none.
func HostOf(u string) string {
	_, rest, ok := strings.Cut(u, "://")
	if !ok {
		return ""
	}
	if end := strings.IndexAny(rest, "/?#"); end >= 0 {
		rest = rest[:end]
	}
	rest = rest[strings.LastIndexByte(rest, '@')+1:]
	if strings.HasPrefix(rest, "[") { // an address, which nobody looks up
		return ""
	}
	if port := strings.LastIndexByte(rest, ':'); port >= 0 {
		rest = rest[:port]
	}
	return strings.ToLower(strings.TrimSuffix(rest, "."))
}

// NamesOf are the names that a line of hosts(5) gives an address to, in small letters.
func NamesOf(line string) []string {
	line, _, _ = strings.Cut(line, "#")
	fields := strings.Fields(strings.ToLower(line))
	if len(fields) < 2 {
		return nil
	}
	for i, name := range fields {
		fields[i] = strings.TrimSuffix(name, ".")
	}
	return fields[1:]
}

// HostsFile is where a system is told addresses of hosts that go before any other.
const HostsFile = "/etc/hosts"

// FetchedFrom are the names of the hosts that sources which are on, services and keys are fetched
// from.
func (s *Survey) FetchedFrom() map[string]bool {
	named := map[string]bool{}
	note := func(urls ...string) {
		for _, u := range urls {
			if host := HostOf(u); host != "" {
				named[host] = true
			}
		}
	}
	for i := range s.Sources {
		if x := &s.Sources[i]; x.Enabled {
			note(x.EffURLs...)
			note(x.Mirrorlist, x.Metalink)
			note(x.SignedBy...)
		}
	}
	for i := range s.Services {
		if s.Services[i].Enabled {
			note(s.Services[i].URL)
		}
	}
	return named
}

// FetchesByTLS reports whether anything comes from a server that proves who it is.
func (s *Survey) FetchesByTLS() bool {
	is := func(u string) bool {
		scheme, _, _ := strings.Cut(u, "://")
		return scheme == "https" || strings.HasSuffix(scheme, "+https")
	}
	return slices.ContainsFunc(s.Sources, func(x Source) bool {
		return x.Enabled && (slices.ContainsFunc(x.EffURLs, is) || is(x.Mirrorlist) || is(x.Metalink))
	}) || slices.ContainsFunc(s.Services, func(x Service) bool { return x.Enabled && is(x.URL) })
}

// Bundles are the files in which systems put together all certificates that they believe, for programs to read.
var Bundles = []string{
	"/etc/ssl/certs/ca-certificates.crt",
	"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
	"/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/pki/tls/cert.pem",
	"/var/lib/ca-certificates/ca-bundle.pem",
	"/etc/ssl/ca-bundle.pem",
	"/etc/ca-certificates/extracted/tls-ca-bundle.pem",
}

// Where Debian has the certificates that a system believes one by one, and where its package brings them.
const (
	BundleDir      = "/etc/ssl/certs"
	CertificateDir = "/usr/share/ca-certificates"
)

// OfSystem reports whether a file or folder of certificates is a system's own: it is told of wherever anything is fetched
// by TLS, and where it is not, it was not there.
func OfSystem(file string) bool {
	return file == BundleDir || file == CertificateDir || slices.Contains(Bundles, file)
}
