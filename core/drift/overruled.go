package drift

import (
	"fmt"
	"slices"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/source"
)

// unreadFile finds a file of the policy that stands there as it should, and that its package
// manager does not read: pacman.conf includes it no more, or the folder is another.
func (c *comparer) unreadFile(f *source.SheetFile) {
	gives := func(s source.SheetSource) bool { return s.File == f.Path && s.Family == "" }
	at := slices.IndexFunc(c.sheet.Sources, gives)
	if at < 0 || slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool { return s.File == f.Path }) ||
		slices.ContainsFunc(c.survey.Problems, func(p source.Problem) bool { return p.Fatal && p.Family == c.sheet.Family }) {
		return
	}
	program := families.Program(c.sheet.Family)
	a := Finding{Class: MissingSource, Severity: Fault, Field: "source", Repository: f.Repository, File: f.Path, Line: 1, Want: "read",
		Have: "not read", Message: fmt.Sprintf("the file is there, and %s does not read it, so %s is gone", program, f.Repository)}
	if c.sheet.Family == arch.Family {
		a.File, a.Line = arch.Config, 0
		a.Message = fmt.Sprintf("%s includes %s no more, so %s is gone", arch.Config, f.Path, f.Repository)
	}
	if !c.sheet.Sources[at].Enabled {
		return
	}
	if p := c.blind(f.Path); p != nil {
		c.unsure(p, f.Repository, f.Path)
		return
	}
	c.add(a)
}

// overruled finds what another file makes of a source in a file that stands as it should: a line
// below pacman's Include goes on with the section that was included last, and others know
// files that have the last word.
func (c *comparer) overruled(f *source.SheetFile) {
	if f.Repository == "" || f.IfThere {
		return
	}
	for i := range c.sheet.Sources {
		want := &c.sheet.Sources[i]
		if want.File != f.Path {
			continue
		}
		n := slices.IndexFunc(c.survey.Sources, func(s source.Source) bool { return s.File == f.Path && s.ID == want.ID })
		if n < 0 || alikeAtOnce(want, &c.survey.Sources[n]) {
			continue
		}
		have := &c.survey.Sources[n]
		fields := c.fields(want, have)
		if have.Family != arch.Family {
			fields = c.confirmed(f, want, have, fields)
		}
		c.tell(want, have, fields)
	}
}

// alikeAtOnce reports whether a source is as the policy says, as far as can be seen without
// reading anything again.
func alikeAtOnce(want *source.SheetSource, have *source.Source) bool {
	required := want.Signatures != source.CheckRequired || have.Family == arch.Family && have.Checks.Packages == source.CheckRequired ||
		have.Checks.Metadata == source.CheckRequired && (have.Family == source.FamilyDeb || have.Checks.Packages == source.CheckRequired)
	return required && want.Enabled == have.Enabled && want.Mirrorlist == have.Mirrorlist && slices.Equal(want.URLs, have.EffURLs)
}

// confirmed leaves of the fields in which a source differs those in which it differs, too, from
// what the text of its file alone comes to. What settings for all sources take is told of them.
func (c *comparer) confirmed(f *source.SheetFile, want *source.SheetSource, have *source.Source, fields []field) []field {
	if len(fields) == 0 || slices.ContainsFunc(c.survey.Settings, func(t source.Setting) bool {
		return t.Family == have.Family && t.Weakens() != ""
	}) {
		return nil
	}
	written := c.written(f)
	n := slices.IndexFunc(written, func(s source.Source) bool { return s.ID == want.ID && s.Line == have.Line })
	if n < 0 {
		return nil
	}
	alone := c.fields(want, &written[n])
	return slices.DeleteFunc(fields, func(x field) bool {
		return slices.ContainsFunc(alone, func(y field) bool { return x.name == y.name && x.is == y.is })
	})
}
