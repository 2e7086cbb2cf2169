package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

type comparer struct {
	sheet    *source.Sheet
	survey   *source.Survey
	owned    map[string]bool
	court    *verdict.Court
	verdicts []verdict.Verdict // what becomes of each source of the survey
	gaps     []verdict.Gap
	told     map[int]bool    // of the distribution's own, what differs from the base was told
	easy     map[string]bool // families of which a setting for all sources, that says what is believed, is another
	out      []Finding
	texts    map[string]string // digests of the files of the survey, by path; nil before somebody asks
}

func (c *comparer) add(f Finding) { c.out = append(c.out, f) }

// file compares one file that the policy owns whole.
func (c *comparer) file(f *source.SheetFile) {
	before := len(c.out)
	same := false
	if f.While != "" && !slices.Contains(c.survey.Media, f.While) {
		c.media(f)
		return
	}
	if c.survey.Files != nil {
		i := slices.IndexFunc(c.survey.Files, func(x source.File) bool { return x.Path == f.Path })
		if i < 0 && (f.IfThere || c.court.Adopted.Spares(f.Path)) {
			return
		}
		if p := c.blind(f.Path); i < 0 && p != nil {
			c.unsure(p, f.Repository, f.Path)
			return
		}
		if i < 0 {
			c.add(
				Finding{
					Class:      MissingFile,
					Severity:   Fault,
					Field:      "file",
					Repository: f.Repository,
					File:       f.Path,
					Message:    "the file is not there",
				},
			)
			return
		}
		have := c.survey.Files[i]
		same = saysOf(f, &have)
		c.mode(f, have)
	}
	if same {
		c.unreadFile(f)
		c.overruled(f)
	}
	if same || c.survey.Files == nil && c.court.Adopted.Spares(f.Path) {
		return
	}
	c.inFile(f)
	if c.keyFile(f) || c.authority(f) || c.settingsFile(f) {
		return
	}
	if len(c.out) == before && c.survey.Files != nil && f.Repository != "" && !c.sameList(f) &&
		!slices.ContainsFunc(c.sheet.Sources, func(s source.SheetSource) bool { return s.File == f.Path }) {
		c.add(
			Finding{
				Class:      ChangedSource,
				Severity:   c.weight(f),
				Field:      "text",
				Repository: f.Repository,
				File:       f.Path,
				Line:       1,
				Message:    "the file says something else than the policy",
			},
		)
		return
	}
	if len(c.out) == before && c.survey.Files != nil {
		c.add(Finding{Class: ChangedText, Severity: Note, Field: "text", Repository: f.Repository, File: f.Path, Line: 1,
			Message: "the text differs, in comments, spacing or fields that change nothing else"})
	}
}

// saysOf reports whether a file of a host says what the policy writes there, in clear or as a survey shows it.
func saysOf(f *source.SheetFile, have *source.File) bool {
	text := []byte(f.Text)
	return have.Digest == source.Digest(text) || have.Digest == source.Digest(family.MaskText(text))
}

// sameList reports whether a file is a list of mirrors, and has those that the policy gives it.
func (c *comparer) sameList(f *source.SheetFile) bool {
	want := source.Listed([]byte(f.Text))
	i := slices.IndexFunc(c.survey.Files, func(x source.File) bool { return x.Path == f.Path })
	if i >= 0 && c.survey.Files[i].Mirrors != nil {
		return source.SameSet(c.survey.Files[i].Mirrors, want)
	}
	for n, line := range want { // of pacman's, which are read as part of a section
		server, is := strings.CutPrefix(line, "Server = ")
		if !is {
			return false
		}
		want[n] = server
	}
	return slices.ContainsFunc(c.survey.Sources, func(s source.Source) bool {
		return s.Family == source.FamilyArch && source.SameSet(s.URLs, want)
	})
}

// settingsFile compares the settings of a file of the policy's that has nothing else, where its text differs. It reports false
// where they are the same, and of another file.
func (c *comparer) settingsFile(f *source.SheetFile) bool {
	if f.Repository != "" {
		return false
	}
	want := source.Listed([]byte(f.Text))
	if len(want) == 0 || slices.ContainsFunc(want, func(l string) bool { return !strings.HasPrefix(l, "Acquire::") }) {
		return false
	}
	var have []string
	for i := range c.survey.Settings {
		if t := &c.survey.Settings[i]; t.File == f.Path && t.Weakens() == "" { // of those it is told anyway
			have = append(have, fmt.Sprintf("%s %q;", t.Name, t.Value))
		}
	}
	if source.SameSet(want, have) {
		return false
	}
	come, gone := strings.Join(lacking(have, want), " "), strings.Join(lacking(want, have), " ")
	c.add(Finding{
		Class: SettingChanged, Severity: Fault, Field: "settings", File: f.Path, Line: 1, Want: gone, Have: come,
		Message: fmt.Sprintf("the file says %s; where the policy says %s", orNone(come), orNone(gone)),
	})
	return true
}

