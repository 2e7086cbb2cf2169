package origin

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/pkgdb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/sqlitefile"
	"patientlantern.example/lantern/core/text/toml"
)

// History is where dnf keeps what it has done.
const History = "/var/lib/dnf/history.sqlite"

// full is the name, version and architecture of a package of rpm's.
func full(p pkgdb.Package) piece {
	version := p.Version()
	if n := p.Epoch(); n > 0 {
		version = strconv.Itoa(n) + ":" + version
	}
	return piece{name: p.Name(), version: version, arch: p.Arch(), at: p.Installed()}
}

func (p piece) key() string { return p.name + " " + p.version + " " + p.arch }

// installedRPMs are all packages of rpm's database.
func installedRPMs(root *rootfs.FS) (map[string]piece, error) {
	db, err := pkgdb.OpenRPM(root)
	if err != nil {
		return nil, fmt.Errorf("rpm's database cannot be read: %w", err)
	}
	defer db.Close()
	out := map[string]piece{}
	if err = db.All(func(p pkgdb.Package) { x := full(p); out[x.key()] = x }); err != nil {
		return nil, fmt.Errorf("rpm's database cannot be read: %w", err)
	}
	return out, nil
}

// noted are packages whose package manager notes where they came from.
type noted map[string][]piece // repository → packages

func (n noted) from(id string) ([]piece, error) { return n[id], nil }

// openDNF reads where dnf says that packages came from: what yum noted of each, dnf 4's history, of which
// what it did last with each counts, and what dnf 5 notes of each, which has the last word.
func openDNF(root *rootfs.FS) (teller, error) {
	have, err := installedRPMs(root)
	if err != nil {
		return nil, err
	}
	five, fiveErr := nevras(root)
	if fiveErr != nil && !errors.Is(fiveErr, fs.ErrNotExist) {
		return nil, fmt.Errorf("what dnf notes of packages cannot be read: %w", fiveErr)
	}
	from, yumErr := yumdb(root, have)
	if yumErr != nil && !errors.Is(yumErr, fs.ErrNotExist) {
		return nil, fmt.Errorf("what yum notes of packages cannot be read: %w", yumErr)
	}
	last, err := lastBrought(root)
	switch {
	case err == nil:
		maps.Copy(from, last)
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("dnf's history cannot be read: %w", err)
	case fiveErr != nil && yumErr != nil:
		return nil, fmt.Errorf("dnf keeps no history in %s and nothing in %s, and yum nothing in %s", History, Nevras, YumDB)
	}
	return five.of(from, have), nil
}

// YumDB is where yum notes what it knows of each installed package, in a folder for each:
// t/0a1b…-tern-1-2-noarch/from_repo, by the package's checksum, name, version, release and architecture.
const YumDB = "/var/lib/yum/yumdb"

// yumdb tells which repository yum brought the installed packages from.
func yumdb(root *rootfs.FS, have map[string]piece) (map[string]string, error) {
	out := map[string]string{}
	letters, err := root.ReadDir(YumDB)
	if err != nil {
		return out, err
	}
	installed := make(map[string]string, len(have)) // as the folders are named: epochs stand nowhere there
	for key, p := range have {
		_, version, more := strings.Cut(p.version, ":")
		if !more {
			version = p.version
		}
		installed[p.name+"-"+version+"-"+p.arch] = key
	}
	for _, letter := range letters {
		folder := YumDB + "/" + letter.Name()
		packages, err := root.ReadDir(folder)
		if err != nil {
			continue // a file that somebody put there
		}
		for _, p := range packages {
			_, name, _ := strings.Cut(p.Name(), "-")
			key, is := installed[name]
			if !is {
				continue
			}
			text, err := root.ReadText(folder + "/" + p.Name() + "/from_repo")
			if errors.Is(err, fs.ErrNotExist) {
				continue // yum did not bring it
			}
			if err != nil {
				return nil, err
			}
			out[key] = strings.TrimSpace(string(text))
		}
	}
	return out, nil
}

