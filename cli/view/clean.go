package view

import (
	"crypto/rand"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// What hosts, desks, package managers and policies say is shown, and steers nothing: no
// control character, no mark that turns the direction of writing round, nothing that is
// not seen. Colours and line ends of this program's own are written as tokens that nobody
// else can know, and are made what they stand for as the last thing.

// tokenLead begins a token; the rest is known to this run of the program alone.
var tokenLead = "\x00" + rand.Text() + "\x00"

// lineEnd is a line end of this program's own.
var lineEnd = tokenLead + "N"

// cutToken cuts a text around its first token: a lead with what stands behind it, N or the
// number of a style and m.
func cutToken(text string) (before, what, after string, found bool) {
	for from := 0; ; {
		at := strings.Index(text[from:], tokenLead)
		if at < 0 {
			return text, "", "", false
		}
		at += from
		rest := text[at+len(tokenLead):]
		n := 0
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		switch {
		case strings.HasPrefix(rest, "N"):
			return text[:at], "N", rest[1:], true
		case n > 0 && n < len(rest) && rest[n] == 'm':
			return text[:at], rest[:n+1], rest[n+1:], true
		}
		from = at + len(tokenLead)
	}
}

// withoutTokens is what of a text is seen.
func withoutTokens(text string) string {
	if !strings.Contains(text, tokenLead) {
		return text
	}
	var b strings.Builder
	for {
		before, _, after, found := cutToken(text)
		b.WriteString(before)
		if !found {
			return b.String()
		}
		text = after
	}
}

// steers are the characters that are never written as they are.
var steers = []*unicode.RangeTable{unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Cs, unicode.Co}

// visible is the rune that is shown for r.
func visible(r rune) rune {
	switch {
	case r >= ' ' && r < 0x7f: // nearly all there is
		return r
	case r == '\t':
		return ' '
	case r == utf8.RuneError, r != '\n' && unicode.In(r, steers...):
		return '·'
	}
	return r
}

// oneLine is visible for texts of a single line.
func oneLine(r rune) rune {
	if r == '\n' {
		return '·'
	}
	return visible(r)
}

// clean shows a text of somebody else on one line; tokens in it are kept.
func clean(text string) string {
	if !strings.Contains(text, tokenLead) {
		return strings.Map(oneLine, text)
	}
	var b strings.Builder
	for {
		before, what, after, found := cutToken(text)
		if !found {
			break
		}
		b.WriteString(strings.Map(oneLine, before) + tokenLead + what)
		text = after
	}
	return b.String() + strings.Map(oneLine, text)
}

// cleanArgs cleans what is put into a line.
func cleanArgs(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			out[i] = clean(v)
		case error:
			out[i] = clean(v.Error())
		case fmt.Stringer:
			out[i] = clean(v.String())
		default:
			out[i] = a
		}
	}
	return out
}

// shown is a text of lines as it is written; lines may end as CSV's do.
func shown(text string) string {
	if !strings.Contains(text, "\r\n") {
		return strings.Map(visible, text)
	}
	lines := strings.Split(text, "\r\n")
	for i, l := range lines {
		lines[i] = strings.Map(visible, l)
	}
	return strings.Join(lines, "\r\n")
}

// Write writes a text whose line ends are meant. Everything else that steers a terminal is
// shown.
func (o *Out) Write(p []byte) (int, error) {
	text := string(p)
	var b strings.Builder
	for {
		before, what, after, found := cutToken(text)
		if !found {
			break
		}
		b.WriteString(shown(before))
		if what == "N" {
			b.WriteByte('\n')
		} else {
			b.WriteString("\x1b[" + what)
		}
		text = after
	}
	b.WriteString(shown(text))
	if err := o.Raw(b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Raw writes a text as it is. The first error of writing is kept.
func (o *Out) Raw(text string) error {
	_, err := io.WriteString(o.to, text)
	if err != nil && o.failed == nil {
		o.failed = err
	}
	return err
}

// Through sends what is written from now on elsewhere, such as to a pager.
func (o *Out) Through(w io.Writer) { o.to, o.Live = w, false }

// Err is the first error of writing.
func (o *Out) Err() error { return o.failed }

// Over begins the last line anew, on a terminal.
func (o *Out) Over(text string) {
	_ = o.Raw("\r\x1b[K" + strings.Map(oneLine, text)) // kept, see Err
}

// JSON is where JSON is written: what steers a terminal is written as an escape of JSON,
// which says the same.
func (o *Out) JSON() io.Writer { return jsonOut{o} }

type jsonOut struct{ out *Out }

func (j jsonOut) Write(p []byte) (int, error) {
	if !slices.ContainsFunc(p, func(c byte) bool { return c >= 0x7f }) { // nearly all there is
		if err := j.out.Raw(string(p)); err != nil {
			return 0, err
		}
		return len(p), nil
	}
	var b strings.Builder
	for _, r := range string(p) {
		switch {
		case r < ' ', !unicode.In(r, steers...): // JSON has no raw control characters but its own line ends
			b.WriteRune(r)
		case r > 0xffff:
			hi, lo := utf16.EncodeRune(r)
			b.WriteString(escape(hi) + escape(lo))
		default:
			b.WriteString(escape(r))
		}
	}
	if err := j.out.Raw(b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

func escape(r rune) string {
	hex := strconv.FormatInt(int64(r), 16)
	return `\u` + strings.Repeat("0", 4-len(hex)) + hex
}
