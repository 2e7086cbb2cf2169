package standin

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/ulikunitz/xz"
)

// Package is a package that a repository offers.
type Package struct {
	Name, Version, Summary string
}

// AptSuite is one suite of an apt repository.
type AptSuite struct {
	Base       string // path of the repository below the server's root
	Origin     string
	Suite      string
	Codename   string
	Components map[string][]Package
	Archs      []string
	Key        *Key
}

// Build writes the suite's files: path → content. Its metadata is dated at and
// good for a week after that.
func (s AptSuite) Build(at time.Time) (map[string][]byte, error) {
	out := map[string][]byte{}
	dir := s.Base + "/dists/" + s.Suite + "/"
	var comps []string
	for c := range s.Components {
		comps = append(comps, c)
	}
	slices.Sort(comps)
	var names []string
	for _, c := range comps {
		for _, a := range s.Archs {
			plain := s.packages(c, a)
			stem := c + "/binary-" + a + "/Packages"
			gz, err := gzipped(plain)
			if err != nil {
				return nil, err
			}
			xz, err := xzed(plain)
			if err != nil {
				return nil, err
			}
			for ext, data := range map[string][]byte{"": plain, ".gz": gz, ".xz": xz} {
				out[dir+stem+ext] = data
				names = append(names, stem+ext)
			}
		}
	}
	slices.Sort(names)
	var r strings.Builder
	fmt.Fprintf(
		&r,
		"Origin: %s\nLabel: %s\nSuite: %s\nCodename: %s\nDate: %s\nValid-Until: %s\nArchitectures: %s\nComponents: %s\nDescription: %s, "+
			"made up for trying things out\n",
		s.Origin,
		s.Origin,
		s.Suite,
		s.Codename,
		rfc1123(at),
		rfc1123(at.Add(7*24*time.Hour)),
		strings.Join(s.Archs, " "),
		strings.Join(comps, " "),
		s.Origin,
	)
	r.WriteString("MD5Sum:\n")
	for _, n := range names {
		fmt.Fprintf(&r, " %x %d %s\n", md5.Sum(out[dir+n]), len(out[dir+n]), n)
	}
	r.WriteString("SHA256:\n")
	for _, n := range names {
		fmt.Fprintf(&r, " %x %d %s\n", sha256.Sum256(out[dir+n]), len(out[dir+n]), n)
	}
	release := []byte(r.String())
	var err error
	out[dir+"Release"] = release
	if out[dir+"InRelease"], err = s.Key.ClearSign(release, at); err != nil {
		return nil, err
	}
	if out[dir+"Release.gpg"], err = s.Key.DetachSign(release, at); err != nil {
		return nil, err
	}
	return out, nil
}

func rfc1123(t time.Time) string { return t.UTC().Format("Mon, 02 Jan 2006 15:04:05 UTC") }

func (s AptSuite) packages(component, arch string) []byte {
	var b bytes.Buffer
	for _, p := range s.Components[component] {
		file := fmt.Sprintf("pool/%s/%s_%s_%s.deb", component, p.Name, p.Version, arch)
		fmt.Fprintf(
			&b,
			"Package: %s\nVersion: %s\nArchitecture: %s\nMaintainer: %s <packages@%s>\nFilename: %s\nSize: 1024\nSHA256: %x\nDescription: %s\n\n",
			p.Name,
			p.Version,
			arch,
			s.Origin,
			strings.SplitN(s.Base, "/", 3)[1],
			file,
			sha256.Sum256([]byte(file)),
			p.Summary,
		)
	}
	return b.Bytes()
}

// packedTexts are texts packed before: a vendor's lists are built anew whenever its fault is another,
// in every test, and a packer costs more than such a small text.
var packedTexts sync.Map // of packing to []byte

type packing struct {
	how  string
	text [sha256.Size]byte
}

func packed(how string, text []byte, writer func(io.Writer) (io.WriteCloser, error)) ([]byte, error) {
	key := packing{how, sha256.Sum256(text)}
	if have, known := packedTexts.Load(key); known {
		return have.([]byte), nil
	}
	var b bytes.Buffer
	w, err := writer(&b)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	packedTexts.Store(key, b.Bytes())
	return b.Bytes(), nil
}

func gzipped(data []byte) ([]byte, error) {
	return packed("gz", data, func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil })
}

