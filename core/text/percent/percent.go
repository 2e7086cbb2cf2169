// Package percent decodes %xx, as apt writes bytes in words and logins.
package percent

import "strings"

// Decode decodes every %xx of s. What is no such sequence stays as it is.
func Decode(s string) string { return decode(s, 0) }

// Unquote decodes every %xx of s and takes its double quotes off; a quote that
// was written %22 stays.
func Unquote(s string) string { return decode(s, '"') }

func decode(s string, drop byte) string {
	var b strings.Builder
	b.Grow(len(s))
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && i+2 < len(s) {
			hi, lo := unhex(s[i+1]), unhex(s[i+2])
			if hi >= 0 && lo >= 0 {
				b.WriteByte(byte(hi<<4 | lo))
				i += 2
				continue
			}
		}
		if drop == 0 || s[i] != drop {
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

func unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}
