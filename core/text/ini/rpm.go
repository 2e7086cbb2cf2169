package ini

import (
	"strings"
)

const rpmBlank = " \t\r"

var rpmWriter = writer{decode: itself, equals: "=", forbiddenKey: "=\r\n[]#;", encode: func(value string) (string, error) {
	if strings.ContainsAny(value, "\r\x00") {
		return "", ErrValue
	}
	lines := strings.Split(value, "\n")
	for i, l := range lines {
		if strings.Trim(l, rpmBlank) != l || l == "" && len(lines) > 1 || i > 0 && l[0] == '[' {
			return "", ErrValue
		}
	}
	text := strings.Join(lines, "\n    ")
	if value == "" {
		return `""`, nil // a line of blanks behind nothing would be part of the value
	}
	if quoted(value) {
		text = value[:1] + text + value[:1]
	}
	return text, nil
}}

// quoted reports whether libdnf would take a pair of quotes off a value.
func quoted(value string) bool {
	n := len(value)
	return n > 1 && value[0] == value[n-1] && (value[0] == '"' || value[0] == '\'')
}

// ParseRPM reads a .repo file or dnf.conf as libdnf does: comments begin in the
// first column only, an indented line goes on with the value before it, and one
// pair of quotes around a value is taken off.
func ParseRPM(text []byte) *File { return parseRPM(text, ParseRPM, false) }

// ParseRPM5 reads such a file as libdnf5 does: names of sections are patterns there, and may hold
// brackets.
func ParseRPM5(text []byte) *File { return parseRPM(text, ParseRPM5, true) }

func parseRPM(text []byte, parse func([]byte) *File, last bool) *File {
	p := begin(text, rpmWriter, parse)
	p.last = last
	t := p.f.text
	var e *Entry       // the entry whose value may go on
	var firstEnd int32 // where its first line ends
	var parts []string // its lines after that
	done := func() {
		if e == nil {
			return
		}
		whole := t[e.value:firstEnd]
		if len(parts) > 0 {
			whole = strings.Join(append([]string{whole}, parts...), "\n")
			if strings.Trim(whole, "\n") != "" {
				whole = strings.TrimRight(whole, "\n")
			}
		}
		switch {
		case quoted(whole):
			p.join(e, whole[1:len(whole)-1])
		case len(parts) > 0:
			p.join(e, whole)
		}
		e, parts = nil, parts[:0]
	}
	for at := 0; at < len(t) && p.f.Err == nil; {
		end, after := p.next(at)
		from := at
		if p.number == 1 && strings.HasPrefix(t, "\xef\xbb\xbf") {
			from += 3
		}
		line := t[from:end]
		first := 0
		for first < len(line) && (line[first] == ' ' || line[first] == '\t' || line[first] == '\r') {
			first++
		}
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
			done()
		case first == len(line):
			if e != nil {
				parts = append(parts, "")
			}
		case e != nil && first > 0 && line[first] != '[':
			part := strings.TrimRight(line[first:], rpmBlank)
			parts = append(parts, part)
			e.valueEnd, e.end = int32(from+first+len(part)), int32(after)
		default:
			done()
			if e = p.rpmLine(from, after, line, first); e != nil {
				firstEnd = e.valueEnd
			}
		}
		at = after
	}
	done()
	p.finish(len(t))
	return p.f
}

// rpmLine reads a header or the first line of an entry.
func (p *parser) rpmLine(from, after int, line string, first int) *Entry {
	last := len(strings.TrimRight(line, rpmBlank)) - 1
	if line[first] == '[' {
		bracket := strings.IndexByte(line, ']')
		if p.last {
			bracket = strings.LastIndexByte(line, ']')
		}
		switch {
		case bracket < 0:
			p.fail("missing ']'")
			return nil
		case bracket == first+1:
			p.fail("empty section name")
			return nil
		}
		for i := bracket + 1; i < last; i++ { // the last character is not looked at
			if c := line[i]; c == '#' || c == ';' {
				break
			} else if c != ' ' && c != '\t' && c != '\r' {
				p.fail("text after the section's name")
				return nil
			}
		}
		p.section(from, from+first+1, from+bracket)
		return nil
	}
	equals := strings.IndexByte(line, '=')
	switch {
	case !p.open:
		p.fail("missing section header")
	case first > 0:
		p.fail("a line that continues nothing")
	case equals == 0:
		p.fail("missing key")
	case equals < 0:
		p.fail("missing '='")
	}
	if p.f.Err != nil {
		return nil
	}
	keyEnd := len(strings.TrimRight(line[:equals], " \t"))
	value := equals + 1
	for value < len(line) && (line[value] == ' ' || line[value] == '\t') {
		value++
	}
	valueEnd := last + 1
	if valueEnd < value { // nothing, or a lone carriage return behind blanks, which stays
		valueEnd = len(line)
	}
	return p.entry(Entry{
		end: int32(after), key: int32(from), keyEnd: int32(from + keyEnd),
		value: int32(from + value), valueEnd: int32(from + valueEnd),
	})
}
