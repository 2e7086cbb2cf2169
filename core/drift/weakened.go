package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/flatpak"
	"patientlantern.example/lantern/core/source"
)

// weakSetting is a setting of a package manager that takes a check away from every source.
type weakSetting struct {
	family, name string
	takes        func(value string) bool
	says         string
}

func saysYes(v string) bool {
	return slices.Contains([]string{"yes", "true", "with", "on", "enable", "1"}, strings.ToLower(v))
}

func saysNo(v string) bool {
	return slices.Contains([]string{"no", "false", "without", "off", "disable", "0"}, strings.ToLower(v))
}

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

// weakened finds checks that are taken away where no file of the sheet says anything of
// them: by settings for all sources, and in the distribution's own entries.
func (c *comparer) weakened() {
	for i := range c.survey.Settings {
		t := &c.survey.Settings[i]
		if c.sheet.Family != "" && t.Family != c.sheet.Family {
			continue
		}
		name := t.Name
		if parts := strings.SplitN(name, "::", 3); len(parts) == 3 && strings.EqualFold(parts[0], "Binary") {
			name = parts[2] // for one of apt's programs alone
		}
		for _, w := range weakSettings {
			if w.family == t.Family && strings.EqualFold(w.name, name) && w.takes(t.Value) {
				c.add(Finding{Class: SettingWeakened, Severity: Danger, File: t.File, Line: t.Line, Have: t.Name + " " + t.Value,
					Message: fmt.Sprintf("%s is %s: %s. Take the line out on the host; no policy writes this file", t.Name, t.Value, w.says)})
			}
		}
	}
	for i := range c.survey.Sources {
		s := &c.survey.Sources[i]
		if !s.Enabled || !c.spoken[i] || c.owned[s.File] || c.adopted.Covers(s) || s.Family == flatpak.Family {
			continue
		}
		what := s.Weakened(nil)
		if have := checked(s); have != source.CheckRequired && !c.allowed(s) {
			what = append([]string{"signature check: " + have}, what...)
		}
		if len(what) > 0 {
			c.add(Finding{Class: ChecksWeakened, Severity: Danger, File: s.File, Line: s.Line, Want: source.CheckRequired, Have: strings.Join(what, "; "),
				Message: fmt.Sprintf("checks are taken away from %s: %s", describe(s), strings.Join(what, "; "))})
		}
	}
}

// allowed reports whether signatures need not be checked: by the settings that are told as
// findings of their own, or by the package manager itself where the file says nothing.
func (c *comparer) allowed(s *source.Source) bool {
	if s.Family != "deb" {
		return true // what their sections say is compared with the rule that edits them
	}
	for key, value := range s.Options {
		if k := strings.ToLower(key); (k == "trusted" || k == "allow-insecure") && saysYes(value) {
			return false
		}
	}
	return true
}