// lastBrought tells from dnf 4's history which repository each package came from last.
func lastBrought(root *rootfs.FS) (map[string]string, error) {
	db, err := pkgdb.OpenSQLite(root, History)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	h := history{names: map[int64]string{}, repos: map[int64]string{}, last: map[int64]int64{}}
	for table, take := range map[string]func(int64, []sqlitefile.Value){"rpm": h.rpm, "repo": h.repo, "trans_item": h.item} {
		if err = db.Scan(table, take); err != nil {
			return nil, err
		}
	}
	out := map[string]string{}
	for item, repo := range h.last {
		out[h.names[item]] = h.repos[repo]
	}
	return out, nil
}

// Nevras is where dnf 5 notes which repository each installed package came from.
const Nevras = "/usr/lib/sysimage/libdnf5/nevras.toml"

// notes are what dnf 5 notes: full name, as in tern-2:1-2.noarch → repository.
type notes map[string]string

// nevras reads what dnf 5 notes: [nevras], "tern-2:1-2.noarch" = {from_repo = "gannet"}.
func nevras(root *rootfs.FS) (notes, error) {
	text, err := root.ReadText(Nevras)
	if err != nil {
		return nil, err
	}
	file, err := toml.Parse(text)
	if err != nil { // what is passed over would look as if it came from nowhere
		return nil, fmt.Errorf("%s, %w", Nevras, err)
	}
	if file["version"] != "1.0" {
		return nil, fmt.Errorf("%s is of a form that is not known: version %v", Nevras, file["version"])
	}
	out := notes{}
	packages, _ := file["nevras"].(toml.Table)
	for name, p := range packages {
		at, _ := p.(toml.Table)
		if from, said := at["from_repo"].(string); said {
			out[name] = from
		}
	}
	return out, nil
}

// of lists the installed packages by the repository that they came from; from is what else is known
// of packages.
func (n notes) of(from map[string]string, have map[string]piece) noted {
	out := noted{}
	for key, p := range have {
		id, ok := n[p.name+"-"+p.version+"."+p.arch]
		if !ok {
			id, ok = from[key]
		}
		if ok {
			out[id] = append(out[id], p)
		}
	}
	return out
}

// history is what counts of dnf's history.
type history struct {
	names map[int64]string // item → package
	repos map[int64]string // number → name
	last  map[int64]int64  // item → repository of the last thing that brought it in
}

func (h *history) rpm(_ int64, row []sqlitefile.Value) { // item_id, name, epoch, version, release, arch
	if len(row) < 6 {
		return
	}
	item, _ := row[0].(int64)
	epoch, _ := row[2].(int64)
	name, _ := row[1].(string)
	version, _ := row[3].(string)
	release, _ := row[4].(string)
	arch, _ := row[5].(string)
	if version += "-" + release; epoch > 0 {
		version = strconv.FormatInt(epoch, 10) + ":" + version
	}
	h.names[item] = piece{name: name, version: version, arch: arch}.key()
}

func (h *history) repo(id int64, row []sqlitefile.Value) { // id, repoid
	if len(row) > 1 {
		h.repos[id], _ = row[1].(string)
	}
}

// item notes a step of a transaction. The table's rows are in the order of time.
// Actions, from libdnf's TransactionItemAction: 1 install, 2 downgrade, 4 obsolete,
// 6 upgrade, 9 reinstall bring a package in; the others take it out or change its reason.
func (h *history) item(_ int64, row []sqlitefile.Value) { // id, trans_id, item_id, repo_id, action, reason, state
	if len(row) < 7 {
		return
	}
	item, _ := row[2].(int64)
	repo, _ := row[3].(int64)
	action, _ := row[4].(int64)
	state, _ := row[6].(int64)
	switch action {
	case 1, 2, 4, 6, 9:
		if state == 1 { // done
			h.last[item] = repo
		}
	}
}
