package survey

import (
	"bytes"
	"debug/elf"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// mounts are the mount points whose free space decides whether a source fits.
var mounts = []string{"/", "/boot", "/var"}

func traits(r *reader, m Machine, t *source.Traits) {
	root := r.root
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
	t.Architectures = slices.Clone(r.dpkgArchs)
	t.Arch = m.Arch
	if t.Arch == "" && len(t.Architectures) > 0 {
		t.Arch = kernelArch[t.Architectures[0]]
	}
	if t.Arch == "" {
		t.Arch = r.rpmArch()
	}
	if t.Arch == "" {
		t.Arch = pacmanArch(root)
	}
	if t.Arch == "" {
		t.Arch = elfArch(root)
	}
	if t.Family == "" {
		t.Family = r.family()
	}
	switch {
	case len(t.Architectures) > 0 || t.Arch == "":
	case t.Family == deb.Family:
		for d, k := range kernelArch {
			if k == t.Arch {
				t.Architectures = []string{d}
			}
		}
	default:
		t.Architectures = []string{t.Arch}
	}
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

// pacmanArch returns the first architecture that pacman.conf names, unless it
// leaves that to the machine.
func pacmanArch(root *rootfs.FS) string {
	reading, _ := arch.Read(root, family.Host{})
	for _, a := range reading.Architectures {
		a, _, _ = strings.Cut(a, "_v") // x86_64_v3 is x86_64 to the kernel
		return a
	}
	return ""
}

func familyOf(o source.OS) string {
	for _, id := range append([]string{o.ID}, o.IDLike...) {
		if f := families[id]; f != "" {
			return f
		}
	}
	return ""
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
