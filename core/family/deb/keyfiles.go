package deb

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/deb822"
)

const keyBlock = "-----BEGIN PGP PUBLIC KEY BLOCK-----"

// signedBy lists what a Signed-By value names: paths, fingerprints, or the
// primary fingerprints of a key block that stands in the value itself.
func signedBy(value string) []string {
	if strings.Contains(value, keyBlock) {
		var fprs []string
		if keys, err := keyring.Read(embedded(value), keyring.At{}); err == nil {
			for _, k := range keys {
				fprs = append(fprs, k.Fingerprint)
			}
		}
		return []string{"embedded:" + strings.Join(fprs, ",")}
	}
	var out []string
	for _, w := range strings.FieldsFunc(value, func(c rune) bool { return c == ',' || strings.ContainsRune(" \t\n\r\v\f", c) }) {
		if w[0] != '/' {
			w = strings.ToUpper(w)
		}
		out = append(out, w)
	}
	return out
}

// embedded undoes deb822's wrapping of a key block: blanks at both ends of each
// line go, and a lone dot stands for an empty line.
func embedded(value string) []byte {
	var out strings.Builder
	for line := range strings.SplitSeq(value, "\n") {
		line = strings.TrimSpace(line)
		if line == "." {
			line = ""
		}
		out.WriteString(line + "\n")
	}
	return []byte(out.String())
}

// keyDirs are the usual places of keys that sources name.
var keyDirs = []string{"/etc/apt/keyrings", "/usr/share/keyrings"}

// textFile is a file that was read.
type textFile struct {
	text []byte
	info fs.FileInfo
}

// most files with keys that are read ahead, and the bytes of each: a plain host has fewer.
const (
	mostEarly    = 64
	longestEarly = 64 << 10
)

// keysAhead reads the files of the usual folders of keys, and has their signatures checked while
// the sources are read: on a plain host that is half of the work.
func (r *reader) keysAhead() {
	r.early = map[string]textFile{}
	var texts [][]byte
	for _, dir := range append([]string{r.conf.File("Dir::Etc::trustedparts")}, keyDirs...) {
		if dir == "" || dir == "/dev/null" {
			continue
		}
		for _, e := range r.listed(dir) {
			if len(r.early) == mostEarly {
				break
			}
			name := path.Join(dir, e)
			info, err := r.root.Stat(name)
			if _, is := r.early[name]; is || !isKeyName(e) || err != nil || info.Size() > longestEarly {
				continue
			}
			if text, info, err := r.root.ReadTextInfo(name); err == nil {
				r.early[name] = textFile{text, info}
				texts = append(texts, text)
			}
		}
	}
	r.earlyKeys = family.KeysAt(r.root).Ahead(texts)
}

// isKeyName reports whether a file of that name in a folder of keys is taken for one.
func isKeyName(name string) bool {
	ext := path.Ext(name)
	return name[0] != '.' && (ext == ".gpg" || ext == ".asc" || ext == ".pgp")
}

// readKeys reads a file with keys, once.
func (r *reader) readKeys(name string) ([]byte, fs.FileInfo, error) {
	if f, ok := r.early[name]; ok {
		return f.text, f.info, nil
	}
	return r.root.ReadTextInfo(name)
}

// keyFile is a file with keys, read but not yet understood.
type keyFile struct {
	name, scope string
	part        bool // of a folder whose files are read as one
	text        []byte
	kept        fs.FileInfo // of a text that is kept, where it is one of keys
	why         string      // apt passes it over; empty where it does not
	form        string      // why apt passes it over in that folder, whatever sources name
}

// keys lists the keys of the host, with whether apt really uses each.
func (r *reader) keys() {
	k := &keyReader{reader: r, seen: map[string]bool{}, named: map[string]bool{}, missed: map[string]bool{}, ways: map[string]bool{}}
	k.user = r.verifier()
	for i := range r.Sources {
		for _, by := range r.Sources[i].SignedBy {
			k.named[by] = k.named[by] || r.Sources[i].Enabled
		}
	}
	k.trusted()
	k.signers()
	for _, dir := range keyDirs {
		for _, e := range r.listed(dir) {
			if isKeyName(e) {
				k.add(path.Join(dir, e), source.ScopeNamed, false)
			}
		}
	}
	k.understand()
	for i := range r.Sources {
		s := &r.Sources[i]
		if slices.ContainsFunc(s.SignedBy, func(by string) bool { return strings.HasPrefix(by, "embedded:") }) {
			r.embeddedKeys(s)
		}
	}
}

// listed are the names in a folder; none where it cannot be listed.
func (r *reader) listed(dir string) (names []string) {
	entries, err := r.root.ReadDir(dir)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names
}

