package change

import (
	"strings"

	"patientlantern.example/lantern/core/text/lines"
)

// whereItStood is a text in which a section stands again: where it stood in the text that was kept, under its own heading and
// with what it said. Differences that touch none of its lines stay. Where that does not bring it back it is put at the end.
func whereItStood(now, kept []byte, section string, stands func(text []byte) bool) []byte {
	before, _, found := strings.Cut(string(kept), section)
	if !found {
		return appended(now, section)
	}
	first := strings.Count(before, "\n")
	last := first + len(lines.Split(strings.TrimRight(section, "\n")))
	a, b := lines.Split(string(now)), lines.Split(string(kept))
	var out strings.Builder
	at := 0
	for _, h := range lines.Compare(a, b) {
		out.WriteString(strings.Join(a[at:h.OldFrom], ""))
		if h.NewFrom < last && h.NewTo > first || h.NewFrom == h.NewTo && h.NewFrom > first && h.NewFrom < last {
			out.WriteString(strings.Join(b[h.NewFrom:h.NewTo], ""))
		} else {
			out.WriteString(strings.Join(a[h.OldFrom:h.OldTo], ""))
		}
		at = h.OldTo
	}
	out.WriteString(strings.Join(a[at:], ""))
	if text := []byte(out.String()); stands(text) {
		return text
	}
	return appended(now, section)
}
