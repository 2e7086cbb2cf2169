package arch

import (
	"errors"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/text/ini"
)

// errGone is returned for a section that a file does not have.
var errGone = errors.New("its section is not written there")

// extent returns the first and last line, from 1, of each section of that name that is
// on.
func extent(text []byte, id string) (out [][2]int) {
	f := ini.ParsePacman(text)
	for i := range f.Sections {
		s := &f.Sections[i]
		if s.Headless || f.Name(s) != id {
			continue
		}
		last := int(s.Line)
		for _, e := range f.Entries(s) {
			last = max(last, int(e.Line))
		}
		out = append(out, [2]int{int(s.Line), last})
	}
	return out
}

func edit(text []byte, spans [][2]int, each func(line string) string) []byte {
	var out strings.Builder
	n := 0
	for line := range strings.Lines(string(text)) {
		n++
		if slices.ContainsFunc(spans, func(s [2]int) bool { return n >= s[0] && n <= s[1] }) {
			line = each(line)
		}
		out.WriteString(line)
	}
	return []byte(out.String())
}

// SwitchOff comments the section of that name out, line by line.
func SwitchOff(text []byte, id string) ([]byte, error) {
	spans := extent(text, id)
	if len(spans) == 0 {
		return nil, errGone
	}
	return edit(text, spans, func(line string) string {
		if strings.TrimSpace(line) == "" { // a gap would part the section
			return ""
		}
		if line[0] == '#' {
			return line
		}
		return "#" + line
	}), nil
}

// SwitchOn takes the comment signs of a section away.
func SwitchOn(text []byte, id string) ([]byte, error) {
	var spans [][2]int
	f := ini.ParsePacman(text)
	for _, c := range f.Commented() {
		if c.Name == id && len(c.Entries) > 0 {
			spans = [][2]int{{c.Line, c.Line + len(c.Entries)}}
		}
	}
	if len(spans) == 0 {
		return nil, errGone
	}
	return edit(text, spans, func(line string) string { return strings.TrimLeft(line, "# \t") }), nil
}

// Harden makes pacman check the packages and databases of the section of that name.
func Harden(text []byte, id string) ([]byte, error) {
	spans := extent(text, id)
	if len(spans) == 0 {
		return nil, errGone
	}
	said := false
	out := edit(text, spans, func(line string) string {
		key, _, entry := strings.Cut(strings.TrimSpace(line), "=")
		if !entry || !strings.EqualFold(strings.TrimSpace(key), "SigLevel") {
			return line
		}
		if said {
			return ""
		}
		said = true
		return strict + line[len(strings.TrimRight(line, "\r\n")):]
	})
	if said {
		return out, nil
	}
	return edit(text, [][2]int{{spans[0][0], spans[0][0]}}, func(line string) string {
		end := line[len(strings.TrimRight(line, "\r\n")):]
		if end == "" {
			return line + "\n" + strict
		}
		return line + strict + end
	}), nil
}

// strict is how a section is checked that takes nothing unsigned.
const strict = "SigLevel = Required"

// Remove takes the section of that name out.
func Remove(text []byte, id string) ([]byte, error) {
	spans := extent(text, id)
	if len(spans) == 0 {
		return nil, errGone
	}
	return edit(text, spans, func(string) string { return "" }), nil
}

// PutServers gives a section other servers: for each of them those that take its place, each on a line like its own.
func PutServers(text []byte, id string, to func(urls []string) [][]string) ([]byte, error) {
	spans := extent(text, id)
	if len(spans) == 0 {
		return nil, errGone
	}
	return putServers(text, spans, to), nil
}

// PutAllServers is PutServers for a file that sections include.
func PutAllServers(text []byte, to func(urls []string) [][]string) []byte {
	return putServers(text, [][2]int{{1, len(text)}}, to)
}

func putServers(text []byte, spans [][2]int, to func(urls []string) [][]string) []byte {
	var is []string
	edit(text, spans, func(line string) string {
		if url, there := server(line); there {
			is = append(is, url)
		}
		return line
	})
	next := to(is)
	return edit(text, spans, func(line string) string {
		url, there := server(line)
		if !there {
			return line
		}
		var out strings.Builder
		key, value, _ := strings.Cut(line, "=")
		for i, u := range next[0] {
			one := key + "=" + strings.Replace(value, url, u, 1)
			if i < len(next[0])-1 && !strings.HasSuffix(one, "\n") {
				one += "\n"
			}
			out.WriteString(one)
		}
		next = next[1:]
		return out.String()
	})
}

// server is the URL of a line that names a server.
func server(line string) (url string, there bool) {
	key, value, _ := strings.Cut(line, "=")
	words := strings.Fields(value)
	if strings.TrimSpace(key) != "Server" || len(words) == 0 {
		return "", false
	}
	return words[0], true
}

