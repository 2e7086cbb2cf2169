package view

import (
	"fmt"
	"slices"
	"strings"
)

// Cell is one cell of a table.
type Cell struct {
	Text  string
	Style Style
}

// T is a plain cell.
func T(text string) Cell { return Cell{Text: text} }

// Column is a column of a table. Where the terminal is too narrow, columns that give way are cut,
// the last one first; then those that matter less are left out, the least first, and the last
// ones. The first column always stays.
type Column struct {
	Name  string
	Gives bool
	Right bool
	Path  bool // what is cut of it goes at the front
	Below bool // where there is no room for it, it stands below its row
	Less  int  // how much less than others it matters
}

const (
	gap       = 2  // blanks between columns
	leastCut  = 12 // what a column that gives way keeps
	leastName = 8  // what the first column keeps
)

// Table writes rows under a heading, and says which columns had no room.
func (o *Out) Table(cols []Column, rows [][]Cell) {
	wide := make([]int, len(cols))
	for i, c := range cols {
		wide[i] = columns(c.Name)
		for _, r := range rows {
			wide[i] = max(wide[i], columns(r[i].Text))
		}
	}
	shown := o.fit(cols, wide)
	head := make([]Cell, len(cols))
	for i, c := range cols {
		head[i] = Cell{c.Name, Dim}
	}
	o.row(cols, wide, shown, head)
	var out []string
	var below []int
	for i, c := range cols {
		switch {
		case slices.Contains(shown, i):
		case c.Below:
			below = append(below, i)
		default:
			out = append(out, strings.TrimSpace(c.Name))
		}
	}
	for _, r := range rows {
		o.row(cols, wide, shown, r)
		for _, i := range below {
			if r[i].Text == "" {
				continue
			}
			for line := range strings.SplitSeq(o.Wrap(min(wide[0]+gap, leastName), clean(r[i].Text)), lineEnd) {
				o.Printf("%s", o.Paint(r[i].Style, line))
			}
		}
	}
	if len(out) > 0 {
		o.Printf("%s", o.Paint(Dim, o.Wrap(0, "no room for "+strings.Join(out, ", ")+": --wide, or a wider window")))
	}
}

// fit cuts widths until the table fits, and tells the columns that are shown.
func (o *Out) fit(cols []Column, wide []int) (shown []int) {
	for i := range cols {
		shown = append(shown, i)
	}
	if o.Width == 0 {
		return shown
	}
	total := func() int {
		n := gap * (len(shown) - 1)
		for _, i := range shown {
			n += wide[i]
		}
		return n
	}
	give := func(least int, may func(i int) bool) {
		for n := len(shown) - 1; n >= 0 && total() > o.Width; n-- {
			if i := shown[n]; may(i) {
				wide[i] -= min(total()-o.Width, wide[i]-min(wide[i], least))
			}
		}
	}
	full := slices.Clone(wide)
	give(leastCut, func(i int) bool { return cols[i].Gives })
	for total() > o.Width && len(shown) > 1 {
		shown = slices.Delete(shown, leastOf(cols, shown), leastOf(cols, shown)+1)
		copy(wide, full)
		give(leastCut, func(i int) bool { return cols[i].Gives })
	}
	give(leastName, func(i int) bool { return i == 0 })
	return shown
}

// leastOf is which of the shown columns matters least: never the first.
func leastOf(cols []Column, shown []int) int {
	at := len(shown) - 1
	for n := len(shown) - 1; n > 0; n-- {
		if cols[shown[n]].Less > cols[shown[at]].Less {
			at = n
		}
	}
	return at
}

func (o *Out) row(cols []Column, wide, shown []int, cells []Cell) {
	var b strings.Builder
	for n, i := range shown {
		c := cells[i]
		text := cutCell(c.Text, wide[i])
		if cols[i].Path {
			text = cutFront(c.Text, wide[i])
		}
		pad := strings.Repeat(" ", max(0, wide[i]-columns(text)))
		switch {
		case cols[i].Right:
			b.WriteString(pad + o.Paint(c.Style, text))
		case n == len(shown)-1:
			b.WriteString(o.Paint(c.Style, text))
		default:
			b.WriteString(o.Paint(c.Style, text) + pad)
		}
		if n < len(shown)-1 {
			b.WriteString(strings.Repeat(" ", gap))
		}
	}
	fmt.Fprintln(o, strings.TrimRight(b.String(), " "))
}

// cutCell shortens a cell: a sentence at its end, a single word in its middle, for its end tells
// it from others.
func cutCell(text string, most int) string {
	text = clean(text)
	if columns(text) <= most || strings.Contains(strings.TrimSpace(text), " ") || most < leastName {
		return Cut(text, most)
	}
	tail := (most - 1) / 2
	return strings.TrimSuffix(Cut(text, most-tail), "…") + cutFront(text, tail+1)
}

// Cut shortens text to a width, with an ellipsis.
func Cut(text string, most int) string {
	text = clean(text)
	if columns(text) <= most {
		return text
	}
	at := 0
	for i, r := range text {
		if at += columnsOf(r); at > most-1 {
			return text[:i] + "…"
		}
	}
	return text
}

// cutFront shortens a path to a width and keeps its end, which tells it from others.
func cutFront(text string, most int) string {
	text = clean(text)
	over := columns(text) - most
	if over <= 0 {
		return text
	}
	for i, r := range text {
		if over < 0 {
			return "…" + text[i:]
		}
		over -= columnsOf(r)
	}
	return "…"
}
