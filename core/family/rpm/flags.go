package rpm

import (
	"slices"
	"strings"
)

// FlagsSetting is the setting by which dnf tells rpm how to install: dnf.conf(5), rpm(8).
const FlagsSetting = "main.tsflags"

// Flags are those of such a setting that decide what comes onto a host, in order: documentation decides nothing.
func Flags(value string) string {
	flags := strings.FieldsFunc(strings.ToLower(value), func(r rune) bool { return r == ' ' || r == ',' || r == '\t' || r == '\n' })
	slices.Sort(flags)
	return strings.Join(slices.DeleteFunc(slices.Compact(flags), func(f string) bool { return f == "nodocs" }), " ")
}

// SameBelief reports whether rpm checks what it installs under both values of such a setting, or under none.
func SameBelief(one, other string) bool {
	unchecked := func(value string) bool { return slices.Contains(strings.Fields(Flags(value)), "nocrypto") }
	return unchecked(one) == unchecked(other)
}
