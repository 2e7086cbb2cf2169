package flatpak

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// touching are the settings of the repository that decide where applications come from and
// what is believed: ostree.repo-config(5), flatpak-config(1).
var touching = map[string]family.Touch{
	"parent":                 {Touches: family.Origin},
	"collection-id":          {Touches: family.Origin},
	"default-repo-finders":   {Touches: family.Origin},
	"add-remotes-config-dir": {Touches: family.Origin},
	"remotes-config-dir":     {Touches: family.Origin},
	"gpg-verify":             {Touches: family.Trust},
	"sign-verify":            {Touches: family.Trust},
	"xa.masked":              {Touches: family.Origin},
	"tls-permissive":         {Default: "false", Touches: family.Transport},
	"tls-ca-path":            {Touches: family.Transport},
	"tls-client-cert-path":   {Touches: family.Transport},
	"tls-client-key-path":    {Touches: family.Transport},
	"proxy":                  {Touches: family.Transport},
	"unconfigured-state":     {Touches: family.Origin},
}

// settings lists what [core] decides, and the patterns of applications that are masked.
func (r *reader) settings(core *group) {
	for _, key := range core.keys {
		t, ok := touching[key]
		value, _ := core.text(key)
		if !ok || len(t.Touches) == 0 || value == t.Default {
			continue
		}
		r.Set("core."+key, value, Config, core.lines[key], t.Touches)
		if key != "xa.masked" {
			continue
		}
		var seen []string
		for what := range strings.SplitSeq(value, ";") {
			if what != "" && !slices.Contains(seen, what) {
				seen = append(seen, what)
				r.Hold(source.HoldExclude, what, "", Config, core.lines[key])
			}
		}
	}
}
