package source

import "strings"

// HostOf is the name of the host in a URL, in small letters; empty where it names none.
func HostOf(u string) string {
	_, rest, ok := strings.Cut(u, "://")
	if !ok {
		return ""
	}
	if end := strings.IndexAny(rest, "/?#"); end >= 0 {
		rest = rest[:end]
	}
	rest = rest[strings.LastIndexByte(rest, '@')+1:]
	if strings.HasPrefix(rest, "[") { // an address, which nobody looks up
		return ""
	}
	if port := strings.LastIndexByte(rest, ':'); port >= 0 {
		rest = rest[:port]
	}
	return strings.ToLower(strings.TrimSuffix(rest, "."))
}

// NamesOf are the names that a line of hosts(5) gives an address to, in small letters.
func NamesOf(line string) []string {
	line, _, _ = strings.Cut(line, "#")
	fields := strings.Fields(strings.ToLower(line))
	if len(fields) < 2 {
		return nil
	}
	for i, name := range fields {
		fields[i] = strings.TrimSuffix(name, ".")
	}
	return fields[1:]
}

// HostsFile is where a system is told addresses of hosts that go before any other.
const HostsFile = "/etc/hosts"

// FetchedFrom are the names of the hosts that sources which are on, services and keys are fetched
// from.
func (s *Survey) FetchedFrom() map[string]bool {
	named := map[string]bool{}
	note := func(urls ...string) {
		for _, u := range urls {
			if host := HostOf(u); host != "" {
				named[host] = true
			}
		}
	}
	for i := range s.Sources {
		if x := &s.Sources[i]; x.Enabled {
			note(x.EffURLs...)
			note(x.Mirrorlist, x.Metalink)
			note(x.SignedBy...)
		}
	}
	for i := range s.Services {
		if s.Services[i].Enabled {
			note(s.Services[i].URL)
		}
	}
	return named
}
