package upstream

import (
	"net/url"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// Through is how hosts of a site get out to a place: the proxy that the policy gives them. The zero value is directly.
type Through struct {
	Proxy  string // its URL
	Direct string // servers that are asked without it all the same, one behind the other with blanks between them
}

// Asks reports whether a server is asked through the proxy.
func (t Through) Asks(server string) bool {
	return t.Proxy != "" && !slices.Contains(strings.Fields(t.Direct), server)
}

// Through is the way that a sheet gives its hosts to a place. What somebody has set on a host beside it is none: the service
// goes through what the policy names, and through nothing that a host does.
func (u *Use) Through(sheet *source.Sheet) Through {
	if u.Family == deb.Family {
		return u.throughApt(sheet)
	}
	for i := range sheet.Files {
		if f := &sheet.Files[i]; f.Path == u.File {
			if proxy := sectionProxy(f.Text, u.ID); proxy != "" {
				return Through{Proxy: proxy}
			}
		}
	}
	for i := range sheet.InPlace {
		if r := &sheet.InPlace[i]; u.Family == sheet.Family && r.Proxy != "" && r.Rules(u.ID) && source.Outside(r.Mirrors, u.URLs) {
			return Through{Proxy: r.Proxy}
		}
	}
	return Through{}
}

// throughApt is said in one file for every source of a host.
func (u *Use) throughApt(sheet *source.Sheet) Through {
	for i := range sheet.Files {
		if f := &sheet.Files[i]; f.Path == deb.ProxyPath {
			proxy, direct := deb.ProxyOf(f.Text)
			t := Through{Proxy: proxy, Direct: strings.Join(direct, " ")}
			if slices.ContainsFunc(u.URLs, func(raw string) bool { return t.Asks(hostname(raw)) }) {
				return t
			}
		}
	}
	return Through{}
}

func hostname(raw string) string {
	at, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return at.Hostname()
}

// sectionProxy is what a section of a file that we wrote goes through.
func sectionProxy(text, section string) string {
	if !strings.Contains(text, "\nproxy=") {
		return ""
	}
	in := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			in = line == "["+section+"]"
		}
		if proxy, is := strings.CutPrefix(line, "proxy="); is && in {
			return proxy
		}
	}
	return ""
}
