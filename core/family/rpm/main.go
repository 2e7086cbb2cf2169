package rpm

import (
	"errors"
	"io/fs"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// kindOf says how dnf reads a value.
type kindOf uint8

const (
	word kindOf = iota
	yesNo
	many
	oneOf  // what words says
	folded // what chosen says, in any case
	span   // seconds
	short  // likewise, of no more than fit into 32 bits
	rooted // a path that begins at the root
)

type mainTouch struct {
	family.Touch
	kind kindOf
}

// words are what dnf takes of a setting that is one of some.
var words = map[string][]string{
	"multilib_policy": {"best", "all"},
	policyKey:         {"legacy", "full", "all"},
	"cacheonly":       {"none", "metadata", "all"}, // of dnf 5
}

// touching are the settings of [main] that decide where packages come from, what is
// believed, through whom it is fetched and what runs on the way: dnf.conf(5). The defaults
// are those of dnf 4.14 where nothing is configured.
var touching = map[string]mainTouch{
	"reposdir": {
		family.Touch{Default: "/etc/yum.repos.d, /etc/yum/repos.d, /etc/distro.repos.d", Touches: family.Origin},
		many,
	},
	"varsdir":                 {family.Touch{Default: "/etc/yum/vars, /etc/dnf/vars", Touches: family.Origin}, many},
	"includepkgs":             {family.Touch{Touches: family.Origin}, many},
	"disable_excludes":        {family.Touch{Touches: family.Origin}, many},
	"enabled":                 {family.Touch{Default: "1", Touches: family.Origin}, yesNo},
	"allow_vendor_change":     {family.Touch{Default: "1", Touches: family.Origin}, yesNo},
	"best":                    {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"cacheonly":               {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"cachedir":                {family.Touch{Default: "/var/cache/dnf", Touches: family.Origin, Since: 5}, word},
	"persistdir":              {family.Touch{Default: "/var/lib/dnf", Touches: family.Origin, Since: 5}, word},
	"system_cachedir":         {family.Touch{Default: "/var/cache/dnf", Touches: family.Origin, Since: 5}, word},
	"fastestmirror":           {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"ignorearch":              {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"arch":                    {family.Touch{Touches: family.Origin, Since: source.Rooted}, word},
	"installroot":             {family.Touch{Default: "/", Touches: family.Origin}, rooted},
	"module_platform_id":      {family.Touch{Touches: family.Origin}, word},
	"module_stream_switch":    {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"module_obsoletes":        {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"multilib_policy":         {family.Touch{Default: "best", Touches: family.Origin}, oneOf},
	"obsoletes":               {family.Touch{Default: "1", Touches: family.Origin}, yesNo},
	"skip_if_unavailable":     {family.Touch{Default: "0", Touches: family.Origin}, yesNo},
	"gpgcheck":                {family.Touch{Default: "0", Touches: family.Trust}, yesNo},
	"repo_gpgcheck":           {family.Touch{Default: "0", Touches: family.Trust}, yesNo},
	"localpkg_gpgcheck":       {family.Touch{Default: "0", Touches: family.Trust}, yesNo},
	"gpgkey_dns_verification": {family.Touch{Default: "0", Touches: family.Trust}, yesNo},
	"assumeyes":               {family.Touch{Default: "0", Touches: family.Trust}, yesNo},
	"metadata_expire":         {family.Touch{Default: "172800", Touches: family.Trust}, span},
	"tsflags":                 {family.Touch{Touches: family.Trust}, many},
	"sslverify":               {family.Touch{Default: "1", Touches: family.Transport}, yesNo},
	"sslverifystatus":         {family.Touch{Default: "0", Touches: family.Transport}, yesNo},
	"sslcacert":               {family.Touch{Touches: family.Transport}, word},
	"sslclientcert":           {family.Touch{Touches: family.Transport}, word},
	"sslclientkey":            {family.Touch{Touches: family.Transport}, word},
	"proxy":                   {family.Touch{Touches: family.Transport}, word},
	"proxy_auth_method":       {family.Touch{Default: "any", Touches: family.Transport}, folded},
	"proxy_sslcacert":         {family.Touch{Touches: family.Transport}, word},
	"proxy_sslclientcert":     {family.Touch{Touches: family.Transport}, word},
	"proxy_sslclientkey":      {family.Touch{Touches: family.Transport}, word},
	"proxy_sslverify":         {family.Touch{Default: "1", Touches: family.Transport}, yesNo},
	"proxy_username":          {family.Touch{Touches: family.Login}, word},
	"proxy_password":          {family.Touch{Touches: family.Login}, word},
	"username":                {family.Touch{Touches: family.Login}, word},
	"password":                {family.Touch{Touches: family.Login}, word},
	"gpgcheck_policy":         {family.Touch{Default: "legacy", Touches: family.Trust, Since: 3}, oneOf},
	"allow_downgrade":         {family.Touch{Default: "1", Touches: family.Origin, Since: 3}, yesNo},
	"system_state_dir":        {family.Touch{Default: "/usr/lib/sysimage/libdnf5", Touches: family.Origin, Since: 3}, word},
	"plugin_conf_dir":         {family.Touch{Touches: family.Program, Since: 3}, many},
	"plugins":                 {family.Touch{Default: "1", Touches: family.Program}, yesNo},
	"pluginpath":              {family.Touch{Touches: family.Program}, many},
	"pluginconfpath":          {family.Touch{Default: "/etc/dnf/plugins", Touches: family.Program}, many},
}

// only5 are the settings that dnf 5 alone knows.
var only5 = map[string]bool{policyKey: true, "allow_downgrade": true, "system_state_dir": true, "plugin_conf_dir": true}

// of5 are the settings that dnf 5 has otherwise by itself, or reads otherwise. Earlier readers did not see them.
var of5 = map[string]mainTouch{
	"best":            {family.Touch{Default: "1", Touches: family.Origin, Since: 5}, yesNo},
	"cacheonly":       {family.Touch{Default: "none", Touches: family.Origin, Since: 5}, oneOf},
	"cachedir":        {family.Touch{Default: "/var/cache/libdnf5", Touches: family.Origin, Since: 5}, word},
	"system_cachedir": {family.Touch{Default: "/var/cache/libdnf5", Touches: family.Origin, Since: 5}, word},
	"reposdir":        {family.Touch{Default: "/etc/yum.repos.d, /etc/distro.repos.d, /usr/share/dnf5/repos.d", Touches: family.Origin}, many},
	"varsdir":         {family.Touch{Default: "/usr/share/dnf5/vars.d, /etc/dnf/vars", Touches: family.Origin}, many},
	"pluginconfpath":  {family.Touch{Default: "/etc/dnf/libdnf5-plugins", Touches: family.Program}, word},
	"pluginpath":      {family.Touch{Touches: family.Program}, word},
	"metadata_expire": {family.Touch{Default: "172800", Touches: family.Trust}, short},
}

// underRoot are folders that dnf 5 takes for ones of the root, however they are written.
var underRoot = []string{"cachedir", "system_cachedir", "reposdir"}

// touched is how a setting of [main] is read, and what it decides; false where it decides nothing.
func (r *reader) touched(key string) (t mainTouch, ok bool) {
	if r.five {
		if t, ok = of5[key]; ok {
			return t, true
		}
	}
	t, ok = touching[key]
	return t, ok && (r.five || !only5[key]) && !(r.five && key == "arch")
}

// taken is a value of a setting as dnf's own dump gives it; false where dnf takes no notice of it.
func (t *mainTouch) taken(key, value string) (string, bool) {
	switch t.kind {
	case yesNo:
		on, ok := truth(value)
		if on {
			return "1", ok
		}
		return "0", ok
	case many:
		return strings.Join(list(value), ", "), true
	case folded:
		value = strings.ToLower(value)
		return value, slices.Contains(chosen[key], value)
	case oneOf:
		return value, slices.Contains(words[key], value)
	case span, short:
		n, ok := Seconds(value)
		return strconv.FormatInt(n, 10), ok && (t.kind == span || n > math.MinInt32)
	case rooted:
		return value, strings.HasPrefix(value, "/")
	}
	return value, true
}

// setting notes a setting of [main] that matters, with the value that dnf's own dump gives.
func (r *reader) setting(key, value, file string, line int) {
	t, ok := r.touched(key)
	if !ok {
		return
	}
	if r.five && slices.Contains(underRoot, key) {
		folders := []string{value}
		if t.kind == many {
			folders = list(value)
		}
		for i, name := range folders {
			folders[i] = "/" + strings.TrimPrefix(name, "/")
		}
		value = strings.Join(folders, ",")
	}
	if value, ok = t.taken(key, value); ok && value != t.Default {
		r.SetAs(t.Touch, "main."+key, value, file, line)
	}
}

// excludes are the keys that keep packages away or let only some in.
var excludes = map[string]string{"exclude": source.HoldExclude, "excludepkgs": source.HoldExclude, "includepkgs": source.HoldInclude}

// holds notes the packages that a section excludes or lets in. Both keys for what is excluded
// fill one list, and an empty value empties it.
func (r *reader) holds(key, value, only, file string, line int) {
	kind, ok := excludes[key]
	if !ok {
		return
	}
	words := list(value)
	if len(words) == 0 {
		r.Holds = slices.DeleteFunc(r.Holds, func(h source.Hold) bool { return h.Kind == kind && h.Source == only && h.File == file })
	}
	for _, what := range words {
		if what != "" {
			r.Hold(kind, what, only, file, line)
		}
	}
}

// excluded notes the setting of [main] that the two keys for what is excluded make together.
func (r *reader) excluded(file string) {
	var what []string
	line := 0
	for _, h := range r.Holds {
		if h.Kind == source.HoldExclude && h.Source == "" && h.File == file {
			what, line = append(what, h.What), h.Line
		}
	}
	if len(what) > 0 {
		r.Set("main.excludepkgs", strings.Join(what, ", "), file, line, family.Origin)
	}
}

// Where dnf's plugin for version locks looks.
const (
	lockConfig = "/etc/dnf/plugins/versionlock.conf"
	LockList   = "/etc/dnf/plugins/versionlock.list"
)

// locks reads the list of dnf's plugin for version locks: a pattern a line, ! keeps it away.
func (r *reader) locks() {
	name := LockList
	if text, info, err := r.root.ReadTextInfo(lockConfig); err == nil {
		r.Keep(info, lockConfig, text)
		f := ini.ParseRPM(text)
		for i := range f.Sections {
			s := &f.Sections[i]
			if f.Name(s) != "main" {
				continue
			}
			for _, e := range f.Entries(s) {
				switch v := plainValue(f.Value(&e)); f.Key(&e) {
				case "locklist":
					name = path.Clean("/" + v)
				case "enabled":
					on := true
					problems := len(r.Problems)
					if r.boolean(&on, lockConfig, int(e.Line), "enabled", v); !on {
						return
					}
					r.Problems = r.Problems[:problems]
				}
			}
		}
	}
	text, info, err := r.root.ReadTextInfo(name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Problem(name, 0, "cannot be read, so which versions are locked is not known: "+family.Plain(err), false)
		}
		return
	}
	r.Keep(info, name, text)
	line := 0
	for l := range strings.Lines(string(text)) {
		line++
		what := strings.TrimSpace(l)
		if what != "" && what[0] != '#' {
			r.Hold(source.HoldLock, what, "", name, line)
		}
	}
}
