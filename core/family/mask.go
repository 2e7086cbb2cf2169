package family

import (
	"bytes"
	"slices"
	"strings"
)

// MaskURL hides the login's secret of a URL, and what its query calls a token. What
// stands before the @ without a colon may be a token as well: where it is no plain name it
// is hidden whole.
func MaskURL(u string) string {
	scheme, rest, ok := strings.Cut(u, "://")
	if !ok || !strings.ContainsAny(rest, ":@?#") { // no login, no port and no query: most URLs of a fleet
		return u
	}
	return maskAfter(scheme, rest)
}

// maskAfter is a URL of a scheme and the rest, with what is secret of it hidden.
func maskAfter(scheme, rest string) string {
	end := loginEnd(rest)
	tail := rest[end:]
	if end > 0 {
		return scheme + "://" + maskLogin(rest[:end-1]) + "@" + maskHost(tail)
	}
	return scheme + "://" + maskHost(maskCut(rest))
}

// maskCut hides the password of a login whose @ is missing: what stands where a port does and
// is none.
func maskCut(rest string) string {
	end := len(rest)
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		end = i
	}
	user, password, colon := strings.Cut(rest[:end], ":")
	if !colon || user == "" || user[0] == '[' || strings.Trim(password, "0123456789") == "" || strings.ContainsAny(password, "$@{}()*%") {
		return rest
	}
	return user + ":" + Hidden + rest[end:]
}

// MaskEffective hides in what a package manager makes of a URL what belongs to a login of the
// URL as it is written: where a slash stands in a password, it takes the rest for a path.
func MaskEffective(effective, written string) string {
	if _, rest, ok := strings.Cut(written, "://"); ok {
		end := loginEnd(rest)
		if slash := strings.IndexAny(rest, "/?#"); end > 0 && slash >= 0 && slash < end {
			for _, part := range strings.FieldsFunc(rest[slash:end-1], func(c rune) bool { return strings.ContainsRune("/?#", c) }) {
				effective = strings.ReplaceAll(effective, part, Hidden)
			}
			if _, first, ok := strings.Cut(rest[:slash], ":"); ok && first != "" {
				effective = strings.ReplaceAll(effective, first, Hidden)
			}
		}
	}
	return MaskURL(effective)
}

// maskHost masks what follows the login of a URL.
func maskHost(rest string) string {
	i := strings.IndexAny(rest, "/?#")
	if i < 0 {
		return rest
	}
	return rest[:i] + string(maskURLs([]byte(maskQuery(rest[i:]))))
}

func maskLogin(login string) string {
	if user, _, ok := strings.Cut(login, ":"); ok {
		return user + ":" + Hidden
	}
	if plainLogin(login) {
		return login
	}
	return Hidden
}

// plainLogin reports whether what stands before the @ of a URL alone can only be a name:
// a token has digits or capital letters in it.
func plainLogin(login string) bool {
	return len(login) <= 32 && strings.Trim(login, "abcdefghijklmnopqrstuvwxyz._-") == ""
}

// loginEnd returns where the host begins in what follows the scheme of a URL: behind the
// login's @, or 0 where there is none. A password may hold a slash that nobody encoded:
// then what stands for the host is followed by a colon and no port.
func loginEnd(rest string) int {
	end := len(rest)
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		end = i
	}
	authority := rest[:end]
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		return at + 1
	}
	host, port, colon := strings.Cut(authority, ":")
	if !colon || end == len(rest) || strings.HasPrefix(authority, "[") {
		return 0
	}
	if strings.Trim(port, "0123456789") == "" && (port == "" || strings.Contains(host, ".") || host == "localhost") {
		return 0
	}
	word := rest
	if i := strings.Index(word, "://"); i >= 0 { // another URL begins
		word = word[:i]
	}
	return strings.LastIndexByte(word, '@') + 1
}

// secretWords are the names of query parameters whose values are secrets.
var secretWords = []string{
	"token",
	"pass",
	"pwd",
	"secret",
	"apikey",
	"api_key",
	"api-key",
	"signature",
	"auth",
	"credential",
	"session",
	"key",
	"jwt",
	"private",
}

func secretWord(name string) bool {
	name = strings.ToLower(name)
	for _, w := range secretWords {
		if strings.Contains(name, w) {
			return true
		}
	}
	return false
}

// harmless are the names of query parameters that mirrors and metalinks are asked with.
var harmless = []string{
	"credentials",
	"repo",
	"arch",
	"release",
	"releasever",
	"basearch",
	"country",
	"protocol",
	"infra",
	"content",
	"path",
	"ip_version",
	"version",
	"os",
	"dist",
	"product",
	"variant",
	"cc",
	"mirrorlist",
	"use_mirror",
	"redirect",
	"proto",
}

