package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// moving are settings by which a package manager looks for its files elsewhere, with where these stood.
const moving = "rootdir=/etc/apt/,/var/lib/dpkg/ dir=/etc/apt/ dir::etc=/etc/apt/ dir::etc::sourcelist=/etc/apt/sources.list " +
	"dir::etc::sourceparts=/etc/apt/sources.list.d/ dir::etc::preferences=/etc/apt/preferences " +
	"dir::etc::preferencesparts=/etc/apt/preferences.d/ dir::etc::main=/etc/apt/apt.conf dir::etc::trusted=/etc/apt/trusted.gpg " +
	"dir::etc::trustedparts=/etc/apt/trusted.gpg.d/ main.configdir=/etc/zypp/ " +
	"main.varsdir=/etc/yum/vars/,/etc/dnf/vars/,/etc/zypp/vars.d/ " +
	"main.reposdir=/etc/yum.repos.d/,/etc/yum/repos.d/,/etc/distro.repos.d/,/etc/zypp/repos.d/ " +
	"main.servicesdir=/etc/zypp/services.d/ main.locksfile.path=/etc/zypp/locks dir::etc::parts=/etc/apt/apt.conf.d/ " +
	"main.pluginconfpath=/etc/dnf/plugins/ options.hookdir=/etc/pacman.d/hooks/"

// movedFrom is where a package manager looked before a setting had it look elsewhere; nil where a setting moves nothing.
func movedFrom(setting string) []string {
	for word := range strings.FieldsSeq(moving) {
		if name, from, _ := strings.Cut(word, "="); strings.EqualFold(name, setting) {
			return strings.Split(from, ",")
		}
	}
	return nil
}

// moved leaves out what follows from a setting that has the package manager look elsewhere: what it does not read any more of
// where it looked is counted with the setting. Where that goes back, all of it does.
func (c *comparer) moved(list []Finding) []Finding {
	for i := 0; i < len(list); i++ {
		cause := list[i]
		if cause.Class != SettingChanged || cause.Have == "" {
			continue
		}
		stood := movedFrom(cause.Field)
		if stood == nil {
			continue
		}
		stood = slices.DeleteFunc(stood, func(p string) bool { // dnf and zypper have settings of one name
			return strings.HasPrefix(cause.Field, "main.") && strings.HasPrefix(p, "/etc/zypp/") != strings.Contains(cause.File, "zypp")
		})
		before := len(list)
		if strings.HasPrefix(cause.Have, "/") {
			stood = append(stood, cause.Have) // where the policy's own would stand now
		}
		list = slices.DeleteFunc(list, func(x Finding) bool {
			gone := c.unfound(x, stood)
			if gone && x.Severity == Danger {
				cause.Severity = Danger
			}
			return gone
		})
		if gone := before - len(list); gone > 0 {
			i = slices.IndexFunc(list, func(x Finding) bool { return x.Key() == cause.Key() })
			list[i].Severity = cause.Severity
			list[i].Message += fmt.Sprintf("; what stood elsewhere is not read any more (%d more findings)", gone)
		}
	}
	return list
}

// unfound reports whether a finding tells that something is not read any more that stood in one of some places.
func (c *comparer) unfound(x Finding, stood []string) bool {
	if !slices.ContainsFunc(stood, func(p string) bool { return x.File == p || strings.HasSuffix(p, "/") && strings.HasPrefix(x.File, p) }) {
		return false
	}
	switch x.Class {
	case MissingFile, MissingSource:
		return true
	case SwitchedOff:
		return strings.HasSuffix(x.Have, source.OffByFilename)
	case PinChanged, HoldChanged, ServiceChanged, SettingChanged:
		return x.Have == ""
	case MissingKey:
		return c.survey.Traits.Family != source.FamilyRpm
	}
	return false
}
