package deb_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// machine lists what this machine's dpkg is for: apt asks it where no
// configuration says.
func machine() (archs []string, err error) {
	for _, question := range []string{"--print-architecture", "--print-foreign-architectures"} {
		out, err := exec.Command("dpkg", question).Output()
		if err != nil {
			return nil, err
		}
		archs = append(archs, strings.Fields(string(out))...)
	}
	return archs, nil
}

// askApt lists what the real apt-get would fetch for a root: one line for each
// index, "kind|url|suite|component|architecture".
func askApt(c *cell.Cell, root string) (targets []string, refused bool, said string, err error) {
	a, err := c.Run(root, "/usr/bin/apt-get", "-o", "Dir::State::status=/dev/null", "-o", "Acquire::Languages=none", "indextargets", "--no-release-info",
		"--format", "$(IDENTIFIER)|$(REPO_URI)|$(RELEASE)|$(COMPONENT)|$(ARCHITECTURE)")
	for line := range strings.Lines(a.Out) {
		if line = strings.TrimRight(line, "\n"); strings.HasPrefix(line, "Packages|") || strings.HasPrefix(line, "Sources|") {
			targets = append(targets, line)
		}
	}
	return targets, a.Code != 0, a.Err, err
}

// askOurs lists the same from our own reading.
func askOurs(root string, archs []string) (targets []string, fatal []source.Problem, err error) {
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		return deb.Read(root, archs)
	})
	if err != nil {
		return nil, nil, err
	}
	for _, p := range r.Problems {
		if p.Fatal {
			fatal = append(fatal, p)
		}
	}
	for _, s := range r.Sources {
		if !s.Enabled {
			continue
		}
		for _, u := range s.EffURLs {
			for _, suite := range s.EffSuites {
				components := s.Components
				if len(components) == 0 {
					components = []string{""}
				}
				for _, c := range components {
					if slices.Contains(s.Kinds, "source") {
						targets = append(targets, strings.Join([]string{"Sources", u, suite, c, "source"}, "|"))
					}
					if slices.Contains(s.Kinds, "binary") {
						for _, a := range s.EffArchs {
							targets = append(targets, strings.Join([]string{"Packages", u, suite, c, a}, "|"))
						}
					}
				}
			}
		}
	}
	return targets, fatal, nil
}