// Section returns the text of the section of that name, or of the one that is
// commented out.
func Section(text []byte, id string) (string, bool) {
	spans := extent(text, id)
	if len(spans) == 0 {
		return "", false
	}
	var out strings.Builder
	edit(text, spans[len(spans)-1:], func(line string) string {
		out.WriteString(line)
		return line
	})
	return out.String(), true
}

// Arrange makes pacman.conf include files, the upper ones before its own first
// repository and the lower ones behind its last, in that order. Files for which ours
// holds are included nowhere else. A text that has them so is left as it is.
func Arrange(text []byte, upper, lower []string, ours func(path string) bool) []byte {
	f := ini.ParsePacman(text)
	var above, below []string
	drop := map[int]bool{}
	first, own := 0, false
	for i := range f.Sections {
		s := &f.Sections[i]
		if !s.Headless && f.Name(s) != "options" && !own {
			own, first = true, int(s.Line)
		}
		entries := f.Entries(s)
		for j := range entries {
			e := &entries[j]
			value := f.Value(e)
			if f.Key(e) != "Include" || e.Bare() || !ours(value) {
				continue
			}
			drop[int(e.Line)] = true
			if own {
				below = append(below, value)
			} else {
				above = append(above, value)
			}
		}
	}
	if !own { // no repository of its own: there is but one place
		upper, lower = nil, slices.Concat(upper, lower)
		above, below = nil, slices.Concat(above, below)
	}
	if slices.Equal(above, upper) && slices.Equal(below, lower) {
		return text
	}
	block := func(paths []string) string {
		if len(paths) == 0 {
			return ""
		}
		out := includesHead + "\n"
		for _, p := range paths {
			out += "Include = " + p + "\n"
		}
		return out
	}
	list := slices.Collect(strings.Lines(string(text)))
	if own && len(upper) > 0 {
		for first > 1 && strings.HasPrefix(list[first-2], "#") && strings.TrimSpace(list[first-2]) != includesHead &&
			!drop[first-1] { // what is said of the section stays with it
			first--
		}
	}
	dropBlocks(list, drop)
	var out strings.Builder
	for n, line := range list {
		if own && n+1 == first && len(upper) > 0 {
			out.WriteString(block(upper) + "\n")
		}
		if !drop[n+1] {
			out.WriteString(line)
		}
	}
	rest := out.String()
	if len(lower) > 0 {
		if rest != "" && !strings.HasSuffix(rest, "\n") {
			rest += "\n"
		}
		if rest != "" {
			rest += "\n"
		}
		rest += block(lower)
	}
	return []byte(rest)
}

// dropBlocks adds to the lines that are to go the headings of our blocks, and the empty line that was written with each: behind
// one that stands before other lines, before one at the end.
func dropBlocks(list []string, drop map[int]bool) {
	empty := func(n int) bool { return n >= 1 && n <= len(list) && strings.TrimSpace(list[n-1]) == "" }
	for n := 1; n <= len(list); n++ {
		if strings.TrimSpace(list[n-1]) != includesHead {
			continue
		}
		to := n
		for drop[n] = true; drop[to+1]; {
			to++
		}
		switch {
		case to == len(list) && empty(n-1):
			drop[n-1] = true
		case empty(to + 1):
			drop[to+1] = true
		}
	}
}

// Included is the file that a line of pacman.conf includes; empty for others.
func Included(line string) string {
	key, value, _ := strings.Cut(line, "=")
	if strings.TrimSpace(key) != "Include" {
		return ""
	}
	return strings.TrimSpace(value)
}

// Unfollow takes out what stands below an Include of one of our files in the same section: pacman
// goes on there with the section that was included last. Unless drop says so it stays as a
// comment.
func Unfollow(text []byte, ours func(path string) bool, drop bool) []byte {
	f := ini.ParsePacman(text)
	stray := map[int]bool{}
	for i := range f.Sections {
		below := false
		entries := f.Entries(&f.Sections[i])
		for j := range entries {
			e := &entries[j]
			if f.Key(e) == "Include" && !e.Bare() && ours(f.Value(e)) {
				below = true
			} else if below {
				stray[int(e.Line)] = true
			}
		}
	}
	if len(stray) == 0 {
		return text
	}
	var out strings.Builder
	for n, line := range slices.Collect(strings.Lines(string(text))) {
		switch {
		case !stray[n+1]:
			out.WriteString(line)
		case !drop:
			out.WriteString("# " + line)
		}
	}
	return []byte(out.String())
}

// includesHead tells people what the lines below it are.
const includesHead = "# Patient Lantern's repositories, each in a file of its own."
