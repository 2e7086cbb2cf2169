package survey

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

func (r *reader) addKeys(list []source.Key, where, scope string) {
	for _, k := range list {
		k.Where, k.Scope = where, scope
		r.Survey.Keys = append(r.Survey.Keys, k)
	}
}

// rpmKeys reads the keys that rpm trusts: packages named gpg-pubkey, of which
// the description is the key.
func (r *reader) rpmKeys() {
	if kind, dir := r.rpmKeyring(); kind != rpmDatabase {
		r.keyStore(kind, dir)
		return
	}
	for _, p := range r.find("Name", "gpg-pubkey") {
		list, err := keyring.Read([]byte(p.Description()), family.KeysAt(r.root))
		if err != nil {
			r.unread(rpm.Family, r.rpm.Path, "the key gpg-pubkey-"+p.Version()+" cannot be understood: "+err.Error())
		}
		r.addKeys(list, r.rpm.Path, source.ScopeAny)
	}
}

// Where rpm keeps the keys that it believes, as the macro _keyring says since rpm 4.18: in its database, in files of a
// folder, or, since rpm 6, in a store of OpenPGP certificates.
const (
	rpmDatabase = "rpmdb"
	rpmFiles    = "fs"
	rpmStore    = "openpgp"
)

// rpmMacros is the file of macros that comes with rpm: what it says, others say after it.
const rpmMacros = "/usr/lib/rpm/macros"

// rpmKeyring is where rpm keeps its keys, as far as files of macros say it.
func (r *reader) rpmKeyring() (kind, dir string) {
	database := "/var/lib/rpm"
	if r.rpm != nil {
		database = path.Dir(r.rpm.Path)
	}
	kind, dir = rpmDatabase, path.Join(database, "pubkeys")
	hear := func(line string) {
		switch words := strings.Fields(line); {
		case len(words) != 2:
		case words[0] == "%_keyring":
			kind = words[1]
		case words[0] == "%_keyringpath":
			dir = strings.TrimSuffix(strings.ReplaceAll(words[1], "%{_dbpath}", database), "/")
		}
	}
	text, err := r.root.ReadText(rpmMacros)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.unread(rpm.Family, rpmMacros, "cannot be read, so it is not known where rpm keeps the keys that it believes: "+family.Plain(err))
	}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "%_keyring") {
			hear(line)
		}
	}
	for i := range r.Survey.Deciding {
		if d := &r.Survey.Deciding[i]; d.Family == rpm.Family {
			for _, line := range d.Lines {
				hear(line)
			}
		}
	}
	return kind, dir
}

// keyStore reads the keys that rpm keeps in files.
func (r *reader) keyStore(kind, dir string) {
	if kind != rpmFiles && kind != rpmStore || strings.Contains(dir, "%") {
		r.unread(rpm.Family, dir, "rpm is told to keep its keys in "+kind+" there, and which it believes is not known")
		return
	}
	for _, e := range r.keyFolder(dir) {
		name := path.Join(dir, e.Name())
		switch {
		case kind == rpmFiles && !e.IsDir() && strings.HasSuffix(name, ".key"):
			r.keyFile(name)
		case kind == rpmStore && e.IsDir() && len(e.Name()) == 2:
			for _, k := range r.keyFolder(name) {
				if !k.IsDir() {
					r.keyFile(path.Join(name, k.Name()))
				}
			}
		}
	}
}

// keyFolder lists a folder in which rpm keeps keys; one that is not there holds none.
func (r *reader) keyFolder(dir string) []fs.DirEntry {
	entries, err := r.root.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.unread(rpm.Family, dir, "cannot be listed, so which keys rpm believes is not known: "+family.Plain(err))
	}
	return entries
}

// keyFile reads a file of a key that rpm keeps.
func (r *reader) keyFile(name string) {
	data, err := r.root.ReadFile(name)
	if err != nil {
		r.unread(rpm.Family, name, "the key cannot be read: "+family.Plain(err))
		return
	}
	list, err := keyring.Read(data, family.KeysAt(r.root))
	if err != nil {
		r.problem(rpm.Family, name, "the key cannot be understood: "+err.Error())
	}
	r.addKeys(list, name, source.ScopeAny)
}

