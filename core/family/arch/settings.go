package arch

import (
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// said is one directive of [options] as it stands in a file.
type said struct {
	value, file string
	line        int
}

// directive is what pacman makes of a directive that stands several times.
type directive struct {
	family.Touch
	joined bool // its values add up; else the first counts
}

// touching are the directives of [options] that decide where packages come from, what is
// believed, through whom it is fetched and what runs on the way: pacman.conf(5). The defaults
// are those of pacman 6.0.
var touching = map[string]directive{
	"RootDir":                  {family.Touch{Default: "/", Touches: family.Origin}, false},
	"DBPath":                   {family.Touch{Default: "/var/lib/pacman/", Touches: family.Origin}, false},
	"CacheDir":                 {family.Touch{Default: "/var/cache/pacman/pkg/", Touches: family.Origin, Since: 5}, true},
	"GPGDir":                   {family.Touch{Default: "/etc/pacman.d/gnupg/", Touches: family.Trust}, false},
	"HookDir":                  {family.Touch{Default: "/etc/pacman.d/hooks/", Touches: family.Program}, true},
	"Architecture":             {family.Touch{Touches: family.Origin}, true},
	"IgnorePkg":                {family.Touch{Touches: family.Origin}, true},
	"IgnoreGroup":              {family.Touch{Touches: family.Origin}, true},
	"XferCommand":              {family.Touch{Touches: family.Both(family.Transport, family.Program)}, false},
	"DownloadUser":             {family.Touch{Touches: family.Trust, Since: 3}, false},
	"DisableSandbox":           {family.Touch{Touches: family.Program, Since: 3}, false},
	"DisableSandboxFilesystem": {family.Touch{Touches: family.Program, Since: 3}, false},
	"DisableSandboxSyscalls":   {family.Touch{Touches: family.Program, Since: 3}, false},
	"SigLevel":                 {family.Touch{Touches: family.Trust}, true},
	"LocalFileSigLevel":        {family.Touch{Touches: family.Trust}, true},
	"RemoteFileSigLevel":       {family.Touch{Touches: family.Trust}, true},
}

// sandboxOff begins the directives that stand without a value and take away what shuts downloads in.
const sandboxOff = "DisableSandbox"

// LevelSetting is what pacman checks where a section says nothing of it.
const LevelSetting = "options.SigLevel"

// note keeps a directive of [options] that matters, and the packages that it keeps.
func (r *reader) note(key, value, file string, line int) {
	if _, ok := touching[key]; !ok {
		return
	}
	if r.said == nil {
		r.said = map[string][]said{}
	}
	r.said[key] = append(r.said[key], said{value, file, line})
	criteria := map[string]string{"IgnorePkg": "", "IgnoreGroup": source.Group}
	if of, keeps := criteria[key]; keeps {
		for _, what := range words(value) {
			r.HoldWhere(source.HoldIgnore, what, "", of, file, line)
		}
	}
}

// order is that in which pacman-conf prints the directives.
var order = []string{
	"RootDir", "DBPath", "CacheDir", "HookDir", "GPGDir", "IgnorePkg", "IgnoreGroup", "Architecture", "XferCommand", "SigLevel",
	"LocalFileSigLevel", "RemoteFileSigLevel", "DownloadUser", "DisableSandbox", "DisableSandboxFilesystem", "DisableSandboxSyscalls",
}

// settings lists what [options] decides, with the values that pacman-conf gives, several of
// them between blanks.
func (r *reader) settings() {
	for _, key := range order {
		list := r.said[key]
		if len(list) == 0 {
			continue
		}
		last := list[len(list)-1]
		var value string
		switch t := touching[key]; {
		case key == "SigLevel":
			value = r.level.text()
		case key == "LocalFileSigLevel", key == "RemoteFileSigLevel":
			var l level
			for _, s := range list {
				l.set(words(s.value))
			}
			value = r.level.merge(l).pkg.text("Package") // databases have no say in it
		case key == "Architecture":
			value = strings.Join(r.Architectures, " ")
		case key == "XferCommand":
			value = last.value
		case strings.HasPrefix(key, sandboxOff): // it is switched on by standing there
			value = "yes"
		case !t.joined:
			last = list[0]
			value = last.value
		case key == "HookDir", key == "CacheDir":
			var all []string
			for _, s := range list {
				if s.value != "" {
					all = append(all, s.value)
				}
			}
			value = strings.Join(all, " ")
		default:
			var all []string
			for _, s := range list {
				all = append(all, words(s.value)...)
			}
			value = strings.Join(all, " ")
		}
		if key == "SigLevel" && value == r.unsaid.text() {
			continue
		}
		if t := touching[key]; value != "" && plain(value) != plain(t.Default) {
			r.SetAs(t.Touch, "options."+key, value, last.file, last.line)
		}
	}
}

// plain is a folder however it is written; other values stay as they are.
func plain(value string) string {
	if strings.HasPrefix(value, "/") {
		return path.Clean(value)
	}
	return value
}

// text writes a level as pacman-conf does.
func (l level) text() string { return l.pkg.text("Package") + " " + l.db.text("Database") }

func (p part) text(what string) string {
	switch {
	case !p.check:
		return what + "Never"
	case p.optional:
		return what + "Optional " + what + p.trust()
	}
	return what + "Required " + what + p.trust()
}
