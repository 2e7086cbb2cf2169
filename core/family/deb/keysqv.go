package deb

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// How apt takes the keys out of files since 2.9.15, which has no apt-key. Where it is built with
// sqv it hands the files to it as they are: sqv reads a file whole or not at all, and one that it
// cannot read ends the check of every source that it is asked for. Else it takes the armour off
// itself, and gpgv reads what comes of it. keyuse_test.go asks the apt-get that is there.

// keyWay is how a root's apt takes keys.
type keyWay uint8

const (
	byAptKey keyWay = iota // and gpgv: apt up to 2.9, and roots without apt
	bySQV
	byGPGV
)

const aptKey = "/usr/bin/apt-key"

// readsNothing begins why no key of a file counts.
const readsNothing = "sqv, which checks signatures for apt, reads nothing of it: "

func wayOf(root *rootfs.FS) keyWay {
	if _, err := root.Stat(aptKey); err == nil {
		return byAptKey
	}
	if _, err := root.Stat("/usr/lib/apt/methods/sqv"); err == nil {
		return bySQV
	}
	if _, err := root.Stat("/usr/lib/apt/methods/gpgv"); err == nil {
		return byGPGV
	}
	return byAptKey
}

// method is the name of the method that checks signatures.
func (w keyWay) method() string {
	if w == bySQV {
		return "sqv"
	}
	return "gpgv"
}

// unarmoured takes the armour off as an apt does that calls gpgv itself: blanks around lines do not
// count, headers end at an empty line, and a block that does not end gives nothing.
func unarmoured(text []byte) (out []byte, ok bool) {
	var letters []byte
	state := 0
	for line := range bytes.Lines(text) {
		line = bytes.TrimSpace(line)
		switch {
		case string(line) == keyBlock:
			letters, state = nil, 1
		case bytes.HasPrefix(line, []byte("-----END")) && state == 2:
			packets, err := base64.StdEncoding.DecodeString(string(letters))
			if err != nil {
				return nil, false
			}
			out, state = append(out, packets...), 0
		case len(line) == 0 && state == 1:
			state = 2
		case state == 2 && len(line) > 0 && line[0] != '=':
			letters = append(letters, line...)
		}
	}
	return out, state == 0 && out != nil
}

// wholeForm says why such an apt passes a file over that stands where every key is trusted;
// empty where it does not.
func wholeForm(name string, text []byte) string {
	if !plainName(path.Base(name)) {
		return "apt reads files here under names of letters, digits, _ - : and . only"
	}
	if path.Ext(name) != ".asc" {
		return trustedForm(name, text)
	}
	if i := bytes.Index(text, []byte(keyBlock)); i < 0 || !bytes.Contains(text[i:], []byte("-----END PGP PUBLIC KEY BLOCK-----")) {
		return "apt reads files that end in .asc in armoured form only"
	}
	return ""
}

// takenWhole says what sqv finds of each file.
func (k *keyReader) takenWhole() []found {
	out := make([]found, len(k.files))
	texts := make([][]byte, len(k.files))
	for i := range k.files {
		if f := &k.files[i]; f.why == "" || f.why == source.NotNamed {
			texts[i] = f.text
		}
	}
	stop := k.unread() // and those at which sqv gives up
	whole := keyring.ReadWhole(texts, family.KeysAt(k.root))
	folder := "" // the file of the folder at which sqv gives up
	for i := range k.files {
		f := &k.files[i]
		if err := whole[i].Err; err != nil {
			stop[f.name] = err.Error()
			if f.scope == source.ScopeAny && f.form == "" && folder == "" {
				folder = f.name
			}
		}
	}
	named := k.givenUp(stop)
	for i := range k.files {
		out[i] = k.wholly(&k.files[i], whole[i], stop, folder, named)
	}
	return out
}

// wholly says what of a file that sqv reads counts: for the folder that it stands in, or for a source
// that names it.
func (k *keyReader) wholly(f *keyFile, whole keyring.Result, stop map[string]string, folder string, named map[string]string) found {
	byName, inFolder := k.named[f.name] && named[f.name] == "", f.scope == source.ScopeAny && f.form == ""
	switch {
	case whole.Err != nil:
		x := found{why: readsNothing + whole.Err.Error(), trouble: whole.Err.Error()}
		if f.why == source.NotNamed {
			f.why = x.why
		}
		return x
	case f.why != "":
		return found{}
	case byName, inFolder && folder == "":
		return found{keys: whole.Keys, private: whole.Private}
	case inFolder:
		return found{why: "sqv gives up at " + folder + " in the same folder: " + stop[folder]}
	case named[f.name] != "":
		at := named[f.name]
		return found{why: "sqv gives up at " + at + " that the same source names: " + stop[at]}
	}
	return found{why: f.form}
}

