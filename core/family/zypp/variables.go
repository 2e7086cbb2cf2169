package zypp

import (
	"strings"

	"patientlantern.example/lantern/core/family"
)

// variables learns what $name stands for on the host.
func (r *reader) variables(host family.Host, arch string) {
	r.vars["arch"], r.vars["basearch"] = arch, arch
	if base, _, levelled := strings.Cut(arch, "_v"); levelled {
		r.vars["basearch"] = base
	}
	if len(arch) == 4 && arch[0] == 'i' && arch[2:] == "86" || arch == "athlon" {
		r.vars["basearch"] = "i386"
	}
	release := r.product()
	if release == "" {
		release = host.Release
	}
	r.vars["releasever"] = release
	r.Variables(r.root, r.dirs.vars, func(name, _ string, text []byte) {
		r.vars[name], _, _ = strings.Cut(string(text), "\n")
	})
	major, minor, _ := strings.Cut(r.vars["releasever"], ".")
	for name, value := range map[string]string{"releasever_major": major, "releasever_minor": minor} {
		if _, ok := r.vars[name]; !ok {
			r.vars[name] = value
		}
	}
}

// expand puts variables in where they decide something.
func (r *reader) expand(text string) string {
	out, names := r.PutIn(text, r.vars)
	r.Uses(names, out)
	return out
}
