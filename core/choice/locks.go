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

// locked reports whether one of zypper's locks is for a package. Of an attribute that no list of
// packages tells it is not.
func locked(k *source.Hold, name, edition, arch string, installed bool) bool {
	match, fold, meets := "glob", false, true
	var others []string
	for _, part := range strings.Split(k.Criteria, "; ") {
		key, value, _ := strings.Cut(part, ": ")
		switch key {
		case "":
		case "match_type":
			match = value
		case "case_sensitive":
			fold = true
		case "type":
			meets = false // of packages it says nothing
		case "version":
			meets = meets && compares(value, edition)
		case "install_status":
			meets = meets && (value == "installed") == installed
		default:
			others = append(others, part)
		}
	}
	if len(others) == 0 || !meets {
		return meets && named(match, fold, k.What, name)
	}
	return slices.ContainsFunc(others, func(part string) bool {
		key, value, _ := strings.Cut(part, ": ")
		switch key {
		case "solvable_name", "solvable_provides": // every package provides its own name
			kinds, bare, asked := zypp.Parted(value)
			return !slices.ContainsFunc(kinds, func(k string) bool { return k != "package" }) && named(match, fold, bare, name) &&
				(asked == "" || compares(zypp.Compared(asked), edition))
		case "query_string":
			return named(match, fold, value, name)
		case "solvable_arch":
			return named(match, fold, value, arch)
		}
		return key == "complex" // libzypp makes nothing of what it says, and it is for all
	})
}

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
