package ini

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

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
		for from < to && keyFileSpace(t[from]) {
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
	if line[0] == '[' && strings.IndexByte(line, ']') > 0 && strings.Trim(line[strings.IndexByte(line, ']')+1:], " \t") == "" {
		name := line[1:strings.IndexByte(line, ']')]
		if name == "" || strings.IndexByte(name, '[') >= 0 ||
			strings.ContainsFunc(name, func(c rune) bool { return c < ' ' || c == 0x7f }) {
			p.fail("the name of the group is not valid")
			return
		}
		p.section(at, from+1, from+1+len(name))
		return
	}
	equals := strings.IndexByte(line, '=')
	key := ""
	if equals > 0 {
		end := equals
		for end > 0 && keyFileSpace(line[end-1]) {
			end--
		}
		key = line[:end]
	}
	switch {
	case equals <= 0:
		p.fail("neither a group nor a key with a value nor a comment")
	case !p.open:
		p.fail("the file does not begin with a group")
	case !validKey(key):
		p.fail("the name of the key is not valid")
	default:
		value := from + equals + 1
		for value < to && keyFileSpace(p.f.text[value]) {
			value++
		}
		e := p.entry(Entry{end: int32(after), key: int32(from), keyEnd: int32(from + len(key)), value: int32(value), valueEnd: int32(to)})
		if key == "Encoding" && p.f.Name(&p.f.Sections[len(p.f.Sections)-1]) == p.f.Name(&p.f.Sections[0]) &&
			!strings.EqualFold(p.f.Value(e), "UTF-8") {
			p.fail("the encoding is not UTF-8")
		}
	}
}

// keyFileSpace reports what GLib takes for a blank; the vertical tab is none.
func keyFileSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\f' || c == '\r' }

// validKey reports whether GLib takes a name for a key: a language in brackets
// may stand at its end.
func validKey(key string) bool {
	i := strings.IndexByte(key, '[')
	if j := strings.IndexByte(key, ']'); i < 0 || j >= 0 && j < i {
		i = j
	}
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
