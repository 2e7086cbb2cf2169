package ini

import "strings"

// pacmanLine is how much of a line pacman reads at once, in bytes; the rest of a
// longer line is a line of its own to it.
const pacmanLine = 4095

const pacmanBlank = " \t\n\v\f\r"

var pacmanWriter = writer{decode: itself, equals: " = ", forbiddenKey: "=\r\n[]#", encode: func(value string) (string, error) {
	if len(value) > 3000 {
		return "", ErrValue
	}
	return oneLine(value)
}}

// ParsePacman reads pacman.conf or a file that it includes: blanks around lines,
// keys and values go, a key may stand without a value, and entries before the
// first header go to the section that was open where the file was included.
func ParsePacman(text []byte) *File {
	p := begin(text, pacmanWriter, ParsePacman)
	t := p.f.text
	for at := 0; at < len(t); {
		end, after := p.next(at)
		if after-at > pacmanLine {
			after = at + pacmanLine
			end = min(end, after)
		}
		from, to := at, end
		if nul := strings.IndexByte(t[at:end], 0); nul >= 0 {
			to = at + nul
		}
		from, to = p.trim(from, to, pacmanBlank)
		line := t[from:to]
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '[' && len(line) > 1 && line[len(line)-1] == ']':
			p.section(at, from+1, to-1)
		default:
			p.headless(at)
			e := Entry{end: int32(after), value: int32(to), valueEnd: int32(to), flags: bare}
			keyEnd := to
			if i := strings.IndexByte(line, '='); i >= 0 {
				keyEnd = from + i
				v, w := p.trim(keyEnd+1, to, pacmanBlank)
				e.value, e.valueEnd, e.flags = int32(v), int32(w), 0
			}
			k, l := p.trim(from, keyEnd, pacmanBlank)
			e.key, e.keyEnd = int32(k), int32(l)
			p.entry(e)
		}
		at = after
	}
	p.finish(len(t))
	return p.f
}

// trim narrows a stretch of the text by the blanks at both of its ends.
func (p *parser) trim(from, to int, blank string) (int, int) {
	for from < to && p.f.text[from] <= ' ' && strings.IndexByte(blank, p.f.text[from]) >= 0 {
		from++
	}
	for to > from && p.f.text[to-1] <= ' ' && strings.IndexByte(blank, p.f.text[to-1]) >= 0 {
		to--
	}
	return from, to
}
