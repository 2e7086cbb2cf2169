package zypp

import "strings"

// expand puts the values of $name and ${name} in, and of ${name:-word} and
// ${name:+word}, in which variables may stand too. A variable that has no value
// stays as it is written.
func expand(text string, vars func(string) (string, bool)) string { return expandIn(text, false, vars) }

// expandIn is expand; within a word a backslash protects the sign behind it.
func expandIn(text string, word bool, vars func(string) (string, bool)) string {
	var out strings.Builder
	for i := 0; i < len(text); {
		if word && text[i] == '\\' && i+1 < len(text) && strings.IndexByte(`\$}`, text[i+1]) >= 0 {
			out.WriteByte(text[i+1])
			i += 2
			continue
		}
		if text[i] != '$' || i+1 == len(text) {
			out.WriteByte(text[i])
			i++
			continue
		}
		value, end := variable(text, i, vars)
		out.WriteString(value)
		i = end
	}
	return out.String()
}

// variable reads what stands at a dollar sign: the value and where it ends.
func variable(text string, at int, vars func(string) (string, bool)) (string, int) {
	name := at + 1
	bracket := text[name] == '{'
	if bracket {
		name++
	}
	end := name
	for end < len(text) && wordChar(text[end]) {
		end++
	}
	if end == name {
		return text[at : at+1], at + 1
	}
	if !bracket {
		if value, ok := vars(text[name:end]); ok {
			return value, end
		}
		return text[at:end], end
	}
	if end < len(text) && text[end] == '}' {
		if value, ok := vars(text[name:end]); ok {
			return value, end + 1
		}
		return text[at : end+1], end + 1
	}
	if end+1 >= len(text) || text[end] != ':' || text[end+1] != '-' && text[end+1] != '+' {
		return text[at : at+1], at + 1
	}
	closing := closingBrace(text, end+2)
	if closing < 0 {
		return text[at : at+1], at + 1
	}
	word := text[end+2 : closing]
	value, ok := vars(text[name:end])
	set := ok && value != ""
	switch {
	case text[end+1] == '-' && set:
		return value, closing + 1
	case text[end+1] == '-' || set:
		return expandIn(word, true, vars), closing + 1
	}
	return "", closing + 1
}

func wordChar(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// closingBrace returns where the brace that is open at at is closed, or -1.
func closingBrace(text string, at int) int {
	for depth := 1; at < len(text); at++ {
		switch text[at] {
		case '\\':
			at++
		case '{':
			if text[at-1] == '$' {
				depth++
			}
		case '}':
			if depth--; depth == 0 {
				return at
			}
		}
	}
	return -1
}
