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

// weakSetting is a setting of a package manager that takes a check away from every source.
type weakSetting struct {
	family, name string
	takes        func(value string) bool
	says         string
}

// saysYes reports whether a package manager of any family takes a word for yes.
func saysYes(v string) bool { return slices.Contains(yes, strings.ToLower(v)) }

func saysNo(v string) bool { return slices.Contains(no, strings.ToLower(v)) }

func anything(string) bool { return true }

// weakSettings are told whatever the policy says of sources: with any of them somebody else
// could supply packages.
var weakSettings = []weakSetting{
	{"deb", "Acquire::AllowInsecureRepositories", saysYes, "repositories that nobody signed are taken"},
	{"deb", "Acquire::AllowWeakRepositories", saysYes, "signatures made with weak hashes are taken"},
	{"deb", "Acquire::AllowDowngradeToInsecureRepositories", saysYes, "a repository that was signed may come unsigned"},
	{"deb", "APT::Get::AllowUnauthenticated", saysYes, "unsigned packages are installed without asking"},
	{"deb", "APT::Get::Force-Yes", saysYes, "unsigned packages are installed without asking"},
	{"deb", "APT::Authentication::TrustCDROM", saysYes, "signatures of discs are not checked"},
	{"deb", "Acquire::Check-Valid-Until", saysNo, "old metadata is taken, which hides updates"},
	{"deb", "Acquire::Check-Date", saysNo, "metadata of any date is taken"},
	{"deb", "Acquire::https::Verify-Peer", saysNo, "servers' certificates are not checked"},
	{"deb", "Acquire::https::Verify-Host", saysNo, "servers' names are not checked"},
	{"deb", "APT::Key::gpgvcommand", anything, "another program checks signatures"},
	{"deb", "Dir::Bin::methods", anything, "other programs fetch and check"},
	{"rpm", "main.sslverify", saysNo, "servers' certificates are not checked"},
	{"rpm", "main.proxy_sslverify", saysNo, "the proxy's certificate is not checked"},
	{"zypp", "main.gpgcheck", saysNo, "signatures are not checked where a repository says nothing"},
	{"arch", "options.SigLevel", func(v string) bool { return strings.Contains(v, "Never") || strings.Contains(v, "TrustAll") },
		"signatures are not checked, or anybody's are taken"},
}

// Weakens says which check a setting takes away from every source; empty where it takes
// none.
func (t *Setting) Weakens() string {
	name := t.Name
	if parts := strings.SplitN(name, "::", 3); len(parts) == 3 && strings.EqualFold(parts[0], "Binary") {
		name = parts[2] // for one of apt's programs alone
	}
	for _, w := range weakSettings {
		if w.family == t.Family && strings.EqualFold(w.name, name) && w.takes(t.Value) {
			return w.says
		}
	}
	return ""
}
