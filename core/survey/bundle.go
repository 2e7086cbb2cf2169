package survey

import (
	"crypto/md5"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// ownCertificates are the folders of certificates that the system's packages bring, out of which bundles are made.
var ownCertificates = []string{
	source.CertificateDir,
	"/usr/share/pki/ca-trust-source",
	"/usr/share/pki/trust",
}

// system notes what a system believes of servers beyond what its packages brought and its folders of additions say:
// what was written into the file of all, or laid into the folder beside it. Where nothing is fetched by TLS nobody asks.
func (r *reader) system() {
	if !r.Survey.FetchesByTLS() {
		return
	}
	known, others := r.own()
	seen := map[string]bool{}
	for _, bundle := range source.Bundles {
		at, err := r.root.Resolve(bundle)
		if err != nil || seen[at] {
			continue
		}
		seen[at] = true
		text, err := r.root.ReadText(bundle)
		if r.unknown(bundle, err); err != nil {
			continue
		}
		r.Survey.Deciding = append(r.Survey.Deciding, vouchers(bundle, strangers(text, known)))
	}
	if r.dpkg != nil {
		r.laidBeside()
		r.exchanged(others)
	}
}

// brought is what Debian's package of certificates says of the files that it brought.
const brought = "/var/lib/dpkg/info/ca-certificates.md5sums"

// sums are the digests of the certificates that Debian's package brought, by file.
func (r *reader) sums() map[string]string {
	text, err := r.root.ReadText(brought)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) || r.dpkg != nil && r.dpkg.versions["ca-certificates"] != "" {
			r.unread("", brought, "cannot be read, so whether certificates are those of their package is not known: "+family.Plain(err))
		}
		return nil
	}
	out := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if sum, file, _ := strings.Cut(strings.TrimSpace(line), "  "); strings.HasPrefix("/"+file, source.CertificateDir+"/") {
			out["/"+file] = sum
		}
	}
	return out
}

// exchanged notes the files that are not what the package of certificates brought: what is in them is believed.
func (r *reader) exchanged(files []string) {
	d := vouchers(source.CertificateDir, []string{})
	d.Since = source.Tasks
	for _, file := range files {
		for _, who := range r.whoIsIn(file) {
			d.Lines = append(d.Lines, path.Base(file)+": "+who)
		}
	}
	d.Lines = family.Fewer(d.Lines)
	r.Survey.Deciding = append(r.Survey.Deciding, d)
}

// own are the certificates that packages brought and that stand in the folders of additions, of which is told where they
// are read; and the files that are not what their package brought.
func (r *reader) own() (known map[string]bool, others []string) {
	known = map[string]bool{}
	sums := r.sums()
	var walk func(dir string, depth int)
	walk = func(dir string, depth int) {
		entries, err := r.root.ReadDir(dir)
		r.unknown(dir, err)
		for _, e := range entries {
			at := path.Join(dir, e.Name())
			if e.IsDir() {
				if depth < 4 && !distrusts(e.Name()) {
					walk(at, depth+1)
				}
				continue
			}
			text, err := r.root.ReadText(at)
			if r.unknown(at, err); err != nil {
				continue
			}
			if sum := sums[at]; sum != "" && sum != fmt.Sprintf("%x", md5.Sum(text)) {
				others = append(others, at)
			}
			for _, der := range family.CertificateBlocks(text) {
				known[string(der)] = true
			}
			if c, err := family.PlainDER(text); err == nil {
				known[string(c)] = true
			}
		}
	}
	for _, dir := range slices.Concat(ownCertificates, anchors) {
		walk(dir, 0)
	}
	return known, others
}

// unknown says of a file or folder of certificates that could not be read that it is not known who is in it. One that is
// not there has nobody.
func (r *reader) unknown(name string, err error) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.unread("", name, "cannot be read, so whom the system believes is not known: "+family.Plain(err))
	}
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
	entries, err := r.root.ReadDir(source.BundleDir)
	if r.unknown(source.BundleDir, err); err != nil {
		return
	}
	d := vouchers(source.BundleDir, []string{})
	for _, e := range entries {
		at := path.Join(source.BundleDir, e.Name())
		if e.IsDir() || at == source.Bundles[0] {
			continue
		}
		if e.Type()&fs.ModeSymlink != 0 {
			to := r.root.Link(at)
			if !strings.Contains(to, "/") || strings.HasPrefix(to, source.CertificateDir+"/") || strings.HasPrefix(to, anchors[0]+"/") {
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