type keyReader struct {
	*reader
	user   sandbox
	seen   map[string]bool
	named  map[string]bool // what sources name as Signed-By → one of them is on
	missed map[string]bool // files that are not there, or cannot be opened
	ways   map[string]bool // folders → apt's user may open what stands in them
	files  []keyFile
}

// trusted adds the files of which every key is trusted for everything, in apt's order.
func (k *keyReader) trusted() {
	if f := k.add(k.conf.File("Dir::Etc::trusted"), source.ScopeAny, false); f != nil && k.way != byAptKey {
		f.form = wholeForm(f.name, f.text)
	}
	dir := k.conf.File("Dir::Etc::trustedparts")
	if dir == "" || dir == "/dev/null" {
		return
	}
	form := trustedForm
	if k.way != byAptKey {
		form = wholeForm
	}
	shut := ""
	if !k.lists(dir) {
		shut = fmt.Sprintf("the user %s, as whom apt checks signatures, cannot list the folder", k.conf.Get("APT::Sandbox::User", ""))
	}
	for _, name := range k.listed(dir) {
		if partName(name) {
			if f := k.add(path.Join(dir, name), source.ScopeAny, false); f != nil {
				f.part, f.form = true, cmp.Or(shut, form(name, f.text))
			}
		}
	}
}

// signers adds the files that sources name.
func (k *keyReader) signers() {
	for i := range k.Sources {
		for _, by := range k.Sources[i].SignedBy {
			if by[0] == '/' {
				k.add(by, source.ScopeNamed, k.named[by])
			}
		}
	}
}

// add reads a file with keys, and returns it until the next one is added; nil where nothing
// stands in it. must says that it is missed where it is not there.
func (k *keyReader) add(name, scope string, must bool) *keyFile {
	if k.seen[name] || name == "" || name == "/dev/null" {
		return nil
	}
	k.seen[name] = true
	text, info, err := k.readKeys(name)
	if err != nil {
		k.missed[name] = true
		if must || !errors.Is(err, fs.ErrNotExist) {
			k.Problem(name, 0, "the key file cannot be read: "+family.Plain(err), false)
		}
		return nil
	}
	if len(text) == 0 {
		return nil
	}
	f := keyFile{name: name, scope: scope, text: text}
	_, named := k.named[name]
	if named || scope == source.ScopeAny || strings.HasPrefix(name, "/etc/apt/keyrings/") && bytes.HasPrefix(text, []byte("-----BEGIN")) {
		f.kept = info
	}
	switch {
	case !k.reads(name):
		f.why = fmt.Sprintf("the user %s, as whom apt checks signatures, cannot read it", k.conf.Get("APT::Sandbox::User", ""))
	case scope == source.ScopeNamed && !k.named[name]:
		f.why = source.NotNamed
	}
	k.files = append(k.files, f)
	return &k.files[len(k.files)-1]
}

// understand reads the keys of all files. What apt takes and what stands in the file for
// people may differ: the first is used, the second is listed with why not.
func (k *keyReader) understand() {
	k.earlyKeys()
	taken := k.taken
	if k.way == bySQV {
		taken = k.takenWhole
	}
	k.describe(taken())
}

// describe lists the keys of what apt takes of each file.
func (k *keyReader) describe(taken []found) {
	texts := make([][]byte, len(k.files))
	for i := range k.files {
		if len(taken[i].keys) == 0 || taken[i].trouble != "" || taken[i].private { // else apt finds all that stands in it
			texts[i] = k.files[i].text
		}
	}
	for i, all := range keyring.ReadAll(texts, family.KeysAt(k.root)) {
		f := &k.files[i]
		have := map[string]bool{}
		add := func(key source.Key, why string) {
			if have[key.Fingerprint] {
				return
			}
			have[key.Fingerprint] = true
			key.Where, key.Scope = f.name, f.scope
			if why != "" && key.Used {
				key.Used, key.UnusedBecause = false, why
			}
			if key.Used && f.form != "" { // in its folder apt passes it over: those that name it alone use it
				key.Scope = source.ScopeNamed
			}
			k.Keys = append(k.Keys, key)
		}
		for _, key := range taken[i].keys {
			add(key, "")
		}
		why := f.why
		if why == "" {
			why = taken[i].why
		}
		for _, key := range all.Keys {
			add(key, why)
		}
		if texts[i] == nil {
			all.Keys = taken[i].keys
		}
		if f.kept != nil {
			family.KeepKeys(k.Texts, k.Modes, f.kept, f.name, f.text, &all)
		}
		if texts[i] == nil {
			continue
		}
		if all.Private {
			k.Problem(f.name, 0, "the key file holds a private key: "+family.WhoeverReads, false)
		}
		switch trouble := cmp.Or(keyTrouble(all.Err), taken[i].trouble); {
		case errors.Is(all.Err, keyring.ErrMore):
			k.Unread(f.name, 0, trouble)
		case len(have) == 0:
			k.Problem(f.name, 0, "the key file cannot be understood: "+cmp.Or(trouble, keyring.ErrNoKey.Error()), false)
		case f.why == "" && trouble != "":
			k.Problem(f.name, 0, "not all of the key file can be understood: "+trouble, false)
		}
	}
}

