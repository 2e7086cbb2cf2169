package deb

import (
	"bytes"
	"encoding/base64"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
)

// How apt takes the keys out of a file: /usr/bin/apt-key of apt 2.6, which runs as the user
// of its sandbox. keyuse_test.go asks the real apt-get.

// extension is what a shell's ${name##*.} leaves of a path.
func extension(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// trustedForm says why apt passes a file over that stands where every key is trusted; empty
// where it does not.
func trustedForm(name string, text []byte) string {
	switch extension(name) {
	case "asc":
		return ""
	case "gpg":
		if c := text[0]; c != 0x98 && c != 0x99 && c != 0xc6 {
			return "apt reads files that end in .gpg in binary form only"
		}
		return ""
	}
	return "apt reads files here that end in .gpg or .asc only"
}

// packets are what apt hands to gpgv of a key file; ok is false where apt-key gives up at
// it.
func packets(name string, text []byte, keepsReturns func() bool) (out []byte, ok bool) {
	bare := func() ([]byte, bool) {
		if bytes.IndexByte(text, '\r') >= 0 && !keepsReturns() {
			return dearmor(bytes.ReplaceAll(text, []byte("\r"), nil))
		}
		return dearmor(text)
	}
	switch extension(name) {
	case "asc":
		return bare()
	case "gpg":
	default:
		if line, _, _ := bytes.Cut(text, []byte("\n")); string(line) == keyBlock {
			return bare()
		}
	}
	return keyring.Unbox(text), true
}

// dearmor is the awk program of apt-key with base64 -d behind it: headers end at an empty
// line. What base64 does not know ends the program, with nothing.
func dearmor(text []byte) (out []byte, ok bool) {
	var letters []byte
	state := 0
	for line := range bytes.Lines(text) {
		line = bytes.TrimSuffix(line, []byte("\n"))
		if bytes.HasPrefix(line, []byte("-----BEGIN")) {
			state = 1
		}
		if len(line) == 0 && state == 1 {
			state = 2
		}
		if len(line) > 0 && line[0] != '=' && line[0] != '-' && state == 2 {
			letters = append(letters, line...)
		}
		if bytes.HasPrefix(line, []byte("-----END")) {
			state = 0
		}
	}
	for len(letters) > 0 {
		var quad [3]byte
		n, err := base64.StdEncoding.Decode(quad[:], letters[:min(4, len(letters))])
		if err != nil {
			return nil, false
		}
		out = append(out, quad[:n]...)
		letters = letters[4:]
	}
	return out, true
}

// sandbox is the user as which apt checks signatures.
type sandbox struct {
	root     bool // it reads everything
	uid, gid uint32
}

// verifier is the user as which apt checks signatures, by the settings that the method for it has of its own.
func (r *reader) verifier() sandbox {
	r.conf.RaiseIn("Binary::" + r.way.method())
	user := r.conf.Get("APT::Sandbox::User", "")
	if isTrue(r.conf.Get("Debug::NoDropPrivs", ""), false) {
		user = "" // it stays root
	}
	return readSandbox(r.root, user)
}

// readSandbox looks the user up who is named in apt's configuration. Where there is none,
// apt goes on as root.
func readSandbox(root *rootfs.FS, user string) sandbox {
	if user == "" || user == "root" {
		return sandbox{root: true}
	}
	text, err := root.ReadText("/etc/passwd")
	if err != nil {
		return sandbox{root: true}
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) < 4 || f[0] != user {
			continue
		}
		uid, err := strconv.ParseUint(f[2], 10, 32)
		gid, gidErr := strconv.ParseUint(f[3], 10, 32)
		if err != nil || gidErr != nil {
			break
		}
		return sandbox{root: uid == 0, uid: uint32(uid), gid: uint32(gid)}
	}
	return sandbox{root: true}
}

// may reports whether the user has one of the rights 4 (read) and 1 (search) on a file.
func (s sandbox) may(info fs.FileInfo, right fs.FileMode) bool {
	if s.root {
		return true
	}
	mode := info.Mode().Perm()
	switch uid, gid, ok := rootfs.Owner(info); {
	case ok && uid == s.uid:
		mode >>= 6
	case ok && gid == s.gid:
		mode >>= 3
	}
	return mode&right != 0
}

// reads reports whether apt's user can open a file: every folder on the way to it can be searched, also where links lead through others.
func (k *keyReader) reads(name string) bool {
	if k.user.root {
		return true
	}
	info, err := k.root.Stat(name)
	if err != nil || !k.user.may(info, 4) {
		return false
	}
	if k.root.Link(name) != "" {
		return k.reaches(name)
	}
	dir := path.Dir(name)
	way, asked := k.ways[dir]
	if !asked {
		way = k.reaches(dir)
		k.ways[dir] = way
	}
	return way
}

// reaches reports whether apt's user may look up all that is looked up on the way to a file or to what stands in a folder.
func (k *keyReader) reaches(name string) bool {
	all := true
	search := func(folder string) {
		info, err := k.root.Stat(folder)
		all = all && err == nil && k.user.may(info, 1)
	}
	end, err := k.root.Way(name, search)
	if info, is := k.root.Stat("/" + end); err == nil && is == nil && info.IsDir() {
		search("/" + end)
	}
	return err == nil && all
}

// lists reports whether apt's user finds what stands in a folder.
func (k *keyReader) lists(dir string) bool {
	info, err := k.root.Stat(dir)
	return err == nil && k.user.may(info, 4)
}
