package source

import (
	"slices"
	"strings"
)

// weakening are options of single sources that take a check away, with the values that do,
// and in which words that is said.
var weakening = []struct {
	family, option string
	takes          func(family, value string) bool
	says           string
}{
	{FamilyDeb, "allow-weak", IsOn, "weak signatures allowed"},
	{FamilyDeb, "allow-downgrade-to-insecure", IsOn, "it may lose its signature later"},
	{FamilyDeb, "check-valid-until", notOn, "age NOT checked"},
	{FamilyDeb, "check-date", notOn, "date NOT checked"},
	{FamilyRpm, "sslverify", IsOff, "the server's certificate NOT checked"},
	{FamilyRpm, "proxy_sslverify", IsOff, "the proxy's certificate NOT checked"},
	{FamilyFlatpak, "tls-permissive", IsOn, "the server's certificate NOT checked"},
}

// notOn is how apt reads an option of a source that it checks by: what is no yes is a no.
func notOn(family, value string) bool { return !IsOn(family, value) }

// takesAway says in words which check an option of a single source takes away; empty where it takes none.
func takesAway(family, option, value string) string {
	for _, w := range weakening {
		if w.family == family && SameName(family, w.option, option) && w.takes(family, strings.TrimSpace(value)) {
			return w.says
		}
	}
	return ""
}

// SameName reports whether two names are those of one option: apt alone reads them however they are written.
func SameName(family, a, b string) bool {
	return a == b || family == FamilyDeb && strings.EqualFold(a, b)
}

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
			if SameName(s.Family, key, name) {
				return strings.TrimSpace(value), true
			}
		}
		return "", false
	}
	for _, w := range weakening {
		if value, ok := own(w.option); ok && w.family == s.Family && w.takes(w.family, value) {
			add(w.says)
		}
	}
	for i := range settings {
		w := settings[i].weakens()
		if w == nil || w.here == "" || w.family != s.Family || w.scheme != "" && !s.fetchedBy(w.scheme) {
			continue
		}
		value, said := own(w.unless)
		if _, taken := Truth(s.Family, value); !said || !taken && s.Family == FamilyRpm { // dnf goes by the setting then
			add(w.here)
		}
	}
	for _, says := range s.transport(settings) {
		add(says)
	}
	return out
}

// OwnTrust reports whether an option of the source itself switches the check of apt's
// signatures off.
func (s *Source) OwnTrust() bool {
	for key, value := range s.Options {
		if (strings.EqualFold(key, "trusted") || strings.EqualFold(key, "allow-insecure")) && IsOn(FamilyDeb, strings.TrimSpace(value)) {
			return true
		}
	}
	return false
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
	takes        func(family, value string) bool
	says         string

	here   string // what is said of a single source; empty where its Checks say it
	unless string // the option of a source that goes before the setting
	scheme string // of the sources that it is about; empty for all
}

func anything(string, string) bool { return true }

// weakSettings are told whatever the policy says of sources: with any of them somebody else
// could supply packages.
var weakSettings = []weakSetting{
	{family: FamilyDeb, name: "Acquire::AllowInsecureRepositories", takes: IsOn, says: "repositories that nobody signed are taken"},
	{family: FamilyDeb, name: "Acquire::AllowWeakRepositories", takes: IsOn, says: "signatures made with weak hashes are taken",
		here: "weak signatures allowed"},
	{family: FamilyDeb, name: "Acquire::AllowDowngradeToInsecureRepositories", takes: IsOn,
		says: "a repository that was signed may come unsigned", here: "it may lose its signature later"},
	{family: FamilyDeb, name: "APT::Get::AllowUnauthenticated", takes: IsOn, says: "unsigned packages are installed without asking",
		here: "unsigned packages are installed without asking"},
	{family: FamilyDeb, name: "APT::Get::Force-Yes", takes: IsOn, says: "unsigned packages are installed without asking"},
	{family: FamilyDeb, name: "APT::Authentication::TrustCDROM", takes: IsOn, says: "signatures of discs are not checked",
		here: "signature NOT checked", scheme: "cdrom"},
	{family: FamilyDeb, name: "Acquire::Check-Valid-Until", takes: IsOff, says: "old metadata is taken, which hides updates",
		here: "age NOT checked", unless: "check-valid-until"},
	{family: FamilyDeb, name: "Acquire::Check-Date", takes: IsOff, says: "metadata of any date is taken",
		here: "date NOT checked", unless: "check-date"},
	{family: FamilyDeb, name: "Acquire::*::" + verifyPeer, takes: IsOff, says: "servers' certificates are not checked"},
	{family: FamilyDeb, name: "Acquire::*::" + verifyHost, takes: IsOff, says: "servers' names are not checked"},
	{family: FamilyDeb, name: "APT::Sources::With", takes: anything, says: "packages are taken from a file that nobody signed"},
	{family: FamilyDeb, name: "APT::Sources::With::", takes: anything, says: "packages are taken from a file that nobody signed"},
	{family: FamilyDeb, name: "APT::Key::gpgvcommand", takes: anything, says: "another program checks signatures"},
	{family: FamilyDeb, name: "Dir::Bin::methods", takes: anything, says: "other programs fetch and check"},
	{family: FamilyRpm, name: "main.sslverify", takes: IsOff, says: "servers' certificates are not checked",
		here: "the server's certificate NOT checked", unless: "sslverify", scheme: "https"},
	{family: FamilyRpm, name: "main.proxy_sslverify", takes: IsOff, says: "the proxy's certificate is not checked",
		here: "the proxy's certificate NOT checked", unless: "proxy_sslverify"},
	{family: FamilyZypp, name: "main.gpgcheck", takes: IsOff, says: "signatures are not checked where a repository says nothing"},
	{family: FamilyZypp, name: "main.repo_gpgcheck", takes: IsOff,
		says: "signatures of metadata are not checked where a repository says nothing"},
	{family: FamilyZypp, name: "main.pkg_gpgcheck", takes: IsOff,
		says: "signatures of packages are not checked where a repository says nothing"},
	{family: FamilyArch, name: "options.SigLevel", says: "signatures are not checked, or anybody's are taken",
		takes: func(_, v string) bool { return strings.Contains(v, "Never") || strings.Contains(v, "TrustAll") }},
}

