// Package survey reads off a root folder what is configured on that host.
package survey

import (
	"bytes"
	"debug/elf"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/deb822"
)

// Machine is what the caller knows of the running machine. It counts only for
// what the root itself does not tell.
type Machine struct {
	Arch    string                           // the kernel's word, for the root / only
	CPUInfo []byte                           // the text of /proc/cpuinfo
	Free    func(path string) (int64, error) // free bytes at a path inside the root
}

// Result is a survey with the texts that it was read from.
type Result struct {
	Survey source.Survey
	Texts  map[string][]byte // source file → its bytes, passwords and all; never sent
	Modes  map[string]fs.FileMode
}

// mounts are the mount points whose free space decides whether a source fits.
var mounts = []string{"/", "/boot", "/var"}

// Read reads a root.
func Read(root *rootfs.FS, m Machine) Result {
	var s source.Survey
	traits(root, m, &s.Traits)
	r := deb.Read(root, s.Traits.Architectures)
	s.Sources, s.Keys, s.Problems = r.Sources, r.Keys, r.Problems
	owners(root, s.Sources)
	if s.Sources == nil {
		s.Sources = []source.Source{}
	}
	if s.Keys == nil {
		s.Keys = []source.Key{}
	}
	if s.Problems == nil {
		s.Problems = []source.Problem{}
	}
	s.Access = r.Access
	if s.Access == nil {
		s.Access = []source.Access{}
	}
	if len(r.Architectures) > 0 {
		s.Traits.Architectures = r.Architectures
	}
	return Result{Survey: s, Texts: r.Texts, Modes: r.Modes}
}

