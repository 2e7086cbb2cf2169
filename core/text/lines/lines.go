// Package lines compares texts line by line and writes unified diffs.
package lines

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Split cuts text into lines, each with its newline; the last may lack one.
func Split(text string) []string {
	if text == "" {
		return nil
	}
	out := strings.SplitAfter(text, "\n")
	if out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	return out
}

// Hunk says that lines Old[OldFrom:OldTo] become New[NewFrom:NewTo].
type Hunk struct{ OldFrom, OldTo, NewFrom, NewTo int }

// Compare returns the hunks that turn old into new, in order. It finds a
// shortest script for texts of ordinary size (Myers, "An O(ND) Difference
// Algorithm", 1986) and replaces the middle as one hunk for texts that differ in
// thousands of lines.
func Compare(old, new []string) []Hunk {
	head := 0
	for head < len(old) && head < len(new) && old[head] == new[head] {
		head++
	}
	tail := 0
	for tail < len(old)-head && tail < len(new)-head && old[len(old)-1-tail] == new[len(new)-1-tail] {
		tail++
	}
	a, b := old[head:len(old)-tail], new[head:len(new)-tail]
	switch {
	case len(a) == 0 && len(b) == 0:
		return nil
	case len(a) == 0 || len(b) == 0:
		return []Hunk{{head, head + len(a), head, head + len(b)}}
	}
	keep, ok := common(a, b)
	if !ok {
		return []Hunk{{head, head + len(a), head, head + len(b)}}
	}
	var out []Hunk
	i, j := 0, 0
	for _, k := range append(keep, [2]int{len(a), len(b)}) {
		if k[0] > i || k[1] > j {
			out = append(out, Hunk{head + i, head + k[0], head + j, head + k[1]})
		}
		i, j = k[0]+1, k[1]+1
	}
	return out
}

// maxEdits bounds the work of common.
const maxEdits = 1500

// common returns the pairs of equal lines that a shortest script keeps.
func common(a, b []string) ([][2]int, bool) {
	n, m := len(a), len(b)
	limit := min(n+m, maxEdits)
	v := make([]int, 2*limit+3)
	at := func(k int) int { return k + limit + 1 }
	var trace [][]int
	for d := 0; d <= limit; d++ {
		trace = append(trace, append([]int(nil), v...))
		for k := -d; k <= d; k += 2 {
			x := v[at(k-1)] + 1
			if k == -d || k != d && v[at(k-1)] < v[at(k+1)] {
				x = v[at(k+1)]
			}
			y := x - k
			for x < n && y < m && a[x] == b[y] {
				x, y = x+1, y+1
			}
			v[at(k)] = x
			if x >= n && y >= m {
				return walk(trace, n, m, at), true
			}
		}
	}
	return nil, false
}

func walk(trace [][]int, x, y int, at func(int) int) [][2]int {
	var keep [][2]int
	for d := len(trace) - 1; d >= 0; d-- {
		v, k := trace[d], x-y
		prev := k - 1
		if k == -d || k != d && v[at(k-1)] < v[at(k+1)] {
			prev = k + 1
		}
		px := v[at(prev)]
		py := px - prev
		for x > max(px, 0) && y > max(py, 0) && (d == 0 || x > px && y > py) {
			x, y = x-1, y-1
			keep = append(keep, [2]int{x, y})
		}
		x, y = px, py
	}
	for i, j := 0, len(keep)-1; i < j; i, j = i+1, j-1 {
		keep[i], keep[j] = keep[j], keep[i]
	}
	return keep
}

// Shown is a text for people to read: of one that is no text (a key, say, as gpg exports it) how many bytes it has, and their digest.
func Shown(text string) string {
	if !binary(text) {
		return text
	}
	return fmt.Sprintf("(binary, %d bytes, SHA-256 %x)\n", len(text), sha256.Sum256([]byte(text)))
}

// binary reports whether a text is none: it holds a byte that no text has, or a good part of it is nothing that could be shown. What
// somebody wrote in another encoding is a text.
func binary(text string) bool {
	if strings.ContainsRune(text, 0) {
		return true
	}
	strange := 0
	for _, r := range text {
		if r == utf8.RuneError || r < ' ' && r != '\t' && r != '\n' && r != '\r' {
			strange++
		}
	}
	return strange*4 > len(text)
}

// Unified writes the difference of two texts as a unified diff with three lines
// of context. An empty name stands for a file that is not there.
func Unified(oldName, newName, old, new string) string {
	a, b := Split(old), Split(new)
	hunks := Compare(a, b)
	if len(hunks) == 0 && oldName != "" && newName != "" {
		return ""
	}
	var out strings.Builder
	out.WriteString(Names(cmp.Or(oldName, "/dev/null"), cmp.Or(newName, "/dev/null")))
	const around = 3
	for i := 0; i < len(hunks); {
		j := i + 1
		for j < len(hunks) && hunks[j].OldFrom-hunks[j-1].OldTo <= 2*around {
			j++
		}
		first, last := hunks[i], hunks[j-1]
		before := min(around, first.OldFrom)
		after := min(around, len(a)-last.OldTo)
		fmt.Fprintf(&out, "@@ -%s +%s @@\n",
			span(first.OldFrom-before, last.OldTo+after), span(first.NewFrom-before, last.NewTo+after))
		at := first.OldFrom - before
		for _, h := range hunks[i:j] {
			write(&out, ' ', a[at:h.OldFrom])
			write(&out, '-', a[h.OldFrom:h.OldTo])
			write(&out, '+', b[h.NewFrom:h.NewTo])
			at = h.OldTo
		}
		write(&out, ' ', a[at:at+after])
		i = j
	}
	return out.String()
}

// Names are the first two lines of a unified diff.
func Names(old, new string) string { return fmt.Sprintf("--- %s\n+++ %s\n", old, new) }

func span(from, to int) string {
	switch to - from {
	case 0:
		return fmt.Sprintf("%d,0", from)
	case 1:
		return fmt.Sprint(from + 1)
	}
	return fmt.Sprintf("%d,%d", from+1, to-from)
}

func write(out *strings.Builder, sign byte, lines []string) {
	for _, l := range lines {
		out.WriteByte(sign)
		out.WriteString(l)
		if !strings.HasSuffix(l, "\n") {
			out.WriteString("\n\\ No newline at end of file\n")
		}
	}
}