// Weakens says which check a setting takes away from every source; empty where it takes
// none.
func (t *Setting) Weakens() string {
	if w := t.weakens(); w != nil {
		return w.says
	}
	return ""
}

func (t *Setting) weakens() *weakSetting {
	name := forAll(t.Name)
	if parts := strings.Split(name, "::"); t.Family == FamilyDeb && len(parts) > 2 && strings.EqualFold(parts[0], "Acquire") {
		if last := parts[len(parts)-1]; strings.EqualFold(last, verifyPeer) || strings.EqualFold(last, verifyHost) {
			name = "Acquire::*::" + last // of whatever method, of one host or of all
		}
	}
	for i := range weakSettings {
		if w := &weakSettings[i]; w.family == t.Family && strings.EqualFold(w.name, name) && w.takes(t.Family, t.Value) {
			return w
		}
	}
	return nil
}

// weakLines begin lines by which files beside a package manager's configuration take checks
// away, in small letters and without blanks, signs and quotes.
var weakLines = map[string][]string{
	FamilyDeb: {"force-bad-verify", "force-all"},
	FamilyRpm: {
		"%_pkgverify_levelnone", "gpgcheck=0", "gpgcheck=false", "gpgcheck=no", "gpgcheck=off",
		"sslverify=0", "sslverify=false", "sslverify=no", "sslverify=off",
	},
	FamilyZypp: {
		"%_pkgverify_levelnone", "gpgcheck=0", "gpgcheck=no", "gpgcheck=off", "gpgcheck=false",
		"repo_gpgcheck=0", "repo_gpgcheck=no", "repo_gpgcheck=off", "repo_gpgcheck=false",
		"pkg_gpgcheck=0", "pkg_gpgcheck=no", "pkg_gpgcheck=off", "pkg_gpgcheck=false",
		"gpgcheck=never", "repo_gpgcheck=never", "pkg_gpgcheck=never", "gpgcheck=-", "repo_gpgcheck=-", "pkg_gpgcheck=-",
	},
}

// weakGPG begin such lines of what gpg is told: with a keyring more, whoever is in it is believed.
var weakGPG = []string{
	"trust-modelalways", "always-trust", "allow-weak-digest-algos", "allow-weak-key-signatures",
	"ignore-valid-from", "ignore-time-conflict", "keyring", "primary-keyring",
}

// What is said of places that others than root may write, and of a folder that is a link.
const (
	OpenFolder = "files can be put here by " // who
	OpenFile   = "this can be written by "   // who
	LeadsTo    = "a link to "                // where

	NothingBelow = "nothing below it can be read: " // by anybody, and why
)

// IsOpen reports whether a line says that others than root may write.
func IsOpen(line string) bool {
	return strings.HasPrefix(line, OpenFolder) || strings.HasPrefix(line, OpenFile)
}

// Weakening lists the lines that take a check away.
func (d *Deciding) Weakening() (out []string) {
	begins := weakLines[d.Family]
	if strings.HasSuffix(d.File, "/gpg.conf") {
		begins = weakGPG
	}
	for _, line := range d.Lines {
		plain := strings.TrimLeft(strings.Map(func(r rune) rune {
			if r == ' ' || r == '"' || r == '\'' {
				return -1
			}
			return r
		}, strings.ToLower(line)), "-")
		weak := slices.ContainsFunc(begins, func(w string) bool { return strings.HasPrefix(plain, w) })
		if weak || IsOpen(line) || d.Family == FamilyRpm && strings.Contains(plain, "--nogpgcheck") {
			out = append(out, line)
		}
	}
	return out
}