func xzed(data []byte) ([]byte, error) {
	return packed("xz", data, func(w io.Writer) (io.WriteCloser, error) {
		return xz.WriterConfig{DictCap: 1 << 16, CheckSum: xz.CRC32}.NewWriter(w)
	})
}

// Suites are the apt suites of the scenario.
func Suites(keys map[string]*Key) []AptSuite {
	both := []string{"amd64", "arm64"}
	var out []AptSuite
	for _, name := range []string{"limpet", "limpet-updates", "mussel", "mussel-updates"} {
		comps := map[string][]Package{
			"main":  {{"tide-base", "11.4-1", "base files of Skerry"}, {"ca-certificates", "20260101", "certificates"}},
			"extra": {{"sea-shanties", "3.1-2", "songs"}},
		}
		if strings.HasPrefix(name, "mussel") {
			comps["firmware"] = []Package{{"firmware-sonar", "2.0-1", "firmware for sonar cards"}}
		}
		code, _, _ := strings.Cut(name, "-")
		out = append(
			out,
			AptSuite{
				Base:       "/archive.skerry.example/skerry",
				Origin:     "Skerry",
				Suite:      name,
				Codename:   code,
				Components: comps,
				Archs:      both,
				Key:        keys["skerry-archive"],
			},
		)
	}
	for _, series := range []string{"8", "9"} {
		out = append(
			out,
			AptSuite{
				Base:     "/packages.saltmarsh.example/apt/" + series + ".x",
				Origin:   "Saltmarsh",
				Suite:    "stable",
				Codename: "stable",
				Archs:    both,
				Key:      keys["saltmarsh-2026"],
				Components: map[string][]Package{
					"main": {
						{"saltmarsh-server", series + ".2.1-1", "tide database"},
						{"saltmarsh-client", series + ".2.1-1", "its client"},
					},
				},
			},
		)
	}
	for _, choice := range []string{"licensed", "open"} {
		for _, code := range []string{"limpet", "mussel"} {
			out = append(
				out,
				AptSuite{
					Base:       "/apt.gannet.example/" + choice,
					Origin:     "Gannet",
					Suite:      code,
					Codename:   code,
					Archs:      both,
					Key:        keys["gannet-2025"],
					Components: map[string][]Package{choice: {{"gannet-hypervisor", gannetVersion(choice), "virtual machines"}}},
				},
			)
		}
		// Since Skerry 12 the storage part comes from a place of its own.
		out = append(
			out,
			AptSuite{
				Base:       "/apt.gannet.example/" + choice + "-storage",
				Origin:     "Gannet",
				Suite:      "mussel",
				Codename:   "mussel",
				Archs:      both,
				Key:        keys["gannet-2025"],
				Components: map[string][]Package{choice: {{"gannet-storage", gannetVersion(choice), "disks for virtual machines"}}},
			},
		)
	}
	for _, x := range []struct{ place, version string }{
		{"apt", "1.45.0"},
		{"apt-debug", "1.45.0"},
		{"apt-source", "1.45.0"},
		{"pinned-1.44", "1.44.3"},
	} {
		out = append(
			out,
			AptSuite{
				Base:       "/metrics.plover.example/" + x.place,
				Origin:     "Plover",
				Suite:      "rolling",
				Codename:   "rolling",
				Archs:      both,
				Key:        keys["plover-2024"],
				Components: map[string][]Package{"main": {{"plover-agent", x.version, "telemetry"}}},
			},
		)
	}
	return append(
		out,
		AptSuite{
			Base:       "/shelf.brinewick.test/deb",
			Origin:     "Brinewick shelf",
			Suite:      "shelf",
			Codename:   "shelf",
			Archs:      both,
			Key:        keys["brinewick-shelf"],
			Components: map[string][]Package{"main": {{"brinewick-handbook", "2026.1-1", "handbook of the observatory"}}},
		},
	)
}

// licensed are the places that only entitled hosts may have: path → the vendor
// and its name for what is opened.
var licensed = []struct{ path, vendor, opens string }{
	{"/apt.gannet.example/licensed/", "gannet", "gannet-licensed"},
	{"/apt.gannet.example/licensed-storage/", "gannet", "gannet-licensed"},
	{"/rpm.gannet.example/licensed/", "gannet", "gannet-licensed"},
	{"/arch.gannet.example/licensed/", "gannet", "gannet-licensed"},
	{"/metrics.plover.example/pinned-1.44/", "plover", "plover-pinned"},
}