// weight is how bad it is that a file beside the sources says something else: a list of
// mirrors says where packages come from.
func (c *comparer) weight(f *source.SheetFile) string {
	names := func(url string) bool {
		file, list := source.MirrorListOf(url)
		return list && file == f.Path
	}
	for i := range c.sheet.Sources {
		if s := &c.sheet.Sources[i]; strings.TrimPrefix(s.Mirrorlist, "file://") == f.Path ||
			slices.ContainsFunc(s.URLs, names) {
			return Danger
		}
	}
	for i := range c.sheet.InPlace {
		if slices.ContainsFunc(c.sheet.InPlace[i].Mirrors, func(m source.Mirror) bool { return names(m.At) }) {
			return Danger
		}
	}
	return Fault
}

// mode compares who may read and write a file of the policy.
func (c *comparer) mode(f *source.SheetFile, have source.File) {
	add := func(field, want, is, severity, message string) {
		c.add(
			Finding{Class: ChangedMode, Severity: severity, Field: field, Repository: f.Repository, File: f.Path, Line: 1, Message: message,
				Want: want, Have: is},
		)
	}
	if have.Mode != f.Mode {
		severity := Fault
		if writable(have.Mode) {
			severity = Danger
		}
		add("mode", f.Mode, have.Mode, severity, fmt.Sprintf("the file has mode %s; the policy says %s", have.Mode, f.Mode))
	}
	if have.Owner != "" {
		add(
			"owner",
			Root,
			have.Owner,
			Danger,
			fmt.Sprintf("the file belongs to the user %s, who may change it; the policy says root", have.Owner),
		)
	}
	if have.Link != "" {
		add("link", "", have.Link, Fault,
			fmt.Sprintf("a link to %s stands in the place of the file: take the link away, and heal the host then", have.Link))
	}
}

// keyFile compares the keys of one of the policy's key files of which the text differs. It
// reports false where the same keys stand there.
func (c *comparer) keyFile(f *source.SheetFile) bool {
	var want []string
	for _, k := range c.sheet.Keys {
		if k.Path == f.Path {
			want = append(want, k.Fingerprint)
		}
	}
	if len(want) == 0 {
		return false
	}
	var have, others []string
	for i := range c.survey.Keys {
		if k := &c.survey.Keys[i]; k.Where == f.Path && k.Good() {
			have = append(have, k.Fingerprint)
			if !slices.Contains(want, k.Fingerprint) && c.sheet.WithdrawnKey(k.Fingerprint) == nil { // of those it is told apart
				others = append(others, k.Fingerprint)
			}
		}
	}
	add := func(class, severity, message string) {
		c.add(Finding{Class: class, Severity: severity, Field: "key", Repository: f.Repository, File: f.Path, Line: 1,
			Want: strings.Join(want, " "), Have: strings.Join(have, " "), Message: message})
	}
	switch {
	case len(others) > 0:
		add(KeyAdded, Danger, fmt.Sprintf("the file holds the key %s, which the policy does not give; what it signs is believed",
			strings.Join(others, ", ")))
	case len(have) == 0:
		add(MissingKey, Fault, "no key in the file is taken any more; the policy gives "+strings.Join(want, ", "))
	default:
		return false
	}
	return true
}

// authority compares who is in a file of the policy's that vouches for servers, and of which the text differs. It reports
// false where the same are in it, and of another file.
func (c *comparer) authority(f *source.SheetFile) bool {
	if !strings.Contains(f.Text, "-----BEGIN CERTIFICATE-----") {
		return false
	}
	want := family.Fewer(family.Vouchers([]byte(f.Text)))
	at := slices.IndexFunc(c.survey.Deciding, func(d source.Deciding) bool { return d.Named && d.File == f.Path })
	var have []string
	if at >= 0 {
		have = c.survey.Deciding[at].Lines
	}
	if at >= 0 && source.SameSet(want, have) {
		return false
	}
	of := ""
	for i := range c.sheet.Files {
		if g := &c.sheet.Files[i]; g.Repository != "" && strings.Contains(g.Text, f.Path) {
			of = g.Repository
		}
	}
	come, gone := strings.Join(lacking(have, want), "; "), strings.Join(lacking(want, have), "; ")
	says := "nobody vouches for the server any more for whom the policy has " + gone
	switch {
	case at < 0:
		says = "the file says something else than the policy, and the agent does not say who vouches for the server now; take a newer one"
	case gone == "":
		says = come + " vouches for the server as well, which the policy does not say"
	case come != "":
		says = fmt.Sprintf("%s vouches for the server; the policy says %s", come, gone)
	}
	c.add(Finding{
		Class: ChangedSource, Severity: Danger, Field: "authority", Repository: of, File: f.Path, Line: 1,
		Want: strings.Join(want, "; "), Have: strings.Join(have, "; "), Message: says,
	})
	return true
}

