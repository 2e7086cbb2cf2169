package rpm

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/text/ini"
)

// Rooted returns a .repo file in which the files that sections name are made to
// lead below a root folder, for a dnf that runs outside it.
func Rooted(text []byte, root string) ([]byte, error) {
	f := ini.ParseRPM(text)
	for i := range f.Sections {
		s := &f.Sections[i]
		for _, key := range []string{"baseurl", "mirrorlist", "gpgkey", "sslcacert", "sslclientcert", "sslclientkey"} {
			value, ok := f.Get(s, key)
			if !ok {
				continue
			}
			words := list(plainValue(value))
			was := slices.Clone(words)
			for n, w := range words {
				words[n] = family.Rooted(w, root)
			}
			if slices.Equal(words, was) {
				continue
			}
			if err := f.Set(s, key, strings.Join(words, " ")); err != nil {
				return nil, err
			}
		}
	}
	return f.Bytes(), nil
}