// packets are what apt hands to gpgv of a key file; ok is false where nothing can be made of it.
func (k *keyReader) packets(f *keyFile) (out []byte, ok bool) {
	switch {
	case k.way == byAptKey:
		return packets(f.name, f.text, k.keepsReturns)
	case extension(f.name) == "asc":
		return unarmoured(f.text)
	}
	return f.text, true
}

// asserted marks keys by which such an apt takes no signature, since their kind is too weak for it:
// what apt.conf says otherwise of APT::Key::Assert-Pubkey-Algo is not judged.
func (k *keyReader) asserted(out []found) {
	if k.conf.Get("APT::Key::Assert-Pubkey-Algo", "") != "" {
		return
	}
	for i := range out {
		for n := range out[i].keys {
			key := &out[i].keys[n]
			var bits int
			_, err := fmt.Sscanf(key.Algorithm, "rsa%d", &bits)
			signs := slices.ContainsFunc(key.Subkeys, func(s source.Subkey) bool { return s.CanSign })
			if key.Used && !signs && (err == nil && bits < 2048 || strings.HasPrefix(key.Algorithm, "dsa")) {
				key.Used, key.UnusedBecause = false, "apt takes no signature by a key of this kind ("+key.Algorithm+")"
			}
		}
	}
}

// keepsReturns reports whether the root's apt-key takes a carriage return for a part of its line:
// since 2.7 it takes them out.
func (k *keyReader) keepsReturns() bool {
	text, err := k.root.ReadText(aptKey)
	return err != nil || !bytes.Contains(text, []byte(`gsub(/\r/`))
}

// missedBeside tells of files that are not used since another one that the same source names is
// not there, or cannot be read.
func (k *keyReader) missedBeside(out []found) {
	stop := k.unread()
	named := k.givenUp(stop)
	for i := range k.files {
		f := &k.files[i]
		alone := f.scope != source.ScopeAny || f.form != "" // nobody but sources asks it
		if at := named[f.name]; alone && f.why == "" && at != "" && at != f.name {
			out[i] = found{why: "apt gives up at " + at + " that the same source names: " + stop[at]}
		}
	}
}

// unread are the files that apt cannot read, with why.
func (k *keyReader) unread() map[string]string {
	out := map[string]string{}
	for name := range k.missed {
		out[name] = "it is not there, or cannot be opened"
	}
	for i := range k.files {
		if f := &k.files[i]; f.why != "" && f.why != source.NotNamed {
			out[f.name] = f.why
		}
	}
	return out
}

// givenUp tells of each file that sources name at which other one sqv gives up for all of them;
// nothing where one of them is checked.
func (k *keyReader) givenUp(stop map[string]string) map[string]string {
	out, checked := map[string]string{}, map[string]bool{}
	for i := range k.Sources {
		s := &k.Sources[i]
		if !s.Enabled {
			continue
		}
		at := ""
		for _, by := range s.SignedBy {
			if stop[by] != "" && at == "" {
				at = by
			}
		}
		for _, by := range s.SignedBy {
			if at == "" {
				checked[by] = true
			}
			out[by] = at
		}
	}
	for name := range checked {
		delete(out, name)
	}
	return out
}

// embedded reads the key in the Signed-By of a source, as the root's apt does.
func (r *reader) embedded(s *source.Source, text []byte) ([]source.Key, error) {
	block := EmbeddedKeys(text, s.Line)
	if r.way != bySQV {
		return keyring.Read(block, family.KeysAt(r.root))
	}
	got := keyring.ReadWhole([][]byte{block}, family.KeysAt(r.root))[0]
	if got.Err != nil {
		keys, _ := keyring.Read(block, family.KeysAt(r.root))
		for i := range keys {
			keys[i].Used, keys[i].UnusedBecause = false, readsNothing+got.Err.Error()
		}
		return keys, got.Err
	}
	return got.Keys, nil
}

// partName reports whether a file of that name in the folder of trusted keys is one of keys.
func partName(name string) bool {
	return strings.HasSuffix(name, ".gpg") || strings.HasSuffix(name, ".asc")
}
