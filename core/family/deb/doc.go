package deb

import (
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/aptline"
	"patientlantern.example/lantern/core/text/deb822"
)

// Doc is one source file, in whichever style, for edits in place.
type Doc struct {
	Sources []source.Source // in order; edits name them by index
	Broken  []int           // lines of entries on which apt refuses to work
	lines   *aptline.File
	stanzas *deb822.File
	at      []int // source → line or stanza
}

// ParseDoc reads a source file as apt would that is called name.
func ParseDoc(name string, text []byte, architectures []string) *Doc {
	d := &Doc{}
	var bad []source.Problem
	defer func() {
		for _, p := range bad {
			d.Broken = append(d.Broken, p.Line)
		}
	}()
	r := &reader{archs: architectures, native: first(architectures), releases: map[string]*release{}}
	if strings.HasSuffix(name, ".sources") {
		d.stanzas = deb822.Parse(text)
		d.Sources, bad = r.stanzas(name, text)
		at := make(map[int]int, len(d.stanzas.Stanzas))
		for i := range d.stanzas.Stanzas {
			at[d.stanzas.Line(d.stanzas.Stanzas[i].Start)] = i
		}
		for _, s := range d.Sources {
			n, there := at[s.Line]
			if !there {
				n = -1
			}
			d.at = append(d.at, n)
		}
		return d
	}
	d.lines = aptline.Parse(text)
	d.Sources, bad = r.lines(name, text)
	for _, s := range d.Sources {
		d.at = append(d.at, s.Line-1)
	}
	return d
}

// Bytes returns the text with all edits made.
func (d *Doc) Bytes() []byte {
	if d.stanzas != nil {
		return d.stanzas.Bytes()
	}
	return d.lines.Bytes()
}

// SwitchOff switches source i off and keeps it where it is.
func (d *Doc) SwitchOff(i int) {
	if d.stanzas != nil {
		d.stanzas.SwitchOff(d.at[i])
	} else {
		d.lines.SwitchOff(d.at[i])
	}
}

// SwitchOn switches source i on.
func (d *Doc) SwitchOn(i int) {
	if d.stanzas != nil {
		d.stanzas.SwitchOn(d.at[i])
	} else {
		d.lines.SwitchOn(d.at[i])
	}
}

// SetComponents gives source i these components.
func (d *Doc) SetComponents(i int, want []string) {
	if d.stanzas != nil {
		d.stanzas.SetWords(d.at[i], "Components", want)
	} else {
		d.lines.SetComponents(d.at[i], want)
	}
}

// PutURIs gives source i other URIs: for each of them the one that takes its place.
func (d *Doc) PutURIs(i int, to func(uris []string) [][]string) {
	if d.stanzas != nil {
		d.stanzas.PutWords(d.at[i], "URIs", to)
		return
	}
	d.lines.MapURI(d.at[i], func(uri string) string {
		if next := to([]string{uri})[0]; len(next) == 1 {
			return next[0]
		}
		return uri // a line has one
	})
}

// Harden takes the options out of source i that take a check away.
func (d *Doc) Harden(i int) {
	if d.stanzas != nil {
		for _, f := range d.stanzas.Stanzas[d.at[i]].Fields {
			if source.OptionWeakens(Family, f.Name, map[string]string{f.Name: d.stanzas.Value(&f)}) {
				d.stanzas.Drop(d.at[i], f.Name)
			}
		}
		return
	}
	d.lines.DropOptions(d.at[i], func(o aptline.Option) bool {
		return source.OptionWeakens(Family, o.Key, map[string]string{o.Key: o.Value})
	})
}

// Remove takes source i out.
func (d *Doc) Remove(i int) {
	if d.stanzas != nil {
		d.stanzas.DropStanza(d.at[i])
	} else {
		d.lines.DropLine(d.at[i])
	}
}