// maskQuery hides values in the query of a URL: those whose names say that they are
// secrets, and those of names that mean nothing here and that look like one.
func maskQuery(tail string) string {
	i := strings.IndexAny(tail, "?#")
	if i < 0 {
		return tail
	}
	out := []byte(tail[:i+1])
	query := tail[i+1:]
	for query != "" {
		end := strings.IndexAny(query, "&;#?")
		if end < 0 {
			end = len(query)
		}
		part := query[:end]
		if name, value, ok := strings.Cut(part, "="); ok && value != "" && secretQuery(name, value) {
			part = name + "=" + Hidden
		} else if !ok && looksSecret(part) {
			part = Hidden
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

// authWays are the values of zypper's parameter auth, which names ways and no secret.
var authWays = []string{"basic", "digest", "ntlm", "gssnegotiate", "any", "none"}

// secretQuery reports whether a parameter of a query is a secret. zypper's credentials is
// the name of a file.
func secretQuery(name, value string) bool {
	name = strings.ToLower(name)
	switch {
	case name == "auth":
		return slices.ContainsFunc(strings.Split(value, ","), func(v string) bool { return !slices.Contains(authWays, strings.ToLower(v)) })
	case slices.Contains(harmless, name):
		return false
	}
	return secretWord(name) || looksSecret(value)
}

// looksSecret reports whether a value is long and of mixed characters, as no name of a
// repository, a release or a place is.
func looksSecret(value string) bool {
	if len(value) < 12 || strings.ContainsAny(value, "$/{") {
		return false
	}
	digits, letters := 0, 0
	for _, c := range value {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
			letters++
		}
	}
	return digits > 0 && letters > 0
}

// secretKeys are what the name of a key holds whose value is a secret.
var secretKeys = []string{
	"password", "passwd", "passphrase", "proxypass", "token", "secret", "api_key", "apikey", "api-key", "authenticator-options",
	"authenticatoroptions",
}

// SecretKey reports whether the value of a key of a section file is a secret.
func SecretKey(key string) bool {
	key = strings.ToLower(key)
	return slices.ContainsFunc(secretKeys, func(word string) bool { return strings.Contains(key, word) })
}

// MaskText hides the passwords of all URLs in a source file, private keys, and the values of
// entries that are secrets.
func MaskText(text []byte) []byte { return hidePhrases(maskEntries(maskURLs(maskKeys(text)))) }

// MasksTo reports whether said is a text as it is, or with what is secret in it hidden, which leaves marks.
func MasksTo(text, said []byte) bool {
	if bytes.Equal(text, said) {
		return true
	}
	marked := bytes.Contains(said, []byte(Hidden)) || bytes.HasPrefix(said, []byte(inDigest))
	return marked && bytes.Equal(MaskText(text), said)
}

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
		word := string(text[:indexAny(text, " \t\r\n\"]")])
		if end := loginEnd(word); end > 0 {
			out = append(append(out, maskLogin(word[:end-1])...), '@')
			text, word = text[end:], word[end:]
		}
		if short := maskCut(word); short != word {
			cut := strings.IndexByte(word, ':') + 1
			for cut < len(word) && strings.IndexByte("/?#", word[cut]) < 0 {
				cut++
			}
			out = append(append(out, word[:strings.IndexByte(word, ':')+1]...), Hidden...)
			text, word = text[cut:], word[cut:]
			if word == "" {
				text = text[blankIn(text):]
			}
		}
		end := len(word)
		if next := strings.Index(word, "://"); next >= 0 {
			end = next // several URLs in one word
		}
		host := word[:end]
		if j := strings.IndexAny(host, "/?#"); j >= 0 {
			host = host[:j] + maskQuery(host[j:])
		}
		out = append(out, host...)
		text = text[end:]
	}
}

// blankIn returns how far a password goes on behind a blank that stands in it: up to the @ on the
// same line, where no other URL begins before it.
func blankIn(text []byte) int {
	line := text[:indexAny(text, "\r\n\"]")]
	at := bytes.IndexByte(line, '@')
	if at < 0 || bytes.Contains(line[:at], []byte("://")) {
		return 0
	}
	return at
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
	if !slices.ContainsFunc(secretKeys, func(word string) bool { return bytes.Contains(lower, []byte(word)) }) {
		return text
	}
	var out []byte
	hiding := false // the lines that go on with a hidden value
	for line := range bytes.Lines(text) {
		body := bytes.TrimRight(line, "\r\n")
		eol := line[len(body):]
		plain := strings.TrimLeft(string(body), "#; \t")
		sign := "="
		key, _, ok := strings.Cut(plain, sign)
		if name, _, colon := strings.Cut(plain, ":"); colon && SecretKey(strings.TrimSpace(name)) { // a field of a stanza
			key, sign, ok = name, ":", true
		}
		switch {
		case ok && SecretKey(strings.TrimSpace(key)) && !(hiding && len(body) > 0 && (body[0] == ' ' || body[0] == '\t')):
			out = append(append(out, body[:bytes.IndexByte(body, sign[0])+1]...), Hidden...)
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
