package ini

import "strings"

const zyppBlank = " \t"

var zyppWriter = writer{decode: itself, equals: "=", forbiddenKey: "=\r\n[]#;:/?|,\\", encode: func(value string) (string, error) {
	if strings.ContainsRune(value, '\r') {
		return "", ErrValue
	}
	return oneLine(value)
}}

// ParseZypp reads a .repo or .service file or zypp.conf as libzypp does. The
// lines behind a key of multi go on with it, each as an entry of that key,
// until another key comes, even over the header of a section.
func ParseZypp(text []byte, multi ...string) *File {
	p := begin(text, zyppWriter, func(text []byte) *File { return ParseZypp(text, multi...) })
	t := p.f.text
	var key, keyEnd int // of the entry that goes on
	for at := 0; at < len(t) && p.f.Err == nil; {
		end, after := p.next(at)
		from, to := p.trim(at, end, zyppBlank)
		line := t[from:to]
		switch {
		case line == "" || line[0] == '#' || line[0] == ';':
			at = after
			continue
		case line[0] == '[':
			if i := strings.LastIndexByte(line, ']'); i > 0 {
				p.section(at, from+1, from+i)
				at = after
				continue
			}
			p.fail("the name of a section is not closed by ]")
			continue
		}
		equals := strings.IndexByte(line, '=')
		if equals < 0 || strings.ContainsAny(line[:equals], `:/?|,\`) {
			if keyEnd == 0 {
				p.fail(`neither a section nor a key with a value (a key holds none of :/?|,\)`)
				break
			}
			p.headless(at)
			p.entry(
				Entry{end: int32(after), key: int32(key), keyEnd: int32(keyEnd), value: int32(from), valueEnd: int32(to), flags: goesOn},
			)
			at = after
			continue
		}
		p.headless(at)
		k, l := p.trim(from, from+equals, zyppBlank)
		v, w := p.trim(from+equals+1, to, zyppBlank)
		p.entry(Entry{end: int32(after), key: int32(k), keyEnd: int32(l), value: int32(v), valueEnd: int32(w)})
		keyEnd = 0
		for _, m := range multi {
			if t[k:l] == m {
				key, keyEnd = k, l
			}
		}
		at = after
	}
	p.finish(len(t))
	return p.f
}
