package zypp

import (
	"cmp"
	"errors"
	"io/fs"
	"path"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// configure reads libzypp's configuration and zypper's, and returns the architecture that is in force; asked is
// whether the configuration says so.
func (r *reader) configure(arch string) (inForce string, asked bool) {
	base := "/etc/zypp"
	main := map[string]string{}
	var files []*ini.File
	var names []string
	for _, name := range r.configs() {
		text, info, err := r.root.ReadTextInfo(name)
		switch {
		case err == nil && !info.Mode().IsRegular(), errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			r.refuse(name, 0, "its configuration cannot be read: %s", family.Plain(err))
			continue
		}
		r.Keep(info, name, text)
		f := ini.ParseZypp(text)
		if f.Err != nil {
			r.refuse(name, f.Err.Line, "%s", f.Err.Message)
		}
		files, names = append(files, f), append(names, name)
		for i := range f.Sections {
			if f.Name(&f.Sections[i]) == "main" {
				for _, e := range f.Entries(&f.Sections[i]) {
					main[f.Key(&e)] = f.Value(&e)
				}
			}
		}
	}
	r.lastSettings(files, names)
	if text, info, err := r.root.ReadTextInfo(userConfig); err == nil {
		r.Keep(info, userConfig, text)
		r.lastSettings([]*ini.File{ini.ParseZypp(text)}, []string{userConfig})
	}
	r.lockFile = path.Clean("/" + cmp.Or(main["locksfile.path"], Locks))
	if v := main["configdir"]; v != "" {
		base = v
	}
	at := func(key, name string) string {
		if v := main[key]; v != "" {
			return path.Clean("/" + v)
		}
		return path.Join("/", base, name)
	}
	r.dirs = places{
		at("reposdir", "repos.d"),
		at("servicesdir", "services.d"),
		at("varsdir", "vars.d"),
		at("credentials.global.dir", "credentials.d"),
		at("vendordir", "vendors.d"),
	}
	if v, ok := main["gpgcheck"]; ok {
		on := !saysNo(v)
		r.check = &on
	}
	r.metadata, r.packages = tristate(main["repo_gpgcheck"]), tristate(main["pkg_gpgcheck"])
	if v := main["arch"]; v != "" {
		r.Architectures = []string{v}
		return v, true
	}
	return arch, false
}

func saysNo(v string) bool { return source.IsOff(Family, v) }

// saysYes reads a boolean as libzypp does: some words, and every number but 0.
func saysYes(v string) bool { return source.IsOn(Family, v) }

func tristate(v string) *bool {
	yes := true
	switch {
	case saysYes(v):
		return &yes
	case saysNo(v):
		yes = false
		return &yes
	}
	return nil
}
