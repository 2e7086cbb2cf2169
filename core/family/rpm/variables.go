package rpm

import (
	"cmp"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/family"
)

// variables collects what stands for $name: the host's, then the files'.
func (r *reader) variables(host family.Host) {
	r.vars = map[string]string{}
	if arch := cmp.Or(r.main.arch, host.Arch); arch != "" {
		r.vars["arch"] = arch
		r.vars["basearch"] = baseArch(arch)
	}
	for _, release := range []string{host.OSRelease, host.Release} {
		if release != "" {
			r.vars["releasever"] = release
		}
	}
	for _, dir := range r.main.varsDir {
		r.Variables(r.root, path.Clean("/"+dir), func(name, file string, text []byte) {
			if !validPrefix(text, 8192) {
				r.Problem(file, 1, "dnf refuses to work: the variable is not UTF-8", true)
				return
			}
			value := string(text)
			if i := strings.IndexAny(value, "\r\n"); i >= 0 {
				value = value[:i]
			}
			r.vars[name] = value
		})
	}
}

// validPrefix reports whether the first n bytes are UTF-8; the last letter may be cut.
func validPrefix(text []byte, n int) bool {
	cut := len(text) > n
	if cut {
		text = text[:n]
	}
	for len(text) > 0 {
		c, size := utf8.DecodeRune(text)
		if c == utf8.RuneError && size == 1 {
			return cut && !utf8.FullRune(text)
		}
		text = text[size:]
	}
	return true
}

// processors are those that dnf 4 knows.
const processors = "aarch64 alpha alphaev4 alphaev45 alphaev5 alphaev56 alphaev6 alphaev67 alphaev68 alphaev7 alphapca56 armv5tejl " +
	"armv5tel armv5tl armv6l armv7l armv8l armv6hl armv7hl armv7hnl armv8hl i386 athlon geode i486 i586 i686 ia64 mips mipsel mips64 " +
	"mips64el loongarch64 noarch ppc ppc64 ppc64iseries ppc64p7 ppc64pseries ppc64le riscv32 riscv64 riscv128 s390 s390x sh3 sh4 sh4a " +
	"sparc sparc64 sparc64v sparcv8 sparcv9 sparcv9v x86_64 amd64 ia32e"

// baseArch is $basearch for a machine's $arch.
func baseArch(arch string) string {
	switch arch {
	case "i386", "i486", "i586", "i686", "athlon", "geode":
		return "i386"
	case "amd64", "ia32e":
		return "x86_64"
	case "armv5tejl", "armv5tel", "armv5tl", "armv6l", "armv7l", "armv8l":
		return "arm"
	case "armv6hl", "armv7hl", "armv7hnl", "armv8hl":
		return "armhfp"
	case "ppc64iseries", "ppc64p7", "ppc64pseries":
		return "ppc64"
	case "sh4a":
		return "sh4"
	}
	for _, base := range []string{"alpha", "sparc"} {
		if strings.HasPrefix(arch, base) {
			return base
		}
	}
	return arch
}

// shown are the options of a section that decide nothing about where packages come from.
var shown = []string{"name", "username", "password", "proxy_username", "proxy_password"}

// valueOf is what an option says with its variables put in. Those of what is only shown, and of what nobody may see, count as put
// in nowhere.
func (r *reader) valueOf(key, text string) string {
	if slices.Contains(shown, key) || family.Option(key, text) == family.Hidden {
		out, _ := r.putIn(text)
		return out
	}
	return r.substitute(text)
}

// substitute puts the values of $name and ${name} in where they decide something. What is put in is not
// looked at again.
func (r *reader) substitute(text string) string {
	out, names := r.putIn(text)
	r.Uses(names, out)
	return out
}

// putIn is a text with its variables put in, and which they are.
func (r *reader) putIn(text string) (string, map[string]string) {
	if r.five {
		return r.PutIn(text, r.vars)
	}
	start := strings.IndexByte(text, '$')
	if start < 0 {
		return text, nil
	}
	names := map[string]string{}
	var out strings.Builder
	at := 0 // what stands before is written
	for start >= 0 {
		name := start + 1
		if name >= len(text) {
			break
		}
		bracket := text[name] == '{'
		if bracket {
			if name++; name >= len(text) {
				break
			}
		}
		end := name
		for end < len(text) &&
			(text[end] == '_' || text[end] >= '0' && text[end] <= '9' || text[end] >= 'a' && text[end] <= 'z' ||
				text[end] >= 'A' && text[end] <= 'Z') {
			end++
		}
		if bracket && end == len(text) {
			break
		}
		if !bracket || text[end] == '}' {
			if value, ok := r.vars[text[name:end]]; ok {
				names[text[name:end]] = value
				if bracket {
					end++
				}
				out.WriteString(text[at:start])
				out.WriteString(value)
				at = end
				if out.Len() > family.MostExpanded {
					r.Expanding(out.Len(), "", 0)
					return text, nil
				}
			}
		}
		if start = strings.IndexByte(text[end:], '$'); start >= 0 {
			start += end
		}
	}
	out.WriteString(text[at:])
	if !r.Expanding(out.Len(), "", 0) {
		return text, nil
	}
	return out.String(), names
}
