package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"strings"
	"time"
)

// RpmRepository is an rpm-md repository, as dnf and zypper read them.
type RpmRepository struct {
	Base     string // path below the server's root
	Arch     string
	Packages []Package
	Key      *Key
}

// Build writes the repository's metadata: path → content.
func (r RpmRepository) Build(at time.Time) (map[string][]byte, error) {
	out := map[string][]byte{}
	var primary, filelists, other bytes.Buffer
	const ns = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	n := len(r.Packages)
	fmt.Fprintf(
		&primary,
		ns+`<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm" packages="%d">`,
		n,
	)
	fmt.Fprintf(&filelists, ns+`<filelists xmlns="http://linux.duke.edu/metadata/filelists" packages="%d">`, n)
	fmt.Fprintf(&other, ns+`<otherdata xmlns="http://linux.duke.edu/metadata/other" packages="%d">`, n)
	for _, p := range r.Packages {
		version, release, _ := strings.Cut(p.Version, "-")
		if release == "" {
			release = "1"
		}
		file := fmt.Sprintf("Packages/%s-%s-%s.%s.rpm", p.Name, version, release, r.Arch)
		id := fmt.Sprintf("%x", sha256.Sum256([]byte(r.Base+file)))
		fmt.Fprintf(
			&primary,
			"\n<package type=\"rpm\"><name>%s</name><arch>%s</arch><version epoch=\"0\" ver=\"%s\" rel=\"%s\"/><checksum type=\"sha256\" "+
				"pkgid=\"YES\">%s</checksum>"+
				"<summary>%s</summary><description>%s</description><packager/><url/><time file=\"%d\" build=\"%d\"/><size package=\"1024\" "+
				"installed=\"2048\" archive=\"2048\"/><location href=\"%s\"/>"+
				"<format><rpm:license>MIT</rpm:license><rpm:vendor/><rpm:group/><rpm:buildhost/><rpm:sourcerpm/><rpm:header-range start=\"0\" "+
				"end=\"512\"/>"+
				"<rpm:provides><rpm:entry name=\"%s\" flags=\"EQ\" epoch=\"0\" ver=\"%s\" rel=\"%s\"/></rpm:provides></format></package>",
			p.Name,
			r.Arch,
			version,
			release,
			id,
			escaped(p.Summary),
			escaped(p.Summary),
			at.Unix(),
			at.Unix(),
			file,
			p.Name,
			version,
			release,
		)
		for _, b := range []*bytes.Buffer{&filelists, &other} {
			fmt.Fprintf(
				b,
				"\n<package pkgid=\"%s\" name=\"%s\" arch=\"%s\"><version epoch=\"0\" ver=\"%s\" rel=\"%s\"/></package>",
				id,
				p.Name,
				r.Arch,
				version,
				release,
			)
		}
	}
	primary.WriteString("\n</metadata>\n")
	filelists.WriteString("\n</filelists>\n")
	other.WriteString("\n</otherdata>\n")

	var md bytes.Buffer
	fmt.Fprintf(
		&md,
		ns+`<repomd xmlns="http://linux.duke.edu/metadata/repo" xmlns:rpm="http://linux.duke.edu/metadata/rpm"><revision>%d</revision>`,
		at.Unix(),
	)
	for _, part := range []struct {
		kind string
		text []byte
	}{{"primary", primary.Bytes()}, {"filelists", filelists.Bytes()}, {"other", other.Bytes()}} {
		gz, err := gzipped(part.text)
		if err != nil {
			return nil, err
		}
		name := fmt.Sprintf("repodata/%x-%s.xml.gz", sha256.Sum256(gz), part.kind)
		out[r.Base+"/"+name] = gz
		fmt.Fprintf(
			&md,
			"\n<data type=\"%s\"><checksum type=\"sha256\">%x</checksum><open-checksum type=\"sha256\">%x</open-checksum><location "+
				"href=\"%s\"/><timestamp>%d</timestamp><size>%d</size><open-size>%d</open-size></data>",
			part.kind,
			sha256.Sum256(gz),
			sha256.Sum256(part.text),
			name,
			at.Unix(),
			len(gz),
			len(part.text),
		)
	}
	md.WriteString("\n</repomd>\n")
	out[r.Base+"/repodata/repomd.xml"] = md.Bytes()
	var err error
	out[r.Base+"/repodata/repomd.xml.asc"], err = r.Key.DetachSign(md.Bytes(), at)
	return out, err
}

func escaped(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a Builder takes everything
	return b.String()
}

// RpmRepositories are the rpm-md repositories of the scenario.
func RpmRepositories(keys map[string]*Key) []RpmRepository {
	var out []RpmRepository
	for _, major := range []string{"8", "9"} {
		out = append(
			out,
			RpmRepository{Base: "/archive.foreland.example/base/" + major + "/x86_64", Arch: "x86_64", Key: keys["foreland-archive"],
				Packages: []Package{{"foreland-release", major + ".4-1", "release files of Foreland"}}},
		)
		for _, series := range []string{"8", "9"} {
			out = append(
				out,
				RpmRepository{
					Base:     "/packages.saltmarsh.example/rpm/" + series + ".x/" + major + "/x86_64",
					Arch:     "x86_64",
					Key:      keys["saltmarsh-2026"],
					Packages: []Package{{"saltmarsh-server", series + ".2.1-1", "tide database"}},
				},
			)
		}
		for _, choice := range []string{"licensed", "open"} {
			out = append(
				out,
				RpmRepository{Base: "/rpm.gannet.example/" + choice + "/" + major + "/x86_64", Arch: "x86_64", Key: keys["gannet-2025"],
					Packages: []Package{{"gannet-hypervisor", gannetVersion(choice), "virtual machines"}}},
			)
		}
	}
	for _, choice := range []string{"licensed", "open"} {
		out = append(
			out,
			RpmRepository{Base: "/rpm.gannet.example/" + choice + "/halyard-15/x86_64", Arch: "x86_64", Key: keys["gannet-2025"],
				Packages: []Package{{"gannet-hypervisor", gannetVersion(choice), "virtual machines"}}},
		)
	}
	for _, series := range []string{"8", "9"} {
		out = append(
			out,
			RpmRepository{
				Base:     "/packages.saltmarsh.example/rpm/" + series + ".x/halyard-15/x86_64",
				Arch:     "x86_64",
				Key:      keys["saltmarsh-2026"],
				Packages: []Package{{"saltmarsh-server", series + ".2.1-1", "tide database"}},
			},
		)
	}
	return append(out, RpmRepository{Base: "/archive.halyard.example/15.3/oss", Arch: "x86_64", Key: keys["halyard-archive"],
		Packages: []Package{{"halyard-release", "15.3-1", "release files of Halyard"}}})
}

// gannetVersion is what a choice of Gannet's channel offers: the open one lags.
func gannetVersion(choice string) string {
	if choice == "licensed" {
		return "4.2-1"
	}
	return "4.1-2"
}
