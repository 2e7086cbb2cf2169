package deb

import (
	"bytes"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
)

const keyBlock = "-----BEGIN PGP PUBLIC KEY BLOCK-----"

// signedBy lists what a Signed-By value names: paths, fingerprints, or the
// primary fingerprints of a key block that stands in the value itself.
func signedBy(value string) []string {
	if strings.Contains(value, keyBlock) {
		var fprs []string
		if keys, err := keyring.Read(embedded(value)); err == nil {
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

type keyDir struct{ dir, scope string }

// keyDirs are the places of keys that sources name.
var keyDirs = []keyDir{
	{"/etc/apt/keyrings", source.ScopeNamed},
	{"/usr/share/keyrings", source.ScopeNamed},
}

// keyFile is a file with keys, read but not yet understood.
type keyFile struct{ name, scope string }

func (r *reader) keys() {
	named := map[string]bool{}
	for i := range r.Sources {
		for _, by := range r.Sources[i].SignedBy {
			named[by] = true
		}
	}
	seen := map[string]bool{}
	var files []keyFile
	var texts [][]byte
	add := func(name, scope string, must bool) {
		if seen[name] || name == "" || name == "/dev/null" {
			return
		}
		seen[name] = true
		data, info, err := r.root.ReadTextInfo(name)
		if err != nil {
			if must || !errors.Is(err, fs.ErrNotExist) {
				r.Problem(name, 0, "the key file cannot be read: "+family.Plain(err), false)
			}
			return
		}
		if len(data) == 0 {
			return
		}
		if named[name] || strings.HasPrefix(name, "/etc/apt/keyrings/") && bytes.HasPrefix(data, []byte("-----BEGIN")) {
			family.KeepPublic(r.Texts, r.Modes, info, name, data)
		}
		files, texts = append(files, keyFile{name, scope}), append(texts, data)
	}
	add(r.conf.File("Dir::Etc::trusted"), source.ScopeAny, false)
	dirs := append(slices.Clone(keyDirs), keyDir{r.conf.File("Dir::Etc::trustedparts"), source.ScopeAny})
	for _, d := range dirs {
		if d.dir == "" || d.dir == "/dev/null" {
			continue
		}
		entries, err := r.root.ReadDir(d.dir)
		if err != nil {
			continue
		}
		for _, e := range entries {
			ext := path.Ext(e.Name())
			if e.Name()[0] != '.' && (ext == ".gpg" || ext == ".asc" || ext == ".pgp" && d.scope == source.ScopeNamed) && !e.IsDir() {
				add(path.Join(d.dir, e.Name()), d.scope, false)
			}
		}
	}
	var embedded []*source.Source
	for i := range r.Sources {
		s := &r.Sources[i]
		for _, by := range s.SignedBy {
			switch {
			case by[0] == '/':
				add(by, source.ScopeNamed, s.Enabled)
			case strings.HasPrefix(by, "embedded:"):
				embedded = append(embedded, s)
			}
		}
	}
	for i, got := range keyring.ReadAll(texts) {
		if got.Err != nil {
			delete(r.Texts, files[i].name)
			r.Problem(files[i].name, 0, "the key file cannot be understood: "+got.Err.Error(), false)
			continue
		}
		for _, k := range got.Keys {
			k.Where, k.Scope = files[i].name, files[i].scope
			r.Keys = append(r.Keys, k)
		}
	}
	for _, s := range embedded {
		r.embeddedKeys(s)
	}
}

func (r *reader) embeddedKeys(s *source.Source) {
	text, ok := r.Texts[s.File]
	if !ok {
		return
	}
	keys, err := keyring.Read(EmbeddedKeys(text, s.Line))
	if err != nil {
		r.Problem(s.File, s.Line, "the key in Signed-By cannot be understood: "+err.Error(), false)
		return
	}
	for _, k := range keys {
		k.Where, k.Scope = s.File, source.ScopeNamed
		r.Keys = append(r.Keys, k)
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

// RootedKeys puts root before every path that a Signed-By of the file names, so
// that apt can be asked about a root that is not its own.
func RootedKeys(name string, text []byte, root string) []byte {
	rooted := func(v string) (string, bool) {
		if strings.Contains(v, keyBlock) || !strings.Contains(v, "/") {
			return v, false
		}
		words := strings.FieldsFunc(v, func(c rune) bool { return strings.ContainsRune(", \t\n\r", c) })
		for i, w := range words {
			if w[0] == '/' {
				words[i] = root + w
			}
		}
		return strings.Join(words, ","), true
	}
	local := func(v string) (string, bool) { // URLs of files on the host
		words, changed := strings.Fields(v), false
		for i, w := range words {
			for _, scheme := range []string{"file:", "mirror+file:", "copy:"} {
				if rest, ok := strings.CutPrefix(w, scheme); ok && strings.HasPrefix(rest, "/") {
					words[i], changed = scheme+root+"/"+strings.TrimLeft(rest, "/"), true
				}
			}
		}
		return strings.Join(words, " "), changed
	}
	if strings.HasSuffix(name, ".sources") {
		f := deb822.Parse(text)
		for i := range f.Stanzas {
			if v, ok := f.Get(i, "URIs"); ok {
				if v, changed := local(v); changed {
					f.Set(i, "URIs", v)
				}
			}
			if v, ok := f.Get(i, "Signed-By"); ok {
				if v, changed := rooted(v); changed {
					f.Set(i, "Signed-By", v)
				}
			}
		}
		return f.Bytes()
	}
	f := aptline.Parse(text)
	for i := range f.Lines {
		if v, ok := f.Lines[i].Option("signed-by"); ok {
			if v, changed := rooted(v); changed {
				f.SetOption(i, "signed-by", v)
			}
		}
	}
	return f.Bytes()
}
