// Package verdict decides what becomes of each source of a host under a sheet. What drift
// finds, what a change does, what a preview warns of and what explain says follow from it.
package verdict

import (
	"cmp"
	"fmt"
	"slices"

	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// Kind is what a source of a host is to a sheet.
type Kind string

// Kinds of source.
const (
	Foreign   Kind = "foreign"   // another package manager's, of which the sheet does not speak
	Ours      Kind = "ours"      // in a file of the sheet, or one of its remotes
	Ruled     Kind = "ruled"     // the distribution's own, and a rule of the sheet accounts for it
	Withdrawn Kind = "withdrawn" // was the policy's, which does not list it for this host any more
	Adopted   Kind = "adopted"   // equal to what the sheet would write, and left where it stands
	Idle      Kind = "idle"      // off, and nothing of the sheet accounts for it
	Replaced  Kind = "replaced"  // was left where it stands for a repository that the policy says otherwise now
	Elsewhere Kind = "elsewhere" // a repository of which the host follows another choice
	Doubled   Kind = "doubled"   // defines a source of the sheet a second time
	Licensed  Kind = "licensed"  // needs a seat that the policy does not give this host
	Unlisted  Kind = "unlisted"  // no policy speaks of it
)

// Act is what a change does to a source.
type Act string

// Acts. What a rule demands of the distribution's own entries stands in Demands.
const (
	Stay      Act = "stay"
	SwitchOff Act = "switch-off"
	Remove    Act = "remove"
)

// Demand is what a rule wants of one source.
type Demand struct {
	Rule       *source.InPlace
	On, Off    bool     // it must be switched on, or off
	Components []string // that it must have instead; nil where they are right
	URLs       []string // that it must come from instead, as they are written; nil where they are right
	Key        string   // under which URLs must stand then: baseurl, metalink or mirrorlist; empty where that stays
	Proxy      *string  // what it must go through instead, empty for none; nil where it is right
	source     int
}

// Verdict is what becomes of one source.
type Verdict struct {
	Kind       Kind
	Act        Act
	Repository string              // of the policy, that it stands for or whose rule accounts for it
	Of         *source.SheetSource // that it defines again, or stands for
	Rules      []*source.InPlace   // that speak of it
	Demands    []Demand
	Unchecked  bool // the policy says that nobody checks it
	Hides      bool // it has the name of a source of the sheet, which is passed over while it stands there
}

// Gap is something of a rule that no source of the host gives.
type Gap struct {
	Rule    *source.InPlace
	Suite   string // apt's
	Section string // of the others
}

// Court decides about the sources of one host.
type Court struct {
	Adopted *Adoption

	sheet, before *source.Sheet
	survey        *source.Survey
	owned         map[string]bool
	formerly      map[string]bool // files of the sheet before
	let           *Adoption       // what the sheet before left where it stands; nil without one
	releases      map[string]*source.SheetSource
	licensed      map[string]*source.SheetSource
	rules         []judged        // of the survey's sources
	proxies       []string        // of the rules of the sheet before
	near, away    []source.Mirror // those of the host's site, and of the site that it had
}

// New is the court for a host. before is the sheet that was carried to it last, or nil.
func New(sheet, before *source.Sheet, survey *source.Survey) *Court {
	c := &Court{sheet: sheet, before: before, survey: survey, owned: sheet.Paths(), near: mirrorsOf(sheet), away: mirrorsOf(before)}
	c.proxies = proxiesOf(before)
	c.rules = c.judged(survey.Sources)
	c.Adopted = adopt(sheet, before, survey, c.owned, c.rules)
	return c
}

// judged is what one rule comes to.
type judged struct {
	covers  map[int]bool
	demands []Demand
	gaps    []Gap
}

// judge holds a rule against sources. Those in owned files are not looked at.
func judge(rule *source.InPlace, of string, sources []source.Source, owned map[string]bool) (out judged) {
	if len(rule.Sections) > 0 {
		j := family.JudgeSections(*rule, of, sources, owned)
		for _, s := range j.Switches {
			out.demands = append(out.demands, Demand{Rule: rule, On: s.On, Off: !s.On, source: s.Source})
		}
		for _, name := range j.Missing {
			out.gaps = append(out.gaps, Gap{Rule: rule, Section: name})
		}
		out.covers = j.Covers
		return out
	}
	j := deb.Judge(*rule, sources, owned)
	for _, v := range j.Verdicts {
		out.demands = append(out.demands, Demand{Rule: rule, On: v.SwitchOn, Off: v.SwitchOff, Components: v.Components, source: v.Source})
	}
	for _, suite := range j.Missing {
		out.gaps = append(out.gaps, Gap{Rule: rule, Suite: suite})
	}
	out.covers = j.Covers
	return out
}

func (c *Court) judged(sources []source.Source) []judged {
	out := make([]judged, len(c.sheet.InPlace))
	placed := c.placed(sources)
	for i := range c.sheet.InPlace {
		out[i] = judge(&c.sheet.InPlace[i], c.sheet.Family, placed, c.owned)
		c.moves(&out[i], &c.sheet.InPlace[i], sources)
	}
	return out
}

// Concerns reports whether the sheet speaks of a family: of its own alone, and of flatpak.
func (c *Court) Concerns(of string) bool {
	return c.sheet.Family == "" || of == "" || of == c.sheet.Family || of == flatpak.Family
}

// Owned are the files that are the policy's own.
func (c *Court) Owned() map[string]bool { return c.owned }

// Releases are those of the sheet.
func (c *Court) Releases() map[string]*source.SheetSource {
	if c.releases == nil {
		c.releases = Releases(c.sheet)
		c.licensed = index(c.sheet, c.sheet.Licensed)
	}
	return c.releases
}

// Survey decides about the sources of the host's survey, in their order, and says what of
// the rules none of them gives.
func (c *Court) Survey() ([]Verdict, []Gap) {
	return c.decide(c.survey.Sources, c.rules, 0, len(c.survey.Sources))
}

// Over decides likewise about the host's sources as they stand after an edit: those from one
// place of the list to another. The rest is looked at by the rules alone.
func (c *Court) Over(sources []source.Source, from, to int) []Verdict {
	list, _ := c.decide(sources, c.judged(sources), from, to)
	return list[from:to]
}

// Gaps says what of the rules none of the sources gives.
func (c *Court) Gaps(sources []source.Source) (out []Gap) {
	for _, j := range c.judged(sources) {
		out = append(out, j.gaps...)
	}
	return out
}

func (c *Court) decide(sources []source.Source, rules []judged, from, to int) (out []Verdict, gaps []Gap) {
	out = make([]Verdict, len(sources))
	for n := range rules {
		rule := &c.sheet.InPlace[n]
		for i := range rules[n].covers {
			v := &out[i]
			v.Kind, v.Repository, v.Rules = Ruled, rule.Repository, append(v.Rules, rule)
			v.Unchecked = v.Unchecked || rule.Signatures == source.CheckOff
		}
		for _, d := range rules[n].demands {
			out[d.source].Demands = append(out[d.source].Demands, d)
		}
		gaps = append(gaps, rules[n].gaps...)
	}
	c.orphans(out, sources)
	for i := from; i < to; i++ {
		if out[i].Kind == "" {
			c.one(&sources[i], &out[i])
		}
		if out[i].Act == "" {
			out[i].Act = Stay
		}
	}
	return out, gaps
}

// one decides about a source of which no rule speaks.
func (c *Court) one(s *source.Source, v *Verdict) {
	switch {
	case c.owned[s.File]:
		v.Kind, v.Repository = Ours, repositoryOf(c.sheet, s.File)
		return
	case Remote(c.sheet, s) != nil:
		v.Kind, v.Repository = Ours, Remote(c.sheet, s).Repository
		return
	case !c.Concerns(s.Family):
		v.Kind = Foreign
		return
	}
	v.Of = Doubles(s, c.Releases())
	if name, was := c.was(s); was {
		v.Kind, v.Act, v.Repository = Withdrawn, Remove, name
		return
	}
	v.Hides = c.hides(s, v.Of)
	switch {
	case !s.Enabled && !v.Hides:
		v.Kind, v.Of = Idle, nil
	case c.Adopted.Covers(s):
		v.Kind = Adopted
		if v.Of != nil {
			v.Repository = v.Of.Repository
		}
	case v.Of == nil && c.stoodFor(s) != "":
		v.Kind, v.Act, v.Repository = Replaced, SwitchOff, c.stoodFor(s)
	case v.Of != nil && v.Of.IfThere:
		v.Kind, v.Act, v.Repository = Elsewhere, SwitchOff, v.Of.Repository
	case v.Of != nil:
		v.Kind, v.Act, v.Repository = Doubled, SwitchOff, v.Of.Repository
	default:
		v.Kind = Unlisted
		if v.Of = Doubles(s, c.licensed); v.Of != nil {
			v.Kind, v.Repository = Licensed, v.Of.Repository
		}
		switch c.sheet.Unlisted {
		case source.UnlistedSwitchOff:
			v.Act = SwitchOff
		case source.UnlistedRemove:
			v.Act = Remove
		}
	}
}

// hides reports whether a source stands in the way of one of the sheet by its name alone. dnf and
// zypper take the first of a name, on or off, and pass over the others.
func (c *Court) hides(s *source.Source, of *source.SheetSource) bool {
	if of == nil || of.IfThere || !of.Enabled || s.ID == "" || s.ID != of.ID || !families.FirstOfName(s.Family) {
		return false
	}
	return s.Enabled || s.DisabledBy == source.OffByFlag
}

// Remote is flatpak's remote of a sheet that a source is, or nil; those stand in a file that is
// not the policy's.
func Remote(sheet *source.Sheet, s *source.Source) *source.SheetSource {
	if s.Family != flatpak.Family {
		return nil
	}
	i := slices.IndexFunc(sheet.Sources, func(x source.SheetSource) bool {
		return x.Family == s.Family && x.ID == s.ID && x.File == s.File
	})
	if i < 0 {
		return nil
	}
	return &sheet.Sources[i]
}

// was reports whether a source was the policy's, and of which repository.
func (c *Court) was(s *source.Source) (repository string, ok bool) {
	if c.before == nil {
		return "", false
	}
	if x := Remote(c.before, s); x != nil {
		return x.Repository, true
	}
	if c.formerly == nil {
		c.formerly = c.before.Paths()
	}
	if !c.formerly[s.File] {
		return "", false
	}
	return repositoryOf(c.before, s.File), true
}

// repositoryOf is the repository that a file of a sheet defines.
func repositoryOf(sheet *source.Sheet, file string) string {
	for i := range sheet.Files {
		if sheet.Files[i].Path == file {
			return sheet.Files[i].Repository
		}
	}
	return ""
}

// stoodFor is the repository for which the sheet before left a source where it stands.
func (c *Court) stoodFor(s *source.Source) string {
	if c.before == nil || c.before == c.sheet {
		return ""
	}
	if c.let == nil {
		c.let = &Adoption{}
		if c.lost() {
			c.let = Adopt(c.before, c.before, c.survey)
		}
	}
	if of := c.let.coverer(s); of != nil {
		return of.Repository
	}
	return ""
}

// lost reports whether the sheet before had a source that the sheet has nowhere.
func (c *Court) lost() bool {
	releases := c.Releases()
	return slices.ContainsFunc(c.before.Sources, func(s source.SheetSource) bool {
		return slices.ContainsFunc(keysOf(cmp.Or(s.Family, c.before.Family), s.ID, s.URLs, s.Suites), func(key string) bool {
			return releases[key] == nil
		})
	})
}

// Why says in a few words what a source is to the policy.
func (v *Verdict) Why() string {
	switch v.Kind {
	case Foreign:
		return "is another package manager's, of which the policy says nothing here"
	case Ours:
		return "is the policy's own"
	case Ruled:
		return v.Repository + " says what must hold of it"
	case Withdrawn:
		return "the policy does not list " + orThis(v.Repository) + " for this host any more"
	case Adopted:
		return "is " + orThis(v.Repository) + " as the policy would write it, and is left where it stands"
	case Idle:
		return "is off, and the policy says nothing of it"
	case Replaced:
		return fmt.Sprintf("stood for %s, of which the policy says something else now", v.Repository)
	case Elsewhere:
		return fmt.Sprintf("is %s, and the host follows another choice of its channel", v.Repository)
	case Doubled:
		return fmt.Sprintf("defines %s a second time", v.Repository)
	case Licensed:
		return fmt.Sprintf("is %s, which needs a seat in the contract %s that the policy does not give this host", v.Repository, v.Of.Contract)
	case Unlisted:
		return "is not in the policy"
	}
	return ""
}

func orThis(repository string) string {
	if repository == "" {
		return "it"
	}
	return repository
}
