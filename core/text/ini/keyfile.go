package ini

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// keyFileBlank is what GLib takes for a blank; the vertical tab is none.
const keyFileBlank = " \t\n\f\r"

var keyFileWriter = writer{decode: Unescape, equals: "=", forbiddenKey: "=\r\n[]#", encode: func(value string) (string, error) {
	if !utf8.ValidString(value) || strings.ContainsRune(value, 0) {
		return "", ErrValue
	}
	text := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(value)
	if rest := strings.TrimLeft(text, " "); rest != text {
		text = strings.Repeat(`\s`, len(text)-len(rest)) + rest
	}
	if strings.HasPrefix(text, "\f") {
		return "", ErrValue
	}
	return text, nil
}}

// ParseKeyFile reads a key file as GLib does: flatpak's configuration and
// .flatpakrepo files. Values are raw; Unescape gives what they stand for.
func ParseKeyFile(text []byte) *File {
	p := begin(text, keyFileWriter, ParseKeyFile)
	t := p.f.text
	for at := 0; at < len(t) && p.f.Err == nil; {
		end, after := p.next(at)
		to := end
		if after > end && to > at && t[to-1] == '\r' {
			to--
		}
		if i := strings.IndexByte(t[at:to], 0); i >= 0 {
			to = at + i
		}
		from := at
		for from < to && strings.IndexByte(keyFileBlank, t[from]) >= 0 {
			from++
		}
		p.keyFileLine(at, after, from, to)
		at = after
	}
	p.finish(len(t))
	return p.f
}

func (p *parser) keyFileLine(at, after, from, to int) {
	line := p.f.text[from:to]
	if line == "" || line[0] == '#' {
		return
	}
	if name, rest, ok := strings.Cut(line, "]"); ok && line[0] == '[' && strings.Trim(rest, " \t") == "" {
		if name = name[1:]; name == "" || strings.IndexByte(name, '[') >= 0 || strings.ContainsFunc(name, func(c rune) bool { return c < ' ' || c == 0x7f }) {
			p.fail("the name of the group is not valid")
			return
		}
		p.section(at, from+1, from+1+len(name))
		return
	}
	equals := strings.IndexByte(line, '=')
	switch {
	case equals <= 0:
		p.fail("neither a group nor a key with a value nor a comment")
	case !p.open:
		p.fail("the file does not begin with a group")
	case !validKey(strings.TrimRight(line[:equals], keyFileBlank)):
		p.fail("the name of the key is not valid")
	default:
		key := strings.TrimRight(line[:equals], keyFileBlank)
		value := from + equals + 1
		for value < to && strings.IndexByte(keyFileBlank, p.f.text[value]) >= 0 {
			value++
		}
		e := p.entry(Entry{end: int32(after), key: int32(from), keyEnd: int32(from + len(key)), value: int32(value), valueEnd: int32(to)})
		if v := p.f.Value(e); key == "Encoding" && p.f.Name(&p.f.Sections[len(p.f.Sections)-1]) == p.f.Name(&p.f.Sections[0]) && !strings.EqualFold(v, "UTF-8") {
			p.fail("the encoding is not UTF-8")
		}
	}
}

// validKey reports whether GLib takes a name for a key: a language in brackets
// may stand at its end.
func validKey(key string) bool {
	i := strings.IndexAny(key, "[]")
	if i < 0 {
		return key != "" && key[0] != ' '
	}
	language := key[i+1:]
	if i == 0 || key[i] != '[' || key[i-1] == ' ' || !strings.HasSuffix(language, "]") {
		return false
	}
	for _, c := range language[:len(language)-1] {
		if c == utf8.RuneError || !unicode.IsLetter(c) && !unicode.IsNumber(c) && !strings.ContainsRune("-_.@", c) {
			return false
		}
	}
	return true
}

// Unescape gives the string that a raw value of a key file stands for. An escape
// that is not known stays as it is, and a lone backslash at the end goes.
func Unescape(raw string) string {
	if !strings.Contains(raw, `\`) {
		return raw
	}
	var out strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' {
			out.WriteByte(raw[i])
			continue
		}
		if i++; i == len(raw) {
			break
		}
		switch raw[i] {
		case 's':
			out.WriteByte(' ')
		case 'n':
			out.WriteByte('\n')
		case 't':
			out.WriteByte('\t')
		case 'r':
			out.WriteByte('\r')
		case '\\':
			out.WriteByte('\\')
		default:
			out.WriteByte('\\')
			out.WriteByte(raw[i])
		}
	}
	return out.String()
}
