package deb

import (
	"bytes"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// How apt takes the keys out of files since 2.9.15, which has no apt-key: it hands the files to
// sqv as they are. sqv reads a file whole or not at all, and one that it cannot read ends the
// check of every source that it is asked for. keyuse_test.go asks the apt-get that is there.

// asksSQV reports whether the root's apt is of that kind. A root without apt is taken for one
// of before.
func asksSQV(root *rootfs.FS) bool {
	if _, err := root.Stat("/usr/lib/apt/methods/sqv"); err != nil {
		return false
	}
	_, err := root.Stat("/usr/bin/apt-key")
	return err != nil
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
	stop := map[string]string{} // file → why sqv gives up at it
	for name := range k.missed {
		stop[name] = "it is not there, or cannot be opened"
	}
	whole := keyring.ReadWhole(texts, family.KeysAt(k.root))
	folder := "" // the file of the folders at which sqv gives up
	for i := range k.files {
		f := &k.files[i]
		switch err := whole[i].Err; {
		case err != nil:
			stop[f.name] = err.Error()
			out[i] = found{why: "sqv, which checks signatures for apt, reads nothing of it: " + err.Error(), trouble: err.Error()}
			if f.why == source.NotNamed {
				f.why = out[i].why
			}
			if f.scope == source.ScopeAny && folder == "" {
				folder = f.name
			}
		case texts[i] == nil:
			stop[f.name] = f.why
		case f.why == "":
			out[i].keys = whole[i].Keys
		}
	}
	named := k.givenUp(stop)
	for i := range k.files {
		f := &k.files[i]
		by, at := folder, "in the same folder"
		if f.scope != source.ScopeAny {
			by, at = named[f.name], "that the same source names"
		}
		if by != "" && by != f.name && f.why == "" {
			out[i] = found{why: "sqv gives up at " + by + " " + at + ": " + stop[by]}
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
	if !r.sqv {
		return keyring.Read(block, family.KeysAt(r.root))
	}
	got := keyring.ReadWhole([][]byte{block}, family.KeysAt(r.root))[0]
	if got.Err != nil {
		keys, _ := keyring.Read(block, family.KeysAt(r.root))
		for i := range keys {
			keys[i].Used, keys[i].UnusedBecause = false, "sqv, which checks signatures for apt, reads nothing of it: "+got.Err.Error()
		}
		return keys, got.Err
	}
	return got.Keys, nil
}

// partName reports whether a file of that name in the folder of trusted keys is one of keys.
func partName(name string) bool {
	return strings.HasSuffix(name, ".gpg") || strings.HasSuffix(name, ".asc")
}
