package family

import "strings"

// Expand puts the values of $name and ${name} in, and of ${name:-word} and
// ${name:+word}, in which variables may stand too. A variable that has no value
// stays as it is written. zypper and dnf 5 write variables so.
func Expand(text string, vars func(string) (string, bool)) string {
	if !strings.Contains(text, "$") {
		return text
	}
	e := &expansion{text: text, closing: closings(text), vars: vars}
	e.from(0, len(text), false, 0)
	return e.out.String()
}

// deepest bounds how deep words may stand in words; what is deeper stays as it is written.
const deepest = 200

// mostExpanded bounds what an expansion may come to, in bytes: no URL is as long.
const mostExpanded = MostExpanded

// expansion walks over a text once: where each brace is closed is known beforehand.
type expansion struct {
	text    string
	closing map[int]int // where a ${ opens → where it is closed
	vars    func(string) (string, bool)
	out     strings.Builder
}

// closings finds where each ${ of a text is closed. A backslash protects the sign behind it.
func closings(text string) map[int]int {
	out := map[int]int{}
	var open []int
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
			if i < len(text) && text[i] == '$' && i+1 < len(text) && text[i+1] == '{' {
				open = append(open, i)
				i++
			}
		case '{':
			if i > 0 && text[i-1] == '$' {
				open = append(open, i-1)
			}
		case '}':
			if n := len(open); n > 0 {
				out[open[n-1]] = i
				open = open[:n-1]
			}
		}
	}
	return out
}

// from expands text[at:end]; within a word a backslash protects the sign behind it.
func (e *expansion) from(at, end int, word bool, depth int) {
	for at < end && e.out.Len() <= mostExpanded {
		if word && e.text[at] == '\\' && at+1 < end && strings.IndexByte(`\$}`, e.text[at+1]) >= 0 {
			e.out.WriteByte(e.text[at+1])
			at += 2
			continue
		}
		if e.text[at] != '$' || at+1 == end {
			e.out.WriteByte(e.text[at])
			at++
			continue
		}
		at = e.variable(at, end, depth)
	}
}

// variable expands what stands at a dollar sign and returns where it ends.
func (e *expansion) variable(at, stop, depth int) int {
	name := at + 1
	bracket := e.text[name] == '{'
	if bracket {
		name++
	}
	end := name
	for end < stop && wordChar(e.text[end]) {
		end++
	}
	literal := func(to int) int {
		e.out.WriteString(e.text[at:to])
		return to
	}
	if end == name {
		return literal(at + 1)
	}
	value, ok := e.vars(e.text[name:end])
	if !bracket {
		if !ok {
			return literal(end)
		}
		e.out.WriteString(value)
		return end
	}
	if end < stop && e.text[end] == '}' {
		if !ok {
			return literal(end + 1)
		}
		e.out.WriteString(value)
		return end + 1
	}
	if end+1 >= stop || e.text[end] != ':' || e.text[end+1] != '-' && e.text[end+1] != '+' {
		return literal(at + 1)
	}
	closing, closed := e.closing[at]
	if !closed || closing >= stop || closing < end+2 {
		return literal(at + 1)
	}
	set := ok && value != ""
	switch {
	case e.text[end+1] == '-' && set:
		e.out.WriteString(value)
	case depth >= deepest:
		e.out.WriteString(e.text[end+2 : closing])
	case e.text[end+1] == '-' || set:
		e.from(end+2, closing, true, depth+1)
	}
	return closing + 1
}

func wordChar(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
