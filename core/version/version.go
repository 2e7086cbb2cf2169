// Package version compares versions of packages as each package manager does.
package version

import (
	"cmp"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Compare compares two versions as the package manager of a family does: negative
// where a is the older one. An unknown family is compared as apt does.
func Compare(family, a, b string) int {
	switch family {
	case source.FamilyRpm, source.FamilyZypp:
		return parted(a, b, rpm)
	case source.FamilyArch:
		return parted(a, b, alpm)
	}
	return Deb(a, b)
}

// Parts are the epoch of a version, "0" where it has none, what stands before its last dash and, where there is one,
// behind it.
func Parts(s string) (number, upstream, release string) {
	number, s = epoch(s)
	upstream, release = revision(s)
	return number, upstream, release
}

// Deb compares as deb-version(7) says: epoch, upstream version, revision.
func Deb(a, b string) int {
	if a == b {
		return 0
	}
	ea, ua, va := Parts(a)
	eb, ub, vb := Parts(b)
	return cmp.Or(digits(ea, eb), debian(ua, ub), debian(va, vb))
}

// epoch cuts the number before the first colon off; "0" where there is none.
func epoch(s string) (number, rest string) {
	if e, r, ok := strings.Cut(s, ":"); ok && e != "" && strings.Trim(e, "0123456789") == "" {
		return e, r
	}
	return "0", s
}

func revision(s string) (version, revision string) {
	if i := strings.LastIndexByte(s, '-'); i >= 0 {
		return s[:i], s[i+1:]
	}
	return s, ""
}

// digits compares two numbers of any length.
func digits(a, b string) int {
	a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
	return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b))
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isAlpha(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// debian compares non-digits and digits by turns. A tilde sorts before the end,
// letters before all else.
func debian(a, b string) int {
	order := func(s string) int {
		switch {
		case s == "" || isDigit(s[0]):
			return 0
		case s[0] == '~':
			return -1
		case isAlpha(s[0]):
			return int(s[0])
		}
		return int(s[0]) + 256
	}
	for a != "" || b != "" {
		for a != "" && !isDigit(a[0]) || b != "" && !isDigit(b[0]) {
			if c := cmp.Compare(order(a), order(b)); c != 0 {
				return c
			}
			a, b = a[min(1, len(a)):], b[min(1, len(b)):]
		}
		na, nb := run(a, isDigit), run(b, isDigit)
		if c := digits(a[:na], b[:nb]); c != 0 {
			return c
		}
		a, b = a[na:], b[nb:]
	}
	return 0
}

func run(s string, is func(byte) bool) int {
	n := 0
	for n < len(s) && is(s[n]) {
		n++
	}
	return n
}

// parted compares epoch, version and, where both have one, release.
func parted(a, b string, each func(a, b string) int) int {
	ea, va, la := Parts(a)
	eb, vb, lb := Parts(b)
	if c := cmp.Or(each(ea, eb), each(va, vb)); c != 0 || la == "" || lb == "" {
		return c
	}
	return each(la, lb)
}

// rpm compares two parts as rpm does: runs of digits and of letters by turns, a tilde
// before the end, a caret behind it.
func rpm(a, b string) int {
	special := func(c byte) bool { return isDigit(c) || isAlpha(c) || c == '~' || c == '^' }
	for a != "" || b != "" {
		for a != "" && !special(a[0]) {
			a = a[1:]
		}
		for b != "" && !special(b[0]) {
			b = b[1:]
		}
		at := func(s string, c byte) bool { return s != "" && s[0] == c }
		switch {
		case at(a, '~') && at(b, '~'), at(a, '^') && at(b, '^'):
			a, b = a[1:], b[1:]
			continue
		case at(a, '~'):
			return -1
		case at(b, '~'):
			return 1
		case at(a, '^'):
			if b == "" {
				return 1
			}
			return -1
		case at(b, '^'):
			if a == "" {
				return -1
			}
			return 1
		}
		if a == "" || b == "" {
			break
		}
		if c := segment(&a, &b); c != 0 {
			return c
		}
	}
	return cmp.Compare(min(len(a), 1), min(len(b), 1))
}

// segment compares the runs that two texts begin with, and takes them off. A number is
// newer than letters.
func segment(a, b *string) int {
	is := isAlpha
	if isDigit((*a)[0]) {
		is = isDigit
	}
	na, nb := run(*a, is), run(*b, is)
	if nb == 0 {
		if isDigit((*a)[0]) {
			return 1
		}
		return -1
	}
	x, y := (*a)[:na], (*b)[:nb]
	*a, *b = (*a)[na:], (*b)[nb:]
	if isDigit(x[0]) {
		return digits(x, y)
	}
	return cmp.Compare(x, y)
}

// alpm compares two parts as pacman does, vercmp(8): more separators are newer, and
// letters at the end are older than nothing.
func alpm(a, b string) int {
	alnum := func(c byte) bool { return isDigit(c) || isAlpha(c) }
	if a == b {
		return 0
	}
	for a != "" && b != "" {
		na, nb := 0, 0
		for na < len(a) && !alnum(a[na]) {
			na++
		}
		for nb < len(b) && !alnum(b[nb]) {
			nb++
		}
		a, b = a[na:], b[nb:]
		if a == "" || b == "" {
			break
		}
		if na != nb {
			return cmp.Compare(na, nb)
		}
		if c := segment(&a, &b); c != 0 {
			return c
		}
	}
	switch {
	case a == "" && b == "":
		return 0
	case a == "" && !isAlpha(b[0]), a != "" && isAlpha(a[0]):
		return -1
	}
	return 1
}
