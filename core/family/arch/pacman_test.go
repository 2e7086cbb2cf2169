package arch_test

import (
	"fmt"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/internal/cell"
)

func trees() *rapid.Generator[map[string]string] {
	pick := func(list []string) *rapid.Generator[string] { return rapid.SampledFrom(list) }
	server := pick([]string{"http://m.example/$repo/os/$arch", "http://m.example/$repo/", "https://m.example//", "file:///srv/$repo", "", "http://n.example/$arch/$arch/$repox", "HTTP://M.Example/x y", "http://u:p@m.example/", "/", "ftp://m.example/$repo/os/$arch/"})
	level := pick([]string{"Required", "Never", "Optional", "PackageRequired", "DatabaseOptional TrustAll", "Required DatabaseNever", "TrustedOnly", "", "PackageTrustAll  DatabaseTrustedOnly", "Required\tNever", "required", "PackageNever DatabaseRequired TrustAll"})
	repoLine := rapid.Custom(func(t *rapid.T) string {
		gap := pick([]string{"=", " = ", "= ", "\t=\t"}).Draw(t, "equals")
		switch rapid.IntRange(0, 9).Draw(t, "line") {
		case 0:
			return "SigLevel" + gap + level.Draw(t, "level")
		case 1:
			return "Usage" + gap + pick([]string{"All", "Sync Search", "Install Upgrade", "", "sync", "Sync"}).Draw(t, "usage")
		case 2:
			return "Include" + gap + pick([]string{"/etc/pacman.d/mirrorlist", "/etc/pacman.d/mirrorlist", "/etc/pacman.d/*.conf", "/etc/pacman.d/[ab].conf", "/etc/pacman.d/none", "/etc/pacman.d", "/dev/null", "", "etc/pacman.d/a.conf", "/etc/pacman.d/loop", "/etc/pacman.d/none*", "/etc/*.d/?.conf"}).Draw(t, "include")
		case 3:
			return pick([]string{"# comment", "", "Server", "Note = x", "Server http://x", " \t", "=", "= x", "#Server = http://off.example/", "[unclosed", "SigLevel", "] = [", "CacheServer = http://c.example/", "Server = http://m.example/ # not a comment"}).Draw(t, "odd")
		default:
			return pick([]string{"Server", "Server", "Server", "server", " Server "}).Draw(t, "key") + gap + server.Draw(t, "server")
		}
	})
	optionLine := pick([]string{"Architecture = auto", "Architecture = x86_64", "Architecture = x86_64_v3 x86_64", "Architecture = aarch64", "Architecture =", "Architecture", "SigLevel = Required DatabaseOptional", "SigLevel = Never", "SigLevel = Required", "SigLevel = Optional TrustAll", "SigLevel = what",
		"LocalFileSigLevel = Optional", "RemoteFileSigLevel = nope", "ParallelDownloads = 5", "ParallelDownloads = 0", "ParallelDownloads = 5x", "ParallelDownloads = +3", "CleanMethod = KeepCurrent", "CleanMethod = keep", "Color", "UseSyslog = yes", "XferCommand = /bin/x 'a b' %u", "XferCommand = /bin/x 'a", "XferCommand = /bin/x a\\'b", "# c",
		"HoldPkg = a b", "Include = /etc/pacman.d/options", "Unknown = 1", "Server = http://x/"})
	header := rapid.Custom(func(t *rapid.T) string {
		name := pick([]string{"core", "extra", "skerry", "core", "mussel-tools", "local", "a/b", "", " core ", "core]x", "Options", "$arch", "co re"}).Draw(t, "name")
		return pick([]string{"", "", "", " ", "\t"}).Draw(t, "indent") + "[" + name + "]" + pick([]string{"", "", "", " ", "\r", " # c"}).Draw(t, "after")
	})
	eol := pick([]string{"\n", "\n", "\n", "\r\n"})
	section := rapid.Custom(func(t *rapid.T) string {
		lines := append([]string{header.Draw(t, "header")}, rapid.SliceOfN(repoLine, 0, 4).Draw(t, "lines")...)
		e := eol.Draw(t, "eol")
		return strings.Join(lines, e) + e
	})
	sections := func(min, max int) *rapid.Generator[string] {
		return rapid.Map(rapid.SliceOfN(section, min, max), func(l []string) string { return strings.Join(l, "") })
	}
	return rapid.Custom(func(t *rapid.T) map[string]string {
		out := map[string]string{
			"etc/pacman.d/mirrorlist": rapid.Map(rapid.SliceOfN(rapid.Map(server, func(s string) string { return "Server = " + s + "\n" }), 0, 3), func(l []string) string { return "## mirrors\n" + strings.Join(l, "") }).Draw(t, "mirrorlist"),
			"etc/pacman.d/options":    "SigLevel = Required\n",
			"etc/pacman.d/loop":       "Include = /etc/pacman.d/loop\n",
			"var/lib/pacman/":         "",
		}
		main := ""
		if rapid.IntRange(0, 9).Draw(t, "architecture") > 0 {
			main = "[options]\nArchitecture = " + pick([]string{"auto", "x86_64", "x86_64_v3 x86_64"}).Draw(t, "arch") + "\n"
		}
		if rapid.IntRange(0, 2).Draw(t, "options") == 0 {
			main += "[options]\n" + strings.Join(rapid.SliceOfN(optionLine, 0, 2).Draw(t, "optionlines"), "\n") + "\n"
		}
		if rapid.IntRange(0, 12).Draw(t, "stray") == 0 {
			main = "Server = http://x\n" + main
		}
		main += sections(0, 4).Draw(t, "sections")
		if rapid.IntRange(0, 12).Draw(t, "late") == 0 {
			main += "[options]\nArchitecture = late\n"
		}
		if rapid.IntRange(0, 20).Draw(t, "nul") == 0 {
			main += "[nul]\nServer = http://nul\x00/x\nServer\x00 = x\n"
		}
		if rapid.IntRange(0, 6).Draw(t, "cut") == 0 {
			main = strings.TrimRight(main, "\r\n")
		}
		if rapid.IntRange(0, 40).Draw(t, "there") > 0 {
			out["etc/pacman.conf"] = main
		}
		for _, n := range []string{"a.conf", "b.conf", ".h.conf"} {
			if rapid.Bool().Draw(t, n) {
				out["etc/pacman.d/"+n] = rapid.OneOf(sections(0, 2), rapid.Map(repoLine, func(s string) string { return s + "\n" })).Draw(t, "text")
			}
		}
		return out
	})
}

