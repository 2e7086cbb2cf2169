package deb

import (
	"strings"

	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
)

// Rooted puts root before every path that a Signed-By or a URI of the file names, so
// that apt can be asked about a root that is not its own.
func Rooted(name string, text []byte, root string) []byte {
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
		f.MapURI(i, func(uri string) string {
			uri, _ = local(uri)
			return uri
		})
		if v, ok := f.Lines[i].Option("signed-by"); ok {
			if v, changed := rooted(v); changed {
				f.SetOption(i, "signed-by", v)
			}
		}
	}
	return f.Bytes()
}
