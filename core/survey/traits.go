package survey

import (
	"debug/elf"
	"encoding/binary"
	"io"
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
		if word := DpkgArch(t.Arch); word != "" {
			t.Architectures = []string{word}
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

// kernelArch maps dpkg's words for architectures to the kernel's: those of Debian and of its
// ports.
var kernelArch = map[string]string{
	"amd64": "x86_64", "arm64": "aarch64", "i386": "i686", "armhf": "armv7l", "armel": "armv5tel", "ppc64el": "ppc64le", "ppc64": "ppc64",
	"powerpc": "ppc", "s390x": "s390x", "s390": "s390", "riscv64": "riscv64", "loong64": "loongarch64", "mips64el": "mips64", "mipsel": "mips",
	"mips": "mips", "mips64": "mips64", "sparc64": "sparc64", "ia64": "ia64", "alpha": "alpha", "hppa": "parisc", "m68k": "m68k", "sh4": "sh4",
	"x32": "x86_64", "arc": "arc", "hurd-i386": "i686", "hurd-amd64": "x86_64",
}

// otherArch maps rpm's and pacman's words for architectures to the kernel's, where they
// differ.
var otherArch = map[string]string{
	"i386": "i686", "i486": "i686", "i586": "i686", "athlon": "i686", "geode": "i686", "pentium3": "i686", "pentium4": "i686",
	"amd64": "x86_64", "ia32e": "x86_64", "x86_64_v2": "x86_64", "x86_64_v3": "x86_64", "x86_64_v4": "x86_64",
	"armv7hl": "armv7l", "armv7hnl": "armv7l", "armv7h": "armv7l", "armv6hl": "armv6l", "armv6h": "armv6l", "arm": "armv5tel",
	"mips64el": "mips64", "mips64r6el": "mips64", "mipsel": "mips", "ppc64p7": "ppc64", "powerpc64le": "ppc64le", "powerpc64": "ppc64",
	"powerpc": "ppc", "loong64": "loongarch64", "sparc64v": "sparc64",
}

// kernelWord is the kernel's word for an architecture that rpm or pacman names.
func kernelWord(arch string) string {
	if word := otherArch[arch]; word != "" {
		return word
	}
	return arch
}

// DpkgArch is dpkg's word for the kernel's; empty where there is none.
func DpkgArch(kernel string) string {
	for _, word := range []string{"amd64", "i386", "armhf", "mips64el", "mipsel"} { // the usual ones of several
		if kernelArch[word] == kernel {
			return word
		}
	}
	for word, k := range kernelArch {
		if k == kernel {
			return word
		}
	}
	return ""
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

// familyOfID maps the ids of os-release to the family of their package manager.
var familyOfID = map[string]string{
	"debian": source.FamilyDeb, "ubuntu": source.FamilyDeb, "rhel": source.FamilyRpm, "fedora": source.FamilyRpm, "centos": source.FamilyRpm,
	"suse": source.FamilyZypp, "sles": source.FamilyZypp, "opensuse": source.FamilyZypp, "arch": source.FamilyArch,
}

// pacmanArch returns the first architecture that pacman.conf names, unless it
// leaves that to the machine.
func pacmanArch(root *rootfs.FS) string {
	for _, a := range arch.Read(root, family.Host{}).Architectures {
		return kernelWord(a)
	}
	return ""
}

func familyOf(o source.OS) string {
	for _, id := range append([]string{o.ID}, o.IDLike...) {
		if f := familyOfID[id]; f != "" {
			return f
		}
	}
	return ""
}

// ownPrograms are programs of a root by which its architecture is told.
var ownPrograms = []string{
	"/usr/bin/sh", "/bin/sh", "/usr/bin/env", "/bin/busybox", "/usr/bin/bash", "/bin/bash", "/usr/bin/ls", "/bin/ls",
	"/usr/bin/cat", "/bin/cat",
	"/usr/bin/dpkg", "/usr/bin/rpm", "/usr/bin/pacman", "/sbin/init", "/usr/sbin/init", "/usr/lib/systemd/systemd",
}

// elfArch tells the architecture from one of the root's own programs.
func elfArch(root *rootfs.FS) string {
	for _, name := range ownPrograms {
		f, err := root.Open(name)
		if err != nil {
			continue
		}
		head := make([]byte, 20)
		_, err = io.ReadFull(f, head)
		f.Close()
		if err != nil || string(head[:4]) != elf.ELFMAG {
			continue
		}
		if word := machineWord(head); word != "" {
			return word
		}
	}
	return ""
}

// machineWord is the kernel's word for the machine that the head of a program names.
func machineWord(head []byte) string {
	wide := elf.Class(head[elf.EI_CLASS]) == elf.ELFCLASS64
	little := elf.Data(head[elf.EI_DATA]) == elf.ELFDATA2LSB
	number := binary.BigEndian.Uint16(head[18:])
	if little {
		number = binary.LittleEndian.Uint16(head[18:])
	}
	of := func(is bool, yes, no string) string {
		if is {
			return yes
		}
		return no
	}
	switch elf.Machine(number) {
	case elf.EM_X86_64:
		return "x86_64"
	case elf.EM_AARCH64:
		return "aarch64"
	case elf.EM_386:
		return "i686"
	case elf.EM_PPC64:
		return of(little, "ppc64le", "ppc64")
	case elf.EM_PPC:
		return "ppc"
	case elf.EM_S390:
		return of(wide, "s390x", "s390")
	case elf.EM_RISCV:
		return of(wide, "riscv64", "riscv32")
	case elf.EM_ARM:
		return "armv7l"
	case elf.EM_LOONGARCH:
		return of(wide, "loongarch64", "loongarch32")
	case elf.EM_MIPS, elf.EM_MIPS_RS3_LE:
		return of(wide, "mips64", "mips")
	case elf.EM_SPARCV9:
		return "sparc64"
	case elf.EM_68K:
		return "m68k"
	case elf.EM_ALPHA, elf.EM_ALPHA_STD:
		return "alpha"
	case elf.EM_PARISC:
		return "parisc"
	case elf.EM_SH:
		return "sh4"
	case elf.EM_IA_64:
		return "ia64"
	}
	return ""
}

// levels are the flags that each x86-64 level adds, as the System V ABI lists
// them, in the spelling of /proc/cpuinfo.
var levels = [][]string{
	{"lm", "cmov", "cx8", "fpu", "fxsr", "mmx", "syscall", "sse2"},
	{"cx16", "lahf_lm", "pni", "popcnt", "sse4_1", "sse4_2", "ssse3"},
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
