package policy

import (
	"errors"
	"fmt"
	"iter"
	"strings"
)

// Variables yields the names in the ${name} places of s, in order. A place that
// is not closed or empty yields an error and ends the sequence. $${ stands for a
// plain ${.
func Variables(s string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for {
			i := strings.Index(s, "${")
			if i < 0 {
				return
			}
			if i > 0 && s[i-1] == '$' {
				s = s[i+2:]
				continue
			}
			name, rest, ok := strings.Cut(s[i+2:], "}")
			switch {
			case !ok:
				yield("", errors.New("a ${ is not closed"))
				return
			case name == "":
				yield("", errors.New("a ${} is empty"))
				return
			}
			if !yield(name, nil) {
				return
			}
			s = rest
		}
	}
}

// maxExpansion bounds the length of an interpolated text in bytes.
const maxExpansion = 4096

// Interpolate fills the ${name} places of s by asking lookup, whose answers may
// hold places of their own.
func Interpolate(s string, lookup func(name string) (string, bool)) (string, error) {
	return interpolate(s, lookup, nil)
}

func interpolate(s string, lookup func(string) (string, bool), above []string) (string, error) {
	var out strings.Builder
	for s != "" {
		i := strings.Index(s, "${")
		if i < 0 {
			break
		}
		if i > 0 && s[i-1] == '$' {
			out.WriteString(s[:i] + "{")
			s = s[i+2:]
			continue
		}
		out.WriteString(s[:i])
		name, rest, ok := strings.Cut(s[i+2:], "}")
		if !ok {
			return "", fmt.Errorf("%q: a ${ is not closed", s)
		}
		for _, a := range above {
			if a == name {
				return "", fmt.Errorf("${%s} stands for itself", name)
			}
		}
		value, ok := lookup(name)
		if !ok {
			return "", fmt.Errorf("${%s} is not known", name)
		}
		value, err := interpolate(value, lookup, append(above, name))
		if err != nil {
			return "", err
		}
		out.WriteString(value)
		if out.Len() > maxExpansion {
			return "", fmt.Errorf("the text grows beyond %d bytes", maxExpansion)
		}
		s = rest
	}
	out.WriteString(s)
	return out.String(), nil
}
