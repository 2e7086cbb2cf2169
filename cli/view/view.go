// Package view writes tables and texts for terminals: as wide as the terminal,
// coloured only on one, and never by colour alone.
package view

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/term"
	"golang.org/x/text/width"
)

// Out is where a command writes.
type Out struct {
	to     io.Writer
	failed error
	Width  int  // columns; 0 for no limit
	Colour bool // whether escape sequences may be written
	Live   bool // whether a line may be written over
}

// NewOut looks at a file to find out what it can show. colour is auto, always or
// never.
func NewOut(f *os.File, colour string) *Out {
	o := &Out{to: f}
	if term.IsTerminal(int(f.Fd())) {
		o.Live = os.Getenv("TERM") != "dumb"
		o.Colour = o.Live && os.Getenv("NO_COLOR") == ""
		o.Width, _, _ = term.GetSize(int(f.Fd())) // 0 where it cannot be told
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= 20 {
		o.Width = n
	}
	switch colour {
	case "always":
		o.Colour = true
	case "never":
		o.Colour = false
	}
	return o
}

// Style is a way to set text off.
type Style string

// The styles.
const (
	Plain  Style = ""
	Bold   Style = "1"
	Dim    Style = "2"
	Red    Style = "31"
	Green  Style = "32"
	Yellow Style = "33"
	Blue   Style = "34"
	Cyan   Style = "36"
)

// Paint sets text off, where that may be done.
func (o *Out) Paint(s Style, text string) string {
	if !o.Colour || s == Plain || text == "" {
		return text
	}
	return tokenLead + string(s) + "m" + clean(text) + tokenLead + "0m"
}

// To is an Out that writes to w, with neither colour nor width.
func To(w io.Writer) *Out { return &Out{to: w} }

// Printf writes a line. What is put into it stays on that line, and what hosts send does
// not steer the terminal.
func (o *Out) Printf(format string, args ...any) {
	fmt.Fprintln(o, fmt.Sprintf(format, cleanArgs(args)...))
}

// columns is the width of a text on a terminal.
func columns(text string) int {
	n := 0
	if strings.Contains(text, tokenLead) {
		text = withoutTokens(text)
	}
	for _, r := range text {
		n += columnsOf(r)
	}
	return n
}

func columnsOf(r rune) int {
	if r < 0x1100 {
		return 1
	}
	switch width.LookupRune(r).Kind() {
	case width.EastAsianWide, width.EastAsianFullwidth:
		return 2
	}
	return 1
}

// Wrap breaks text at blanks so that it fits, every line indented.
func (o *Out) Wrap(indent int, text string) string {
	pad := strings.Repeat(" ", indent)
	if o.Width == 0 {
		return pad + text
	}
	var b strings.Builder
	at := 0
	for _, w := range strings.Fields(text) {
		n := columns(w)
		switch {
		case at == 0:
			b.WriteString(pad)
			at = indent
		case at+1+n > o.Width:
			b.WriteString(lineEnd + pad)
			at = indent
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(w)
		at += n
	}
	return b.String()
}

// Diff writes a unified diff, additions and removals set off.
func (o *Out) Diff(indent int, diff string) {
	pad := strings.Repeat(" ", indent)
	first := true
	for line := range strings.Lines(diff) {
		line = strings.TrimRight(line, "\r\n")
		if strings.HasPrefix(line, "--- ") && !first {
			fmt.Fprintln(o)
		}
		first = false
		style := Plain
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
			style = Bold
		case strings.HasPrefix(line, "+"):
			style = Green
		case strings.HasPrefix(line, "-"):
			style = Red
		case strings.HasPrefix(line, "@@"), strings.HasPrefix(line, "\\"):
			style = Cyan
		}
		fmt.Fprintln(o, pad+o.Paint(style, Cut(line, 1<<20)))
	}
}

// Ago says how long ago something was, in one unit.
func Ago(d time.Duration) string {
	if d < 0 {
		return "now"
	}
	return Span(d) + " ago"
}

// Span says how long something took or takes, in one unit.
func Span(d time.Duration) string {
	switch {
	case d < 0:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh", int(d.Hours()))
	}
	return fmt.Sprintf("%dd", int(d.Hours()/24))
}

// Bytes says a size as people do.
func Bytes(n int64) string {
	switch {
	case n >= 10<<30:
		return fmt.Sprintf("%d GiB", n>>30)
	case n >= 10<<20:
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d KiB", n>>10)
}

// Count says a number with its noun.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
