package family

import (
	"path"
	"strings"
)

// Rooted is a path, or the URL of a file, that leads below a root folder; any other word is as it was.
func Rooted(word, root string) string {
	rest, isURL := strings.CutPrefix(word, "file://")
	switch {
	case isURL && strings.HasPrefix(rest, "/"):
		return "file://" + path.Join(root, rest)
	case strings.HasPrefix(word, "/"):
		return path.Join(root, word)
	}
	return word
}
