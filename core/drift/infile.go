package drift

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// inFile compares the sources in a file of the policy with those that stand there.
func (c *comparer) inFile(f *source.SheetFile) {
	var here []*source.Source
	for i := range c.survey.Sources {
		if c.survey.Sources[i].File == f.Path {
			here = append(here, &c.survey.Sources[i])
		}
	}
	var wants []*source.SheetSource
	for i := range c.sheet.Sources {
		if c.sheet.Sources[i].File == f.Path {
			wants = append(wants, &c.sheet.Sources[i])
		}
	}
	of := c.places(wants, here)
	var written []source.Source
	if c.survey.Files != nil && f.Repository != "" && len(here) > 0 {
		written = c.written(f)
	}
	paired := map[*source.Source]bool{}
	for n, want := range wants {
		have := of[n]
		switch {
		case have == nil && !want.IfThere:
			c.add(Finding{Class: MissingSource, Severity: Fault, Field: "source", Repository: want.Repository, File: f.Path, Line: 1,
				Message: "the source is gone"})
		case have != nil:
			paired[have] = true
			fields := c.fields(want, have)
			if len(written) == len(wants) {
				fields = append(fields, options(&written[n], have, fields, c.survey.Settings)...)
				if is := written[n].Priority; want.Priority == nil && is != nil && have.Priority != nil && *is != *have.Priority {
					fields = append(fields, field{"priority", strconv.Itoa(*is), strconv.Itoa(*have.Priority), Fault}) // the usual one
				}
				if was, is := written[n].Checks.Trust, have.Checks.Trust; anybodys(is) && !anybodys(was) {
					fields = append(fields, field{"trust", strings.Join(was, " "), strings.Join(is, " "), Danger})
				}
			}
			c.tell(want, have, fields)
		}
	}
	for _, extra := range here {
		if extra.Enabled && !paired[extra] {
			a := Finding{
				Class:      UnlistedSource,
				Severity:   Fault,
				Field:      "source",
				Repository: f.Repository,
				File:       f.Path,
				Line:       extra.Line,
				Have:       Describe(extra),
			}
			c.weigh(&a, extra, "a source was added: "+Describe(extra))
			c.add(a)
		}
	}
}

// anybodys reports whether pacman takes signatures of keys for which nobody vouches.
func anybodys(trust []string) bool { return slices.Contains(trust, "TrustAll") }

// places finds for each source of the policy in a file the one that stands in its place: that of
// its name or from its place first, then what is left, in order. Somebody may have put
// another one above it.
func (c *comparer) places(wants []*source.SheetSource, here []*source.Source) []*source.Source {
	if len(wants) == 1 && len(here) == 1 {
		return here // whatever it says
	}
	out := make([]*source.Source, len(wants))
	taken := map[*source.Source]bool{}
	pass := func(alike func(w *source.SheetSource, h *source.Source) bool) {
		for n, w := range wants {
			for _, h := range here {
				if out[n] == nil && !taken[h] && alike(w, h) {
					out[n], taken[h] = h, true
				}
			}
		}
	}
	from := func(w *source.SheetSource, h *source.Source) bool {
		return source.SameSet(shownURLs(w.URLs), withoutLogin(w, h.EffURLs)) && w.Mirrorlist == h.Mirrorlist &&
			source.SameSet(w.Suites, h.EffSuites)
	}
	on := func(w *source.SheetSource, h *source.Source) bool { return w.Enabled == h.Enabled }
	named := func(w *source.SheetSource, h *source.Source) bool { return w.ID == h.ID }
	kinds := func(w *source.SheetSource, h *source.Source) bool { return source.SameSet(w.Kinds, h.Kinds) }
	pass(func(w *source.SheetSource, h *source.Source) bool {
		return named(w, h) && from(w, h) && on(w, h) && kinds(w, h)
	})
	pass(func(w *source.SheetSource, h *source.Source) bool { return named(w, h) && from(w, h) && kinds(w, h) })
	pass(func(w *source.SheetSource, h *source.Source) bool { return named(w, h) && (w.ID != "" || from(w, h)) })
	pass(func(w *source.SheetSource, h *source.Source) bool { return from(w, h) })
	pass(func(w *source.SheetSource, h *source.Source) bool {
		return slices.ContainsFunc(withoutLogin(w, h.EffURLs), func(u string) bool { return slices.Contains(shownURLs(w.URLs), u) })
	})
	pass(func(*source.SheetSource, *source.Source) bool { return true })
	return out
}

