package origin

import (
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/unpack"
)

const dpkgDir = "/var/lib/dpkg"

// apt holds dpkg's packages against apt's lists.
type apt struct {
	root  *rootfs.FS
	have  map[string]piece // name, version and architecture → package
	lists []string         // names of files
}

func openApt(root *rootfs.FS) (*apt, error) {
	f, err := root.Open(path.Join(dpkgDir, "status"))
	if err != nil {
		return nil, fmt.Errorf("dpkg's status cannot be read: %w", err)
	}
	defer f.Close()
	a := &apt{root: root, have: map[string]piece{}}
	err = index.Controls(f, func(s index.Control) bool {
		if words := strings.Fields(s.Status); len(words) == 3 && words[2] == "installed" {
			a.have[keyOf(s)] = piece{name: s.Package, version: s.Version, arch: s.Architecture}
		}
		return true
	})
	if err != nil {
		return nil, fmt.Errorf("dpkg's status cannot be read: %w", err)
	}
	entries, err := root.ReadDir(deb.ListsDir)
	if err != nil {
		return nil, fmt.Errorf("apt's lists cannot be read: %w", err)
	}
	for _, e := range entries {
		a.lists = append(a.lists, e.Name())
	}
	return a, nil
}

// from reads the lists of a URL and a suite.
func (a *apt) from(key string) ([]piece, error) {
	url, suite, _ := strings.Cut(key, " ")
	stem := deb.ListName(deb.ReleaseURL(url, suite))
	found, seen := map[string]piece{}, false
	for _, name := range a.lists {
		rest, ok := strings.CutPrefix(name, stem)
		ext := path.Ext(rest)
		switch ext {
		case ".gz", ".xz", ".lz4", ".zst", ".bz2", ".lzma":
			rest = strings.TrimSuffix(rest, ext)
		default:
			ext = ""
		}
		if !ok || rest != "Packages" && !strings.HasSuffix(rest, "_Packages") {
			continue
		}
		seen = true
		if err := a.list(path.Join(deb.ListsDir, name), ext, found); err != nil {
			return nil, err
		}
	}
	if !seen {
		return nil, errors.New("apt keeps no list of it")
	}
	out := make([]piece, 0, len(found))
	for _, p := range found {
		p.at = a.installed(p)
		out = append(out, p)
	}
	return out, nil
}

func (a *apt) list(name, ext string, found map[string]piece) error {
	f, err := a.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	plain, done, err := unpacked(f, ext)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	defer done()
	err = index.Controls(plain, func(s index.Control) bool {
		if p, ok := a.have[keyOf(s)]; ok {
			found[keyOf(s)] = p
		}
		return true
	})
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// unpacked reads what is packed in a way that its file's name tells, so much of it.
func unpacked(r io.Reader, ext string) (io.Reader, func(), error) {
	plain, done, err := unpack.Reader(r, ext)
	if err != nil {
		return nil, nil, err
	}
	return io.LimitReader(plain, mostBytes), done, nil
}

// installed is when dpkg unpacked a package last: it writes the list of its files then.
func (a *apt) installed(p piece) (at time.Time) {
	for _, name := range []string{p.name, p.name + ":" + p.arch} {
		if info, err := a.root.Stat(path.Join(dpkgDir, "info", name+".list")); err == nil {
			return info.ModTime()
		}
	}
	return at
}

// keyOf names a package in one version.
func keyOf(s index.Control) string { return s.Package + " " + s.Version + " " + s.Architecture }
