package source

import (
	"slices"
	"strings"
)

// weakening are options of single sources that take a check away, with the values that do,
// and in which words that is said.
var weakening = []struct {
	family, option string
	values         []string
	says           string
}{
	{"deb", "allow-weak", yes, "weak signatures allowed"},
	{"deb", "allow-downgrade-to-insecure", yes, "it may lose its signature later"},
	{"deb", "check-valid-until", no, "age NOT checked"},
	{"deb", "check-date", no, "date NOT checked"},
	{"rpm", "sslverify", no, "the server's certificate NOT checked"},
	{"rpm", "proxy_sslverify", no, "the proxy's certificate NOT checked"},
	{"flatpak", "tls-permissive", yes, "the server's certificate NOT checked"},
}

// weakeningAll are settings that take a check away from every source of a family.
var weakeningAll = []struct {
	family, setting, unless string
	values                  []string
	scheme                  string // of the sources that it is about; empty for all
	says                    string
}{
	{"deb", "acquire::allowweakrepositories", "", yes, "", "weak signatures allowed"},
	{"deb", "acquire::allowdowngradetoinsecurerepositories", "", yes, "", "it may lose its signature later"},
	{"deb", "acquire::check-valid-until", "check-valid-until", no, "", "age NOT checked"},
	{"deb", "acquire::check-date", "check-date", no, "", "date NOT checked"},
	{"deb", "acquire::https::verify-peer", "", no, "https", "the server's certificate NOT checked"},
	{"deb", "acquire::https::verify-host", "", no, "https", "the server's name NOT checked"},
	{"deb", "apt::get::allowunauthenticated", "", yes, "", "unsigned packages are installed without asking"},
	{"deb", "apt::authentication::trustcdrom", "", yes, "cdrom", "signature NOT checked"},
	{"rpm", "main.sslverify", "sslverify", no, "https", "the server's certificate NOT checked"},
	{"rpm", "main.proxy_sslverify", "proxy_sslverify", no, "", "the proxy's certificate NOT checked"},
}

var (
	yes = []string{"yes", "true", "with", "on", "enable", "1"}
	no  = []string{"no", "false", "without", "off", "disable", "0"}
)

// Weakened lists the checks that are taken away from a source, by its own options or by
// settings for all, in words. What checks is left to Checks is not among them.
func (s *Source) Weakened(settings []Setting) (out []string) {
	add := func(says string) {
		if !slices.Contains(out, says) {
			out = append(out, says)
		}
	}
	own := func(name string) (string, bool) {
		for key, value := range s.Options {
			if strings.EqualFold(key, name) {
				return strings.ToLower(strings.TrimSpace(value)), true
			}
		}
		return "", false
	}
	for _, w := range weakening {
		if value, ok := own(w.option); ok && w.family == s.Family && slices.Contains(w.values, value) {
			add(w.says)
		}
	}
	for _, w := range weakeningAll {
		if w.family != s.Family || w.scheme != "" && !s.fetchedBy(w.scheme) {
			continue
		}
		if _, said := own(w.unless); said {
			continue
		}
		for i := range settings {
			t := &settings[i]
			if t.Family == s.Family && strings.EqualFold(t.Name, w.setting) && slices.Contains(w.values, strings.ToLower(t.Value)) {
				add(w.says)
			}
		}
	}
	if s.Family == "zypp" && slices.ContainsFunc(s.EffURLs, func(u string) bool { return strings.Contains(u, "ssl_verify=no") }) {
		add("the server's certificate NOT checked")
	}
	return out
}

// fetchedBy reports whether a source comes by a scheme.
func (s *Source) fetchedBy(scheme string) bool {
	for _, u := range slices.Concat(s.EffURLs, []string{s.Mirrorlist, s.Metalink}) {
		if have, _, ok := strings.Cut(u, ":"); ok && (have == scheme || strings.HasSuffix(have, "+"+scheme)) {
			return true
		}
	}
	return false
}
