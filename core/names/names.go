// Package names expands brace ranges in host names: gw-{01..12}.brinewick.test.
package names

import (
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
)

// Most is the largest number of names that one pattern may stand for.
const Most = 100_000

// Expand returns the names that a pattern stands for, in order. A range keeps
// the width of its first number; {a,b} lists alternatives.
func Expand(pattern string) ([]string, error) {
	out := []string{""}
	for rest := pattern; rest != ""; {
		i := strings.IndexAny(rest, "{}")
		if i < 0 {
			i = len(rest)
		} else if rest[i] == '}' {
			return nil, fmt.Errorf("%q has a } without a {", pattern)
		}
		for n := range out {
			out[n] += rest[:i]
		}
		if rest = rest[i:]; rest == "" {
			break
		}
		body, tail, ok := strings.Cut(rest[1:], "}")
		if !ok {
			return nil, fmt.Errorf("%q has a { that is not closed", pattern)
		}
		choices, err := choices(pattern, body)
		if err != nil {
			return nil, err
		}
		if len(out)*len(choices) > Most {
			return nil, tooMany(pattern)
		}
		next := make([]string, 0, len(out)*len(choices))
		for _, head := range out {
			for _, c := range choices {
				next = append(next, head+c)
			}
		}
		out, rest = next, tail
	}
	return out, nil
}

// Apart parts a list at its commas, but for those that part the alternatives of a range: gw-{01,04},desk-1 are two.
func Apart(list string) (out []string) {
	from, depth := 0, 0
	for i, c := range list {
		switch {
		case c == '{':
			depth++
		case c == '}':
			depth--
		case c == ',' && depth <= 0:
			out, from = append(out, list[from:i]), i+1
		}
	}
	return slices.DeleteFunc(append(out, list[from:]), func(name string) bool { return strings.TrimSpace(name) == "" })
}

// ErrTooMany is the kind of error for a pattern that stands for too many names.
type ErrTooMany struct{ Pattern string }

func (e ErrTooMany) Error() string {
	return fmt.Sprintf("%q stands for more than %d names", e.Pattern, Most)
}

func tooMany(pattern string) error { return ErrTooMany{pattern} }

func choices(pattern, body string) ([]string, error) {
	first, last, isRange := strings.Cut(body, "..")
	if !isRange {
		list := strings.Split(body, ",")
		for _, c := range list {
			if c == "" {
				return nil, fmt.Errorf("{%s} in %q is empty or has an empty choice", body, pattern)
			}
		}
		return list, nil
	}
	from, err1 := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	if err1 != nil || err2 != nil || from < 0 || to < 0 {
		return nil, fmt.Errorf("{%s} in %q is not a range of numbers", body, pattern)
	}
	if to < from {
		return nil, fmt.Errorf("the range {%s} in %q is empty: it counts down", body, pattern)
	}
	if to-from >= Most {
		return nil, tooMany(pattern)
	}
	out := make([]string, 0, to-from+1)
	for n := from; n <= to; n++ {
		out = append(out, fmt.Sprintf("%0*d", len(first), n))
	}
	return out, nil
}

// far is where counting stops.
const far = 4

// Distance is the number of letters to change, add, drop or swap with a
// neighbour to get from a to b; it stops counting at 4.
func Distance(a, b string) int { return within(a, b, far) }

// within is Distance where nothing above a limit is of interest: what is further is far.
func within(a, b string, limit int) int {
	if d := len(a) - len(b); d >= far || -d >= far || d > limit || -d > limit {
		return far
	}
	// What both begin and end with costs nothing, and is most of names that are alike.
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a) == 0 || len(b) == 0 {
		return min(max(len(a), len(b)), far)
	}
	return table(a, b, limit)
}

// table counts by the three rows of a table that are needed at a time, and of each those cells that a count up
// to the limit can go through.
func table(a, b string, limit int) int {
	var room [3 * 64]int
	rows := room[:]
	width := len(b) + 2
	if 3*width > len(rows) {
		rows = make([]int, 3*width)
	}
	prev2, prev, cur := rows[:width], rows[width:2*width], rows[2*width:3*width]
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		low, high := max(1, i-limit), min(len(b), i+limit)
		cur[low-1], cur[high+1] = far, far
		least := far
		if low == 1 {
			cur[0], least = i, i
		}
		for j := low; j <= high; j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
			least = min(least, cur[j])
		}
		if least > limit { // a swap reaches back one row, and adds one at least
			return far
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return min(prev[len(b)], far)
}

// Nearest returns the name closest to s, or "" when none is close.
func Nearest(s string, all []string) string {
	return NearestOf(s, slices.Values(all))
}

// NearestOf is Nearest over a sequence.
func NearestOf(s string, all iter.Seq[string]) string {
	best, at := "", max(2, len(s)/3)+1
	for n := range all {
		if d := within(s, n, min(at, far)); d < at || d == at && best != "" && n < best {
			best, at = n, d
		}
	}
	if at > 3 {
		return ""
	}
	return best
}
