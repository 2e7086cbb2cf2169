package source

import (
	"net/url"
	"slices"
	"strings"
)

// What is said of a source whose server need not prove who it is.
const (
	anyServer = "the server's certificate NOT checked"
	anyName   = "the server's name NOT checked"
)

// apt's switches for the checks of TLS, below the name of a method, or of one and a host.
const (
	verifyPeer = "Verify-Peer"
	verifyHost = "Verify-Host"
)

// forAll is the name of a setting of apt without the program that it is for alone.
func forAll(name string) string {
	_, name = scoped(name)
	return name
}

// scoped parts the name of a setting of apt from that of the program or the method that it is for alone, in small
// letters; empty where it is for all.
func scoped(name string) (program, rest string) {
	if parts := strings.SplitN(name, "::", 3); len(parts) == 3 && strings.EqualFold(parts[0], "Binary") {
		return strings.ToLower(parts[1]), parts[2]
	}
	return "", name
}

// methods are the programs by which apt fetches and verifies: what is said to one of them alone is nothing to the others.
var methods = []string{"cdrom", "copy", "file", "ftp", "gpgv", "http", "https", "mirror", "rred", "rsh", "sqv", "ssh", "store"}

// transport lists in words which checks of TLS are not made for a source: by apt's settings, which hold for methods and
// for single hosts, or by what the addresses of zypper ask for.
func (s *Source) transport(settings []Setting) (out []string) {
	for _, u := range slices.Concat(s.EffURLs, []string{s.Mirrorlist, s.Metalink}) {
		switch s.Family {
		case FamilyZypp:
			out = append(out, uncheckedByQuery(u)...)
		case FamilyDeb:
			out = append(out, uncheckedByApt(u, settings)...)
		}
	}
	return out
}

// Weakened lists in words the checks that are not made of the server of a service which is on.
func (v *Service) Weakened() []string {
	if !v.Enabled {
		return nil
	}
	return uncheckedByQuery(v.URL)
}

// uncheckedByQuery says in words which checks of TLS an address of zypper asks not to be made.
func uncheckedByQuery(address string) (out []string) {
	says, _ := Query(address, "ssl_verify")
	flags := strings.Split(says, ",")
	switch {
	case says == "no":
		return []string{anyServer}
	case slices.ContainsFunc(flags, func(f string) bool { return f != "peer" && f != "host" }):
		return nil // yes, nothing, or what zypper refuses
	}
	if !slices.Contains(flags, "peer") {
		out = append(out, anyServer)
	}
	if !slices.Contains(flags, "host") {
		out = append(out, anyName)
	}
	return out
}

// Query returns what the query of one of zypper's addresses says under a name, escapes resolved. The last word counts.
func Query(address, name string) (value string, said bool) {
	address, _, _ = strings.Cut(address, "#")
	_, query, _ := strings.Cut(address, "?")
	for pair := range strings.SplitSeq(query, "&") {
		if key, v, _ := strings.Cut(pair, "="); unescaped(key) == name {
			value, said = unescaped(v), true
		}
	}
	return value, said
}

// uncheckedByApt says in words which checks of TLS apt does not make of the server of an address.
func uncheckedByApt(address string, settings []Setting) (out []string) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "https" && !strings.HasSuffix(u.Scheme, "+https") {
		return nil
	}
	for _, check := range []struct{ option, says string }{{verifyPeer, anyServer}, {verifyHost, anyName}} {
		for _, name := range methodSettings(u.Scheme, u.Hostname(), check.option) {
			value, found := set(settings, u.Scheme, name)
			if IsOff(FamilyDeb, value) {
				out = append(out, check.says)
			}
			if found {
				break
			}
		}
	}
	return out
}

// methodSettings are the names under which apt looks for an option of what it fetches with, the one that counts first:
// what is said of the host goes before what is said of all, and the method's own before that of http, on which it is built.
func methodSettings(scheme, host, option string) (out []string) {
	methods := []string{scheme}
	if before, after, both := strings.Cut(scheme, "+"); both {
		methods = append(methods, before, after)
	}
	methods = append(methods, "http")
	for _, of := range []string{"::" + host, ""} {
		for _, m := range methods {
			out = append(out, "Acquire::"+m+of+"::"+option)
		}
	}
	return out
}

// set returns the value of one of apt's settings for what fetches by a scheme; what is empty is not set. What is said to
// the method alone goes before what is said to the program that calls it, and to all.
func set(settings []Setting, scheme, name string) (value string, found bool) {
	_, last, _ := strings.Cut(scheme, "+") // mirror+https has https fetch
	for i := len(settings) - 1; i >= 0; i-- {
		program, rest := scoped(settings[i].Name)
		if of := program != "" && (program == scheme || program == last); of && settings[i].says(rest, name) {
			return settings[i].Value, true
		}
	}
	for i := range settings {
		program, rest := scoped(settings[i].Name)
		if settings[i].says(rest, name) && !slices.Contains(methods, program) && !strings.Contains(program, "+") {
			if value, found = settings[i].Value, true; IsOff(FamilyDeb, value) {
				return value, true // for one of apt's programs at least
			}
		}
	}
	return value, found
}

// says reports whether a setting of apt that is called so, but for whom it is for, gives a name a value.
func (t *Setting) says(called, name string) bool {
	return t.Family == FamilyDeb && t.Value != "" && strings.EqualFold(called, name)
}
