package arch

import (
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// deciding is what decides beside pacman's own configuration: what the gpg by which pacman
// verifies is told, for its keyring and for the whole system.
func deciding(keyring string) []family.Deciding {
	return []family.Deciding{
		{Path: keyring + "/gpg.conf", Touches: family.Trust, Comment: "#", Line: family.GPGDecides},
		{Path: family.GPGConf, Touches: family.Trust, Comment: "#", Line: family.GPGDecides},
		{Path: keyring + "/common.conf", Touches: family.Trust, Comment: "#", Since: source.Vouching},
		{Path: "/etc/gnupg/common.conf", Touches: family.Trust, Comment: "#", Since: source.Vouching},
	}
}
