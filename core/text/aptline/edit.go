package aptline

import (
	"slices"
	"strings"
)

// SwitchOff makes line i of kind Entry a comment. SwitchOn takes exactly that
// back.
func (f *File) SwitchOff(i int) {
	if f.Lines[i].Kind == Entry {
		f.edits.Insert(f.Lines[i].Start, "# ")
	}
}

// SwitchOn makes line i of kind Off an entry again: the leading # signs go,
// and one blank behind them.
func (f *File) SwitchOn(i int) {
	l := &f.Lines[i]
	if l.Kind != Off {
		return
	}
	from := l.Start
	for f.src[from] != '#' {
		from++
	}
	to := from
	for to < l.body && (f.src[to] == '#' || to+1 < l.body && strings.IndexByte(string(f.src[to+1:l.body]), '#') >= 0) {
		to++
	}
	if to < l.body && (f.src[to] == ' ' || f.src[to] == '\t') {
		to++
	}
	f.edits.Delete(from, to)
}

// SetComponents gives the entry on line i the wanted components: those that
// stand there keep their place and spelling, the others go, missing ones are
// put behind the last.
func (f *File) SetComponents(i int, want []string) {
	l := &f.Lines[i]
	if l.Kind != Entry && l.Kind != Off || len(l.Components) == 0 || len(want) == 0 {
		return
	}
	var have []string
	first := true
	end := l.Components[len(l.Components)-1].End
	var missing strings.Builder
	for _, w := range want {
		if !slices.ContainsFunc(l.Components, func(c Word) bool { return c.Value == w }) {
			missing.WriteString(" " + w)
		}
	}
	added := false
	for n, c := range l.Components {
		keep := slices.Contains(want, c.Value) && !slices.Contains(have, c.Value)
		have = append(have, c.Value)
		if keep {
			first = false
			continue
		}
		switch {
		case first && n+1 < len(l.Components):
			f.edits.Delete(c.Start, l.Components[n+1].Start) // with the blanks behind it
		case first: // nothing that stood here is wanted
			f.edits.Replace(c.Start, c.End, strings.TrimPrefix(missing.String(), " "))
			added = true
		default:
			f.edits.Delete(l.Components[n-1].End, c.End) // with the blanks before it
		}
	}
	if missing.Len() > 0 && !added {
		f.edits.Insert(end, missing.String())
	}
}

// MapURI gives the entry on line i another URI: what to makes of the one that stands there.
func (f *File) MapURI(i int, to func(string) string) {
	l := &f.Lines[i]
	if l.Kind != Entry && l.Kind != Off {
		return
	}
	if next := to(l.URI.Value); next != l.URI.Value {
		f.edits.Replace(l.URI.Start, l.URI.End, next)
	}
}

// SetOption gives the entry on line i the option key=value.
func (f *File) SetOption(i int, key, value string) {
	l := &f.Lines[i]
	if l.Kind != Entry && l.Kind != Off {
		return
	}
	for n := len(l.Options) - 1; n >= 0; n-- {
		if o := l.Options[n]; o.Key == key {
			f.edits.Replace(o.Start, o.End, key+"="+value)
			return
		}
	}
	if n := len(l.Options); n > 0 {
		f.edits.Insert(l.Options[n-1].End, " "+key+"="+value)
		return
	}
	at := l.body + len(l.Type)
	f.edits.Insert(at, " ["+key+"="+value+"]")
}

// DropOptions takes the options out of the entry on line i for which drop holds, and the
// brackets with the last of them.
func (f *File) DropOptions(i int, drop func(Option) bool) {
	l := &f.Lines[i]
	if l.Kind != Entry && l.Kind != Off || !slices.ContainsFunc(l.Options, drop) {
		return
	}
	left := slices.DeleteFunc(slices.Clone(l.Options), drop)
	if len(left) == 0 {
		from := l.body + len(l.Type)
		to := l.Options[len(l.Options)-1].End
		to += strings.IndexByte(string(f.src[to:l.URI.Start]), ']') + 1
		f.edits.Delete(from, to)
		return
	}
	for n := 0; n < len(l.Options); n++ {
		first := n
		for n < len(l.Options) && drop(l.Options[n]) {
			n++
		}
		switch {
		case n == first:
		case n < len(l.Options):
			f.edits.Delete(l.Options[first].Start, l.Options[n].Start) // with the blanks behind them
		default:
			f.edits.Delete(l.Options[first-1].End, l.Options[n-1].End)
		}
	}
}

// DropLine removes line i.
func (f *File) DropLine(i int) { f.edits.Delete(f.Lines[i].Start, f.Lines[i].End) }

// AddLine puts text, an entry without a newline, behind the last line. It takes
// on the line ending that the file uses.
func (f *File) AddLine(text string) {
	eol := "\n"
	if i := strings.IndexByte(string(f.src), '\n'); i > 0 && f.src[i-1] == '\r' {
		eol = "\r\n"
	}
	if n := len(f.src); n > 0 && f.src[n-1] != '\n' {
		f.edits.Insert(n, eol)
	}
	f.edits.Insert(len(f.src), text+eol)
}
