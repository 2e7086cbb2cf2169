package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/core/source"
)

// Survey writes a survey as a person likes to read it: problems first, sources by
// file, keys with the days that they have left.
func (o *Out) Survey(s *source.Survey, now time.Time) {
	o.Traits(&s.Traits)
	o.Problems(s.Problems)
	o.Sources(s.Sources)
	o.Keys(s.Keys, now)
}

// Traits writes a host's traits in a few lines.
func (o *Out) Traits(t *source.Traits) {
	os := t.OS.Name
	if os == "" {
		os = strings.TrimSpace(t.OS.ID + " " + t.OS.Version)
	}
	if os == "" {
		os = "unknown system"
	}
	cpu := t.Arch
	if t.CPU.Level > 0 {
		cpu += fmt.Sprintf(", level %d", t.CPU.Level)
	}
	if len(t.Architectures) > 0 {
		cpu += " (" + strings.Join(t.Architectures, ", ") + ")"
	}
	o.Printf("%s  %s", o.Paint(Bold, os), cpu)
	var tools []string
	for name, v := range t.Tools {
		tools = append(tools, name+" "+v)
	}
	slices.Sort(tools)
	if len(tools) > 0 {
		o.Printf("%s %s", o.Paint(Dim, "tools "), strings.Join(tools, ", "))
	}
	var free []string
	for mount, n := range t.Free {
		free = append(free, mount+" "+Bytes(n))
	}
	slices.Sort(free)
	if len(free) > 0 {
		o.Printf("%s %s", o.Paint(Dim, "free  "), strings.Join(free, ", "))
	}
}

// Problems writes what could not be understood.
func (o *Out) Problems(list []source.Problem) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Problems"))
	for _, p := range list {
		sign, style := "! ", Yellow
		if p.Fatal {
			sign, style = "!!", Red
		}
		where := p.File
		if p.Line > 0 {
			where += fmt.Sprintf(":%d", p.Line)
		}
		if where == "" {
			where = "several files"
		}
		o.Printf("  %s %s", o.Paint(style, sign), o.Paint(Bold, where))
		o.Printf("%s", o.Wrap(5, p.Message))
	}
}

// Sources writes sources, grouped by file. Those that are off are marked by a
// sign and dimmed.
func (o *Out) Sources(list []source.Source) {
	on := 0
	for _, s := range list {
		if s.Enabled {
			on++
		}
	}
	o.Printf("\n%s %s", o.Paint(Bold, "Sources"), o.Paint(Dim, fmt.Sprintf("%d on, %d off", on, len(list)-on)))
	file := ""
	for _, s := range list {
		if s.File != file {
			file = s.File
			owner := ""
			if s.Owner != nil && *s.Owner != "" {
				owner = o.Paint(Dim, "  from the package "+*s.Owner)
			}
			o.Printf("  %s%s", o.Paint(Cyan, file), owner)
		}
		sign, style := "+", Plain
		tail := ""
		if !s.Enabled {
			sign, style = "-", Dim
			tail = "  off, by " + s.DisabledBy
		}
		what := strings.Join(slices.Concat(s.EffURLs, s.EffSuites, s.Components), " ")
		o.Printf("    %s", o.Paint(style, fmt.Sprintf("%s %4d  %s%s", sign, s.Line, Cut(what, max(40, o.room(12+len(tail)))), tail)))
		var more []string
		if len(s.Kinds) != 1 || s.Kinds[0] != "binary" {
			more = append(more, strings.Join(s.Kinds, " and ")+" packages")
		}
		if len(s.Archs) > 0 {
			more = append(more, "only "+strings.Join(s.Archs, ", "))
		}
		switch {
		case s.Checks.Metadata == source.CheckOff:
			more = append(more, "signature NOT checked")
		case len(s.SignedBy) > 0:
			more = append(more, "signed by "+strings.Join(shortKeys(s.SignedBy), ", "))
		default:
			more = append(more, "signed by any key that is trusted for everything")
		}
		o.Printf("            %s", o.Paint(Dim, strings.Join(more, "; ")))
	}
	if len(list) == 0 {
		o.Printf("  none")
	}
}

// room is what is left of a line.
func (o *Out) room(used int) int {
	if o.Width == 0 {
		return 1 << 20
	}
	return o.Width - used
}

func shortKeys(list []string) []string {
	out := make([]string, len(list))
	for i, k := range list {
		if rest, ok := strings.CutPrefix(k, "embedded:"); ok {
			var fprs []string
			for _, f := range strings.Split(rest, ",") {
				fprs = append(fprs, ShortKey(f))
			}
			k = strings.Join(fprs, ", ") + " (in the file itself)"
		}
		out[i] = k
	}
	return out
}

// ShortKey writes the last sixteen digits of a fingerprint.
func ShortKey(fpr string) string {
	if len(fpr) > 16 {
		return "…" + fpr[len(fpr)-16:]
	}
	return fpr
}

// Keys writes the keys that a host trusts.
func (o *Out) Keys(list []source.Key, now time.Time) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Keys"))
	rows := make([][]Cell, 0, len(list))
	for _, k := range list {
		user := ""
		if len(k.UserIDs) > 0 {
			user = k.UserIDs[0]
		}
		left, style := "for ever", Plain
		switch {
		case k.Revoked:
			left, style = "REVOKED", Red
		case k.Expires != nil:
			days := int(k.Expires.Sub(now).Hours() / 24)
			switch {
			case k.Expires.Before(now):
				left, style = "EXPIRED", Red
			case days < 90:
				left, style = fmt.Sprintf("%d days !", days), Yellow
			default:
				left = fmt.Sprintf("%d days", days)
			}
		}
		scope := "named only"
		if k.Scope == source.ScopeAny {
			scope = "all sources"
		}
		rows = append(rows, []Cell{T("  " + ShortKey(k.Fingerprint)), T(k.Algorithm), {left, style}, T(scope), T(user), T(k.Where)})
	}
	o.Table([]Column{{Name: "  KEY"}, {Name: "ALGORITHM"}, {Name: "LEFT"}, {Name: "TRUSTED FOR"}, {Name: "WHOSE", Gives: true}, {Name: "WHERE", Gives: true}}, rows)
}
