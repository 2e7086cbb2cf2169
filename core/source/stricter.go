package source

import (
	"slices"
	"strconv"
	"strings"
)

// strictness says when a setting, or an option of a source, is stricter than it was.
type strictness struct {
	family string // empty for any
	names  []string
	than   func(family, was, is string) bool
}

// tightening are the settings and options of which one value is stricter than another, by the last parts of their names. What
// was not said is an empty value. Of the others nothing is known: a change of them may always ease something.
var tightening = []strictness{
	{"", []string{
		"gpgcheck", "repo_gpgcheck", "pkg_gpgcheck", "localpkg_gpgcheck", "sslverify", "proxy_sslverify", "sslverifystatus",
		"verify-peer", "verify-host", "check-valid-until", "check-date", "gpg-verify", "gpg-verify-summary",
	}, onNow},
	{FamilyDeb, []string{"apt::sandbox::seccomp", "untrusted", "weak"}, onNow},
	{FamilyDeb, []string{"allowreleaseinfochange", "allowunsizedpackages", "force-yes", "nodropprivs"}, offNow},
	{FamilyDeb, []string{"max-validtime", "valid-until-max"}, shorter("0", "0")},
	{FamilyDeb, []string{"min-validtime", "valid-until-min"}, shorter("0", "")},
	{FamilyDeb, []string{"max-futuretime", "date-max-future"}, shorter("10", "")},
	{FamilyDeb, []string{"apt::sandbox::user"}, oneOf("", "_apt")},
	{FamilyRpm, []string{"main.metadata_expire"}, shorter("172800", "-1")},
	{FamilyZypp, []string{"main.repo.refresh.delay"}, shorter("10", "")},
	{FamilyFlatpak, []string{"tls-permissive"}, offNow},
	{FamilyArch, []string{"siglevel", "localfilesiglevel", "remotefilesiglevel"}, higherLevel},
	{FamilyArch, []string{"downloaduser"}, oneOf("alpm")}, // who has no other business on the host
	{FamilyArch, []string{"disablesandbox", "disablesandboxfilesystem", "disablesandboxsyscalls"}, oneOf("")},
}

// Stricter reports whether a setting for all sources, or an option of one, lets less pass than it did: more is checked, or
// what is old is taken for a shorter time. An empty value is one that nobody said.
func Stricter(family, name, was, is string) bool {
	if takesAway(family, name, was) != "" && takesAway(family, name, is) == "" {
		return true
	}
	before := Setting{Family: family, Name: name, Value: was}
	if was != "" && before.Weakens() != "" {
		after := Setting{Family: family, Name: name, Value: is}
		return is == "" || after.Weakens() == ""
	}
	for _, t := range tightening {
		called := func(what string) bool { return endsIn(strings.ToLower(name), what) }
		if (t.family == "" || t.family == family) && slices.ContainsFunc(t.names, called) {
			return t.than(family, was, is)
		}
	}
	return false
}

// endsIn reports whether the name of a setting is one that is asked for, below whatever it stands: apt has some of them for
// single publishers too, as in Acquire::Max-ValidTime::Skerry.
func endsIn(name, what string) bool {
	at := strings.LastIndex(name, what)
	if at < 0 || at > 0 && name[at-1] != '.' && name[at-1] != ':' {
		return false
	}
	rest := name[at+len(what):]
	return rest == "" || strings.HasPrefix(rest, "::")
}

func onNow(family, was, is string) bool { return IsOn(family, is) && !IsOn(family, was) }

func offNow(family, was, is string) bool { return IsOn(family, was) && !IsOn(family, is) }

func oneOf(values ...string) func(family, was, is string) bool {
	return func(_, was, is string) bool { return was != is && slices.Contains(values, is) }
}

// shorter compares spans: what holds where nothing is said, and which value sets no end.
func shorter(usual, endless string) func(family, was, is string) bool {
	span := func(value string) (float64, bool) {
		if value == "" {
			value = usual
		}
		n, err := strconv.ParseFloat(value, 64)
		return n, err == nil && value != endless
	}
	return func(_, was, is string) bool {
		before, ended := span(was)
		after, ends := span(is)
		return ends && after >= 0 && (before > after || !ended && (was == endless || was == "" && usual == endless))
	}
}

// higherLevel compares what pacman checks, as pacman-conf prints it. Where nothing was said it depends on the release: the
// highest level alone is above all of them.
func higherLevel(_, was, is string) bool {
	rank := func(value, what string) (check, trust int, said bool) {
		for i, word := range []string{"Never", "Optional", "Required"} {
			if slices.Contains(strings.Fields(value), what+word) {
				check, said = i, true
			}
		}
		if slices.Contains(strings.Fields(value), what+"TrustedOnly") {
			trust = 1
		}
		return check, trust, said
	}
	for _, what := range []string{"Package", "Database"} {
		check, trust, said := rank(is, what)
		before, believed, known := rank(was, what)
		switch {
		case said && check == 2 && trust == 1:
		case !said && !known && what == "Database": // it has no say for single files
		case !said || !known || check < before || trust < believed:
			return false
		}
	}
	return was != is
}

// Holding is what holds of an option of a source: what it says, what a setting for all sources says, or what holds where nobody
// says anything. A question mark stands for what is not known, as where apt has settings for single publishers.
func Holding(family, name string, options map[string]string, settings []Setting) string {
	for key, value := range options {
		if strings.EqualFold(key, name) {
			return value
		}
	}
	lower := strings.ToLower(name)
	general, _ := inherited.of(family, lower)
	held, known := optionDefaults.of(family, lower)
	for i := range settings {
		switch of := strings.ToLower(settings[i].Name); {
		case settings[i].Family != family:
		case of == "main."+lower, general != "" && of == general:
			held, known = settings[i].Value, true
		case general != "" && strings.Contains(of, general):
			return "?"
		}
	}
	if !known {
		return ""
	}
	return held
}

// OptionAges reports whether an option of a source says how old its metadata may be.
func OptionAges(family, name string) bool {
	return family == FamilyDeb && slices.Contains([]string{"valid-until-min", "valid-until-max", "date-max-future"}, strings.ToLower(name))
}