var (
	registering = regexp.MustCompile(`^debug: registering sync database '(.*)'$`)
	adding      = regexp.MustCompile(`^debug: adding new server URL to database '(.*)': (.*)$`)
)

// theirs asks pacman which repositories are in force with which servers, and
// pacman-conf for the levels of each section.
func theirs(c *cell.Cell, root string) (r cell.Reading, err error) {
	levels, err := c.Run(root, "/usr/bin/pacman-conf")
	if err != nil {
		return r, err
	}
	if levels.Code != 0 || strings.Contains(levels.Err, "error parsing") {
		return cell.Reading{Refused: true, Why: levels.Err}, nil
	}
	a, err := c.Run(root, "/usr/bin/pacman", "--debug", "-T")
	if err != nil {
		return r, err
	}
	if a.Code < 0 {
		return r, fmt.Errorf("pacman was ended: %d", a.Code)
	}
	for line := range strings.SplitSeq(a.Err, "\n") {
		if m := registering.FindStringSubmatch(line); m != nil {
			r.Facts = append(r.Facts, "repo "+m[1])
		}
		if m := adding.FindStringSubmatch(line); m != nil {
			r.Facts = append(r.Facts, "server "+m[1]+" "+family.MaskURL(m[2]))
		}
	}
	id := ""
	for line := range strings.SplitSeq(levels.Out, "\n") {
		if len(line) > 1 && line[0] == '[' && line[len(line)-1] == ']' {
			id = line
		} else if v, ok := strings.CutPrefix(line, "SigLevel = "); ok && id != "[options]" {
			r.Facts = append(r.Facts, "level "+id+" "+v)
		}
	}
	return r, nil
}

// ours says the same of our own reading. A section without a SigLevel of its own
// has none in pacman-conf's answer.
func ours(root string) (out cell.Reading, err error) {
	machine := map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[runtime.GOARCH]
	var facts, levels []string
	r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading {
		r := arch.Read(root, family.Host{Arch: machine})
		return r
	})
	if err != nil {
		return out, err
	}
	for _, s := range r.Sources {
		if s.DisabledBy == "comment" {
			continue
		}
		if s.Enabled {
			facts = append(facts, "repo "+s.ID)
			for _, u := range s.EffURLs {
				facts = append(facts, "server "+s.ID+" "+u)
			}
		}
		if _, ok := s.Options["SigLevel"]; ok && s.Options["SigLevel"] != "" {
			for i, kind := range []string{"Package", "Database"} {
				check := map[string]string{"required": "Required", "optional": "Optional", "off": "Never"}[[]string{s.Checks.Packages, s.Checks.Metadata}[i]]
				levels = append(levels, "level ["+s.ID+"] "+kind+check)
				if check != "Never" {
					levels = append(levels, "level ["+s.ID+"] "+kind+s.Checks.Trust[i])
				}
			}
		}
	}
	return cell.Reading{Facts: append(facts, levels...), Refused: r.Refused(), Why: r.Problems}, nil
}

func TestReadAgreesWithTheRealPacman(t *testing.T) {
	cell.Agree(t, cell.Spoilt(trees()), ours, theirs)
}
