package survey

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"
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
			Path: dir, Names: func(name string) bool { return name != "README" }, All: certificates, Stays: true,
			Touches: family.Both(family.Trust, family.Transport), Loose: strings.HasPrefix(dir, family.System),
		}
		if i >= bundled {
			place.Since = 1
		}
		found.Decides(r.root, []family.Deciding{place})
	}
	r.add(found)
}

// certificates names the certificates of a file by whom they are for, and by their digest.
func certificates(text []byte, _ []string) (out []string) {
	add := func(der []byte) {
		says := "SHA-256 " + source.Digest(der)
		if c, err := x509.ParseCertificate(der); err == nil {
			says = fmt.Sprintf("%s, until %s, %s", family.Plainly(c.Subject.String()), c.NotAfter.UTC().Format("2006-01-02"), says)
		}
		out = append(out, says)
	}
	rest := text
	for {
		block, more := pem.Decode(rest)
		if block == nil {
			break
		}
		if rest = more; block.Type == "CERTIFICATE" || block.Type == "TRUSTED CERTIFICATE" {
			add(block.Bytes)
		}
	}
	if len(out) == 0 && len(bytes.TrimSpace(text)) > 0 {
		add(text)
	}
	return out
}

// folders notes the folders of what was read in which others than root may put files: they
// decide then what this host installs.
func (r *reader) folders() {
	dirs := map[string]bool{}
	for name := range r.Texts {
		dirs[path.Dir(name)] = true
	}
	for _, dir := range WatchDirs {
		if dir != "/etc" && dir != "/etc/sysconfig" {
			dirs[dir] = true
		}
	}
	top, err := r.root.Stat("/")
	if err != nil {
		return
	}
	for _, dir := range slices.Sorted(maps.Keys(dirs)) {
		info, err := r.root.Stat(dir)
		if err != nil || !info.IsDir() {
			continue
		}
		if says := othersWrite(info, top); says != "" {
			r.Survey.Deciding = append(r.Survey.Deciding, source.Deciding{
				File: dir, Lines: []string{source.OpenFolder + says}, Touches: family.Both(family.Origin, family.Trust),
			})
		}
	}
}

// othersWrite says who besides the owner of the root may write in a folder; empty where
// nobody may.
func othersWrite(info, top fs.FileInfo) string {
	uid, gid, ok := rootfs.Owner(info)
	root, group, known := rootfs.Owner(top)
	mode := info.Mode()
	switch {
	case mode&0o002 != 0:
		return fmt.Sprintf("anybody (mode %04o)", mode.Perm())
	case ok && known && uid != root:
		return fmt.Sprintf("the user %d", uid)
	case ok && known && mode&0o020 != 0 && gid != group:
		return fmt.Sprintf("the group %d (mode %04o)", gid, mode.Perm())
	}
	return ""
}
