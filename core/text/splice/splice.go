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

// Words are where the words of src[from:end] stand. Any of separators parts them; a line that begins with one of comment
// has none.
func Words(src []byte, from, end int, separators, comment string) (out [][2]int) {
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
			out = append(out, [2]int{begin, at})
		}
	}
	return out
}

// PutWords asks for other words in the place of some of src: to gives for each of them those that take its place. Several
// stand on its line, a blank between; of one that goes the gap behind it goes too, up to the next where nothing else stands there.
func (e *Edits) PutWords(src []byte, words [][2]int, to func(words []string) [][]string) {
	is := make([]string, len(words))
	for i, w := range words {
		is[i] = string(src[w[0]:w[1]])
	}
	for i, next := range to(is) {
		text, end := strings.Join(next, " "), words[i][1]
		if len(next) == 0 && i+1 < len(words) && strings.Trim(string(src[end:words[i+1][0]]), ", \t\r\n") == "" {
			end = words[i+1][0]
		}
		if text != is[i] {
			e.Replace(words[i][0], end, text)
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
