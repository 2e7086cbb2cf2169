package deb

import (
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// deciding is what decides beside apt's own configuration: dpkg's, which apt runs.
var deciding = []family.Deciding{
	{Path: "/etc/dpkg/dpkg.cfg", Touches: dpkgTouches, Comment: "#", Line: dpkgDecides},
	{Path: "/etc/dpkg/dpkg.cfg.d", Names: dpkgReads, Touches: dpkgTouches, Comment: "#", Line: dpkgDecides},
	{Path: "/root/.dpkg.cfg", Touches: dpkgTouches, Comment: "#", Line: dpkgDecides},
	// What sqv takes for strong enough, where somebody says otherwise than Debian: apt's NEWS of 2.9.19.
	{Path: "/etc/crypto-policies/back-ends/apt-sequoia.config", Touches: family.Trust, Comment: "#"},
	{Path: "/var/lib/crypto-config/profiles/current/apt-sequoia.config", Touches: family.Trust, Comment: "#"},
	{Path: "/etc/crypto-policies/back-ends/sequoia.config", Touches: family.Trust, Comment: "#"},
	{Path: "/var/lib/crypto-config/profiles/current/sequoia.config", Touches: family.Trust, Comment: "#"},
}

var dpkgTouches = family.Both(family.Trust, family.Program)

// dpkgReads reports whether dpkg reads a file of its folder: names of letters, digits, - and _.
func dpkgReads(name string) bool {
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// dpkgOptions are the options of dpkg that let something in or run something: dpkg(1). What
// it keeps of edited files, where it logs and which paths it leaves out decides nothing here.
var dpkgOptions = family.Prefix(
	"force-", "no-force-", "refuse-", "no-debsig", "pre-invoke", "post-invoke", "status-logger", "admindir", "instdir", "root",
	"ignore-depends", "no-act",
)

var dpkgHarmless = family.Prefix("force-conf", "no-force-conf", "refuse-conf", "force-unsafe-io", "no-force-unsafe-io", "refuse-unsafe-io")

// dpkgDecides reports whether a line of dpkg's configuration decides anything.
func dpkgDecides(line string) bool {
	line = strings.TrimLeft(line, "-")
	return dpkgOptions(line) && (!dpkgHarmless(line) || strings.Contains(line, ","))
}

// Idle reports whether a setting of apt's says what decides nothing here: an option of dpkg's of that kind, or the architecture
// that the machine has anyway.
func Idle(t *source.Setting, native string) bool {
	name := strings.ToLower(t.Name)
	return strings.HasPrefix(name, "dpkg::options:") && !dpkgDecides(t.Value) || name == "apt::architecture" && t.Value == native
}

var decidingDirs = []string{"/etc/dpkg", "/etc/dpkg/dpkg.cfg.d"}
