package zypp

import "patientlantern.example/lantern/core/family"

// Rooted returns a .repo file in which the files that sections name are made to lead below a root folder, for a zypper that runs
// outside it.
func Rooted(text []byte, root string) ([]byte, error) {
	f := Parse(text)
	for i := range f.Sections {
		for _, key := range multi {
			f.PutWords(&f.Sections[i], key, func(words []string) [][]string {
				out := make([][]string, len(words))
				for n, w := range words {
					out[n] = []string{family.Rooted(w, root)}
				}
				return out
			})
		}
	}
	return f.Bytes(), nil
}
