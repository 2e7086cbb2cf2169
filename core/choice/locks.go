package choice

import (
	"regexp"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
	"patientlantern.example/lantern/core/version"
)

// lockAway marks what zypper's locks keep away.
func (h *Host) lockAway(c *Choice) {
	if !zypp.Locked(h.Survey.Settings) {
		return
	}
	unread := unloaded(h.Survey.Holds)
	for i := range c.Offers {
		o := &c.Offers[i]
		if unread != nil {
			o.Out = "zypper cannot read " + unread.File
			continue
		}
		for j := range h.Survey.Holds {
			k := &h.Survey.Holds[j]
			here := k.Family == zypp.Family && k.Kind == source.HoldLock && (k.Source == "" || k.Source == h.Uses[o.Use].ID)
			if here && locked(k, o.Name, o.Version, o.Arch, false) {
				o.Out = "locked by " + k.File
			}
		}
	}
}

// asked is what one of zypper's locks asks for beside names.
type asked struct {
	match  string
	fold   bool
	meets  bool     // it may be for packages of that version that are so installed
	others []string // `attribute: value`, any of which is enough
}

func askedBy(k *source.Hold, edition string, installed bool) asked {
	a := asked{match: "glob", meets: true}
	for _, part := range strings.Split(k.Criteria, "; ") {
		key, value, _ := strings.Cut(part, ": ")
		switch key {
		case "":
		case "match_type":
			a.match = value
		case "case_sensitive":
			a.fold = true
		case "type":
			a.meets = false // of packages it says nothing
		case "version":
			a.meets = a.meets && compares(value, edition)
		case "install_status":
			a.meets = a.meets && (value == "installed") == installed
		default:
			a.others = append(a.others, part)
		}
	}
	return a
}

// locked reports whether one of zypper's locks is for a package. Of an attribute that no list of
// packages tells it is not; untoldOf tells of those.
func locked(k *source.Hold, name, edition, arch string, installed bool) bool {
	a := askedBy(k, edition, installed)
	if len(a.others) == 0 || !a.meets {
		return a.meets && named(a.match, a.fold, k.What, name)
	}
	return slices.ContainsFunc(a.others, func(part string) bool {
		key, value, _ := strings.Cut(part, ": ")
		switch key {
		case "solvable_name", "solvable_provides": // every package provides its own name
			kinds, bare, asked := zypp.Parted(value)
			return !slices.ContainsFunc(kinds, func(k string) bool { return k != "package" }) && named(a.match, a.fold, bare, name) &&
				(asked == "" || compares(zypp.Compared(asked), edition))
		case "query_string":
			return named(a.match, a.fold, value, name)
		case "solvable_arch":
			return named(a.match, a.fold, value, arch)
		}
		return key == "complex" // libzypp makes nothing of what it says, and it is for all
	})
}

// untoldOf is what one of zypper's locks asks for that no list of packages tells; empty where there is nothing.
func untoldOf(k *source.Hold) string {
	for _, part := range askedBy(k, "", false).others {
		key, _, _ := strings.Cut(part, ": ")
		if strings.HasPrefix(key, "solvable_") && !slices.Contains(told, key) {
			return key
		}
	}
	return ""
}

// mayLock reports whether one of zypper's locks is for a package that is taken or for the installed one that it would replace, by
// their versions and what else is known of them; of no choice, for any package.
func mayLock(k *source.Hold, c *Choice) bool {
	if c == nil {
		return !strings.HasPrefix(k.Criteria, "type: ") && !strings.Contains(k.Criteria, "; type: ")
	}
	return askedBy(k, c.Taken.Version, false).meets || c.Installed != "" && askedBy(k, c.Installed, true).meets
}

// told are the attributes that lists of packages tell whole; what a package provides beside its own name they do not.
var told = []string{"solvable_name", "solvable_arch"}

// named holds a text against a name as libzypp's queries do.
func named(match string, fold bool, text, name string) bool {
	if match == "regex" || match == "word" {
		if match == "word" {
			text = `\b` + regexp.QuoteMeta(text) + `\b`
		}
		if fold {
			text = "(?i)" + text
		}
		re, err := regexp.Compile(text)
		return err == nil && re.MatchString(name)
	}
	if fold {
		text, name = strings.ToLower(text), strings.ToLower(name)
	}
	switch match {
	case "exact":
		return text == name
	case "substring":
		return strings.Contains(name, text)
	}
	return pattern.Fnmatch(text, name)
}

// compares reports whether a version is as a lock asks: a release that is not given is any.
func compares(asked, edition string) (is bool) {
	op, than, _ := strings.Cut(asked, " ")
	c := version.Compare(zypp.Family, edition, than)
	switch op {
	case "=":
		is = c == 0
	case "!=":
		is = c != 0
	case "<", "<=":
		is = c < 0 || c == 0 && op == "<="
	case ">", ">=":
		is = c > 0 || c == 0 && op == ">="
	}
	return is && than != ""
}

// unloaded tells which lock of zypper's is such that it loads no packages; nil where none is.
func unloaded(holds []source.Hold) *source.Hold {
	for i := range holds {
		for _, part := range strings.Split(holds[i].Criteria, "; ") {
			value, is := strings.CutPrefix(part, "version: ")
			if op, _, _ := strings.Cut(value, " "); is && !slices.Contains(zypp.Operators, op) {
				return &holds[i]
			}
		}
	}
	return nil
}
