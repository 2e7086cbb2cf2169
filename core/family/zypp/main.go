package zypp

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// userConfig is zypper's own configuration, beside libzypp's.
const userConfig = "/etc/zypp/zypper.conf"

// Locks is where libzypp keeps its locks.
const Locks = "/etc/zypp/locks"

// touching are the settings of zypp.conf that decide where packages come from, what is
// believed, through whom it is fetched and what runs on the way. The defaults are those that
// the file's own comments give.
var touching = map[string]family.Touch{
	"main.arch":                        {Touches: family.Origin},
	"main.configdir":                   {Default: "/etc/zypp", Touches: family.Origin},
	"main.reposdir":                    {Touches: family.Origin},
	"main.servicesdir":                 {Touches: family.Origin},
	"main.varsdir":                     {Touches: family.Origin},
	"main.vendordir":                   {Touches: family.Origin},
	"main.locksfile.path":              {Default: Locks, Touches: family.Origin},
	"main.locksfile.apply":             {Default: "yes", Touches: family.Origin},
	"main.cachedir":                    {Default: "/var/cache/zypp", Touches: family.Origin, Since: 3},
	"main.metadatadir":                 {Touches: family.Origin, Since: 3},
	"main.solvfilesdir":                {Touches: family.Origin, Since: 3},
	"main.packagesdir":                 {Touches: family.Origin, Since: 3},
	"main.solver.checkSystemFile":      {Touches: family.Origin, Since: 3},
	"main.solver.checkSystemFileDir":   {Touches: family.Origin, Since: 3},
	"main.solver.focus":                {Touches: family.Origin, Since: 3},
	"main.solver.allowVendorChange":    {Default: "no", Touches: family.Origin},
	"main.solver.dupAllowDowngrade":    {Default: "yes", Touches: family.Origin},
	"main.solver.dupAllowNameChange":   {Default: "yes", Touches: family.Origin},
	"main.solver.dupAllowArchChange":   {Default: "yes", Touches: family.Origin},
	"main.solver.dupAllowVendorChange": {Default: "no", Touches: family.Origin},
	"main.repo.refresh.delay":          {Default: "10", Touches: family.Trust},
	"main.gpgcheck":                    {Default: "on", Touches: family.Trust},
	"main.repo_gpgcheck":               {Touches: family.Trust},
	"main.pkg_gpgcheck":                {Touches: family.Trust},
	"main.credentials.global.dir":      {Touches: family.Transport},
	"main.credentials.global.file":     {Touches: family.Transport},
	"main.update.scriptsdir":           {Touches: family.Program},
	"main.update.messages.notify":      {Touches: family.Program},
}

// setting notes a setting that matters.
func (r *reader) setting(section, key, value, file string, line int) {
	name := section + "." + key
	if section == envSection && r.drops && file != userConfig {
		r.SetAs(family.Touch{Touches: anything, Since: 3}, name, value, file, line)
		return
	}
	t, ok := touching[name]
	if !ok || value == t.Default || value == "" && t.Default == "" {
		return
	}
	if t.Default == "on" || t.Default == "yes" || t.Default == "no" {
		if yes := t.Default != "no"; yes && saysYes(value) || !yes && saysNo(value) {
			return // another spelling of what holds anyway
		}
	}
	r.SetAs(t, name, value, file, line)
}

// lastSettings notes the settings of files: of a key that stands twice the last counts.
func (r *reader) lastSettings(files []*ini.File, names []string) {
	type place struct{ section, key string }
	type said struct {
		value, file string
		line        int
	}
	var order []place
	values := map[place]said{}
	for n, f := range files {
		for i := range f.Sections {
			s := &f.Sections[i]
			for _, e := range f.Entries(s) {
				p := place{f.Name(s), f.Key(&e)}
				if _, ok := values[p]; !ok {
					order = append(order, p)
				}
				values[p] = said{f.Value(&e), names[n], int(e.Line)}
			}
		}
	}
	for _, p := range order {
		v := values[p]
		r.setting(p.section, p.key, v.value, v.file, v.line)
	}
}

// serviceTypes are the types that a service can be written with.
var serviceTypes = []string{"ris", "plugin", "none"}

// service notes a service.
func (r *reader) service(f *ini.File, s *ini.Section, file string) {
	get := func(key string) string {
		v, _ := f.Get(s, key)
		return v
	}
	u := get("url")
	if parsed, err := parse(u); err == nil && u != "" {
		if out, err := parsed.effective(r.expand); err == nil {
			u = out.print(true, true)
		}
	}
	kind, said := f.Get(s, "type")
	if kind = strings.ToLower(kind); said && !slices.Contains(serviceTypes, kind) {
		return
	}
	enabled, switched := f.Get(s, "enabled")
	if !said || kind == "none" {
		kind = "NONE" // as zypper lists it
	}
	r.Services = append(
		r.Services,
		source.Service{
			ID: f.Name(s), URL: family.MaskURL(u), Enabled: !switched || saysYes(enabled), Type: kind, File: file, Line: int(s.Line),
		},
	)
}
