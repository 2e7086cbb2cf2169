package source

import (
	"bytes"
	"slices"
	"strings"
)

// shortSchemes are those of URLs that may lack the name of a host, and its slashes.
var shortSchemes = []string{"file", "copy", "dir", "cd", "dvd", "hd", "iso", "cdrom", "http", "https", "ftp"}

// IsMirror reports whether a line is one of a list of mirrors: a URL, and what apt-transport-mirror(1) lets stand behind
// it. zypper takes file:/x as well, and apt any method's name.
func IsMirror(line string) bool {
	for i, word := range strings.Fields(line) {
		name, rest, found := strings.Cut(strings.ToLower(word), ":")
		switch {
		case !found || name == "" || rest == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789+.-") != "":
			return false
		case i == 0 && !strings.HasPrefix(rest, "//") && (rest[0] != '/' || !slices.Contains(shortSchemes, name)):
			return false
		}
	}
	return true
}

// Strangers is how many lines of a text are none of a list of mirrors. A metalink has none, nor has a list with nothing
// but places, comments and empty lines.
func Strangers(text []byte) (n int) {
	if isMetalink(text) {
		return 0
	}
	places, others := 0, 0
	for line := range bytes.Lines(text) {
		switch word := bytes.TrimSpace(line); {
		case len(word) == 0:
		case IsMirror(string(word)):
			places++
		case word[0] != '#':
			n++
		default:
			others++
		}
	}
	if places == 0 {
		n += others
	}
	return n
}

// isMetalink reports whether a text is a metalink: XML with that element around all others.
func isMetalink(text []byte) bool {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	for {
		text = bytes.TrimSpace(text)
		end := ""
		switch {
		case bytes.HasPrefix(text, []byte("<?")):
			end = "?>"
		case bytes.HasPrefix(text, []byte("<!--")):
			end = "-->"
		case bytes.HasPrefix(text, []byte("<!")):
			end = ">"
		default:
			rest, is := bytes.CutPrefix(text, []byte("<metalink"))
			return is && len(rest) > 0 && bytes.ContainsRune([]byte(" \t\r\n>"), rune(rest[0]))
		}
		_, rest, found := bytes.Cut(text, []byte(end))
		if !found {
			return false
		}
		text = rest
	}
}

// Listed are the lines of a list of mirrors that say something.
func Listed(text []byte) (out []string) {
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			out = append(out, strings.Join(strings.Fields(line), " "))
		}
	}
	return out
}
