package survey

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// anchors are the folders in which each distribution takes certificates that somebody adds to
// those that it believes.
var anchors = []string{
	"/usr/local/share/ca-certificates",
	"/etc/pki/ca-trust/source/anchors",
	"/etc/pki/trust/anchors",
	"/etc/ca-certificates/trust-source/anchors",
	"/usr/share/pki/ca-trust-source/anchors",
	"/usr/share/pki/trust/anchors",
	"/usr/share/ca-certificates/trust-source/anchors",
	"/etc/pki/ca-trust/source",
	"/etc/pki/trust",
	"/etc/ca-certificates/trust-source",
}

// bundled are those of them that were looked at from the first.
const bundled = 4

// roots notes the roots of certificates that were added to the system's own, by which every
// package manager believes a server.
func (r *reader) roots() {
	found := family.Begin("")
	for i, dir := range anchors {
		place := family.Deciding{
			Path: dir, Names: func(name string) bool { return name != "README" }, All: family.Certificates, Stays: true,
			Touches: family.Both(family.Trust, family.Transport), Loose: strings.HasPrefix(dir, family.System),
		}
		if i >= bundled {
			place.Since = 1
		}
		found.Decides(r.root, []family.Deciding{place})
		for _, below := range r.below(dir, i == 0) {
			place.Path, place.Since = below, source.Vouching
			found.Decides(r.root, []family.Deciding{place})
		}
	}
	found.Decides(r.root, []family.Deciding{{
		Path: "/etc/ca-certificates.conf", Touches: family.Both(family.Trust, family.Transport), Comment: "#", Stays: true,
		Since: source.Vouching,
		Line:  func(line string) bool { return !strings.HasPrefix(line, "mozilla/") }, // which the package brings
	}})
	r.add(found)
}

// distrusts reports whether a folder below those of anchors is one of certificates that nobody is to believe.
func distrusts(name string) bool { return name == "blocklist" || name == "blacklist" }

// mostBelow is how many folders below one of anchors are looked into.
const mostBelow = 100

// below are the folders in a folder of anchors that count as well: those of what is distrusted, and in Debian's, which is
// gone through to its end and along links, all of them.
func (r *reader) below(dir string, all bool) (out []string) {
	rest := []string{dir}
	for len(rest) > 0 {
		at := rest[0]
		rest = rest[1:]
		entries, err := r.root.ReadDir(at)
		if err != nil {
			continue
		}
		for _, e := range entries {
			name := path.Join(at, e.Name())
			if !all && !distrusts(e.Name()) || !e.IsDir() && e.Type()&fs.ModeSymlink == 0 {
				continue
			}
			if info, err := r.root.Stat(name); err != nil || !info.IsDir() {
				continue
			}
			if len(out) == mostBelow { // or links lead in a circle
				r.unread("", dir, fmt.Sprintf("it has more than %d folders with certificates: those from here on are not read", mostBelow))
				return out
			}
			if out = append(out, name); all {
				rest = append(rest, name)
			}
		}
	}
	return out
}
