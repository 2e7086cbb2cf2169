package ini

import "strings"

// CommentedSection is a section of which the header and every entry are
// commented out, one by one, without a gap.
type CommentedSection struct {
	Line    int
	Name    string
	Entries [][2]string // key and value, blanks around them gone
}

// Commented returns the sections that somebody has switched off by comment signs.
func (f *File) Commented() (out []CommentedSection) {
	if !strings.Contains(f.text, "#") {
		return nil
	}
	var at *CommentedSection
	n := 0
	for line := range strings.Lines(f.text) {
		n++
		if line[0] != '#' {
			at = nil
			continue
		}
		line = strings.Trim(strings.TrimLeft(line, "# \t"), pacmanBlank)
		if len(line) > 2 && line[0] == '[' && strings.IndexByte(line, ']') == len(line)-1 {
			out = append(out, CommentedSection{Line: n, Name: line[1 : len(line)-1]})
			at = &out[len(out)-1]
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		if key = strings.TrimSpace(key); at != nil && ok && key != "" && !strings.ContainsAny(key, " \t") {
			at.Entries = append(at.Entries, [2]string{key, strings.TrimSpace(value)})
		} else if at != nil && len(at.Entries) == 0 {
			at = nil // prose behind something in brackets
		}
	}
	return out
}
