package view

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"patientlantern.example/lantern/core/source"
)

// Settings writes what is configured beyond single sources: what touches trust and transport
// first.
func (o *Out) Settings(list []source.Setting) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s %s", o.Paint(Bold, "Settings"), o.Paint(Dim, "that differ from the package manager's own and decide what comes from where"))
	weight := func(s *source.Setting) int {
		switch {
		case s.Weakens() != "":
			return -1
		case slices.Contains(s.Touches, source.TouchesTrust):
			return 0
		case slices.Contains(s.Touches, source.TouchesTransport):
			return 1
		case slices.Contains(s.Touches, source.TouchesProgram):
			return 2
		}
		return 3
	}
	sorted := slices.Clone(list)
	sort.SliceStable(sorted, func(i, j int) bool { return weight(&sorted[i]) < weight(&sorted[j]) })
	rows := make([][]Cell, 0, len(list))
	for i := range sorted {
		s := &sorted[i]
		name, style := T("  "+s.Name), Plain
		if s.Weakens() != "" {
			name, style = Cell{"! " + s.Name, Red}, Red
		}
		rows = append(rows, []Cell{name, {s.Value, style}, T(strings.Join(s.Touches, ", ")), T(place(s.File, s.Line))})
	}
	o.Table([]Column{{Name: "  NAME"}, {Name: "VALUE", Gives: true}, {Name: "TOUCHES"}, {Name: "WHERE", Gives: true, Path: true}}, rows)
}

func place(file string, line int) string {
	if line == 0 {
		return file
	}
	return file + ":" + strconv.Itoa(line)
}

// Pins writes apt's preferences.
func (o *Out) Pins(list []source.Pin) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Pins"))
	rows := make([][]Cell, 0, len(list))
	for _, p := range list {
		priority := Cell{strconv.Itoa(p.Priority), Plain}
		switch {
		case !p.Valid:
			priority = Cell{"not understood", Yellow}
		case p.Priority >= 1000:
			priority = Cell{priority.Text + " ! even backwards", Yellow}
		}
		rows = append(rows, []Cell{T("  " + strings.Join(p.Packages, " ")), T(p.Pin), priority, T(place(p.File, p.Line))})
	}
	o.Table(
		[]Column{{Name: "  PACKAGES", Gives: true}, {Name: "PIN", Gives: true}, {Name: "PRIORITY"}, {Name: "WHERE", Gives: true, Path: true}},
		rows,
	)
}

// Holds writes the packages that stay where they are, or away.
func (o *Out) Holds(list []source.Hold) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Packages that are kept or left out"))
	rows := make([][]Cell, 0, len(list))
	for _, h := range list {
		only := "all sources"
		if h.Source != "" {
			only = h.Source
		}
		what := h.What
		if h.Criteria != "" {
			what += " (" + h.Criteria + ")"
		}
		rows = append(rows, []Cell{T("  " + h.Kind), T(what), T(only), T(place(h.File, h.Line))})
	}
	o.Table([]Column{{Name: "  KIND"}, {Name: "PACKAGE", Gives: true}, {Name: "FOR"}, {Name: "WHERE", Gives: true, Path: true}}, rows)
}

// Services writes zypper's services.
func (o *Out) Services(list []source.Service) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Services"))
	rows := make([][]Cell, 0, len(list))
	for _, s := range list {
		on := Cell{"on", Plain}
		if !s.Enabled {
			on = Cell{"off", Dim}
		}
		rows = append(rows, []Cell{T("  " + s.ID), on, T(s.Type), T(s.URL), T(place(s.File, s.Line))})
	}
	o.Table(
		[]Column{{Name: "  SERVICE"}, {Name: "IS"}, {Name: "TYPE"}, {Name: "URL", Gives: true}, {Name: "WHERE", Gives: true, Path: true}},
		rows,
	)
}

