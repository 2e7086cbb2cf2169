package origin

import (
	"archive/tar"
	"bufio"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/unpack"
)

const pacmanDB = "/var/lib/pacman"

// pacman holds the installed packages against the sync databases.
type pacman struct {
	root *rootfs.FS
	have map[string]bool // folders of the local database: name-version-release
}

func openPacman(root *rootfs.FS) (*pacman, error) {
	entries, err := root.ReadDir(path.Join(pacmanDB, "local"))
	if err != nil {
		return nil, fmt.Errorf("pacman's database cannot be read: %w", err)
	}
	p := &pacman{root, map[string]bool{}}
	for _, e := range entries {
		if e.IsDir() {
			p.have[e.Name()] = true
		}
	}
	return p, nil
}

// mostEntries bounds the entries of a sync database.
const mostEntries = 2_000_000

func (p *pacman) from(id string) ([]piece, error) {
	name := path.Join(pacmanDB, "sync", path.Base(id)+".db")
	f, err := p.root.Open(name)
	if err != nil {
		return nil, errors.New("pacman keeps no database of it")
	}
	defer f.Close()
	in := bufio.NewReader(f)
	plain, done, err := unpacked(in, unpack.Sniff(in))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	defer done()
	var out []piece
	seen := map[string]bool{}
	for t, n := tar.NewReader(plain), 0; n < mostEntries; n++ {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		folder, _, _ := strings.Cut(strings.TrimPrefix(h.Name, "./"), "/")
		if p.have[folder] && !seen[folder] {
			seen[folder] = true
			out = append(out, p.local(folder))
		}
	}
	return nil, fmt.Errorf("%s: it has more entries than are read", name)
}

// local is an installed package.
func (p *pacman) local(folder string) piece {
	out := piece{name: folder}
	for range 2 { // the version and the release
		if i := strings.LastIndexByte(out.name, '-'); i > 0 {
			out.name = out.name[:i]
		}
	}
	text, err := p.root.ReadText(path.Join(pacmanDB, "local", folder, "desc"))
	if err != nil {
		return out
	}
	if _, rest, ok := strings.Cut(string(text), "%INSTALLDATE%\n"); ok {
		line, _, _ := strings.Cut(rest, "\n")
		if n, err := strconv.ParseInt(line, 10, 64); err == nil {
			out.at = time.Unix(n, 0)
		}
	}
	return out
}