// pacmanKeys reads pacman's keyring, in the form of either age of gpg. pacman believes the
// keys that its own key vouches for, or any where a repository says so.
func (r *reader) pacmanKeys(dir string) {
	db, err := r.root.ReadText(path.Join(dir, "trustdb.gpg"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.unread(arch.Family, path.Join(dir, "trustdb.gpg"), "cannot be read, so no key is known to be valid: "+family.Plain(err))
	}
	trustAll := false
	for i := range r.Survey.Sources {
		s := &r.Survey.Sources[i]
		trustAll = trustAll || s.Family == arch.Family && s.Enabled && slices.Contains(s.Checks.Trust, "TrustAll")
	}
	box, old := r.ring(dir, "pubring.kbx"), r.ring(dir, "pubring.gpg")
	for _, f := range []*ring{box, old} {
		if len(f.data) == 0 {
			continue
		}
		list, err := keyring.ReadWeb(f.data, db, family.KeysAt(r.root))
		if err != nil {
			r.unread(arch.Family, f.file, "not all of the keyring is understood: "+err.Error())
		}
		for i := range list {
			k := &list[i]
			switch {
			case !k.Used:
			case (f == box) != readsBox(box, old):
				k.Used, k.UnusedBecause = false, "gpg reads another keyring in this folder"
			case !trustAll && k.Validity != keyring.ValidityFull && k.Validity != keyring.ValidityUltimate:
				k.Used, k.UnusedBecause = false, "pacman's keyring does not vouch for it: its validity is "+k.Validity
			}
		}
		r.addKeys(list, f.file, source.ScopeAny)
	}
	r.keyboxd(dir)
}

// ring is a file in which gpg may keep keys.
type ring struct {
	file  string
	there bool
	data  []byte
}

// ring reads such a file.
func (r *reader) ring(dir, name string) *ring {
	f := &ring{file: path.Join(dir, name)}
	info, err := r.root.Stat(f.file)
	if err != nil || info.Mode()&fs.ModeType != 0 {
		return f
	}
	f.there = true
	if f.data, err = r.root.ReadFile(f.file); err != nil {
		r.unread(arch.Family, f.file, "the keyring cannot be read: "+family.Plain(err))
	}
	return f
}

// readsBox reports which of two files in a folder gpg reads: pubring.kbx, if it is a keybox that says it holds keys of
// OpenPGP; pubring.gpg, if that is a keybox; and that else, where it is there at all.
func readsBox(box, old *ring) bool {
	const openPGP = 2
	return !keyring.IsKeybox(old.data) && (!old.there || keyring.IsKeybox(box.data) && box.data[7]&openPGP != 0)
}

// keyboxd says where a gpg of today is told to keep its keys in a database, which is not read here.
func (r *reader) keyboxd(dir string) {
	for _, file := range []string{path.Join(dir, "common.conf"), "/etc/gnupg/common.conf"} {
		text, err := r.root.ReadText(file)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			r.unread(arch.Family, file, "cannot be read: "+family.Plain(err))
		}
		for line := range strings.Lines(string(text)) {
			if strings.TrimLeft(strings.TrimSpace(line), "-") == "use-keyboxd" {
				r.unread(arch.Family, file, "gpg from 2.3 on keeps its keys in public-keys.d/pubring.db here, which is not read: "+
					"which keys pacman believes is not known; take use-keyboxd out, and import the keys anew")
				return
			}
		}
	}
}

// named is a key file on this host that a source of dnf or zypper names.
type named struct {
	source *source.Source
	file   string
	on     bool // a source that is on names it
	text   []byte
	info   fs.FileInfo
}

// namedFiles lists the key files on this host that sources of dnf and zypper name, in
// order.
func (r *reader) namedFiles() (files []*named) {
	seen := map[string]*named{}
	for i := range r.Survey.Sources {
		s := &r.Survey.Sources[i]
		if s.Family != rpm.Family && s.Family != zypp.Family {
			continue
		}
		for _, by := range s.SignedBy {
			name, local := source.LocalFile(s.Family, by)
			if !local {
				continue
			}
			if seen[name] == nil {
				seen[name] = &named{source: s, file: name}
				files = append(files, seen[name])
			}
			seen[name].on = seen[name].on || s.Enabled
		}
	}
	return files
}

// namedKeys reads the key files on this host that sources of dnf and zypper name.
// They are asked for before rpm trusts them.
func (r *reader) namedKeys() {
	var files []*named
	var texts [][]byte
	trouble := func(n *named, err error) {
		switch {
		case errors.Is(err, keyring.ErrMore):
			r.unread(n.source.Family, n.file, family.Plain(err))
		case n.on:
			r.problem(n.source.Family, n.file, "the key file that "+n.source.ID+" names cannot be read: "+family.Plain(err))
		}
	}
	for _, n := range r.namedFiles() {
		data, info, err := r.root.ReadTextInfo(n.file)
		if err != nil {
			trouble(n, err)
			continue
		}
		n.text, n.info = data, info
		files, texts = append(files, n), append(texts, data)
	}
	at := family.KeysAt(r.root)
	at.Imports = true
	for i, got := range keyring.ReadAll(texts, at) {
		n := files[i]
		family.KeepKeys(r.Texts, r.Modes, n.info, n.file, n.text, &got)
		if got.Err != nil {
			trouble(n, got.Err)
		}
		if got.Private {
			r.problem(n.source.Family, n.file, "a key file that "+n.source.ID+" names holds a private key: "+family.WhoeverReads)
		}
		for j := range got.Keys {
			k := &got.Keys[j]
			switch {
			case !k.Used:
			case !n.on:
				k.Used, k.UnusedBecause = false, source.NotNamed
			case keyring.IsKeybox(n.text):
				k.Used, k.UnusedBecause = false, "a keybox cannot be imported"
			}
		}
		r.addKeys(got.Keys, n.file, source.ScopeNamed)
	}
}
