package standin

import (
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
)

// FamilyHost is a host of the scenario that another package manager than apt
// keeps: a folder to be read.
type FamilyHost struct {
	Name  string
	files func(base string, keys map[string]*Key) (map[string]string, error)
}

// FamilyHosts are hosts of the other families as somebody left them: nobody has looked after
// what they say for years.
var FamilyHosts = []FamilyHost{{"arc-1", foreland}, {"chart-1", halyard}, {"model-1", driftwood}, {"desk-2", deskHost}}

// Write makes the host's folder. base is the address of the upstreams.
func (h FamilyHost) Write(root, base string, keys map[string]*Key) error {
	files, err := h.files(base, keys)
	if err != nil {
		return err
	}
	files["etc/hostname"] = h.Name + "\n"
	files["proc/cpuinfo"] = cpuinfo
	files["usr/bin/sh"] = program
	files["boot/.keep"] = ""
	for name, text := range files {
		if err := write(filepath.Join(root, name), []byte(text)); err != nil {
			return err
		}
	}
	if h.Name == "chart-1" {
		link := filepath.Join(root, "etc/products.d/baseproduct")
		if err := os.Symlink("Halyard.prod", link); err != nil && !os.IsExist(err) {
			return err
		}
	}
	return nil
}

// program is the header of a program for x86_64, from which a reader can tell
// the architecture.
var program = func() string {
	b := make([]byte, 64)
	copy(b, "\x7fELF\x02\x01\x01")
	binary.LittleEndian.PutUint16(b[16:], 2)
	binary.LittleEndian.PutUint16(b[18:], 62)
	binary.LittleEndian.PutUint32(b[20:], 1)
	binary.LittleEndian.PutUint16(b[52:], 64)
	return string(b)
}()

func osRelease(name, id, like, version string) string {
	out := fmt.Sprintf("NAME=\"%[1]s\"\nID=%[2]s\nID_LIKE=\"%[3]s\"\n", name, id, like)
	if version == "" {
		return out + fmt.Sprintf("PRETTY_NAME=\"%s\"\nBUILD_ID=rolling\n", name)
	}
	return out + fmt.Sprintf("PRETTY_NAME=\"%s %s\"\nVERSION_ID=\"%s\"\n", name, version, version)
}

// foreland is an archive database, kept by dnf.
func foreland(base string, keys map[string]*Key) (map[string]string, error) {
	salt, err := keys["saltmarsh-2026"].Public()
	if err != nil {
		return nil, err
	}
	gannet, err := keys["gannet-2025"].Public()
	if err != nil {
		return nil, err
	}
	return map[string]string{
		"etc/os-release":         osRelease("Foreland", "foreland", "rhel fedora", "9"),
		"etc/dnf/dnf.conf":       "[main]\ngpgcheck=1\ninstallonly_limit=3\nclean_requirements_on_remove=True\nbest=True\n",
		"etc/dnf/vars/site":      "north\n",
		"etc/pki/rpm-gpg/GANNET": gannet,
		"etc/pki/rpm-gpg/SALT":   salt,
		"var/lib/rpm/.keep":      "",
		"etc/yum.repos.d/.keep":  "",
		"etc/yum.repos.d/foreland.repo": "# As the installer wrote it.\n[foreland-base]\nname=Foreland $releasever - Base\nbaseurl=" + base +
			"/archive.foreland.example/$releasever/base/$basearch/\n" +
			"gpgkey=file:///etc/pki/rpm-gpg/GANNET\npriority=10\n\n[foreland-extra]\nname=Foreland $releasever - Extra\nmirrorlist=" + base +
			"/archive.foreland.example/mirrors?release=$releasever&arch=$basearch&site=$site\nenabled=0\n",
		"etc/yum.repos.d/saltmarsh.repo": "[saltmarsh-9]\nname=Saltmarsh 9.x for $releasever\nbaseurl=" + base +
			"/packages.saltmarsh.example/rpm/9.x/el$releasever/$basearch\n" +
			"gpgkey=file:///etc/pki/rpm-gpg/SALT\nrepo_gpgcheck=1\npriority=50\n",
		"etc/yum.repos.d/gannet.repo": "[gannet]\nname=Gannet, licensed\nbaseurl=" + base +
			"/rpm.gannet.example/licensed/el$releasever\nusername=brinewick-arc-1\npassword=not-a-real-one\n" +
			"gpgkey=file:///etc/pki/rpm-gpg/GANNET\n\n[gannet-open]\nname=Gannet, open\nbaseurl=" + base +
			"/rpm.gannet.example/open/el$releasever\nenabled=0\ngpgcheck=no\n",
		"etc/yum.repos.d/plover.repo.rpmsave": "[plover]\nname=Plover telemetry\nbaseurl=" + base + "/metrics.plover.example/rpm\n",
	}, nil
}

