package deb

import (
	"fmt"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/text/percent"
)

// aptURL is a URL as apt takes it apart. It differs from RFC 3986: brackets in
// the host go, cdrom: has a host of its own kind, and the path is never empty.
type aptURL struct {
	scheme, user, password, host, path string
	port                               int
}

func parseURL(u string) aptURL {
	var p aptURL
	colon := strings.IndexByte(u, ':')
	if colon < 0 {
		colon = len(u)
	}
	p.scheme = u[:colon]
	// The host ends at the first slash that stands in no bracket.
	end := colon
	if colon+3 < len(u) && u[colon+1:colon+3] == "//" {
		end += 3
	}
	for inside := false; end < len(u) && (u[end] != '/' || inside); end++ {
		switch {
		case u[end] == '[':
			inside = true
		case u[end] == ']':
			inside = false
		}
	}
	if p.path = u[end:]; p.path == "" {
		p.path = "/"
	}
	start := colon + 1
	if strings.HasPrefix(u[colon:], "://") {
		start = colon + 3
	}
	if start >= len(u) {
		return p
	}
	start = min(start, end)
	host := u[start:end]
	// A login needs at least one letter before the last @.
	if at := strings.LastIndexByte(host, '@'); at > 0 {
		login := host[:at]
		host = host[at+1:]
		// apt looks for the colon from the second letter on.
		if c := strings.IndexByte(login[1:], ':'); c >= 0 {
			p.user, p.password = percent.Decode(login[:c+1]), percent.Decode(login[c+2:])
		} else {
			p.user = percent.Decode(login)
		}
	}
	closed := 0
	open := false
	var bare []byte
	for i := range len(host) {
		switch {
		case host[i] == '[':
			open = true
		case open && host[i] == ']':
			open, closed = false, len(bare)
		default:
			bare = append(bare, host[i])
		}
	}
	if open {
		return p
	}
	p.host = string(bare)
	if i := strings.LastIndexByte(p.host, ':'); i >= closed && i >= 0 {
		p.port = leadingNumber(p.host[i+1:])
		p.host = p.host[:i]
	}
	return p
}

// leadingNumber reads digits as atoi(3) does, which gives 0 for anything else.
func leadingNumber(s string) int {
	i := 0
	for i < len(s) && s[i] >= '0' && s[i] <= '9' {
		i++
	}
	n, err := strconv.Atoi(s[:i])
	if err != nil {
		return 0
	}
	return n
}

func quoteURL(s string) string {
	var b strings.Builder
	for i := range len(s) {
		if c := s[i]; strings.IndexByte(":/?#[]@%", c) >= 0 || c <= ' ' || c >= 0x7f {
			fmt.Fprintf(&b, "%%%02x", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func (p aptURL) String() string {
	var b strings.Builder
	if p.scheme != "" {
		b.WriteString(p.scheme + ":")
	}
	if p.host != "" {
		if p.scheme != "" {
			b.WriteString("//")
		}
		if p.user != "" {
			b.WriteString(quoteURL(p.user))
			if p.password != "" {
				b.WriteString(":" + quoteURL(p.password))
			}
			b.WriteByte('@')
		}
		b.WriteString(p.site())
	}
	if !strings.HasPrefix(p.path, "/") {
		b.WriteByte('/')
	}
	b.WriteString(p.path)
	return b.String()
}

// site is the host with its port.
func (p aptURL) site() string {
	s := p.host
	if p.scheme != "" && strings.ContainsAny(s, "/:") {
		s = "[" + s + "]"
	}
	if p.port != 0 {
		s += ":" + strconv.Itoa(p.port)
	}
	return s
}

// EffectiveURL is the URL that apt fetches from: $(ARCH) expanded, taken apart
// and put together again, with a final slash.
func EffectiveURL(u, native string) string {
	s := parseURL(withArch(u, native)).String()
	if !strings.HasSuffix(s, "/") {
		s += "/"
	}
	return s
}

// ReleaseKey names a release as apt tells releases apart: by URL without scheme
// and login, and suite.
func ReleaseKey(effectiveURL, suite string) string {
	p := parseURL(effectiveURL)
	return p.site() + p.path + " " + suite
}

// longestArch is the longest name of an architecture that is put in for $(ARCH).
const longestArch = 64

// withArch puts the native architecture in.
func withArch(text, native string) string {
	if len(native) > longestArch {
		return text
	}
	return strings.ReplaceAll(text, "$(ARCH)", native)
}
