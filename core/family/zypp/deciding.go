package zypp

import (
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
)

// deciding is what decides beside zypper's own configuration: which vendors may take each
// other's place, what the solver is told of the whole system, and the system's proxy. Where libzypp reads the
// files of zypp.conf.d, their settings are told themselves.
func deciding(vendors string, drops bool) []family.Deciding {
	out := []family.Deciding{
		{Path: vendors, Names: func(string) bool { return true }, Touches: family.Origin, Comment: "#;"},
		{Path: "/etc/zypp/systemCheck", Touches: family.Origin, Comment: "#"},
		{Path: "/etc/zypp/systemCheck.d", Names: family.Suffix(".check"), Touches: family.Origin, Comment: "#"},
		{Path: "/root/.zypper.conf", Touches: family.Both(family.Origin, family.Trust), Comment: "#;"},
		{Path: "/root/.curlrc", Touches: family.Transport, Comment: "#", All: curlOptions},
		{Path: "/etc/sysconfig/proxy", Touches: family.Transport, Comment: "#", All: systemProxy},
	}
	if !drops {
		out = append(out, family.Deciding{
			Path: "/etc/zypp/zypp.conf.d", Names: family.Suffix(".conf"), Touches: family.Both(family.Origin, family.Trust), Comment: "#;",
		})
	}
	return out
}

// curlOptions are the options of curl that say who one is; libzypp takes no other from there.
// Their values are logins.
func curlOptions(_ []byte, lines []string) (out []string) {
	for _, l := range lines {
		option, _ := family.CurlOption(l)
		if name := strings.TrimLeft(option, "-"); name == "proxy-user" {
			out = append(out, name+" ***")
		}
	}
	return out
}

// systemProxy is what the system's proxy comes to: nothing where it is switched off.
func systemProxy(_ []byte, lines []string) (out []string) {
	off := false
	for _, l := range lines {
		name, value, _ := strings.Cut(l, "=")
		value = strings.Trim(value, `"' `)
		switch {
		case name == "PROXY_ENABLED":
			off = strings.EqualFold(value, "no")
		case value != "":
			out = append(out, name+"="+value)
		}
	}
	if off {
		return nil
	}
	return out
}

var decidingDirs = func() []string {
	out := []string{"/etc/zypp/vendors.d", "/etc/zypp/systemCheck.d", "/etc/sysconfig"}
	for _, dir := range ConfigDirs {
		out = append(out, dir, path.Join(dir, DropIns))
	}
	return out
}()
