package change

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/text/lines"
)

// whereItStood is a text in which a section stands again: where it stood in the text that was kept, under its own heading and
// with what it said. Differences that touch none of its lines stay. It reports false where that does not bring it back, by what is
// read of it.
func whereItStood(now, kept []byte, section string, read func(text []byte) (string, bool)) ([]byte, bool) {
	before, _, found := strings.Cut(string(kept), section)
	if !found {
		return nil, false
	}
	first := strings.Count(before, "\n")
	old := lines.Split(string(kept))
	last := first + 1 // behind the heading that follows it, which may be spoilt
	for last < len(old) && heading(old[last]) == "" {
		last++
	}
	last++ // at the end of the file, what was written behind it
	text := takenBack(now, kept, func(h lines.Hunk, is, was []string) bool {
		within := h.NewFrom < last && h.NewTo > first
		if len(was) == 0 { // somebody wrote more
			within = h.NewFrom > first && h.NewFrom < last
		}
		return within && len(headings(is)) <= len(headings(was)) // whole sections that came stay
	})
	again, there := read(text)
	return text, there && again == section
}

// takenBack is a text with those of its differences from one that was kept taken back that are asked for: told by their place, the
// present lines and the kept ones.
func takenBack(now, kept []byte, asked func(h lines.Hunk, is, was []string) bool) []byte {
	a, b := lines.Split(string(now)), lines.Split(string(kept))
	var out []byte
	write := func(list []string) {
		for _, line := range list {
			if len(out) > 0 && out[len(out)-1] != '\n' { // of a file that was cut off
				out = append(out, '\n')
			}
			out = append(out, line...)
		}
	}
	at := 0
	for _, h := range lines.Compare(a, b) {
		write(a[at:h.OldFrom])
		is, was := a[h.OldFrom:h.OldTo], b[h.NewFrom:h.NewTo]
		if asked(h, is, was) {
			is = append(remarks(is, was), was...)
		}
		write(is)
		at = h.OldTo
	}
	write(a[at:])
	return out
}

// remarks are the comments among some lines that are no others of them, and no others cut off.
func remarks(list, others []string) []string {
	if n := len(list) - 1; n >= 0 && !strings.HasSuffix(list[n], "\n") &&
		slices.ContainsFunc(others, func(line string) bool { return strings.HasPrefix(line, list[n]) }) {
		list = list[:n]
	}
	said := map[string]bool{}
	for _, line := range others {
		said[strings.Trim(line, "#; \t\r\n")] = true
	}
	return slices.DeleteFunc(slices.Clone(list), func(line string) bool {
		plain := strings.TrimSpace(line)
		comment := strings.HasPrefix(plain, "#") || strings.HasPrefix(plain, ";")
		return !comment || said[strings.Trim(line, "#; \t\r\n")]
	})
}

// heading is the line by which a section begins; empty for others.
func heading(line string) string {
	if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
		return line
	}
	return ""
}

func headings(list []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(line string) bool { return heading(line) == "" })
}
