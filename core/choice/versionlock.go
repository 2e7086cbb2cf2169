package choice

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"

	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/pattern"
	"patientlantern.example/lantern/core/version"
)

// nevra is what a line of dnf's version locks may mean: a name, and as much of a version as it gives.
type nevra struct{ name, epoch, version, release, arch string }

// nevraForms are the ways in which dnf takes such a line apart, in the order in which it tries them.
var nevraForms = sync.OnceValue(func() (out []*regexp.Regexp) {
	const name, part, arch = `(?P<name>[^:(/=<> ]+)`, `[^-:(/=<> ]+`, `(?P<arch>[^-:.(/=<> ]+)`
	const of = `-(?:(?P<epoch>[0-9]+):)?(?P<version>` + part + `)`
	const release = `-(?P<release>` + part + `)`
	for _, form := range []string{name + of + release + `\.` + arch, name + of + release, name + of, name + `\.` + arch, name} {
		out = append(out, regexp.MustCompile("^"+form+"$"))
	}
	return out
})

func nevras(line string) (out []nevra) {
	for _, form := range nevraForms() {
		m := form.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		get := func(group string) string {
			if i := form.SubexpIndex(group); i >= 0 {
				return m[i]
			}
			return ""
		}
		out = append(out, nevra{get("name"), get("epoch"), get("version"), get("release"), get("arch")})
	}
	return out
}

// matches reports whether a build is what is meant.
func (n *nevra) matches(name, edition, arch string) bool {
	epoch, v, release := version.Parts(edition)
	fits := func(want, is string) bool { return want == "" || pattern.Fnmatch(want, is) }
	return fits(n.name, name) && (n.epoch == "" || strings.TrimLeft(n.epoch, "0") == strings.TrimLeft(epoch, "0")) &&
		fits(n.version, v) && fits(n.release, release) && (arch == "" || fits(n.arch, arch))
}

// build is one build of a package, as a source offers it or a host has it.
type build struct{ version, arch string } // no architecture: not known

// withoutPlugins reports whether a setting has dnf load no plugins: version locks are one's.
func withoutPlugins(s source.Setting) bool {
	return s.Family == rpm.Family && s.Name == "main.plugins" && s.Value == "0"
}

// lockVersions marks what dnf's version locks keep away.
func (h *Host) lockVersions(c *Choice, name string) {
	if slices.ContainsFunc(h.Survey.Settings, withoutPlugins) {
		return
	}
	builds := make([]build, len(c.Offers))
	for i := range c.Offers {
		builds[i] = build{c.Offers[i].Version, c.Offers[i].Arch}
	}
	if c.Installed != "" { // one of which there is nothing else is locked as well
		builds = append(builds, build{c.Installed, ""})
	}
	locks := versionLocks
	if slices.ContainsFunc(h.Survey.Holds, ofFive) {
		locks = versionLocks5
	}
	left, by := locks(h.Survey.Holds, name, builds)
	for i := range c.Offers {
		if o := &c.Offers[i]; !left[i] && o.Out == "" {
			o.Out = "locked away by " + by
		}
	}
}

// ofFive reports whether a lock is one of dnf 5, which takes no notice of the list of older ones.
func ofFive(h source.Hold) bool { return h.Family == rpm.Family && h.File == rpm.LocksTOML }

// versionLocks5 are what dnf 5's version locks leave of the builds of a package: where a lock names it, those that
// meet all conditions of one of its locks.
func versionLocks5(holds []source.Hold, name string, builds []build) (out []bool, by string) {
	out = make([]bool, len(builds))
	for i := range holds {
		if !ofFive(holds[i]) || !pattern.Fnmatch(holds[i].What, name) {
			continue
		}
		by = rpm.LocksTOML
		for j := range builds {
			out[j] = out[j] || meets(holds[i].Criteria, builds[j])
		}
	}
	if by == "" {
		return slices.Repeat([]bool{true}, len(builds)), ""
	}
	return out, by
}

// meets reports whether a build meets all conditions of one of dnf 5's locks.
func meets(criteria string, b build) bool {
	if criteria == "" {
		return true
	}
	epoch, _, _ := version.Parts(b.version)
	for condition := range strings.SplitSeq(criteria, ", ") {
		key, rest, _ := strings.Cut(condition, " ")
		sign, value, _ := strings.Cut(rest, " ")
		ordered := 0
		switch key {
		case "evr":
			ordered = compareEVR(b.version, value)
		case "epoch":
			ordered = version.Compare(rpm.Family, "0"+epoch, "0"+value)
		case "arch":
			if b.arch == "" { // not known
				continue
			}
			ordered = strings.Compare(b.arch, value)
		}
		if !stands(sign, ordered) {
			return false
		}
	}
	return true
}

// stands reports whether two things that are ordered so, as cmp.Compare says it, are to each other as a sign says.
func stands(sign string, ordered int) bool {
	switch sign {
	case "<":
		return ordered < 0
	case "<=":
		return ordered <= 0
	case ">":
		return ordered > 0
	case ">=":
		return ordered >= 0
	case "!=":
		return ordered != 0
	}
	return ordered == 0 // = and ==
}

// compareEVR orders versions as libsolv does: one without a release comes before those with one.
func compareEVR(a, b string) int {
	ae, av, ar := version.Parts(a)
	be, bv, br := version.Parts(b)
	return cmp.Or(
		version.Compare(rpm.Family, "0"+ae, "0"+be), version.Compare(rpm.Family, av, bv),
		cmp.Compare(min(len(ar), 1), min(len(br), 1)), version.Compare(rpm.Family, ar, br),
	)
}

// versionLocks are what dnf's plugin for version locks leaves of the builds of a package: for each whether it
// stays, and which file says so. A line locks its package to the builds that it matches; with ! in front it keeps those
// away. Of the ways in which a line can be read the first one counts of which there is a build.
func versionLocks(holds []source.Hold, name string, builds []build) (out []bool, by string) {
	locked, kept, away := false, make([]bool, len(builds)), make([]bool, len(builds))
	for i := range holds {
		k := &holds[i]
		if k.Family != rpm.Family || k.Kind != source.HoldLock {
			continue
		}
		line, not := strings.CutPrefix(k.What, "!")
		for _, n := range nevras(line) {
			any := false
			for j, b := range builds {
				if n.matches(name, b.version, b.arch) {
					any = true
					kept[j], away[j] = kept[j] || !not, away[j] || not
				}
			}
			if !not && pattern.Fnmatch(n.name, name) {
				locked = true
			}
			if any || locked {
				by = k.File
			}
			if any {
				break
			}
		}
	}
	out = make([]bool, len(builds))
	for j := range builds {
		out[j] = !away[j] && (!locked || kept[j])
	}
	return out, by
}