// Keys writes the keys that a host believes, and those that its package manager passes over
// where they were meant to be believed. Keys that stand where nothing names them are counted.
func (o *Out) Keys(list []source.Key, now time.Time) {
	if len(list) == 0 {
		return
	}
	var believed []*believedKey
	at := map[string]*believedKey{}
	var passed []*source.Key
	idle := map[string]int{}
	for i := range list {
		switch k := &list[i]; {
		case k.Used, k.UnusedBecause == "": // an older agent says nothing of it
			if have := at[k.Fingerprint]; have != nil && k.Fingerprint != "" {
				have.more++
				have.all = have.all || k.Scope == source.ScopeAny
				continue
			}
			b := &believedKey{Key: k, all: k.Scope == source.ScopeAny}
			at[k.Fingerprint], believed = b, append(believed, b)
		case k.UnusedBecause == source.NotNamed:
			idle[k.Fingerprint]++
		default:
			passed = append(passed, k)
		}
	}
	rows := make([][]Cell, 0, len(believed))
	for _, b := range believed {
		rows = append(rows, b.row(now))
	}
	o.Printf("\n%s %s", o.Paint(Bold, "Keys"), o.Paint(Dim, fmt.Sprintf("%d believed", len(rows))))
	if len(rows) > 0 {
		o.Table(
			[]Column{
				{Name: "  KEY"},
				{Name: "ALGORITHM"},
				{Name: "LEFT"},
				{Name: "TRUSTED FOR"},
				{Name: "WHOSE", Gives: true},
				{Name: "WHERE", Gives: true, Path: true},
			},
			rows,
		)
	}
	for _, k := range passed {
		o.Printf("  %s %s %s", o.Paint(Yellow, "!"), o.Paint(Bold, "passed over: "+k.Where), ShortKey(k.Fingerprint))
		o.Printf("%s", o.Wrap(5, k.UnusedBecause))
	}
	if n := len(idle); n > 0 {
		what := "keys stand in folders of keys, and no source that is on names them"
		if n == 1 {
			what = "key stands in a folder of keys, and no source that is on names it"
		}
		o.Printf("  %s", o.Paint(Dim, fmt.Sprintf("%d more %s (--format json lists all)", n, what)))
	}
}

// believedKey is a key that is used, wherever it stands.
type believedKey struct {
	*source.Key
	all  bool // for all sources, from one of its places at least
	more int  // places
}

func (k *believedKey) row(now time.Time) []Cell {
	user := ""
	if len(k.UserIDs) > 0 {
		user = k.UserIDs[0]
		if name, _, ok := strings.Cut(user, " <"); ok && name != "" { // the address says little more
			user = name
		}
	}
	left, style := left(k.Expires, now)
	if k.Revoked {
		left, style = "REVOKED", Red
	}
	scope := "named only"
	if k.all {
		scope = "all sources"
	}
	where := k.Where
	if k.more > 0 {
		where += fmt.Sprintf(" (+%d)", k.more)
	}
	return []Cell{T("  " + ShortKey(k.Fingerprint)), T(k.Algorithm), {left, style}, T(scope), T(user), T(where)}
}

// Deciding writes what files beside the package manager's configuration say.
func (o *Out) Deciding(list []source.Deciding) {
	list = slices.DeleteFunc(slices.Clone(list), func(d source.Deciding) bool { return len(d.Lines) == 0 })
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s %s", o.Paint(Bold, "Beside"), o.Paint(Dim, "the package manager's configuration: what decides as well"))
	rows := make([][]Cell, 0, len(list))
	for i := range list {
		d := &list[i]
		says := T("  " + strings.Join(d.Lines, "; "))
		if weak := d.Weakening(); len(weak) > 0 {
			says = Cell{"! " + strings.Join(weak, "; "), Red}
		}
		rows = append(rows, []Cell{says, T(strings.Join(d.Touches, ", ")), T(d.File)})
	}
	o.Table([]Column{{Name: "  SAYS", Gives: true}, {Name: "TOUCHES"}, {Name: "WHERE", Gives: true, Path: true}}, rows)
}
