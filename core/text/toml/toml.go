// Package toml reads TOML 1.0 (https://toml.io/en/v1.0.0), as far as files of package managers need it: tables, lists
// and texts become Go's; numbers, dates and words stay as they are written.
package toml

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Table is a table: its values are Table, []any, string (a text) and Word.
type Table map[string]any

// Word is a number, a date or a yes or no, as it is written.
type Word string

// Error says what is wrong, and on which line, from 1.
type Error struct {
	Line int
	Says string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Says) }

// mostDeep is how deep lists and tables may stand in each other.
const mostDeep = 100

// Parse reads a file; the error is an *Error.
func Parse(text []byte) (Table, error) {
	p := &parser{text: string(text), root: &node{at: map[string]any{}}}
	if err := p.file(); err != nil {
		return nil, &Error{1 + strings.Count(p.text[:min(p.at, len(p.text))], "\n"), err.Error()}
	}
	return p.root.plain(), nil
}

// How a table came to be, which decides what may still be said of it.
const (
	implied = iota // by the head of one below it
	headed         // by a head of its own
	dotted         // by a key with dots
	sealed         // whole, in braces
)

type node struct {
	at  map[string]any // *node, *nodes, []any, string, Word
	how int
}

// nodes are the tables of a list that heads in double brackets make.
type nodes struct{ all []*node }

func (n *node) plain() Table {
	out := Table{}
	for k, v := range n.at {
		out[k] = plain(v)
	}
	return out
}

func plain(v any) any {
	switch v := v.(type) {
	case *node:
		return v.plain()
	case *nodes:
		out := make([]any, len(v.all))
		for i, n := range v.all {
			out[i] = n.plain()
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plain(v[i])
		}
		return out
	}
	return v
}

type parser struct {
	text string
	at   int
	root *node
}

func (p *parser) peek() byte {
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

// takes goes over a text that stands here.
func (p *parser) takes(s string) bool {
	if !strings.HasPrefix(p.text[p.at:], s) {
		return false
	}
	p.at += len(s)
	return true
}

func (p *parser) takesLine() bool { return p.takes("\n") || p.takes("\r\n") }

func (p *parser) blanks() {
	for p.peek() == ' ' || p.peek() == '\t' {
		p.at++
	}
}

// control reports whether a byte is one that stands in no text and no comment.
func control(c byte) bool { return c < ' ' && c != '\t' || c == 0x7f }

func (p *parser) comment() error {
	for p.at < len(p.text) && p.peek() != '\n' && !strings.HasPrefix(p.text[p.at:], "\r\n") {
		if control(p.peek()) {
			return errors.New("a control character stands in a comment")
		}
		p.at++
	}
	return nil
}

// end goes over what may stand behind a value or a head on its line.
func (p *parser) end() error {
	p.blanks()
	if p.peek() == '#' {
		if err := p.comment(); err != nil {
			return err
		}
	}
	if p.at == len(p.text) || p.takesLine() {
		return nil
	}
	return errors.New("something stands behind what could be understood")
}

// between goes over blanks, ends of lines and comments.
func (p *parser) between() error {
	for {
		p.blanks()
		switch {
		case p.takesLine():
		case p.peek() == '#' && p.at < len(p.text):
			if err := p.comment(); err != nil {
				return err
			}
		default:
			return nil
		}
	}
}

func (p *parser) file() error {
	if !utf8.ValidString(p.text) {
		for r, n := utf8.DecodeRuneInString(p.text); r != utf8.RuneError || n != 1; r, n = utf8.DecodeRuneInString(p.text[p.at:]) {
			p.at += n
		}
		return errors.New("it is not UTF-8")
	}
	here := p.root
	for {
		if err := p.between(); err != nil {
			return err
		}
		if p.at == len(p.text) {
			return nil
		}
		var err error
		if p.peek() == '[' {
			here, err = p.head()
		} else {
			err = p.pair(here, 0)
		}
		if err == nil {
			err = p.end()
		}
		if err != nil {
			return err
		}
	}
}

// head reads the head of a table, or of one more table of a list.
func (p *parser) head() (*node, error) {
	list, closing := p.takes("[["), "]]"
	if !list {
		p.at++
		closing = "]"
	}
	key, err := p.key()
	if err != nil {
		return nil, err
	}
	if !p.takes(closing) {
		return nil, errors.New("the name of a table is not closed")
	}
	at := p.root
	for _, k := range key[:len(key)-1] {
		switch below := at.at[k].(type) {
		case nil:
			fresh := &node{at: map[string]any{}}
			at.at[k], at = fresh, fresh
		case *node:
			at = below
		case *nodes:
			at = below.all[len(below.all)-1]
		default:
			return nil, fmt.Errorf("%s is no table", k)
		}
		if at.how == sealed {
			return nil, fmt.Errorf("the table %s is closed", k)
		}
	}
	return at.head(key[len(key)-1], list)
}

// head is the table that a head begins.
func (n *node) head(name string, list bool) (*node, error) {
	fresh := &node{map[string]any{}, headed}
	switch have := n.at[name].(type) {
	case nil:
		if n.at[name] = fresh; list {
			n.at[name] = &nodes{[]*node{fresh}}
		}
		return fresh, nil
	case *nodes:
		if list {
			have.all = append(have.all, fresh)
			return fresh, nil
		}
	case *node:
		if !list && have.how == implied {
			have.how = headed
			return have, nil
		}
	}
	return nil, fmt.Errorf("%s stands here twice", name)
}

// pair reads a key with its value into a table.
func (p *parser) pair(at *node, deep int) error {
	key, err := p.key()
	if err != nil {
		return err
	}
	if !p.takes("=") {
		return errors.New("a key without = stands here")
	}
	p.blanks()
	for _, k := range key[:len(key)-1] {
		switch below := at.at[k].(type) {
		case nil:
			fresh := &node{map[string]any{}, dotted}
			at.at[k], at = fresh, fresh
		case *node:
			if below.how != dotted && below.how != implied {
				return fmt.Errorf("the table %s is closed", k)
			}
			below.how = dotted
			at = below
		default:
			return fmt.Errorf("%s is no table", k)
		}
	}
	name := key[len(key)-1]
	if at.at[name] != nil {
		return fmt.Errorf("%s stands here twice", name)
	}
	v, err := p.value(deep)
	if err != nil {
		return err
	}
	at.at[name] = v
	return nil
}

// key reads the parts of a key, with the blanks around them.
func (p *parser) key() (parts []string, err error) {
	for {
		p.blanks()
		part := ""
		switch c := p.peek(); {
		case c == '"':
			p.at++
			part, err = p.text1()
		case c == '\'':
			p.at++
			part, err = p.literal1()
		default:
			from := p.at
			for bare(p.peek()) {
				p.at++
			}
			if part = p.text[from:p.at]; part == "" {
				err = errors.New("no key stands where one must")
			}
		}
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
		p.blanks()
		if !p.takes(".") {
			return parts, nil
		}
	}
}

func bare(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
}
