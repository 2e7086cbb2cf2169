// Package aptconf reads apt's own configuration files, apt.conf(5).
//
// What a text means follows apt 2.6 as Debian packages it; a test asks the real
// apt-config. Nothing here edits: a policy has no business in these files.
package aptconf

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/text/percent"
)

// Statement is one thing that a file says, in the order in which it says it.
type Statement struct {
	Line      int
	Directive string // "", clear, include or x-apt-configure-index
	Name      string // of the item, with its scopes: Acquire::http::Proxy; ends in :: to add to a list
	Value     string // of the item, or the directive's argument
}

// Error is a mistake at which apt stops reading the file and refuses to work.
type Error struct {
	Line    int
	Message string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Message) }

// Parse returns what a text says. With an error it returns what stands above it.
func Parse(text []byte) ([]Statement, error) {
	p := &parser{}
	number := 0
	for line := range strings.SplitAfterSeq(string(text), "\n") {
		number++
		line = strings.TrimSuffix(line, "\n")
		if i := strings.IndexByte(line, 0); i >= 0 {
			line = line[:i]
		}
		if err := p.line(number, line); err != nil {
			return p.out, err
		}
	}
	if p.buffer != "" {
		return p.out, &Error{number, "the file ends in the middle of an item (is a ; missing?)"}
	}
	return p.out, nil
}

// deepest is how deep blocks may stand in each other: apt has no such limit, and nobody has
// such a file.
const deepest = 200

type parser struct {
	out       []Statement
	inComment bool
	buffer    string   // of an item that goes on
	scopes    []string // names of the open blocks, outermost first, each whole
}

func (p *parser) scope() string {
	if len(p.scopes) == 0 {
		return ""
	}
	return p.scopes[len(p.scopes)-1]
}

func isSpace(c byte) bool { return c == ' ' || c >= '\t' && c <= '\r' }

func trim(s string) string {
	return strings.TrimFunc(s, func(r rune) bool { return r < 128 && isSpace(byte(r)) })
}

// quoted reports whether the byte at i stands inside double quotes.
func quoted(s string, i int) bool { return strings.Count(s[:i], `"`)%2 != 0 }

// uncomment takes comments out of a line.
func (p *parser) uncomment(line string) string {
	if p.inComment {
		i := strings.Index(line, "*/")
		if i < 0 {
			return ""
		}
		line, p.inComment = line[i+2:], false
	}
	for at := 0; ; {
		i := strings.Index(line[at:], "//")
		if i < 0 {
			break
		}
		if at += i; quoted(line, at) {
			at++
			continue
		}
		line = line[:at]
		break
	}
	for at := 0; ; {
		i := strings.IndexByte(line[at:], '#')
		if i < 0 {
			break
		}
		at += i
		rest := line[at+1:]
		if quoted(line, at) || strings.HasPrefix(rest, "clear") || strings.HasPrefix(rest, "include") ||
			strings.HasPrefix(rest, "x-apt-configure-index") {
			at++
			continue
		}
		line = line[:at]
		break
	}
	var out strings.Builder
	for at := 0; ; {
		i := strings.Index(line[at:], "/*")
		if i < 0 {
			break
		}
		if at += i; quoted(line, at) {
			at += 2
			continue
		}
		out.WriteString(line[:at])
		end := strings.Index(line[at+2:], "*/")
		if end < 0 {
			line, p.inComment = "", true
			break
		}
		line, at = line[at+2+end+2:], 0
	}
	return out.String() + line
}

func (p *parser) line(number int, line string) error {
	line = p.uncomment(trim(strings.ReplaceAll(line, "\t", "        ")))
	if line == "" {
		return nil
	}
	inQuote := false
	start := 0
	for i := range len(line) {
		c := line[i]
		if c == '"' {
			inQuote = !inQuote
		}
		if inQuote || c != '{' && c != ';' && c != '}' {
			continue
		}
		p.gather(trim(line[start:i]))
		start = i + 1
		if err := p.end(number, c); err != nil {
			return err
		}
	}
	p.gather(trim(line[start:]))
	return nil
}