// halyard is a chart server, kept by zypper.
func halyard(base string, keys map[string]*Key) (map[string]string, error) {
	salt, err := keys["saltmarsh-2026"].Public()
	if err != nil {
		return nil, err
	}
	return map[string]string{
		"etc/os-release": osRelease("Halyard", "halyard", "suse sles", "15.3"),
		"etc/products.d/Halyard.prod": "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<product schemeversion=\"0\">\n  " +
			"<vendor>Halyard</vendor>\n  <name>Halyard</name>\n  <version>15.3</version>\n  <release>1</release>\n  " +
			"<arch>x86_64</arch>\n</product>\n",
		"etc/zypp/zypp.conf":            "## Configuration of libzypp\n[main]\n# gpgcheck = on\nrepo_gpgcheck = on\n",
		"etc/zypp/keys/saltmarsh.asc":   salt,
		"etc/zypp/credentials.d/gannet": "username=brinewick-chart-1\npassword=not-a-real-one\n",
		"etc/zypp/services.d/.keep":     "",
		"etc/zypp/vars.d/series":        "9.x\n",
		"etc/zypp/repos.d/halyard.repo": "[halyard-oss]\nname=Halyard $releasever\nenabled=1\nautorefresh=1\nbaseurl=" + base +
			"/archive.halyard.example/$releasever/oss/\n\n[halyard-update]\nname=Halyard $releasever updates\nenabled=1\nautorefresh=1\nbaseurl=" +
			base + "/archive.halyard.example/$releasever/update/\n",
		"etc/zypp/repos.d/saltmarsh.repo": "[saltmarsh]\nname=Saltmarsh $series\nenabled=1\nbaseurl=" + base +
			"/packages.saltmarsh.example/rpm/${series}/halyard-$releasever_major\ngpgkey=/etc/zypp/keys/saltmarsh.asc\npriority=90\n",
		"etc/zypp/repos.d/gannet.repo": "[gannet]\nname=Gannet, licensed\nenabled=1\nbaseurl=" + base +
			"/rpm.gannet.example/licensed/halyard?credentials=gannet\ngpgcheck=0\npkg_gpgcheck=1\n",
		"etc/zypp/repos.d/brinewick-shelf.repo": "[brinewick-shelf]\nname=Brinewick shelf\nenabled=0\nbaseurl=dir:/srv/shelf\n",
	}, nil
}

