package toml

import (
	"errors"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"patientlantern.example/lantern/core/text/pattern"
)

func (p *parser) value(deep int) (any, error) {
	if deep > mostDeep {
		return nil, errors.New("lists stand too deep in each other")
	}
	switch c := p.peek(); {
	case p.takes(`"""`):
		return p.texts()
	case p.takes("'''"):
		return p.literals()
	case p.takes(`"`):
		return p.text1()
	case p.takes("'"):
		return p.literal1()
	case p.takes("["):
		return p.list(deep)
	case p.takes("{"):
		return p.inline(deep)
	case c == 0:
		return nil, errors.New("a key has no value")
	}
	return p.word()
}

func (p *parser) list(deep int) (any, error) {
	out := []any{}
	for {
		if err := p.between(); err != nil {
			return nil, err
		}
		if p.takes("]") {
			return out, nil
		}
		v, err := p.value(deep + 1)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
		if err := p.between(); err != nil {
			return nil, err
		}
		if !p.takes(",") && p.peek() != ']' {
			return nil, errors.New("a list is not closed")
		}
	}
}

// inline reads a table in braces.
func (p *parser) inline(deep int) (any, error) {
	out := &node{at: map[string]any{}}
	if p.blanks(); !p.takes("}") {
		for {
			if err := p.pair(out, deep+1); err != nil {
				return nil, err
			}
			p.blanks()
			if p.takes("}") {
				break
			}
			if !p.takes(",") {
				return nil, errors.New("a table in braces is not closed")
			}
		}
	}
	out.seal()
	return out, nil
}

// seal closes a table and those in it: nothing can be added any more.
func (n *node) seal() {
	n.how = sealed
	for _, v := range n.at {
		if below, is := v.(*node); is {
			below.seal()
		}
	}
}

// words are the forms of what is no text, list or table.
var (
	number = pattern.Lazy(`^(?:[+-]?(?:0|[1-9](?:_?[0-9])*)(?:\.[0-9](?:_?[0-9])*)?(?:[eE][+-]?[0-9](?:_?[0-9])*)?|[+-]?(?:inf|nan)|` +
		`0x[0-9A-Fa-f](?:_?[0-9A-Fa-f])*|0o[0-7](?:_?[0-7])*|0b[01](?:_?[01])*)$`)
	moment = pattern.Lazy(`^(?:(\d{4}-\d\d-\d\d)(?:[Tt ](\d\d:\d\d:\d\d)(?:\.\d+)?(?:[Zz]|[+-](\d\d:\d\d))?)?|(\d\d:\d\d:\d\d)(?:\.\d+)?)$`)
	date   = pattern.Lazy(`^\d{4}-\d\d-\d\d $`)
)

func (p *parser) word() (any, error) {
	from := p.at
	for p.at < len(p.text) && (bare(p.peek()) || strings.IndexByte("+.:", p.peek()) >= 0) {
		p.at++
		if p.at+1 < len(p.text) && p.peek() == ' ' && date().MatchString(p.text[from:p.at+1]) && p.text[p.at+1] >= '0' && p.text[p.at+1] <= '9' {
			p.at++ // a blank for the T between a day and a time
		}
	}
	w := p.text[from:p.at]
	if w == "true" || w == "false" || number().MatchString(w) {
		return Word(w), nil
	}
	m := moment().FindStringSubmatch(w)
	if m == nil {
		return nil, errors.New("a value stands here that is none")
	}
	for i, form := range []string{"", time.DateOnly, time.TimeOnly, "15:04", time.TimeOnly} {
		if i == 0 || m[i] == "" {
			continue
		}
		if _, err := time.Parse(form, m[i]); err != nil {
			return nil, errors.New("there is no such day or time")
		}
	}
	return Word(w), nil
}

// literal1 reads a text in single quotes, behind the first one.
func (p *parser) literal1() (string, error) {
	from := p.at
	for ; p.at < len(p.text) && !control(p.peek()); p.at++ {
		if p.peek() == '\'' {
			p.at++
			return p.text[from : p.at-1], nil
		}
	}
	return "", errors.New("a text is not closed on its line")
}

// text1 reads a text in double quotes, behind the first one.
func (p *parser) text1() (string, error) {
	var out strings.Builder
	for p.at < len(p.text) && !control(p.peek()) {
		switch c := p.peek(); c {
		case '"':
			p.at++
			return out.String(), nil
		case '\\':
			if err := p.escape(&out); err != nil {
				return "", err
			}
		default:
			out.WriteByte(c)
			p.at++
		}
	}
	return "", errors.New("a text is not closed on its line")
}

// closes goes over the end of a text of many lines: two more of its quotes may stand before it.
func (p *parser) closes(quote string, out *strings.Builder) bool {
	if !p.takes(strings.Repeat(quote, 3)) {
		return false
	}
	for range 2 {
		if p.takes(quote) {
			out.WriteString(quote)
		}
	}
	return true
}

// literals reads a text of many lines in single quotes.
func (p *parser) literals() (string, error) {
	p.takesLine()
	var out strings.Builder
	for p.at < len(p.text) {
		c := p.peek()
		switch {
		case p.closes("'", &out):
			return out.String(), nil
		case p.takesLine():
			out.WriteByte('\n')
		case control(c):
			return "", errors.New("a control character stands in a text")
		default:
			out.WriteByte(c)
			p.at++
		}
	}
	return "", errors.New("a text is not closed")
}

// texts reads a text of many lines in double quotes.
func (p *parser) texts() (string, error) {
	p.takesLine()
	var out strings.Builder
	for p.at < len(p.text) {
		c := p.peek()
		switch {
		case p.closes(`"`, &out):
			return out.String(), nil
		case p.takesLine():
			out.WriteByte('\n')
		case c == '\\':
			if p.joins() {
				continue
			}
			if err := p.escape(&out); err != nil {
				return "", err
			}
		case control(c):
			return "", errors.New("a control character stands in a text")
		default:
			out.WriteByte(c)
			p.at++
		}
	}
	return "", errors.New("a text is not closed")
}

// joins goes over a backslash at the end of a line, with the blanks and lines behind it.
func (p *parser) joins() bool {
	from := p.at
	p.at++
	p.blanks()
	if !p.takesLine() {
		p.at = from
		return false
	}
	for p.blanks(); p.takesLine(); p.blanks() {
	}
	return true
}

var escapes = map[byte]byte{'b': '\b', 't': '\t', 'n': '\n', 'f': '\f', 'r': '\r', '"': '"', '\\': '\\'}

// escape reads a backslash with what stands behind it.
func (p *parser) escape(out *strings.Builder) error {
	p.at++
	c := p.peek()
	if plain, known := escapes[c]; known {
		p.at++
		out.WriteByte(plain)
		return nil
	}
	digits := map[byte]int{'u': 4, 'U': 8}[c]
	if digits == 0 || len(p.text)-p.at <= digits {
		return errors.New("no such character can be written with a backslash")
	}
	n, err := strconv.ParseUint(p.text[p.at+1:p.at+1+digits], 16, 32)
	if err != nil || !utf8.ValidRune(rune(n)) || n > utf8.MaxRune {
		return errors.New("no such character can be written with a backslash")
	}
	p.at += 1 + digits
	out.WriteRune(rune(n))
	return nil
}
