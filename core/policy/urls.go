package policy

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/names"
)

// remote are the schemes whose URLs name a host, local those that may not.
var (
	remote = []string{
		"http",
		"https",
		"ftp",
		"ftps",
		"sftp",
		"scp",
		"ssh",
		"rsh",
		"rsync",
		"tftp",
		"nfs",
		"nfs4",
		"smb",
		"cifs",
		"mirror",
		"mirror+http",
		"mirror+https",
		"mirror+ftp",
		"tor",
		"tor+http",
		"tor+https",
		"tor+mirror+http",
		"tor+mirror+https",
		"s3",
		"gs",
		"oci+https",
		"oci+http",
	}
	local = []string{"file", "copy", "cdrom", "mirror+file", "mirror+copy", "dir", "hd", "iso", "cd", "dvd", "plugin", "store"}
)

// strange are the characters of no host's name that formats of files take for something else.
const strange = "\"';<>\\^`{|}*!,&=+"

// stricter is what earlier versions took.
type stricter struct{ error }

// CheckURL reports what keeps a URL from leading anywhere. It must be filled in already. No error tells a login.
func CheckURL(u string) error {
	told := family.MaskURL(u)
	scheme, rest, ok := strings.Cut(u, ":")
	if !ok {
		return fmt.Errorf("the url %q has no scheme", told)
	}
	scheme = strings.ToLower(scheme)
	if what := Unseen(u); what != "" && scheme != "cdrom" { // a medium's title has blanks
		return stricter{fmt.Errorf("the url %q holds %s, which stands in a URL as %% and two digits", told, what)}
	}
	if slices.Contains(local, scheme) {
		if strings.TrimLeft(rest, "/") == "" && scheme != "cdrom" && scheme != "cd" && scheme != "dvd" && scheme != "file" {
			return fmt.Errorf("the url %q names no place", told)
		}
		return nil
	}
	if !slices.Contains(remote, scheme) {
		near := names.Nearest(scheme, []string{"http", "https", "file", "cdrom"})
		if near != "" {
			near = fmt.Sprintf("; did you mean %s?", near)
		}
		return fmt.Errorf("the url %q has the scheme %q, which no package manager knows%s", told, scheme, near)
	}
	if !strings.HasPrefix(rest, "//") {
		return fmt.Errorf("the url %q lacks the two slashes behind its scheme", told)
	}
	authority := rest[2:]
	if i := strings.IndexAny(authority, "/?#"); i >= 0 {
		authority = authority[:i]
	}
	if at := strings.LastIndexByte(authority, '@'); at >= 0 {
		authority = authority[at+1:]
	}
	host, port := authority, ""
	if i := strings.LastIndexByte(authority, ':'); i >= 0 && !strings.HasSuffix(authority, "]") {
		host, port = authority[:i], authority[i+1:]
		n, err := strconv.ParseUint(port, 10, 32)
		if err != nil && strings.Trim(port, "0123456789") != "" { // it may be a password whose @ is missing
			return fmt.Errorf("the url %q has something else where a port stands; a port is a number from 1 to 65535", told)
		}
		if err != nil || n == 0 || n > 65535 {
			return fmt.Errorf("the url %q has the port %q; a port is a number from 1 to 65535", told, port)
		}
	}
	if host == "" {
		return fmt.Errorf("the url %q names no host", told)
	}
	if i := strings.IndexAny(host, strange); i >= 0 {
		return stricter{fmt.Errorf("the url %q has %q in the name of its host, which stands in none", told, host[i:i+1])}
	}
	if _, err := url.Parse(scheme + "://" + authority + "/"); err != nil {
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		return fmt.Errorf("the url %q cannot be taken: %w", told, err)
	}
	return nil
}

// Unseen names the first character of a text that nobody sees, or that parts words; empty where there is none.
func Unseen(text string) string {
	for _, c := range text {
		switch {
		case c == ' ':
			return "a blank"
		case unicode.IsSpace(c) || !unicode.IsGraphic(c):
			return fmt.Sprintf("the character %U", c)
		}
	}
	return ""
}

// draft is a URL with everything that is filled in later written as a word, for checking;
// empty where even its beginning is filled in.
func draft(u string) string {
	var b strings.Builder
	for {
		i := strings.Index(u, "${")
		if i < 0 {
			break
		}
		end := strings.IndexByte(u[i:], '}')
		if end < 0 {
			break
		}
		if i == 0 && b.Len() == 0 {
			return ""
		}
		b.WriteString(u[:i])
		if strings.HasSuffix(u[:i], ":") && !strings.HasSuffix(u[:i], "//:") { // a port
			b.WriteString("1")
		} else {
			b.WriteString("x")
		}
		u = u[i+end+1:]
	}
	return b.String() + u
}

// checkURL checks a URL as far as it is known before it is filled in.
func (l *loader) checkURL(t Text) {
	d := draft(t.Value)
	if d == "" {
		return
	}
	if err := CheckURL(d); err != nil {
		message := strings.Replace(err.Error(), strconv.Quote(family.MaskURL(d)), strconv.Quote(family.MaskURL(t.Value)), 1)
		l.badURL(t, err, message, "write it as https://HOST/PATH")
	}
}

// badURL refuses a URL for what was wrong with it.
func (l *loader) badURL(t Text, err error, message, remedy string) {
	if (errors.As(err, &stricter{})) {
		l.failNewly("value", t.Pos, message, remedy)
	} else {
		l.fail("value", t.Pos, message, remedy)
	}
}

var secretURL = regexp.MustCompile(`://[^/\s:@]*:[^/\s@]+@`)

// opens reports whether a URL says what opens the door where it leads, without a password: a token for a login, or in a query
// what is called so. What only looks like one may be a build or a channel.
func opens(u string) bool {
	plain, query, _ := strings.Cut(u, "?")
	if family.MaskURL(plain) != plain {
		return true
	}
	for _, p := range strings.FieldsFunc(query, func(c rune) bool { return c == '&' || c == ';' }) {
		if name, value, _ := strings.Cut(p, "="); value != "" && family.SecretKey(name) && family.MaskURL(plain+"?"+p) != plain+"?"+p {
			return true
		}
	}
	return false
}

// noSecret refuses a URL with a password, or with what opens the door without one.
func (l *loader) noSecret(t Text) {
	switch d := draft(t.Value); {
	case secretURL.MatchString(t.Value):
		l.fail(
			"secret",
			t.Pos,
			"a URL with a password stands in the policy",
			"take the password out, and change it: whoever reads the policy could read it",
		)
	case CheckURL(d) == nil && opens(d):
		l.failNewly(
			"secret",
			t.Pos,
			"a URL with a login stands in the policy",
			"take it out, and take a new one: whoever reads the policy could read it; say access: of a contract instead",
		)
	}
}