// Masked returns the texts with passwords masked, and fills Survey.Files with
// their digests.
func (r *Result) Masked() map[string][]byte {
	out := make(map[string][]byte, len(r.Texts))
	r.Survey.Files = nil
	for name, text := range r.Texts {
		masked := family.MaskText(text)
		out[name] = masked
		r.Survey.Files = append(r.Survey.Files, source.File{Path: name, Digest: source.Digest(masked), Mode: fmt.Sprintf("%04o", r.Modes[name])})
	}
	slices.SortFunc(r.Survey.Files, func(a, b source.File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

func traits(root *rootfs.FS, m Machine, t *source.Traits) {
	t.OS = readOS(root)
	t.Family = familyOf(t.OS)
	t.Tools = map[string]string{}
	t.Free = map[string]int64{}
	if m.Free != nil {
		for _, p := range mounts {
			if _, err := root.Stat(p); err != nil {
				continue
			}
			if n, err := m.Free(p); err == nil {
				t.Free[p] = n
			}
		}
	}
	status, err := root.ReadFile("/var/lib/dpkg/status")
	if err == nil {
		if v := dpkgField(status, "dpkg", "Architecture"); v != "" {
			t.Architectures = append(t.Architectures, v)
		}
		for _, tool := range []string{"apt", "dpkg", "flatpak", "gnupg"} {
			if v := dpkgField(status, tool, "Version"); v != "" && dpkgField(status, tool, "Status") == "install ok installed" {
				t.Tools[tool] = v
			}
		}
	}
	if foreign, err := root.ReadText("/var/lib/dpkg/arch"); err == nil {
		for _, a := range strings.Fields(string(foreign)) {
			if !slices.Contains(t.Architectures, a) {
				t.Architectures = append(t.Architectures, a)
			}
		}
	}
	t.Arch = m.Arch
	if t.Arch == "" && len(t.Architectures) > 0 {
		t.Arch = kernelArch[t.Architectures[0]]
	}
	if t.Arch == "" {
		t.Arch = elfArch(root)
	}
	if len(t.Architectures) == 0 && t.Arch != "" && t.Family == deb.Family {
		for d, k := range kernelArch {
			if k == t.Arch {
				t.Architectures = []string{d}
			}
		}
	}
	t.Architectures = source.Strings(t.Architectures)
	info, err := root.ReadText("/proc/cpuinfo")
	if err != nil || len(info) == 0 {
		info = m.CPUInfo
	}
	t.CPU = readCPU(info)
	if t.Arch != "x86_64" {
		t.CPU.Level = 0
	}
}

// kernelArch maps dpkg's words for architectures to the kernel's, one to one.
var kernelArch = map[string]string{
	"amd64": "x86_64", "arm64": "aarch64", "i386": "i686", "armhf": "armv7l", "ppc64el": "ppc64le",
	"s390x": "s390x", "riscv64": "riscv64",
}

// readOS reads os-release(5): /etc wins over /usr/lib.
func readOS(root *rootfs.FS) source.OS {
	text, err := root.ReadText("/etc/os-release")
	if err != nil {
		text, _ = root.ReadText("/usr/lib/os-release")
	}
	v := map[string]string{}
	for line := range strings.SplitSeq(string(text), "\n") {
		key, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		if ok && !strings.HasPrefix(key, "#") {
			v[key] = shellValue(value)
		}
	}
	return source.OS{
		ID: v["ID"], IDLike: source.Strings(strings.Fields(v["ID_LIKE"])),
		Version: v["VERSION_ID"], Codename: v["VERSION_CODENAME"], Name: v["PRETTY_NAME"],
	}
}

// shellValue takes shell quoting off, as far as os-release(5) allows it.
func shellValue(s string) string {
	var out strings.Builder
	quote := byte(0)
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c == '\\' && quote != '\'' && i+1 < len(s):
			i++
			out.WriteByte(s[i])
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case c == quote && quote != 0:
			quote = 0
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

// families maps the ids of os-release to the family of their package manager.
var families = map[string]string{
	"debian": "deb", "ubuntu": "deb", "rhel": "rpm", "fedora": "rpm", "centos": "rpm",
	"suse": "zypp", "sles": "zypp", "opensuse": "zypp", "arch": "arch",
}

func familyOf(o source.OS) string {
	for _, id := range append([]string{o.ID}, o.IDLike...) {
		if f := families[id]; f != "" {
			return f
		}
	}
	return ""
}

// dpkgField returns a field of an installed package's stanza in dpkg's status file.
func dpkgField(status []byte, pkg, field string) string {
	head := []byte("Package: " + pkg + "\n")
	i := bytes.Index(status, append([]byte("\n"), head...))
	switch {
	case i >= 0:
		i++
	case bytes.HasPrefix(status, head):
		i = 0
	default:
		return ""
	}
	stanza := status[i:]
	if end := bytes.Index(stanza, []byte("\n\n")); end >= 0 {
		stanza = stanza[:end+1]
	}
	f := deb822.Parse(stanza)
	if len(f.Stanzas) == 0 {
		return ""
	}
	v, _ := f.Get(0, field)
	return v
}

// elfArch tells the architecture from one of the root's own programs.
func elfArch(root *rootfs.FS) string {
	for _, name := range []string{"/usr/bin/sh", "/bin/sh", "/usr/bin/env"} {
		data, err := root.ReadFile(name)
		if err != nil {
			continue
		}
		f, err := elf.NewFile(bytes.NewReader(data))
		if err != nil {
			continue
		}
		switch f.Machine {
		case elf.EM_X86_64:
			return "x86_64"
		case elf.EM_AARCH64:
			return "aarch64"
		case elf.EM_386:
			return "i686"
		case elf.EM_PPC64:
			return "ppc64le"
		case elf.EM_S390:
			return "s390x"
		case elf.EM_RISCV:
			return "riscv64"
		case elf.EM_ARM:
			return "armv7l"
		}
	}
	return ""
}

// levels are the flags that each x86-64 level adds, as the System V ABI lists
// them, in the spelling of /proc/cpuinfo.
var levels = [][]string{
	{"lm", "cmov", "cx8", "fpu", "fxsr", "mmx", "syscall", "sse2"},
	{"cx16", "lahf_lm", "popcnt", "sse4_1", "sse4_2", "ssse3"},
	{"avx", "avx2", "bmi1", "bmi2", "f16c", "fma", "abm", "movbe", "xsave"},
	{"avx512f", "avx512bw", "avx512cd", "avx512dq", "avx512vl"},
}

func readCPU(info []byte) source.CPU {
	var c source.CPU
	for line := range strings.SplitSeq(string(info), "\n") {
		key, value, ok := strings.Cut(line, ":")
		if !ok {
			if c.Vendor != "" {
				break // the first processor speaks for all
			}
			continue
		}
		switch strings.TrimSpace(key) {
		case "vendor_id":
			c.Vendor = strings.TrimSpace(value)
		case "CPU implementer":
			c.Vendor = strings.TrimSpace(value)
		case "flags":
			flags := strings.Fields(value)
			for n, need := range levels {
				if slices.ContainsFunc(need, func(f string) bool { return !slices.Contains(flags, f) }) {
					break
				}
				c.Level = n + 1
			}
		}
	}
	return c
}

// owners says which package owns each source file, from dpkg's file lists.
func owners(root *rootfs.FS, sources []source.Source) {
	entries, err := root.ReadDir("/var/lib/dpkg/info")
	if err != nil {
		return
	}
	owner := map[string]string{}
	for i := range sources {
		owner[sources[i].File] = ""
	}
	if len(owner) == 0 {
		return
	}
	for _, e := range entries {
		pkg, ok := strings.CutSuffix(e.Name(), ".list")
		if !ok {
			continue
		}
		data, err := root.ReadFile("/var/lib/dpkg/info/" + e.Name())
		if err != nil || !bytes.Contains(data, []byte("/etc/apt/")) {
			continue
		}
		for file := range owner {
			if bytes.Contains(data, []byte("\n"+file+"\n")) || bytes.HasPrefix(data, []byte(file+"\n")) {
				owner[file], _, _ = strings.Cut(pkg, ":")
			}
		}
	}
	for i := range sources {
		o := owner[sources[i].File]
		sources[i].Owner = &o
	}
}
