package survey

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// mostStatus bounds how much of dpkg's database is read, in bytes: that of a host with every
// package of a distribution is smaller.
const mostStatus = 64 << 20

// mostPackages bounds how many packages of a host are kept in mind.
const mostPackages = 200_000

// dpkgDB is what dpkg knows of the packages.
type dpkgDB struct {
	arch     string            // its own
	versions map[string]string // of the packages that are installed
	holds    []source.Hold
}

// readDpkg reads dpkg's database line by line; nil where there is none.
func readDpkg(root *rootfs.FS) (*dpkgDB, error) {
	f, err := root.Open(deb.Status)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	db := &dpkgDB{versions: map[string]string{}}
	limited := &io.LimitedReader{R: f, N: mostStatus + 1}
	buffer := 256 << 10
	if info, err := f.Stat(); err == nil {
		buffer = int(min(int64(buffer), info.Size()+1))
	}
	lines := bufio.NewReaderSize(limited, buffer)
	var held []heldPackage
	var p stanza
	end := func() {
		if p.name == "dpkg" && db.arch == "" {
			db.arch = p.arch
		}
		if p.installed {
			if _, twice := db.versions[p.name]; !twice {
				db.versions[p.name] = p.version
			}
		}
		if p.held {
			held = append(held, heldPackage{p.name, p.arch, p.line})
		}
		p = stanza{}
	}
	for n := 1; ; n++ {
		line, err := lines.ReadSlice('\n')
		long := false
		for errors.Is(err, bufio.ErrBufferFull) { // no field that is asked for is that long
			long = true
			_, err = lines.ReadSlice('\n')
		}
		switch {
		case long:
		case len(bytes.TrimRight(line, "\r\n")) == 0:
			end()
		default:
			p.take(line, n)
		}
		if err != nil || len(db.versions) >= mostPackages || len(held) >= mostPackages {
			end()
			break
		}
	}
	for _, h := range held {
		what := h.name
		if h.arch != "all" && h.arch != "" && h.arch != db.arch {
			what += ":" + h.arch
		}
		db.holds = append(db.holds, source.Hold{Family: deb.Family, Kind: source.HoldHold, What: what, File: deb.Status, Line: h.line})
	}
	if read := mostStatus + 1 - limited.N; limited.N <= 0 || len(db.versions) >= mostPackages || len(held) >= mostPackages {
		return db, fmt.Errorf("only its first %d MiB were read: packages, holds and versions of tools behind them are missing here", read>>20)
	}
	return db, nil
}

type heldPackage struct {
	name, arch string
	line       int
}

// stanza is what one package says, as far as it is asked for.
type stanza struct {
	name, version, arch string
	installed, held     bool
	line                int
}

func (p *stanza) take(line []byte, n int) {
	if p.line == 0 {
		p.line = n
	}
	switch line[0] {
	case 'P', 'V', 'S', 'A':
	default:
		return
	}
	key, value, ok := bytes.Cut(line, []byte(":"))
	if !ok {
		return
	}
	value = bytes.TrimSpace(value)
	switch string(key) {
	case "Package":
		p.name = string(value)
	case "Version":
		p.version = string(value)
	case "Architecture":
		p.arch = string(value)
	case "Status": // want, flag, state
		words := bytes.Fields(value)
		if len(words) == 3 {
			p.held, p.installed = string(words[0]) == "hold", string(words[2]) == "installed"
		}
	}
}

// dpkg reads dpkg's database and its list of foreign architectures.
func (r *reader) readDpkg() {
	db, err := readDpkg(r.root)
	if err != nil {
		r.unread(deb.Family, deb.Status, family.Plain(err))
	}
	if db != nil {
		r.dpkg = db
		r.Survey.Holds = append(r.Survey.Holds, db.holds...)
		if db.arch != "" {
			r.dpkgArchs = append(r.dpkgArchs, db.arch)
		}
	}
}
