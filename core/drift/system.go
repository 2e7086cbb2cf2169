package drift

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// osRelease says which system a host is.
const osRelease = "/etc/os-release"

// system tells of another release than the one that the policy came to: what else differs
// may follow from it.
func (s *standing) system() {
	was, is := s.was.Traits.OS, s.survey.Traits.OS
	if was.ID == "" || was.ID == is.ID && was.Version == is.Version && was.Codename == is.Codename {
		return
	}
	name := func(o source.OS) string { return strings.TrimSpace(o.ID + " " + o.Version + " " + o.Codename) }
	if is.ID == "" {
		s.add(Finding{Class: SystemChanged, Severity: Fault, Field: "system", File: osRelease, Want: name(was), Stays: true,
			Message: "the host does not say any more which system it is; it was " + name(was) + " when the policy came: put the file back"})
		return
	}
	s.add(Finding{Class: SystemChanged, Severity: Note, Field: "system", File: osRelease, Want: name(was), Have: name(is),
		Message: fmt.Sprintf("the host is %s now; it was %s when the policy came: where the upgrade was meant, accept the host as it stands",
			name(is), name(was))})
}

// architectures tells of other processors than those for which dpkg took packages when the policy came: every source
// that names none offers them as well. What apt.conf says of them is told as a setting.
func (s *standing) architectures() {
	was, is := processors(s.was), processors(s.survey)
	said := func(of *source.Survey) int {
		return slices.IndexFunc(of.Settings, func(t source.Setting) bool {
			return strings.EqualFold(t.Name, "APT::Architecture") && !s.usual(&t)
		})
	}
	if said(s.was) >= 0 || said(s.survey) >= 0 { // and is told there
		return
	}
	if was != is && was != "" && is != "" {
		s.add(Finding{Class: SettingChanged, Severity: Fault, Field: "architectures", File: deb.Foreign, Want: was, Have: is, Stays: true,
			Message: "packages are for " + is + "; they were for " + was + " when the policy came"})
	}
}

// processors are those for which dpkg takes packages; empty where somebody else says that.
func processors(of *source.Survey) string {
	if of.Traits.Family != deb.Family {
		return ""
	}
	for i := range of.Settings {
		if strings.Contains(strings.ToLower(of.Settings[i].Name), "architectures") {
			return ""
		}
	}
	list := slices.Clone(of.Traits.Architectures)
	slices.Sort(list)
	return strings.Join(list, " ")
}
