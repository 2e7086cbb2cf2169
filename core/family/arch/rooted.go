package arch

import (
	"path"
	"strings"

	"patientlantern.example/lantern/core/text/ini"
)

// Includes lists the paths that a file includes, as they are written.
func Includes(text []byte) (out []string) {
	f := ini.ParsePacman(text)
	for i := range f.Sections {
		entries := f.Entries(&f.Sections[i])
		for j := range entries {
			if e := &entries[j]; f.Key(e) == "Include" && !e.Bare() {
				out = append(out, f.Value(e))
			}
		}
	}
	return out
}

// Rooted returns pacman.conf, or a file that it includes, in which the included paths
// are made to lead below a root folder, for a pacman that runs outside it.
func Rooted(text []byte, root string) []byte {
	var out strings.Builder
	for line := range strings.Lines(string(text)) {
		key, value, ok := strings.Cut(line, "=")
		if value = strings.TrimSpace(value); ok && strings.TrimSpace(key) == "Include" && strings.HasPrefix(value, "/") {
			line = "Include = " + path.Join(root, value) + "\n"
		}
		out.WriteString(line)
	}
	return []byte(out.String())
}

// AsRoot returns such a text in which nobody is named as whom pacman downloads: since 7.0 it may be
// another user than root, who cannot open folders that are for root alone. Lines keep their numbers.
func AsRoot(text []byte) []byte {
	var out strings.Builder
	for line := range strings.Lines(string(text)) {
		if key, _, ok := strings.Cut(line, "="); ok && strings.TrimSpace(key) == "DownloadUser" {
			line = "\n"
		}
		out.WriteString(line)
	}
	return []byte(out.String())
}
