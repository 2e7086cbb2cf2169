// Package splice replaces stretches of a byte slice and leaves all else alone.
// The lossless text packages edit through it: an edit can only change the
// bytes it names.
package splice

import (
	"cmp"
	"slices"
	"strings"
)

// Edits is a set of replacements in one source text. The zero value is empty.
type Edits struct{ list []edit }

type edit struct {
	start, end int
	text       string
}

// Replace asks for src[start:end] to become text. Replacements must not overlap;
// several insertions at one place keep the order in which they were asked for.
func (e *Edits) Replace(start, end int, text string) {
	e.list = append(e.list, edit{start, end, text})
}

// Insert asks for text before src[at].
func (e *Edits) Insert(at int, text string) { e.Replace(at, at, text) }

// Delete asks for src[start:end] to go.
func (e *Edits) Delete(start, end int) { e.Replace(start, end, "") }

// MapWords asks for other words in src[from:end], each in its place. Any of separators parts
// them; a line that begins with one of comment has none.
func (e *Edits) MapWords(src []byte, from, end int, separators, comment string, to func(string) string) {
	for at := from; at < end; {
		switch line := at > from && src[at-1] == '\n'; {
		case line && strings.IndexByte(comment, src[at]) >= 0:
			for at < end && src[at] != '\n' {
				at++
			}
		case strings.IndexByte(separators, src[at]) >= 0:
			at++
		default:
			begin := at
			for at < end && strings.IndexByte(separators, src[at]) < 0 {
				at++
			}
			word := string(src[begin:at])
			if next := to(word); next != word {
				e.Replace(begin, at, next)
			}
		}
	}
}

// Empty reports whether nothing was asked for.
func (e *Edits) Empty() bool { return len(e.list) == 0 }

// Apply returns src with all replacements made. Where two replacements overlap,
// the later-starting one is left out.
func (e *Edits) Apply(src []byte) []byte {
	if len(e.list) == 0 {
		return src
	}
	list := slices.Clone(e.list)
	slices.SortStableFunc(list, func(a, b edit) int { return cmp.Compare(a.start, b.start) })
	out := make([]byte, 0, len(src)+64)
	at := 0
	for _, x := range list {
		if x.start < at || x.end > len(src) {
			continue
		}
		out = append(out, src[at:x.start]...)
		out = append(out, x.text...)
		at = x.end
	}
	return append(out, src[at:]...)
}