// driftwood is a model node, kept by pacman.
func driftwood(base string, keys map[string]*Key) (map[string]string, error) {
	salt, err := keys["saltmarsh-2026"].Binary()
	if err != nil {
		return nil, err
	}
	gannet, err := keys["gannet-2025"].Binary()
	if err != nil {
		return nil, err
	}
	return map[string]string{
		"etc/os-release": osRelease("Driftwood", "driftwood", "arch", ""),
		"etc/pacman.conf": "[options]\nHoldPkg = pacman glibc\nArchitecture = x86_64_v3 x86_64\nParallelDownloads = 5\nSigLevel = " +
			"Required DatabaseOptional\nLocalFileSigLevel = Optional\n\n" +
			"# Faster builds stand above the base.\n[fulmar-v3]\nInclude = /etc/pacman.d/fulmar-mirrorlist\n\n#[driftwood-testing]\n#Include " +
			"= /etc/pacman.d/mirrorlist\n\n" +
			"[driftwood]\nInclude = /etc/pacman.d/mirrorlist\n\n[saltmarsh]\nSigLevel = Optional TrustAll\nServer = " + base +
			"/packages.saltmarsh.example/arch/$arch\n",
		"etc/pacman.d/mirrorlist": "## Driftwood\nServer = " + base +
			"/archive.driftwood.example/$repo/os/$arch\n#Server = " + base + "/mirror.driftwood.example/$repo/os/$arch\n",
		"etc/pacman.d/fulmar-mirrorlist":            "Server = " + base + "/fulmar.example/$arch/$repo/\n",
		"etc/pacman.d/gnupg/pubring.gpg":            string(salt) + string(gannet),
		"var/lib/pacman/local/ALPM_DB_VERSION":      "9\n",
		"var/lib/pacman/local/pacman-6.0.2-8/desc":  "%NAME%\npacman\n\n%VERSION%\n6.0.2-8\n\n",
		"var/lib/pacman/local/pacman-6.0.2-8/files": "%FILES%\netc/\netc/pacman.conf\netc/pacman.d/\n\n",
		"var/lib/pacman/local/driftwood-1-1/desc":   "%NAME%\ndriftwood\n\n%VERSION%\n1-1\n\n",
		"var/lib/pacman/local/driftwood-1-1/files":  "%FILES%\netc/\netc/pacman.d/\netc/pacman.d/mirrorlist\n\n",
		"var/lib/pacman/sync/.keep":                 "",
	}, nil
}

// deskHost is a desk with applications, kept by apt and flatpak.
func deskHost(base string, keys map[string]*Key) (map[string]string, error) {
	ring, err := keys["skerry-archive"].Binary()
	if err != nil {
		return nil, err
	}
	gannet, err := keys["gannet-2025"].Binary()
	if err != nil {
		return nil, err
	}
	return map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Skerry 12 " +
			"(mussel)\"\nNAME=\"Skerry\"\nVERSION_ID=\"12\"\nVERSION_CODENAME=mussel\nID=skerry\nID_LIKE=debian\n",
		"etc/apt/sources.list":                     "deb " + base + "/archive.skerry.example/skerry mussel main\n",
		"etc/apt/trusted.gpg.d/skerry-archive.gpg": string(ring),
		"var/lib/dpkg/status": "Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: " +
			"1.21.22\n\nPackage: apt\nStatus: install ok installed\nArchitecture: amd64\nVersion: 2.6.1\n\nPackage: flatpak\nStatus: install " +
			"ok installed\nArchitecture: amd64\nVersion: 1.14.10-1\n\n",
		"var/lib/dpkg/info/apt.list": "/.\n/usr\n/usr/bin/apt\n",
		"var/lib/flatpak/repo/config": "[core]\nrepo_version=1\nmode=bare-user-only\nmin-free-space-size=500MB\n\n[remote " +
			"\"curlew\"]\nurl=" + base + "/apps.curlew.example/repo/\nxa.title=Curlew " +
			"applications\ngpg-verify=true\ngpg-verify-summary=true\n\n[remote \"curlew-beta\"]\nurl=" + base +
			"/apps.curlew.example/beta/\nxa.title=Curlew applications, beta\ngpg-verify=false\nxa.disable=true\nxa.prio=0\n",
		"var/lib/flatpak/repo/curlew.trustedkeys.gpg": string(gannet),
		"etc/flatpak/remotes.d/brinewick.flatpakrepo": "[Flatpak Repo]\nVersion=1\nTitle=Brinewick charts\nUrl=" + base +
			"/charts.brinewick.test/flatpak/\nGPGKey=" + base64.StdEncoding.EncodeToString(
			gannet,
		) + "\n",
		"var/lib/flatpak/repo/objects/.keep": "",
	}, nil
}