// normal makes two listings comparable: apt names no architecture for a Sources
// index, one index of a flat repository serves all, and what is asked for twice
// is listed once.
func normal(list []string) []string {
	out := make([]string, 0, len(list))
	for _, l := range list {
		f := strings.Split(l, "|")
		if f[2] == "" {
			f[2] = "/" // so apt names a suite that is nothing but a slash
		}
		f[1] = deb.ReleaseKey(f[1], "") // entries that differ in scheme or login are one release
		switch {
		case strings.HasSuffix(f[2], "/"):
			f = f[:3]
		case f[0] == "Sources":
			f = f[:4]
		case f[4] == "all":
			continue // apt adds it where a release has it
		}
		out = append(out, strings.Join(f, "|"))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// trees draws the source files of a root, odd ones on purpose.
func trees() *rapid.Generator[map[string]string] {
	url := rapid.SampledFrom([]string{"http://a.example/d", "http://a.example/d/", "https://a.example/d", "http://b.example/$(ARCH)/x", "file:/srv/x", "cdrom:[Skerry disc]/", "b.example", "http://u@a.example/d", "http://%61.example/d"})
	suite := rapid.SampledFrom([]string{"mussel", "limpet", "mussel-updates", "./", "x/$(ARCH)/", "/", "mussel-$(ARCH)"})
	component := rapid.SampledFrom([]string{"main", "extra", "main extra", "", "main main", "\"main\""})
	option := rapid.SampledFrom([]string{"", "", "", "[arch=amd64] ", "[ arch=amd64,i386 ] ", "[arch-=i386] ", "[arch+=arm64] ", "[trusted=yes] ", "[arch] ", "[arch=] ", "[ trusted=no lang=de] ", "[arch=i386 ", "[signed-by=/etc/apt/keyrings/a.asc] ", "[note=a#b] ", "[allow-insecure=yes] ", "[allow-insecure=no] "})
	kind := rapid.SampledFrom([]string{"deb", "deb", "deb", "deb-src", "Deb", "rpm", "deb "})
	space := rapid.SampledFrom([]string{"", "", "", " ", "\t", "\r"})
	line := rapid.Custom(func(t *rapid.T) string {
		switch rapid.IntRange(0, 9).Draw(t, "shape") {
		case 0:
			return rapid.SampledFrom([]string{"", "# comment", "#deb http://a.example/d mussel main", " \t", "deb", "deb http://a.example/d", "##"}).Draw(t, "plain")
		default:
			return space.Draw(t, "before") + kind.Draw(t, "kind") + rapid.SampledFrom([]string{" ", "  ", "\t"}).Draw(t, "gap") + option.Draw(t, "option") + url.Draw(t, "url") + " " + suite.Draw(t, "suite") +
				rapid.SampledFrom([]string{" ", "  ", " \t"}).Draw(t, "gap2") + component.Draw(t, "component") + space.Draw(t, "after") + rapid.SampledFrom([]string{"", "", " # why", "#x"}).Draw(t, "comment")
		}
	})
	list := rapid.Map(rapid.SliceOfN(line, 0, 3), func(l []string) string { return strings.Join(l, "\n") + "\n" })
	field := rapid.Custom(func(t *rapid.T) string {
		return rapid.SampledFrom([]string{
			"Types: deb", "Types: deb", "Types: deb deb-src", "types: deb", "Types:", "Types: rpm", "URIs: http://a.example/d", "URIs: http://a.example/d http://b.example/$(ARCH)", "URIs:\n http://a.example/d",
			"Suites: mussel", "Suites: mussel limpet", "Suites: ./", "Suites: mussel-$(ARCH)", "Suites: x/$(ARCH)/", "Suites:\n mussel\n\tlimpet", "Components: main", "Components: main  extra", "Components:", "Enabled: no", "Enabled: yes", "Enabled: 0", "Enabled: nope", "Enabled: off",
			"Architectures: amd64", "Architectures: amd64, i386", "allow-insecure: yes", "Allow-Insecure: no", "Architectures-Remove: i386", "Architectures-Add: arm64 armhf", "Trusted: yes", "# comment", "#", " ", "\t", "no colon here", "X-Note: a: b", "Signed-By: /etc/apt/keyrings/a.asc", "Components : extra", "\r",
		}).Draw(t, "field")
	})
	whole := rapid.SampledFrom([]string{"Types: deb\nURIs: http://a.example/d\nSuites: mussel\nComponents: main", "Types: deb-src\nURIs: http://a.example/e\nSuites: limpet\nComponents: main extra", "# head\nTypes: deb\nURIs: https://a.example/f\nSuites: ./"})
	stanza := rapid.Custom(func(t *rapid.T) string {
		lines := []string{whole.Draw(t, "whole")}
		if rapid.IntRange(0, 4).Draw(t, "loose") == 0 {
			lines = nil
		}
		lines = append(lines, rapid.SliceOfN(field, 0, 3).Draw(t, "fields")...)
		return strings.Join(lines, rapid.SampledFrom([]string{"\n", "\n", "\n", "\r\n"}).Draw(t, "eol")) + "\n"
	})
	sources := rapid.Map(rapid.SliceOfN(stanza, 0, 3), func(l []string) string { return strings.Join(l, "\n") })
	conf := rapid.Map(rapid.SliceOfN(rapid.SampledFrom([]string{
		"APT::Architectures { \"arm64\"; };", "APT::Architectures:: \"s390x\";", "#clear APT::Architectures;", "APT::Architecture \"arm64\";", "APT::BarbarianArchitectures { \"i386\"; };",
		"Dir::Etc::sourcelist \"sources.list.d/x.y.list\";", "Dir::Etc::sourceparts \"/dev/null\";", "Acquire::AllowInsecureRepositories \"true\";", "// nothing", "Acquire { AllowWeakRepositories yes; };",
		"APT::Architectures \"amd64,armhf\";", "Binary::apt-get::APT::Architectures { \"riscv64\"; };", "Binary { apt-get { Acquire::AllowInsecureRepositories yes; }; };",
		"Binary::apt-get::Dir::Etc::sourceparts \"other.d\";", "Binary::apt::Acquire::AllowInsecureRepositories yes;", "Binary::apt-get::Acquire::AllowWeakRepositories yes;", "Binary::APT-GET::Dir::Etc { sourcelist \"sources.list.d/x.y.list\"; };", "broken", "}", "Dir { Etc { sourceparts \"other.d\"; }; };",
	}), 1, 2), func(l []string) string { return strings.Join(l, "\n") + "\n" })
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := map[string]string{"etc/apt/apt.conf.d/00base": "APT::Architecture \"amd64\"; APT::Architectures {\"amd64\";\"i386\";};\n"}
		if rapid.IntRange(0, 2).Draw(t, "configured") == 0 {
			out["etc/apt/"+rapid.SampledFrom([]string{"apt.conf", "apt.conf.d/50local", "apt.conf.d/50local.conf", "apt.conf.d/50local.bak", "apt.conf.d/50+local"}).Draw(t, "conf")] = conf.Draw(t, "text")
		}
		if rapid.Bool().Draw(t, "main") {
			out["etc/apt/sources.list"] = list.Draw(t, "sources.list")
		}
		for _, n := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a.list", "b.list", "x.y.list", "q.list.save", "no ext.list", "_-:.list", ".hidden.list", "noext", "c.LIST"}), 0, 2, rapid.ID[string]).Draw(t, "lists") {
			out["etc/apt/sources.list.d/"+n] = list.Draw(t, n)
		}
		for _, n := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a.sources", "z.sources", "old.sources.bak", "e+f.sources"}), 0, 2, rapid.ID[string]).Draw(t, "stanzas") {
			text := sources.Draw(t, n)
			if rapid.IntRange(0, 5).Draw(t, "cut") == 0 {
				text = strings.TrimRight(text, "\r\n")
			}
			out["etc/apt/sources.list.d/"+n] = text
		}
		return out
	})
}

func TestReadAgreesWithTheRealApt(t *testing.T) {
	archs, err := machine()
	if err != nil {
		t.Fatal(err)
	}
	cell.Agree(t, cell.Spoilt(trees()), func(root string) (cell.Reading, error) {
		targets, fatal, err := askOurs(root, archs)
		return cell.Reading{Facts: normal(targets), Refused: len(fatal) > 0, Why: fatal}, err
	}, func(c *cell.Cell, root string) (cell.Reading, error) {
		targets, refused, said, err := askApt(c, root)
		return cell.Reading{Facts: normal(targets), Refused: refused, Why: said}, err
	})
}
