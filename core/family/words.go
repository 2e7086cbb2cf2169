package family

import (
	"cmp"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/text/pattern"
)

// Words that programs say are no files: nobody knows what they repeat, so more is hidden
// in them than in a file.

// least is how long a secret must be to be looked for in words; a shorter one would be
// found everywhere.
const least = 4

// mostSecrets bounds how many secrets of one host are looked for.
const mostSecrets = 4096

// spoken are the ways in which programs and command lines repeat a login: the last group is what is
// hidden. Each is looked for where one of its words stands, for it takes long.
var spoken = sync.OnceValue(func() []spokenWay {
	return []spokenWay{
		{[]string{"-u"}, regexp.MustCompile(`(?i)((?:^|[\s"'(])(?:-u|--user|--proxy-user|-U)[\s=]+)("[^"]*"|'[^']*'|\S+)`)},
		{[]string{"authorization"}, regexp.MustCompile(
			`(?i)(\b(?:proxy-)?authorization\s*[:=]\s*(?:basic|bearer|digest)?\s*)([^\s"',;]+)`,
		)},
		{[]string{"passw", "passphrase", "proxypass", "secret", "token", "api"}, regexp.MustCompile(
			`(?i)([\w.-]*(?:password|passwd|passphrase|proxypass|secret|token|api[_-]?key)[\w.-]*["']?\s*` +
				`(?:=|:|\s(?:is|was)\s)\s*)("[^"]*"|'[^']*'|[^\s,;&]+)`,
		)},
		{[]string{"password"}, regexp.MustCompile(`(?i)(\b(?:login|username|user)\s+\S+\s+password\s+)(\S+)`)},
		{[]string{"--"}, regexp.MustCompile(
			`(?i)(--(?:password|passwd|passphrase|token|secret|api-key)[\s=]+)("[^"]*"|'[^']*'|\S+)`,
		)},
	}
})

// spokenWay is one of them.
type spokenWay struct {
	words []string // in small letters; one of them is in whatever matches
	re    *regexp.Regexp
}

// in reports whether a text in small letters may hold it.
func (w *spokenWay) in(small string) bool {
	return slices.ContainsFunc(w.words, func(word string) bool { return strings.Contains(small, word) })
}

// small is a text in small letters, as a pattern takes them that makes no difference between these
// and capitals.
func small(text string) string { return strings.ReplaceAll(strings.ToLower(text), "\u017f", "s") }

// query is a value in the query of a URL.
var query = pattern.Lazy(`([?&;][\w.%-]+=)([^&;\s"'<>)]+)`)

// HideWords hides known secrets in words that somebody said, and whatever looks like a
// secret in them: logins in URLs, any value of a query, passwords of command lines.
// secrets comes from AddSecrets.
func HideWords(text string, secrets []string) string {
	for _, s := range secrets {
		if strings.Contains(text, s) {
			text = strings.ReplaceAll(text, s, Hidden)
		}
	}
	if strings.Contains(text, "://") {
		text = string(maskURLs([]byte(text)))
		text = query().ReplaceAllString(text, "${1}"+Hidden)
	}
	letters := small(text)
	for _, way := range spoken() {
		if way.in(letters) {
			text = way.re.ReplaceAllString(text, "${1}"+Hidden)
		}
	}
	return text
}

// AddSecrets adds secrets to those that HideWords looks for, in each form in which they
// may be repeated, longest first.
func AddSecrets(list []string, words ...string) []string {
	var fresh []string
	for _, w := range words {
		forms := []string{w, url.QueryEscape(w), url.PathEscape(w), url.UserPassword("", w).String()[1:]}
		if plain, err := url.PathUnescape(w); err == nil {
			forms = append(forms, plain)
		}
		for _, f := range forms {
			if len(f) >= least && f != Hidden && !slices.Contains(list, f) && !slices.Contains(fresh, f) {
				fresh = append(fresh, f)
			}
		}
	}
	if len(fresh) == 0 || len(list)+len(fresh) > mostSecrets {
		return list
	}
	out := append(slices.Clone(list), fresh...)
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) })
	return out
}

// netrc is a password as apt_auth.conf(5) and netrc say it.
var netrc = pattern.Lazy(`(?im)(?:^|\s)password[ \t]+(\S+)`)

// entry is a key of a section file with its value, commented out or not.
func entry(line string) (name, value string, found bool) {
	name, value, found = strings.Cut(line, "=")
	if !found {
		return "", "", false
	}
	name = strings.TrimRight(strings.TrimLeft(name, "#; \t\r\n\v\f"), " \t")
	value = strings.Trim(value, " \t\r\n")
	named := func(r rune) bool {
		return r == '_' || r == '.' || r == '-' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z'
	}
	return name, value, value != "" && name != "" && strings.TrimLeftFunc(name, named) == ""
}

// SecretsIn finds the secrets that a file holds. The name of a variable is none.
func SecretsIn(text []byte) []string {
	return slices.DeleteFunc(SecretsGiven(text), namesVariable().MatchString)
}

// namesVariable is the name of a variable, as dnf and zypper write it.
var namesVariable = pattern.Lazy(`^\$(\w+|\{\w+\})$`)

// SecretsGiven finds the secrets that a file of access holds: no variable stands there, so what looks like one is a secret too.
func SecretsGiven(text []byte) (out []string) {
	s := string(text)
	for rest := s; ; {
		i := strings.Index(rest, "://")
		if i < 0 {
			break
		}
		rest = rest[i+len("://"):]
		word := rest
		if i := strings.IndexAny(rest, " \t\r\n\"]"); i >= 0 {
			word = rest[:i]
		}
		if end := loginEnd(word); end > 0 {
			login := word[:end-1]
			_, password, colon := strings.Cut(login, ":")
			switch {
			case colon:
				out = append(out, password)
			case !plainLogin(login):
				out = append(out, login)
			}
		}
		if !strings.ContainsAny(word, "?&;") {
			continue
		}
		for _, m := range query().FindAllStringSubmatch(word, -1) {
			if name := strings.Trim(m[1], "?&;="); secretQuery(name, m[2]) {
				out = append(out, m[2])
			}
		}
	}
	if hinted(text) {
		for _, m := range netrc().FindAllStringSubmatch(s, -1) {
			out = append(out, m[1])
		}
	}
	for line := range strings.Lines(s) {
		if name, value, found := entry(line); found && SecretKey(name) {
			out = append(out, value)
		}
	}
	return slices.DeleteFunc(out, func(w string) bool { return len(w) < least })
}
