package arch

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// deciding is what decides beside pacman's own configuration: what the gpg by which pacman verifies is told, for its keyring
// and for the whole system, and what a program is told that fetches for it.
func deciding(keyring, command string) []family.Deciding {
	return append([]family.Deciding{
		{Path: keyring + "/gpg.conf", Touches: family.Trust, Comment: "#", Line: family.GPGDecides},
		{Path: family.GPGConf, Touches: family.Trust, Comment: "#", Line: family.GPGDecides},
		{Path: keyring + "/common.conf", Touches: family.Trust, Comment: "#", Since: source.Vouching},
		{Path: "/etc/gnupg/common.conf", Touches: family.Trust, Comment: "#", Since: source.Vouching},
	}, fetcher(command)...)
}

// fetchers are the files of programs that are called to fetch in pacman's place.
var fetchers = map[string][]string{
	"curl": {"/root/.curlrc", "/root/.config/curlrc"},
	"wget": {"/etc/wgetrc", "/root/.wgetrc"},
}

// fetcher is what the program of an XferCommand is told beside its options. The texts are not kept: they can hold logins of
// any form.
func fetcher(command string) (out []family.Deciding) {
	program, _, _ := strings.Cut(strings.TrimSpace(command), " ")
	for _, file := range fetchers[path.Base(program)] {
		out = append(out, family.Deciding{
			Path: file, Touches: family.Transport, Comment: "#", All: fetcherSays, Stays: true, Since: source.Fetchers,
		})
	}
	return out
}

// shownOptions are those of curl and wget whose values say through whom is fetched, and what is believed of a server. Others
// are told by name: they can be logins.
var shownOptions = []string{
	"insecure", "k", "cacert", "capath", "proxy", "x", "preproxy", "proxy-insecure", "proxy-cacert", "resolve", "connect-to", "doh-url",
	"socks5", "noproxy", "check-certificate", "ca-certificate", "ca-directory", "http-proxy", "https-proxy", "use-proxy", "no-proxy",
}

func fetcherSays(_ []byte, lines []string) (out []string) {
	for _, l := range lines {
		option, valued := family.CurlOption(l)
		if len(option) > 2 && option[0] == '-' && option[1] != '-' { // a letter with its value
			option, valued = option[:2], true
		}
		name := strings.ReplaceAll(strings.ToLower(strings.TrimLeft(option, "-")), "_", "-")
		if valued && !slices.Contains(shownOptions, name) {
			l = option + " " + family.Hidden
		}
		out = append(out, l)
	}
	return out
}
