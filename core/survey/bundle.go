package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// bundles are the files in which systems put together all certificates that they believe, for programs to read.
var bundles = []string{
	debianBundle,
	"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
	"/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/pki/tls/cert.pem",
	"/var/lib/ca-certificates/ca-bundle.pem",
	"/etc/ssl/ca-bundle.pem",
	"/etc/ca-certificates/extracted/tls-ca-bundle.pem",
}

const (
	debianBundle = "/etc/ssl/certs/ca-certificates.crt"
	debianDir    = "/etc/ssl/certs"
)

// ownCertificates are the folders of certificates that the system's packages bring, out of which bundles are made.
var ownCertificates = []string{
	"/usr/share/ca-certificates",
	"/usr/share/pki/ca-trust-source",
	"/usr/share/pki/trust",
}

// system notes what a system believes of servers beyond what its packages brought and its folders of additions say:
// what was written into the file of all, or laid into the folder beside it. Where nothing is fetched by TLS nobody asks.
func (r *reader) system() {
	if !r.fetchesByTLS() {
		return
	}
	var known map[string]bool
	seen := map[string]bool{}
	for _, bundle := range bundles {
		at, err := r.root.Resolve(bundle)
		if err != nil || seen[at] {
			continue
		}
		seen[at] = true
		text, _, err := r.root.ReadTextInfo(bundle)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				r.problem("", bundle, "cannot be read, so whom the system believes is not known: "+family.Plain(err))
			}
			continue
		}
		if known == nil {
			known = r.own()
		}
		r.Survey.Deciding = append(r.Survey.Deciding, vouchers(bundle, strangers(text, known)))
	}
	if r.dpkg != nil {
		r.laidBeside()
	}
}

// fetchesByTLS reports whether anything comes from a server that proves who it is.
func (r *reader) fetchesByTLS() bool {
	is := func(u string) bool {
		scheme, _, _ := strings.Cut(u, "://")
		return scheme == "https" || strings.HasSuffix(scheme, "+https")
	}
	return slices.ContainsFunc(r.Survey.Sources, func(s source.Source) bool {
		return s.Enabled && (slices.ContainsFunc(s.EffURLs, is) || is(s.Mirrorlist) || is(s.Metalink))
	}) || slices.ContainsFunc(r.Survey.Services, func(s source.Service) bool { return s.Enabled && is(s.URL) })
}

// own are the certificates that packages brought and that stand in the folders of additions, of which is told where they
// are read.
func (r *reader) own() map[string]bool {
	known := map[string]bool{}
	var walk func(dir string, depth int)
	walk = func(dir string, depth int) {
		entries, err := r.root.ReadDir(dir)
		if err != nil {
			return
		}
		for _, e := range entries {
			at := path.Join(dir, e.Name())
			if e.IsDir() {
				if depth < 4 && !distrusts(e.Name()) {
					walk(at, depth+1)
				}
				continue
			}
			if text, err := r.root.ReadText(at); err == nil {
				for _, der := range family.CertificateBlocks(text) {
					known[string(der)] = true
				}
				if c, err := family.PlainDER(text); err == nil {
					known[string(c)] = true
				}
			}
		}
	}
	for _, dir := range slices.Concat(ownCertificates, anchors) {
		walk(dir, 0)
	}
	return known
}

// strangers names the certificates of a text that are not known. Where none is known, whatever the system has is its own:
// the text is told of as a whole.
func strangers(text []byte, known map[string]bool) []string {
	all := family.CertificateBlocks(text)
	if len(known) == 0 {
		return []string{fmt.Sprintf("%d certificates, SHA-256 %s", len(all), source.Digest(text))}
	}
	out := []string{}
	for _, der := range all {
		if !known[string(der)] {
			out = append(out, family.CertificateSays(der))
		}
	}
	return family.Fewer(out)
}

// laidBeside notes the certificates in Debian's folder that are no links to where those of packages and the added ones
// stand. Programs that look a server's authority up by name find them there.
func (r *reader) laidBeside() {
	entries, err := r.root.ReadDir(debianDir)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.problem("", debianDir, "cannot be listed, so whom the system believes is not known: "+family.Plain(err))
		}
		return
	}
	d := vouchers(debianDir, []string{})
	for _, e := range entries {
		at := path.Join(debianDir, e.Name())
		if e.IsDir() || at == debianBundle {
			continue
		}
		if e.Type()&fs.ModeSymlink != 0 {
			to := r.root.Link(at)
			if !strings.Contains(to, "/") || strings.HasPrefix(to, ownCertificates[0]+"/") || strings.HasPrefix(to, anchors[0]+"/") {
				continue
			}
		}
		for _, who := range r.whoIsIn(at) {
			d.Lines = append(d.Lines, e.Name()+": "+who)
		}
	}
	d.Lines = family.Fewer(d.Lines)
	r.Survey.Deciding = append(r.Survey.Deciding, d)
}
