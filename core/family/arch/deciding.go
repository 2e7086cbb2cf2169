package arch

import (
	"strings"

	"patientlantern.example/lantern/core/family"
)

// deciding is what decides beside pacman's own configuration: what the gpg by which pacman
// verifies is told, for its keyring and for the whole system.
func deciding(keyring string) []family.Deciding {
	return []family.Deciding{
		{Path: keyring + "/gpg.conf", Touches: family.Trust, Comment: "#", Line: gpgDecides},
		{Path: "/etc/gnupg/gpg.conf", Touches: family.Trust, Comment: "#", Line: gpgDecides},
	}
}

// gpgQuiet are options of gpg that decide nothing about what is believed.
var gpgQuiet = family.Prefix(
	"no-greeting", "no-permission-warning", "lock-never", "keyserver", "no-auto-check-trustdb", "use-agent", "charset", "utf8-strings",
	"display-charset", "no-comments", "no-emit-version", "no-autostart", "batch", "quiet", "verbose", "no-tty",
)

func gpgDecides(line string) bool { return !gpgQuiet(strings.TrimLeft(line, "-")) }