// media finds what is left of a source whose media is not there.
func (c *comparer) media(f *source.SheetFile) {
	for i := range c.survey.Sources {
		if s := &c.survey.Sources[i]; s.File == f.Path && s.Enabled {
			c.add(Finding{Class: MediaGone, Severity: Fault, Repository: f.Repository, File: f.Path, Line: s.Line, Want: "off", Have: "on",
				Message: "nothing stands in " + f.While + ", so each refresh fails"})
		}
	}
}

// remotes compares flatpak's remotes, which stand in a file of its own.
func (c *comparer) remotes() {
	for i := range c.sheet.Sources {
		want := &c.sheet.Sources[i]
		if want.Family == "" {
			continue
		}
		n := slices.IndexFunc(c.survey.Sources, func(s source.Source) bool {
			return s.Family == want.Family && s.ID == want.ID && s.File == want.File
		})
		if n >= 0 {
			have := &c.survey.Sources[n]
			c.tell(want, have, c.fields(want, have))
		} else if !want.IfThere {
			c.add(Finding{
				Class:      MissingSource,
				Severity:   Fault,
				Field:      "source",
				Repository: want.Repository,
				File:       want.File,
				Want:       want.ID,
				Message:    fmt.Sprintf("there is no remote %s", want.ID),
			})
		}
	}
}

// order finds sources that stand below others though the policy puts them above. Only
// for pacman is the order one of places; with the others it is a number of each source.
func (c *comparer) order() {
	if c.sheet.Family != arch.Family {
		return
	}
	level := map[string]int{} // of sources of the sheet; others have 0
	for _, s := range c.sheet.Sources {
		level[s.ID] = s.Level
	}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if s.Family != arch.Family || !s.Enabled || level[s.ID] <= 0 {
			continue
		}
		for j := range c.survey.Sources {
			if o := &c.survey.Sources[j]; o.Family == arch.Family && o.Enabled && level[o.ID] < level[s.ID] && o.Position < s.Position {
				c.add(
					Finding{
						Class:      OrderChanged,
						Severity:   Fault,
						Field:      "order",
						Repository: s.ID,
						File:       s.File,
						Line:       s.Line,
						Want:       "above " + o.ID,
						Have:       "below " + o.ID,
						Message: fmt.Sprintf(
							"%s stands below %s; the policy puts it above, so packages of both come from the wrong one",
							s.ID,
							o.ID,
						),
					},
				)
				break
			}
		}
	}
}

// trust finds signing keys that pacman's keyring does not have: its sources name none.
func (c *comparer) trust() {
	if c.sheet.Family != arch.Family {
		return
	}
	for _, k := range c.sheet.Keys {
		if !strings.HasPrefix(k.Path, arch.Dir) ||
			slices.ContainsFunc(
				c.survey.Keys,
				func(x source.Key) bool { return x.Fingerprint == k.Fingerprint && x.Where != k.Path && x.Good() },
			) {
			continue
		}
		c.add(
			Finding{
				Class:    MissingKey,
				Severity: Fault,
				Field:    "key",
				File:     k.Path,
				Want:     k.Fingerprint,
				Message:  fmt.Sprintf("pacman's keyring does not have the key %s, or does not vouch for it", k.Name),
			},
		)
	}
}

// checked says how strictly what comes from a source is checked: apt checks the
// metadata, which holds the sums of the packages; the others check the packages.
func checked(s *source.Source) string {
	if s.Family == deb.Family {
		return s.Checks.Metadata
	}
	return s.Checks.Packages
}

// shownURLs are URLs as a survey shows them.
func shownURLs(urls []string) []string {
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = family.MaskURL(u)
	}
	return out
}

// withoutLogin takes out of URLs the login that the policy insists on having there;
// whose it is is one host's own.
func withoutLogin(want *source.SheetSource, urls []string) []string {
	if want.Contract == "" {
		return urls
	}
	return bare(urls)
}

// bare are URLs without logins.
func bare(urls []string) []string {
	out := make([]string, len(urls))
	for i, u := range urls {
		out[i] = u
		if scheme, rest, ok := strings.Cut(u, "://"); ok {
			authority, _, _ := strings.Cut(rest, "/")
			if at := strings.LastIndexByte(authority, '@'); at >= 0 {
				out[i] = scheme + "://" + rest[at+1:]
			}
		}
	}
	return out
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}
