package family

import (
	"bytes"
	"regexp"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/text/pattern"
)

// What a text says of a secret in a form that no reader understands: a misspelt line, a
// comment, an option of a command, a value somewhere else than it belongs.

// hints are the bits of which one must stand in a text that says anything of a secret, by
// their first letter.
var hints = [256][]string{
	'p': {"pass"}, 't': {"token"}, 's': {"secret"}, 'a': {"apikey", "api_key", "api-key", "authoriz"}, '-': {"-u", "--user", "--proxy-user"},
}

// hinted reports whether a text may say something of a secret.
func hinted[T string | []byte](text T) bool {
	colon := false // one stands before in the same word
	for i := range len(text) {
		c := text[i]
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		switch c {
		case '-':
			if i > 0 && inWord(text[i-1]) {
				continue // of a name, as in skerry-updates
			}
			fallthrough
		case 'p', 't', 's', 'a':
			for _, h := range hints[c] {
				if len(text)-i >= len(h) && text[i+1]|0x20 == h[1]|0x20 && strings.EqualFold(string(text[i:i+len(h)]), h) {
					return true
				}
			}
		case ':':
			colon = true
		case ' ', '\t', '\n', '\r', '/':
			colon = false
		case '@':
			if colon {
				return true
			}
		}
	}
	return false
}

// inWord reports whether a character in front of a dash makes it one inside of a word.
func inWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' || c == '_' || c == '.'
}

// phrases are how texts say a secret: the first group stays, the second is hidden.
var phrases = sync.OnceValue(func() []*regexp.Regexp {
	return []*regexp.Regexp{
		regexp.MustCompile(`(?i)((?:^|[\s"'(=;|])(?:-u|--user|--proxy-user)[ \t=]+)("[^"\n]*"|'[^'\n]*'|[^\s"';]+)`),
		regexp.MustCompile(`(?i)(\b(?:proxy-)?authorization["']?[ \t]*[:=][ \t]*` +
			`(?:basic[ \t]+|bearer[ \t]+|digest[ \t]+|token[ \t]+)?)([^\s"',;]+)`),
		regexp.MustCompile(`((?:^|[\s"'])PASS[ \t]+)([^\s"';]+)`),
		regexp.MustCompile(
			`(?i)([\w.-]*(?:password|passwd|passphrase|proxypass|secret|token|api[_-]?key)[\w.-]*` +
				`["']?[ \t]*(?:[:=]+|[ \t]is[ \t:]|[ \t]was[ \t])[ \t]*[<]?)` +
				`("[^"\n]*"|'[^'\n]*'|[^\s,;&"'>]+)`,
		),
		regexp.MustCompile(`(?im)(^[#;/ \t]*(?:password|passwd|passphrase|token|secret)[ \t]+)([^\s"',;&:=]+)`),
		regexp.MustCompile(`(?i)(\b(?:login|username|user)[ \t]+\S+\s+(?:password|passwd)[ \t]+)(\S+)`),
		regexp.MustCompile(`(?i)(\b(?:password|passwd|passphrase|token|secret)[ \t]+)([^\s"',;&:=]*[0-9][^\s"',;&:=.]*)`),
		regexp.MustCompile(`((?:^|[\s"'=(])[\w.%+-]+:)([^\s@"'/:]+@)[\w-]+(?:\.|\b)`),
	}
})

// SaysSecret reports whether a word alone says that a secret stands behind it.
func SaysSecret(word string) bool { return hinted(word) && saysSecret().MatchString(word) }

// saysSecret is a word alone behind which a secret stands.
var saysSecret = pattern.Lazy(`(?i)^[#;]*(?:password|passwd|passphrase|proxypass|token|secret|api[_-]?key|` +
	`-u|--user|--password)[:=]*(?:\*\*\*)?$`)

// mail is an address behind its name.
var mail = pattern.Lazy(`(?i)^[\s"'=(]*(?:mailto|maintainer|contact|e-?mail|from|to|uploaders):`)

// hidePhrases hides what a text of one or more lines says of secrets.
func hidePhrases(text []byte) []byte {
	if !hinted(text) {
		return text
	}
	var out []byte
	for line := range bytes.Lines(text) {
		if hinted(line) {
			line = hideInLine(line)
		}
		out = append(out, line...)
	}
	return out
}

func hideInLine(text []byte) []byte {
	for _, re := range phrases() {
		text = re.ReplaceAllFunc(text, func(all []byte) []byte {
			m := re.FindSubmatchIndex(all)
			if m == nil {
				return all
			}
			said := all[m[4]:m[5]]
			if bytes.HasSuffix(said, []byte("@")) { // user:password@host, which has no scheme
				if mail().Match(all) {
					return all
				}
				said, m[5] = said[:len(said)-1], m[5]-1
			}
			if bytes.HasPrefix(said, []byte(Hidden)) || bytes.HasPrefix(said, []byte("$")) || bytes.HasPrefix(said, []byte("%")) {
				return all // hidden already, or a variable
			}
			return append(append(append([]byte{}, all[:m[4]]...), Hidden...), all[m[5]:]...)
		})
	}
	return text
}

// Plainly hides whatever a text could say of a secret: logins in URLs and phrases.
func Plainly(text string) string { return string(hidePhrases(maskURLs([]byte(text)))) }
