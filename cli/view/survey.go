package view

import (
	"fmt"
	"maps"
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
	o.Configured(s, now)
	o.Access(s.Access, now)
}

// Configured writes what a survey says is configured, but for logins.
func (o *Out) Configured(s *source.Survey, now time.Time) {
	o.Sources(s.Sources, s.Settings)
	o.Services(s.Services)
	o.Settings(s.Settings)
	o.Pins(s.Pins)
	o.Holds(s.Holds)
	o.Deciding(s.Deciding)
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
	if cpu == "" {
		cpu = "processor not known"
	}
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

// Problems writes what could not be understood, or was not read.
func (o *Out) Problems(list []source.Problem) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Problems"))
	for _, p := range list {
		sign, style := "! ", Yellow
		switch {
		case p.Fatal:
			sign, style = "!!", Red
		case p.Unread:
			sign = "? "
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
func (o *Out) Sources(list []source.Source, settings []source.Setting) {
	on := 0
	for _, s := range list {
		if s.Enabled {
			on++
		}
	}
	o.Printf("\n%s %s", o.Paint(Bold, "Sources"), o.Paint(Dim, fmt.Sprintf("%d on, %d off", on, len(list)-on)))
	for _, file := range byFile(list) {
		owner := ""
		if name := file[0].Owner; name != nil && *name != "" {
			owner = o.Paint(Dim, "  from the package "+*name)
		}
		o.Printf("  %s%s", o.Paint(Cyan, file[0].File), owner)
		for _, s := range file {
			o.source(s, settings)
		}
	}
	if len(list) == 0 {
		o.Printf("  none")
	}
}

// byFile groups sources by file, in the order in which the files come first, and
// puts those of a file in the order of their lines.
func byFile(list []source.Source) (out [][]*source.Source) {
	at := map[string]int{}
	for i := range list {
		s := &list[i]
		n, ok := at[s.File]
		if !ok {
			n = len(out)
			at[s.File] = n
			out = append(out, nil)
		}
		out[n] = append(out[n], s)
	}
	for _, file := range out {
		slices.SortStableFunc(file, func(a, b *source.Source) int { return a.Line - b.Line })
	}
	return out
}

// source writes one source in two lines: what it is, and what is checked.
func (o *Out) source(s *source.Source, settings []source.Setting) {
	sign, style, tail := "+", Plain, ""
	if !s.Enabled {
		sign, style, tail = "-", Dim, "  off, by "+s.DisabledBy
	}
	where := slices.Concat(s.EffURLs, s.EffSuites, s.Components)
	if len(s.EffURLs) == 0 {
		for _, list := range []string{s.Metalink, s.Mirrorlist} {
			if list != "" {
				where = append(where, list+" (a list of mirrors)")
			}
		}
	}
	what := strings.Join(where, " ")
	if s.ID != "" {
		if include := s.Options["Include"]; what == "" && include != "" {
			what = "servers from " + include
		}
		if what == "" {
			what = "no URL"
		}
		what = fmt.Sprintf("%-18s %s", s.ID, what)
	}
	o.Printf("    %s", o.Paint(style, fmt.Sprintf("%s %4d  %s%s", sign, s.Line, Cut(what, max(40, o.room(12+len(tail)))), tail)))
	var more []string
	if len(s.Kinds) != 1 || s.Kinds[0] != "binary" {
		more = append(more, strings.Join(s.Kinds, " and ")+" packages")
	}
	if len(s.Archs) > 0 {
		more = append(more, "only "+strings.Join(s.Archs, ", "))
	}
	more = append(more, checks(s)...)
	if s.Priority != nil && s.Enabled {
		more = append(more, fmt.Sprintf("priority %d", *s.Priority))
	}
	if s.Enabled && s.Position > 0 && s.ID != "" {
		more = append(more, fmt.Sprintf("used as no. %d", s.Position))
	}
	if s.Enabled {
		more = append(more, deciding(s)...)
	}
	detail := strings.Join(more, "; ")
	weak := strings.Join(slices.Concat(unchecked(s), s.Weakened(settings)), "; ")
	switch {
	case s.Enabled && weak != "" && detail != "":
		o.Printf("          %s %s", o.Paint(Red, "! "+weak+";"), o.Paint(Dim, Cut(detail, max(20, o.room(14+len(weak))))))
	case s.Enabled && weak != "":
		o.Printf("          %s", o.Paint(Red, "! "+weak))
	case detail != "":
		o.Printf("            %s", o.Paint(Dim, Cut(detail, max(40, o.room(12)))))
	}
}

// deciding are the options of a source that decide where its packages come from, or through what, and that nothing else on
// its lines tells.
func deciding(s *source.Source) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(s.Options)) {
		told := source.OptionSwitches(name) || source.OptionKeeps(name) || source.OptionWeakens(s.Family, name, s.Options) ||
			slices.Contains([]string{"Include", "metadata_expire", "skip_if_unavailable", "autorefresh"}, name)
		if !told && len(source.OptionTouches(s.Family, name)) > 0 {
			out = append(out, name+" "+source.Says(s.Options, name))
		}
	}
	return out
}

// unchecked says which signatures nobody insists on.
func unchecked(s *source.Source) []string {
	c := s.Checks
	switch {
	case s.Family == source.FamilyDeb && c.Metadata == source.CheckOff:
		return []string{"signature NOT checked"}
	case s.Family == source.FamilyDeb && c.Metadata == source.CheckOptional:
		return []string{"it may come unsigned"}
	case s.Family == source.FamilyDeb:
		return nil
	case c.Packages == source.CheckOff && c.Metadata == source.CheckOff:
		return []string{"signatures NOT checked at all"}
	case c.Packages == source.CheckOff:
		return []string{"packages NOT checked"}
	}
	return nil
}

// checks says what is enforced of signatures.
func checks(s *source.Source) []string {
	signed := "signed by any key that is trusted for everything"
	if len(s.SignedBy) > 0 {
		signed = "signed by " + strings.Join(shortKeys(s.SignedBy), ", ")
	}
	c := s.Checks
	if s.Family == source.FamilyDeb { // packages are checked by the sums in signed metadata
		if c.Metadata == source.CheckOff {
			return nil
		}
		return []string{signed}
	}
	word := map[string]string{source.CheckRequired: "checked", source.CheckOptional: "checked where signed", source.CheckOff: "NOT checked"}
	if c.Packages == source.CheckOff && c.Metadata == source.CheckOff {
		return nil
	}
	out := []string{"packages and metadata " + word[c.Packages]}
	if c.Packages != c.Metadata {
		out = []string{"packages " + word[c.Packages] + ", metadata " + word[c.Metadata]}
	}
	if slices.Contains(c.Trust, "TrustAll") {
		out = append(out, "ANY key is accepted")
	}
	if len(s.SignedBy) > 0 {
		out = append(out, signed)
	}
	return out
}

// Access writes what the host logs in with, never the secret.
func (o *Out) Access(list []source.Access, now time.Time) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n%s", o.Paint(Bold, "Logins and certificates"))
	rows := make([][]Cell, 0, len(list))
	for _, a := range list {
		left, style := lasts(&a, now)
		mode := T(a.Mode)
		if len(a.Mode) == 4 && a.Mode[3] != '0' && a.Kind != "client-certificate" {
			mode = Cell{a.Mode + " ! for all to read", Yellow}
		}
		rows = append(rows, []Cell{T("  " + a.Kind), T(a.Identity), T(a.For), {left, style}, mode, T(a.Where)})
	}
	o.Table(
		[]Column{
			{Name: "  KIND"},
			{Name: "WHO"},
			{Name: "FOR", Gives: true},
			{Name: "LEFT"},
			{Name: "MODE"},
			{Name: "WHERE", Gives: true, Path: true},
		},
		rows,
	)
}

// lasts says how long an access lasts: no file says it of a login, and a certificate that cannot be read does not.
func lasts(a *source.Access, now time.Time) (string, Style) {
	switch {
	case a.Expires != nil:
		return left(a.Expires, now)
	case a.Kind == "client-certificate":
		return "not known !", Yellow
	}
	return "not told", Plain
}

// left says how long a key lasts.
func left(expires *time.Time, now time.Time) (string, Style) {
	if expires == nil {
		return "for ever", Plain
	}
	days := int(expires.Sub(now).Hours() / 24)
	switch {
	case expires.Before(now):
		return "EXPIRED", Red
	case days < 90:
		return fmt.Sprintf("%d days !", days), Yellow
	}
	return fmt.Sprintf("%d days", days), Plain
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
