package standin

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// SimulatedHost is a folder that looks like the root of a machine.
type SimulatedHost struct {
	Name     string // short
	Release  string // limpet or mussel
	Arch     string // dpkg's word
	Labels   map[string]string
	Deb822   bool // the distribution's entries stand in a .sources file
	LeftOver bool // somebody has written a vendor's list by hand
	Media    bool // an entry for install media, switched off
	Flatpak  bool // has flatpak, with its own configuration as it comes
}

// Domain is the domain of all hosts of the scenario.
const Domain = "brinewick.test"

// DebHosts are the scenario's hosts of the deb family.
var DebHosts = []SimulatedHost{
	{Name: "gw-01", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "north"}},
	{Name: "gw-02", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "north"}},
	{Name: "gw-03", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "south"}, Deb822: true},
	{Name: "gw-04", Release: "limpet", Arch: "amd64", Labels: map[string]string{"site": "south"}, Media: true},
	{Name: "gw-05", Release: "mussel", Arch: "arm64", Labels: map[string]string{"site": "reef"}},
	{Name: "gw-06", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "north"}},
	{Name: "gw-07", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "north"}, Deb822: true},
	{Name: "gw-08", Release: "mussel", Arch: "arm64", Labels: map[string]string{"site": "south"}},
	{Name: "gw-09", Release: "limpet", Arch: "amd64", Labels: map[string]string{"site": "south"}},
	{Name: "gw-10", Release: "limpet", Arch: "arm64", Labels: map[string]string{"site": "south"}},
	{Name: "gw-11", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "north"}},
	{Name: "gw-12", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "south"}, Deb822: true},
	{Name: "desk-1", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "station"}, LeftOver: true},
	{Name: "desk-2", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "station"}, Flatpak: true},
	{Name: "desk-3", Release: "mussel", Arch: "amd64", Labels: map[string]string{"site": "station"}, Flatpak: true},
}

var releases = map[string]struct{ version, apt string }{
	"limpet": {"11", "2.4.13"},
	"mussel": {"12", "2.6.1"},
}

// flags of a processor of level 3, for the simulated hosts.
const cpuinfo = "processor\t: 0\nvendor_id\t: GenuineIntel\nmodel name\t: made up\nflags\t\t: fpu cx8 cmov mmx fxsr sse sse2 " +
	"syscall lm cx16 lahf_lm popcnt sse4_1 sse4_2 ssse3 pni avx avx2 bmi1 bmi2 f16c fma abm movbe xsave\n"

// Write makes the host's folder. base is the address of the upstreams.
func (h SimulatedHost) Write(root, base string, keys map[string]*Key) error {
	r := releases[h.Release]
	archive := base + "/archive.skerry.example/skerry"
	files := map[string]string{
		"etc/hostname": h.Name + "\n",
		"etc/os-release": fmt.Sprintf(
			"PRETTY_NAME=\"Skerry %s (%s)\"\nNAME=\"Skerry\"\nVERSION_ID=\"%s\"\nVERSION=\"%s "+
				"(%s)\"\nVERSION_CODENAME=%s\nID=skerry\nID_LIKE=debian\nHOME_URL=\"https://skerry.example/\"\n",
			r.version,
			h.Release,
			r.version,
			r.version,
			h.Release,
			h.Release,
		),
		"var/lib/dpkg/status":                h.installed(r.apt),
		"var/lib/dpkg/info/apt.list":         "/.\n/usr\n/usr/bin/apt\n",
		"var/lib/apt/lists/partial/.keep":    "",
		"var/cache/apt/archives/partial/.kp": "",
		"etc/apt/apt.conf.d/01quiet":         "APT::Color \"false\";\n",
		"etc/apt/preferences.d/.keep":        "",
		"etc/apt/sources.list.d/.keep":       "",
		"boot/.keep":                         "",
		"usr/share/keyrings/.keep":           "",
	}
	if h.Arch == "amd64" {
		files["proc/cpuinfo"] = cpuinfo
	} else {
		files["proc/cpuinfo"] = "processor\t: 0\nCPU implementer\t: 0x41\n"
	}
	if h.Deb822 {
		files["etc/apt/sources.list.d/skerry.sources"] = fmt.Sprintf(
			"# The archive of Skerry, as its installer wrote it.\nTypes: deb\nURIs: %s\nSuites: %s\nComponents: main\n\nTypes: deb\nURIs: "+
				"%s\nSuites: %s-updates\nComponents: main\n",
			archive,
			h.Release,
			archive,
			h.Release,
		)
		files["etc/apt/sources.list"] = "# See /etc/apt/sources.list.d/skerry.sources\n"
	} else {
		var b strings.Builder
		b.WriteString("# The archive of Skerry\n")
		if h.Media {
			fmt.Fprintf(&b, "# deb cdrom:[Skerry %s _%s_ - %s 1 20260214]/ %s main\n\n", r.version, h.Release, h.Arch, h.Release)
		}
		fmt.Fprintf(
			&b,
			"deb %s %s main\ndeb %s %s-updates main\n# deb-src %s %s main\n",
			archive,
			h.Release,
			archive,
			h.Release,
			archive,
			h.Release,
		)
		files["etc/apt/sources.list"] = b.String()
	}
	if h.Flatpak {
		files["var/lib/flatpak/repo/config"] = "[core]\nrepo_version=1\nmode=bare-user-only\nmin-free-space-size=500MB\n"
		files["var/lib/flatpak/repo/objects/.keep"], files["etc/flatpak/remotes.d/.keep"] = "", ""
	}
	if h.database() {
		files["var/lib/dpkg/info/saltmarsh-server.list"] = "/.\n/usr\n/usr/bin/saltmarsh\n"
	}
	if h.LeftOver {
		files["etc/apt/sources.list.d/plover.list"] = "# telemetry, put here by hand in spring\ndeb [trusted=yes] " + base +
			"/metrics.plover.example/apt rolling main\n"
	}
	for name, text := range files {
		if err := write(filepath.Join(root, name), []byte(text)); err != nil {
			return err
		}
	}
	ring, err := keys["skerry-archive"].Binary()
	if err != nil {
		return err
	}
	return write(filepath.Join(root, "etc/apt/trusted.gpg.d/skerry-archive.gpg"), ring)
}

// database reports whether the host has the tide database installed, as gateways do.
func (h SimulatedHost) database() bool { return strings.HasPrefix(h.Name, "gw-") }

// installed is dpkg's status.
func (h SimulatedHost) installed(apt string) string {
	type pkg struct{ name, version, maintainer, description string }
	archive := "Skerry <archive@skerry.example>"
	list := []pkg{{"apt", apt, archive, "package manager"}, {"dpkg", "1.21.22", archive, "package manager"}}
	if h.Flatpak {
		list = append(list, pkg{"flatpak", "1.14.10-1", archive, "applications"})
	}
	if h.database() {
		list = append(list, pkg{"saltmarsh-server", "8.2.1-1", "Saltmarsh <packages@saltmarsh.example>", "tide database"})
	}
	var b strings.Builder
	for _, p := range list {
		fmt.Fprintf(&b, "Package: %s\nStatus: install ok installed\nArchitecture: %s\nVersion: %s\nMaintainer: %s\nDescription: %s\n\n",
			p.name, h.Arch, p.version, p.maintainer, p.description)
	}
	return b.String()
}

func write(name string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o644)
}
