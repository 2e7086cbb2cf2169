package index

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// mostEntries bounds the entries of a database, and mostDesc what is read of one, in bytes.
const (
	mostEntries = 4 * MostPackages
	mostDesc    = 1 << 20
)

// Pacman reads a database of packages, unpacked.
func Pacman(r io.Reader, visit func(Package)) error {
	out := counter{visit: visit}
	t := tar.NewReader(r)
	for n := 0; ; n++ {
		h, err := t.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case n == mostEntries:
			return errors.New("it has more entries than any database of packages")
		case path.Base(h.Name) != "desc":
			continue
		case !entryName(h.Name):
			return fmt.Errorf("pacman takes no entry of the name %.80q", h.Name)
		case h.Typeflag != tar.TypeReg:
			return fmt.Errorf("%.80q in it is no file", h.Name)
		}
		p, err := desc(io.LimitReader(t, mostDesc))
		if err != nil {
			return err
		}
		if p.Name == "" || p.Version == "" {
			return fmt.Errorf("%.80q in it names no package, or no version", h.Name)
		}
		if err := out.give(p); err != nil {
			return err
		}
	}
}

// entryName reports whether pacman takes an entry's name: NAME-VERSION-RELEASE/FILE.
func entryName(name string) bool {
	folder, file, ok := strings.Cut(name, "/")
	return ok && !strings.Contains(file, "/") && folder != "." && strings.Count(folder, "-") >= 2
}

func desc(r io.Reader) (p Package, err error) {
	in := bufio.NewScanner(r)
	in.Buffer(make([]byte, 4096), mostDesc)
	sum := ""
	fields := map[string]*string{"%NAME%": &p.Name, "%VERSION%": &p.Version, "%ARCH%": &p.Arch, "%SHA256SUM%": &sum}
	for in.Scan() {
		into := fields[in.Text()]
		if into == nil || !in.Scan() {
			continue
		}
		*into = strings.TrimSpace(in.Text())
	}
	p.Build.Sum = shortSum([]byte(sum))
	return p, in.Err()
}
