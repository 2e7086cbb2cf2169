package source

import (
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Truth reads a yes or no as the package manager of a family does. ok is false for what it takes for neither: apt, dnf and
// flatpak then go by what holds otherwise.
func Truth(family, value string) (on, ok bool) {
	switch family {
	case FamilyDeb:
		return aptTruth(value)
	case FamilyRpm:
		return among(strings.ToLower(value), []string{"1", "yes", "true", "on"}, []string{"0", "no", "false", "off"})
	case FamilyZypp:
		lower := strings.ToLower(value)
		on, ok = among(lower, []string{"1", "yes", "true", "always", "on", "+"}, []string{"0", "no", "false", "never", "off", "-"})
		if !ok && Number(value) != 0 {
			return true, true
		}
		return on, ok
	case FamilyFlatpak:
		return among(strings.TrimRight(value, " \t\n\f\r"), []string{"true", "1"}, []string{"false", "0"})
	}
	return among(strings.ToLower(value), yes, no)
}

var (
	yes = []string{"yes", "true", "with", "on", "enable", "1"}
	no  = []string{"no", "false", "without", "off", "disable", "0"}
)

func among(word string, yes, no []string) (on, ok bool) {
	on = slices.Contains(yes, word)
	return on, on || slices.Contains(no, word)
}

// aptTruth is apt's StringToBool: 0 and 1 as strtol reads them into an int, then words. A setting that is empty is not set.
func aptTruth(value string) (on, ok bool) {
	if n, is := strtol(value); is && (n == 0 || n == 1) {
		return n == 1, true
	}
	return among(strings.ToLower(value), yes, no)
}

// strtol reads a whole text as a number in any of C's bases, into 32 bits.
func strtol(text string) (n int32, ok bool) {
	digits := strings.TrimLeft(text, " \t\n\r\v\f")
	plain := strings.ToLower(strings.TrimLeft(digits, "+-"))
	if strings.ContainsRune(plain, '_') || strings.HasPrefix(plain, "0b") || strings.HasPrefix(plain, "0o") {
		return 0, false // numbers to Go alone
	}
	long, err := strconv.ParseInt(digits, 0, 64)
	if err != nil && !errors.Is(err, strconv.ErrRange) {
		return 0, false
	}
	return int32(long), true // as apt has it
}

// Number reads what a value begins with, as strtoul does in any base: a number below zero counts down from the top.
func Number(v string) uint64 {
	s := strings.TrimLeft(v, " \t\n\v\f\r")
	sign := strings.HasPrefix(s, "-")
	if sign || strings.HasPrefix(s, "+") {
		s = s[1:]
	}
	digits, base := "0123456789", 10
	if low := strings.ToLower(s); len(low) > 2 && low[:2] == "0x" && strings.IndexByte("0123456789abcdef", low[2]) >= 0 {
		digits, base, s = "0123456789abcdefABCDEF", 16, s[2:]
	} else if len(s) > 1 && s[0] == '0' {
		digits, base = "01234567", 8
	}
	end := 0
	for end < len(s) && strings.IndexByte(digits, s[end]) >= 0 {
		end++
	}
	n, err := strconv.ParseUint(s[:end], base, 64)
	switch {
	case errors.Is(err, strconv.ErrRange):
		return math.MaxUint64
	case sign:
		return -n
	}
	return n
}

// IsOn reports whether a value is a yes to the package manager of a family.
func IsOn(family, value string) bool {
	on, ok := Truth(family, value)
	return ok && on
}

// IsOff reports whether a value is a no to the package manager of a family.
func IsOff(family, value string) bool {
	on, ok := Truth(family, value)
	return ok && !on
}

// SameSwitch reports whether two values are one, or two spellings of a yes or of a no.
func SameSwitch(family, a, b string) bool {
	if a == b {
		return true
	}
	x, first := Truth(family, a)
	y, second := Truth(family, b)
	return first && second && x == y
}
