package policy

import (
	"bytes"
	"fmt"
	"path"
	"regexp"
	"slices"

	"patientlantern.example/lantern/core/diag"
)

// Bounds of a folder: whoever may check one cannot take the service's memory or time.
const (
	mostFile        = 4 << 20  // bytes of a policy file
	mostFolder      = 24 << 20 // bytes of all files
	mostAssignments = 5000
	maxIndent       = 64 // levels of indentation, and marks of lists on one line
)

// pieceSize is from which size on a section of a file is read in pieces, and pieceItems how
// many of its entries a piece has: the parser's time grows with the square of them.
const (
	pieceSize  = 32 << 10
	pieceItems = 200
)

// piece is a part of a file that can be read by itself.
type piece struct {
	text  []byte
	shift int // how many lines further down it stands
}

var sectionHead = regexp.MustCompile(`^[a-z]+:[ \t]*(#.*)?\r?$`)

// pieces takes a large file apart between the entries of its sections. It returns the file
// whole where it is small, or written in a way that does not show where entries begin.
func pieces(data []byte) []piece {
	whole := []piece{{text: data}}
	if len(data) < pieceSize {
		return whole
	}
	lines := bytes.SplitAfter(data, []byte("\n"))
	rest := slices.Clone(lines)
	var out []piece
	for i := 0; i < len(lines); {
		head := i
		i++
		if !sectionHead.Match(bytes.TrimRight(lines[head], "\n")) {
			continue
		}
		for i < len(lines) && !topLevel(lines[i]) {
			i++
		}
		more, ok := entries(lines, head, i)
		if !ok {
			return whole
		}
		if len(more) > 0 {
			out = append(out, more...)
			for n := head; n < i; n++ {
				rest[n] = []byte("\n")
			}
		}
	}
	if len(out) == 0 {
		return whole
	}
	return append([]piece{{text: bytes.Join(rest, nil)}}, out...)
}

// topLevel reports whether a line begins a section.
func topLevel(line []byte) bool {
	return len(line) > 0 && bytes.IndexByte([]byte(" \t\r\n#-"), line[0]) < 0
}

// blank reports whether a line says nothing.
func blank(line []byte) bool {
	t := bytes.TrimSpace(line)
	return len(t) == 0 || t[0] == '#'
}

func indentOf(line []byte) int { return len(line) - len(bytes.TrimLeft(line, " ")) }

// entries parts the lines of a section, whose head is the first, into pieces. ok is false
// where it cannot be seen where they begin.
func entries(lines [][]byte, head, end int) (out []piece, ok bool) {
	first := head + 1
	for first < end && blank(lines[first]) {
		first++
	}
	if first == end {
		return nil, true
	}
	indent := indentOf(lines[first])
	list := bytes.HasPrefix(lines[first][indent:], []byte("-"))
	if indent == 0 && !list {
		return nil, false
	}
	from, items := head+1, 0
	cut := func(to int) {
		out = append(out, piece{text: append(slices.Clone(lines[head]), bytes.Join(lines[from:to], nil)...), shift: from - 1})
		from, items = to, 0
	}
	for n := first; n < end; n++ {
		if blank(lines[n]) || indentOf(lines[n]) > indent {
			continue
		}
		if indentOf(lines[n]) < indent || list != bytes.HasPrefix(lines[n][indent:], []byte("-")) {
			return nil, false
		}
		if items == pieceItems {
			cut(n)
		}
		items++
	}
	cut(end)
	return out, true
}

// nesting returns the line on which a text nests too deeply for the parser, or 0.
func nesting(data []byte) int {
	var levels []int
	for n, line := range bytes.Split(data, []byte("\n")) {
		if blank(line) {
			continue
		}
		rest := line
		marks := 0
		for {
			t := bytes.TrimLeft(rest, " ")
			if len(t) < 2 || t[0] != '-' && t[0] != '?' || t[1] != ' ' && t[1] != '-' {
				break
			}
			rest = t[1:]
			marks++
		}
		at := indentOf(line)
		for len(levels) > 0 && levels[len(levels)-1] >= at {
			levels = levels[:len(levels)-1]
		}
		if levels = append(levels, at); len(levels)+marks > maxIndent {
			return n + 1
		}
	}
	return 0
}

// bounded reports whether a folder keeps the bounds.
func (l *loader) bounded() bool {
	total := 0
	for name, data := range l.folder {
		total += len(data)
		if ext := path.Ext(name); (ext == ".yaml" || ext == ".yml") && len(data) > mostFile {
			l.fail(
				"too-large",
				diag.Pos{File: name},
				fmt.Sprintf("the file has %d KiB, and %d are the most", len(data)>>10, mostFile>>10),
				"part it into several files; a folder is read as one policy",
			)
		}
	}
	if total > mostFolder {
		l.fail(
			"too-large",
			diag.Pos{File: "."},
			fmt.Sprintf("the folder has %d KiB, and %d are the most", total>>10, mostFolder>>10),
			"keep only policy files and keys in it",
		)
	}
	return len(l.out) == 0
}
