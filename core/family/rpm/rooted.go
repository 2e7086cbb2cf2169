package rpm

import (
	"path"
	"strings"

	"patientlantern.example/lantern/core/text/ini"
)

// Rooted returns a .repo file in which the files that sections name are made to
// lead below a root folder, for a dnf that runs outside it.
func Rooted(text []byte, root string) ([]byte, error) {
	return RootedIn(ini.ParseRPM(text), root, "baseurl", "mirrorlist", "gpgkey", "sslcacert", "sslclientcert", "sslclientkey")
}

// RootedIn is Rooted for a file that is parsed already, and for some keys of it.
func RootedIn(f *ini.File, root string, keys ...string) ([]byte, error) {
	for i := range f.Sections {
		s := &f.Sections[i]
		for _, key := range keys {
			value, ok := f.Get(s, key)
			if !ok {
				continue
			}
			words := list(plainValue(value))
			before := strings.Join(words, " ")
			for n, w := range words {
				switch rest, isURL := strings.CutPrefix(w, "file://"); {
				case isURL && strings.HasPrefix(rest, "/"):
					words[n] = "file://" + path.Join(root, rest)
				case strings.HasPrefix(w, "/"):
					words[n] = path.Join(root, w)
				}
			}
			if strings.Join(words, " ") == before {
				continue
			}
			if err := f.Set(s, key, strings.Join(words, " ")); err != nil {
				return nil, err
			}
		}
	}
	return f.Bytes(), nil
}
