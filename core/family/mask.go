package family

import (
	"bytes"
	"strings"
)

// MaskURL hides the password of a URL, and what its query calls a token.
func MaskURL(u string) string {
	scheme, rest, ok := strings.Cut(u, "://")
	if !ok {
		return u
	}
	host, tail := rest, ""
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		host, tail = rest[:i], rest[i:]
	}
	if at := strings.LastIndexByte(host, '@'); at >= 0 {
		if user, _, ok := strings.Cut(host[:at], ":"); ok {
			host = user + ":" + Hidden + host[at:]
		}
	}
	return scheme + "://" + host + string(maskURLs([]byte(maskQuery(tail))))
}

// secretWords are the names of query parameters whose values are secrets.
var secretWords = []string{"token", "password", "passwd", "passphrase", "secret", "apikey", "api_key", "signature", "auth_key", "proxypass"}

func secretWord(name string) bool {
	name = strings.ToLower(name)
	for _, w := range secretWords {
		if strings.Contains(name, w) {
			return true
		}
	}
	return false
}

func maskQuery(tail string) string {
	i := strings.IndexByte(tail, '?')
	if i < 0 || !secretWord(tail[i:]) {
		return tail
	}
	out := []byte(tail[:i+1])
	query := tail[i+1:]
	for n := 0; query != ""; n++ {
		end := strings.IndexAny(query, "&;#")
		if end < 0 {
			end = len(query)
		}
		part := query[:end]
		if name, value, ok := strings.Cut(part, "="); ok && value != "" && secretWord(name) {
			part = name + "=" + Hidden
		}
		out = append(out, part...)
		if end < len(query) {
			out = append(out, query[end])
			end++
		}
		query = query[end:]
	}
	return string(out)
}

// SecretKey reports whether the value of a key of a section file is a secret.
func SecretKey(key string) bool {
	switch strings.ToLower(key) {
	case "password", "proxy_password", "proxypass", "passwd", "passphrase":
		return true
	}
	return strings.HasSuffix(strings.ToLower(key), "token")
}

// MaskText hides the passwords of all URLs in a source file, and the values of
// entries that are secrets.
func MaskText(text []byte) []byte { return maskEntries(maskURLs(text)) }

func maskURLs(text []byte) []byte {
	if !bytes.Contains(text, []byte("://")) {
		return text
	}
	var out []byte
	for {
		i := bytes.Index(text, []byte("://"))
		if i < 0 {
			return append(out, text...)
		}
		i += len("://")
		out = append(out, text[:i]...)
		text = text[i:]
		end := indexAny(text, "/?# \t\r\n\"]")
		out = append(out, MaskURL("://" + string(text[:end]))[len("://"):]...)
		text = text[end:]
		end = indexAny(text, " \t\r\n\"]")
		if next := bytes.Index(text[:end], []byte("://")); next >= 0 {
			end = next // several URLs in one word
		}
		out = append(out, maskQuery(string(text[:end]))...)
		text = text[end:]
	}
}

// indexAny returns where the first of some characters stands, or the end.
func indexAny(text []byte, chars string) int {
	if i := bytes.IndexAny(text, chars); i >= 0 {
		return i
	}
	return len(text)
}

func maskEntries(text []byte) []byte {
	lower := bytes.ToLower(text)
	if !bytes.Contains(lower, []byte("passw")) && !bytes.Contains(lower, []byte("token")) && !bytes.Contains(lower, []byte("passphrase")) && !bytes.Contains(lower, []byte("proxypass")) {
		return text
	}
	var out []byte
	hiding := false // the lines that go on with a hidden value
	for line := range bytes.Lines(text) {
		body := bytes.TrimRight(line, "\r\n")
		eol := line[len(body):]
		plain := strings.TrimLeft(string(body), "#; \t")
		key, _, ok := strings.Cut(plain, "=")
		switch {
		case ok && SecretKey(strings.TrimSpace(key)) && !(hiding && len(body) > 0 && (body[0] == ' ' || body[0] == '\t')):
			out = append(append(out, body[:bytes.IndexByte(body, '=')+1]...), Hidden...)
			hiding = true
		case hiding && len(body) > 0 && (body[0] == ' ' || body[0] == '\t'):
			out = append(out, " "+Hidden...)
		default:
			out = append(out, body...)
			hiding = false
		}
		out = append(out, eol...)
	}
	return out
}