// found is what gpgv finds of one file.
type found struct {
	keys    []source.Key
	why     string // whatever else stands in the file is not used
	trouble string
	private bool // a private key stands in it, or in one of the files that are read with it
}

const damaged = "its armour is damaged, and apt-key gives up at it"

// taken reads the files as apt hands them to gpgv: those of trusted.gpg.d as one, in apt's
// order, so that what is broken in one hides those behind it; all others each alone.
func (k *keyReader) taken() []found {
	out := make([]found, len(k.files))
	alone := make([][]byte, len(k.files))
	var whole []byte
	var parts []part
	stop := "" // a file at which apt-key gives up, for every source without a key of its own
	for i, f := range k.files {
		out[i].why = cmp.Or(f.form, "apt does not take it out of a file of this form")
		inFolder := f.part && f.form == ""
		if f.why != "" || !inFolder && f.form != "" && !k.named[f.name] {
			continue
		}
		text, ok := k.packets(&f)
		switch {
		case !ok && k.way == byGPGV:
			out[i].why = "its armour is damaged, and apt finds no key in it"
		case !ok:
			out[i].why = damaged
			if inFolder {
				stop = f.name
			}
		default:
			if inFolder {
				parts = append(parts, part{i, len(whole), len(whole) + len(text)})
				whole = append(whole, text...)
			}
			if !inFolder || k.named[f.name] { // a source that names it has it read alone
				alone[i] = text
			}
		}
	}
	streams := keyring.ReadRings(append(alone, whole), family.KeysAt(k.root))
	for i := range out {
		if alone[i] == nil {
			continue
		}
		out[i].trouble, out[i].private = keyTrouble(streams[i].Err), streams[i].Private
		for _, key := range streams[i].Keys {
			out[i].keys = append(out[i].keys, key.Key)
		}
	}
	byName := slices.Clone(out)
	k.together(out, parts, streams[len(out)])
	for i := range out {
		f := &k.files[i]
		if stop != "" && f.scope == source.ScopeAny && f.name != stop {
			out[i] = found{why: "apt-key gives up at " + stop + ", whose armour is damaged"}
		}
		if f.part && k.named[f.name] && len(byName[i].keys) > 0 {
			out[i].keys = byName[i].keys
		}
	}
	if k.way == byGPGV {
		k.missedBeside(out)
		k.asserted(out)
	}
	return out
}

// part is where the certificates of a file stand in what apt makes of a folder.
type part struct{ file, begin, end int }

// together parts what stands in the files of a folder, which are read as one.
func (k *keyReader) together(out []found, parts []part, whole keyring.Ring) {
	for _, p := range parts {
		out[p.file].private = out[p.file].private || whole.Private
	}
	last := -1
	for _, key := range whole.Keys {
		for _, p := range parts {
			if key.At >= p.begin && key.At < p.end {
				out[p.file].keys = append(out[p.file].keys, key.Key)
				last = p.end
			}
		}
	}
	if whole.Err == nil {
		return
	}
	broken := ""
	for _, p := range parts {
		switch {
		case broken != "":
			out[p.file].why = "gpgv reads the files of the folder as one, and cannot read on behind " + broken
		case p.end > p.begin && p.end >= last:
			broken = k.files[p.file].name
		}
	}
}

func keyTrouble(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

func (r *reader) embeddedKeys(s *source.Source) {
	text, ok := r.Texts[s.File]
	if !ok {
		return
	}
	keys, err := r.embedded(s, text)
	if err != nil {
		r.Problem(s.File, s.Line, "the key in Signed-By cannot be understood: "+err.Error(), false)
	}
	for _, key := range keys {
		key.Where, key.Scope = s.File, source.ScopeNamed
		if !s.Enabled && key.Used {
			key.Used, key.UnusedBecause = false, source.NotNamed
		}
		r.Keys = append(r.Keys, key)
	}
}

// EmbeddedKeys returns the armoured key inside the Signed-By of the stanza that
// begins on a line, or nil.
func EmbeddedKeys(text []byte, line int) []byte {
	f := deb822.Parse(text)
	for i := range f.Stanzas {
		if f.Line(f.Stanzas[i].Start) == line {
			v, _ := f.Get(i, "Signed-By")
			return embedded(v)
		}
	}
	return nil
}
