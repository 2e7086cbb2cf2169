package arch

import (
	"math"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/rootfs"

	"patientlantern.example/lantern/core/source"
)

// level is a SigLevel: what is checked, and which of it was said.
type level struct{ pkg, db part }

// part is the level of packages or of databases.
type part struct {
	check, optional, trustAll             bool
	saidCheck, saidOptional, saidTrustAll bool
}

// defaultLevel is what pacman checks where nothing is said: up to 7.0 signatures that are there.
func defaultLevel() level {
	p := part{check: true, optional: true}
	return level{p, p}
}

// strictLevel is what pacman checks since 7.1 where nothing is said: signatures have to be there.
func strictLevel() level { return level{part{check: true}, part{check: true}} }

// strictLibs are the libraries of pacman 7.1 and of those to come.
var strictLibs = []string{"libalpm.so.16", "libalpm.so.17", "libalpm.so.18", "libalpm.so.19"}

// levelOf is what the root's pacman checks where nothing is said. A root without pacman is taken
// for one with an older one.
func levelOf(root *rootfs.FS) level {
	if len(family.Libraries(root, "libalpm.so.", strictLibs...)) > 0 {
		return strictLevel()
	}
	return defaultLevel()
}

// set takes the words of a SigLevel; it returns the first that is not known and
// takes none of them then.
func (l *level) set(words []string) string {
	next := *l
	for _, word := range words {
		parts := []*part{&next.pkg, &next.db}
		value := word
		if v, ok := strings.CutPrefix(word, "Package"); ok {
			parts, value = parts[:1], v
		} else if v, ok := strings.CutPrefix(word, "Database"); ok {
			parts, value = parts[1:], v
		}
		for _, p := range parts {
			switch value {
			case "Never":
				p.check, p.saidCheck = false, true
			case "Optional":
				p.check, p.saidCheck, p.optional, p.saidOptional = true, true, true, true
			case "Required":
				p.check, p.saidCheck, p.optional, p.saidOptional = true, true, false, true
			case "TrustedOnly":
				p.trustAll, p.saidTrustAll = false, true
			case "TrustAll":
				p.trustAll, p.saidTrustAll = true, true
			default:
				return word
			}
		}
	}
	*l = next
	return ""
}

// merge returns the level with what another one says in place of its own.
func (l level) merge(over level) level {
	return level{l.pkg.merge(over.pkg), l.db.merge(over.db)}
}

func (p part) merge(over part) part {
	if over.saidCheck {
		p.check = over.check
	}
	if over.saidOptional {
		p.optional = over.optional
	}
	if over.saidTrustAll {
		p.trustAll = over.trustAll
	}
	return p
}

func (l level) checks() source.Checks {
	return source.Checks{Packages: l.pkg.word(), Metadata: l.db.word(), Trust: []string{l.pkg.trust(), l.db.trust()}}
}

func (p part) word() string {
	switch {
	case !p.check:
		return source.CheckOff
	case p.optional:
		return source.CheckOptional
	}
	return source.CheckRequired
}

func (p part) trust() string {
	switch {
	case !p.check:
		return "-"
	case p.trustAll:
		return "TrustAll"
	}
	return "TrustedOnly"
}

// positive reports whether pacman takes a number of downloads: what strtol reads
// to the end, from 1 to the largest int.
func positive(value string) bool {
	n, err := strconv.ParseInt(strings.TrimLeft(value, " \t\n\v\f\r"), 10, 64)
	return err == nil && n >= 1 && n <= math.MaxInt32 && !strings.Contains(value, "_")
}

// wordsplit reports whether pacman can split a command into words: every quote
// in it is closed.
func wordsplit(value string) bool {
	for i := 0; i < len(value); i++ {
		switch c := value[i]; c {
		case '\'', '"':
			for i++; i < len(value) && value[i] != c; i++ {
				if value[i] == '\\' && i+1 < len(value) && value[i+1] == c {
					i++
				}
			}
			if i >= len(value) {
				return false
			}
		case '\\':
			if i+1 < len(value) && (value[i+1] == '\'' || value[i+1] == '"') {
				i++
			}
		}
	}
	return true
}
