package pkgdb

import (
	"bytes"
	"path"
	"strings"

	"patientlantern.example/lantern/core/rootfs"
)

// Pacman is pacman's database of installed packages: a folder each.
type Pacman struct {
	root *rootfs.FS
	dir  string
	list []string
}

// OpenPacman lists the packages below pacman's DBPath.
func OpenPacman(root *rootfs.FS, db string) (*Pacman, error) {
	p := &Pacman{root: root, dir: path.Join(db, "local")}
	entries, err := root.ReadDir(p.dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.IsDir() {
			p.list = append(p.list, e.Name())
		}
	}
	return p, nil
}

// Version returns the version of an installed package, or nothing. The folder of
// a package is called name-version-release.
func (p *Pacman) Version(name string) string {
	for _, dir := range p.list {
		if n, version := split(dir); n == name {
			return version
		}
	}
	return ""
}

func split(dir string) (name, version string) {
	i := strings.LastIndexByte(dir, '-')
	if i > 0 {
		i = strings.LastIndexByte(dir[:i], '-')
	}
	if i <= 0 {
		return dir, ""
	}
	return dir[:i], dir[i+1:]
}

// Owners returns the packages that files belong to; a file of none has "".
func (p *Pacman) Owners(files []string) map[string]string {
	out := make(map[string]string, len(files))
	for _, f := range files {
		out[f] = ""
	}
	for _, dir := range p.list {
		data, err := p.root.ReadFile(path.Join(p.dir, dir, "files"))
		if err != nil || !bytes.HasPrefix(data, []byte("%FILES%\n")) {
			continue
		}
		for line := range bytes.Lines(data) {
			name := "/" + string(bytes.TrimSuffix(line, []byte("\n")))
			if _, asked := out[name]; asked {
				out[name], _ = split(dir)
			}
		}
	}
	return out
}