func (p *parser) gather(piece string) {
	if p.buffer != "" && piece != "" {
		p.buffer += " "
	}
	p.buffer += piece
}

// end takes what was gathered, up to a terminator.
func (p *parser) end(number int, term byte) error {
	if p.buffer == "" {
		switch term {
		case '{':
			return &Error{number, "a block starts with no name"}
		case '}':
			p.leave()
		}
		return nil
	}
	tag, rest, ok := quoteWord(p.buffer)
	if !ok {
		return &Error{number, "a name cannot be read (is a quote or bracket not closed?)"}
	}
	word, after, ok := cWord(rest)
	if !ok {
		word, after, ok = quoteWord(rest)
	}
	noWord := false
	if !ok {
		word, after = "", rest
		if term == '{' {
			noWord = true
		} else {
			word, tag = tag, ""
		}
	}
	if after != "" {
		return &Error{number, "something stands behind the value (is a ; missing?)"}
	}
	outer := p.scope()
	if term == '{' {
		if len(p.scopes) >= deepest {
			return &Error{number, fmt.Sprintf("blocks stand in each other more than %d deep", deepest)}
		}
		inner := tag
		if outer != "" {
			inner = outer + "::" + tag
		}
		p.scopes = append(p.scopes, inner)
		tag = ""
	}
	item := tag
	if here := p.scope(); here != "" {
		item = here
		if term != '{' || tag != "" {
			item = here + "::" + tag
		}
	}
	switch {
	case strings.HasPrefix(tag, "#"):
		if p.scope() != "" {
			return &Error{number, "a directive stands inside a block"}
		}
		d := tag[1:]
		if d != "clear" && d != "include" && d != "x-apt-configure-index" {
			return &Error{number, fmt.Sprintf("the directive #%s is not known", d)}
		}
		p.out = append(p.out, Statement{Line: number, Directive: d, Value: word})
	case tag == "" && !noWord && word == "#clear":
		return &Error{number, "#clear does not say what"}
	case !noWord:
		p.out = append(p.out, Statement{Line: number, Name: item, Value: word})
	}
	p.buffer = ""
	if term == '}' {
		p.leave()
	}
	return nil
}

func (p *parser) leave() {
	if len(p.scopes) > 0 {
		p.scopes = p.scopes[:len(p.scopes)-1]
	}
}

// quoteWord takes one word off s, as aptline does: quotes are taken off, [ ] may
// hold blanks, %xx is decoded.
func quoteWord(s string) (word, rest string, ok bool) {
	i := 0
	for i < len(s) && s[i] == ' ' {
		i++
	}
	if i == len(s) {
		return "", s, false
	}
	for i < len(s) && !isSpace(s[i]) {
		var closing byte
		switch s[i] {
		case '"':
			closing = '"'
		case '[':
			closing = ']'
		}
		if closing != 0 {
			n := strings.IndexByte(s[i+1:], closing)
			if n < 0 {
				return "", s, false
			}
			i += 1 + n
		}
		i++
	}
	word = percent.Unquote(s[:i])
	for i < len(s) && isSpace(s[i]) {
		i++
	}
	return word, s[i:], true
}

// cWord takes a row of strings in quotes off s, all that is left of it, and joins
// them; blanks between them count as one.
func cWord(s string) (word, rest string, ok bool) {
	i := 0
	for i < len(s) && s[i] == ' ' {
		i++
	}
	if i == len(s) {
		return "", s, false
	}
	var b strings.Builder
	for ; i < len(s); i++ {
		switch {
		case s[i] == '"':
			n := strings.IndexByte(s[i+1:], '"')
			if n < 0 {
				return "", s, false
			}
			b.WriteString(s[i+1 : i+1+n])
			i += 1 + n
		case i > 0 && isSpace(s[i]) && isSpace(s[i-1]):
		case !isSpace(s[i]):
			return "", s, false
		default:
			b.WriteByte(' ')
		}
	}
	return b.String(), "", true
}