// elsewhere reports whether the URLs of an entry that is a comment stand in a file that it would include, and so are
// read by nobody.
func elsewhere(s *source.Source) bool {
	return s.DisabledBy == source.OffByComment && len(s.EffURLs) == 0 && s.Options["Include"] != ""
}

// fields lists in what a source differs from what the policy says of it.
func (c *comparer) fields(want *source.SheetSource, have *source.Source) (out []field) {
	if want.Enabled && !have.Enabled {
		out = append(out, field{"enabled", "on", "off, by " + have.DisabledBy, Fault})
	}
	if !want.Enabled && have.Enabled {
		out = append(out, field{"enabled", "off", "on", Fault})
	}
	if want.ID != have.ID {
		out = append(out, field{"name", want.ID, have.ID, Fault})
	}
	for _, x := range []struct {
		what       string
		want, have []string
		severity   string
	}{
		{"URL", shownURLs(want.URLs), withoutLogin(want, have.EffURLs), Danger},
		{"suites", want.Suites, have.EffSuites, Fault},
		{"components", want.Components, have.Components, Fault},
		{"kinds", want.Kinds, have.Kinds, Fault},
		{"architectures", want.Archs, have.Archs, Fault},
	} {
		if x.what == "architectures" && source.SameSet(c.processors(x.want), c.processors(x.have)) {
			continue
		}
		if x.what == "URL" && !want.Enabled && elsewhere(have) {
			continue
		}
		if !source.SameSet(x.want, x.have) {
			out = append(out, field{x.what, strings.Join(x.want, " "), strings.Join(x.have, " "), x.severity})
		}
	}
	is := have.Mirrorlist
	if want.Family == "" { // of flatpak's sections the policy says only some of what stands there
		is += have.Metalink // a policy writes none
	}
	if want.Mirrorlist != is {
		out = append(out, field{"list of mirrors", want.Mirrorlist, is, Danger})
	}
	if want.Priority != nil && have.Priority != nil && *want.Priority != *have.Priority {
		out = append(out, field{"priority", strconv.Itoa(*want.Priority), strconv.Itoa(*have.Priority), Fault})
	}
	if fprs := verdict.Fingerprints(c.survey, have); !source.SameSet(want.SignedBy, fprs) {
		out = append(out, field{"signing keys", strings.Join(want.SignedBy, " "), strings.Join(fprs, " "), Danger})
	}
	required := source.CheckRequired
	switch {
	case want.Signatures == required && have.Family != arch.Family && have.Checks.Metadata != required:
		out = append(out, field{"signature check", required, have.Checks.Metadata, Danger})
	case want.Signatures == source.CheckOff && have.Checks.Metadata == required:
		out = append(out, field{"signature check", source.CheckOff, have.Checks.Metadata, Note})
	}
	if want.Signatures == required && have.Family != deb.Family && have.Checks.Packages != required {
		out = append(out, field{"signature check of packages", required, have.Checks.Packages, Danger})
	}
	return out
}

// processors are those for which a source is asked: those of the host where it names none.
func (c *comparer) processors(said []string) []string {
	if len(said) == 0 && c.sheet.Family == deb.Family {
		return c.survey.Traits.Architectures
	}
	return said
}

// passedOver reports whether a source is off because another one of its name is read first: that
// is told of the other.
func (c *comparer) passedOver(s *source.Source) bool {
	if s.Enabled || s.DisabledBy != source.OffByDuplicate {
		return false
	}
	for i := range c.verdicts {
		if c.verdicts[i].Hides && c.survey.Sources[i].ID == s.ID {
			return true
		}
	}
	return false
}

// tell makes one finding of all in which one source of the policy differs.
func (c *comparer) tell(want *source.SheetSource, have *source.Source, fields []field) {
	if c.passedOver(have) {
		fields = slices.DeleteFunc(fields, func(f field) bool { return f.name == "enabled" })
	}
	if len(fields) == 0 {
		return
	}
	f := Finding{Repository: want.Repository, File: have.File, Line: have.Line}
	said := f.gather(fields)
	switch one := fields[0]; {
	case len(fields) > 1:
		f.Message = "says something else than the policy: " + said
	case one.name == "enabled" && want.Enabled:
		f.Class, f.Message = SwitchedOff, fmt.Sprintf("switched off: %s; the policy says %s", one.is, one.was)
	case one.name == "enabled":
		f.Class, f.Message = SwitchedOn, fmt.Sprintf("switched on: %s; the policy says %s", one.is, one.was)
	default:
		f.Message = fmt.Sprintf("%s: %s; the policy says %s", one.name, orNone(one.is), orNone(one.was))
	}
	c.add(f)
}
