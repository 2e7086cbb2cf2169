package rpm

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// config is the file of [main].
func (r *reader) config() string {
	if _, err := r.root.Stat("/etc/dnf"); err == nil {
		return Config
	}
	for _, name := range []string{"/usr/bin/dnf", "/usr/bin/dnf-3"} {
		if _, err := r.root.Stat(name); err == nil {
			return Config
		}
	}
	if _, err := r.root.Stat(OldConfig); err == nil {
		return OldConfig
	}
	return Config
}

// configure reads [main], without variables as dnf does.
func (r *reader) configure() *ini.File {
	name := r.config()
	var beside []mainFile
	if r.five {
		beside = r.dropIns()
	}
	text, info, err := r.root.ReadTextInfo(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.settle(beside)
		return nil
	case err != nil:
		r.Problem(name, 0, "dnf refuses to work: its configuration cannot be read: "+family.Plain(err), true)
		return nil
	}
	r.Keep(info, name, text)
	f := r.parse(text)
	if f.Err != nil {
		r.Problem(name, f.Err.Line, "dnf refuses to work: "+f.Err.Message, true)
		return nil
	}
	r.settle(append(beside, mainFile{name, f}))
	return f
}

// mainFile is a file with settings of [main].
type mainFile struct {
	name string
	text *ini.File
}

// said is a setting of [main] with where it stands.
type said struct {
	entry
	file string
}

// settle takes the settings of [main] out of files, of which later ones win.
func (r *reader) settle(files []mainFile) {
	var keys []string
	values := map[string]said{}
	r.policy(files)
	for _, f := range files {
		for _, s := range r.joined(f.text) {
			if s.id != "main" {
				continue
			}
			for _, key := range s.keys {
				have, again := values[key]
				if !again {
					keys = append(keys, key)
				}
				if !again || r.valid(key, s.values[key].text) || !r.valid(key, have.text) {
					values[key] = said{s.values[key], f.name}
				}
				r.holds(key, r.plain(s.values[key].text), "", f.name, s.values[key].line)
			}
		}
		r.excluded(f.name)
	}
	for _, key := range keys {
		r.mainValue(key, values[key])
	}
}

// valid reports whether dnf takes a value for one of its key, as far as that decides: what it does
// not take leaves what stood before.
func (r *reader) valid(key, value string) bool {
	t, ok := r.touched(key)
	if !ok {
		return true
	}
	_, ok = t.taken(key, r.plain(value))
	return ok
}

// truth reads a value as dnf reads a boolean.
func truth(value string) (on, ok bool) {
	return source.Truth(Family, value)
}

// mainValue takes a setting of [main].
func (r *reader) mainValue(key string, v said) {
	value, line, name := r.plain(v.text), v.line, v.file
	if known(mainOptions, key) && !utf8.ValidString(value) {
		r.Problem(name, line, fmt.Sprintf("dnf refuses to work: the value of %s is not UTF-8", key), true)
		return
	}
	r.setting(key, value, name, line)
	switch key {
	case "enabled":
		if !r.five { // whose repositories do not inherit it
			r.boolean(&r.main.enabled, name, line, key, value)
		}
	case "arch":
		if r.five {
			break
		}
		if r.main.arch = value; !slices.Contains(strings.Fields(processors), value) {
			r.main.arch = ""
			r.Problem(name, line, fmt.Sprintf("dnf refuses to work: it knows no processor %q (arch)", value), true)
		}
	case "gpgcheck":
		r.boolean(&r.main.gpgcheck, name, line, key, value)
	case "repo_gpgcheck":
		r.boolean(&r.main.repoGPGCheck, name, line, key, value)
	case "sslclientcert":
		r.main.clientCert = value
	case "sslcacert", "proxy_sslcacert":
		r.Vouch = append(r.Vouch, value)
	case "username":
		r.main.username = value
	case "password":
		r.main.password = value != ""
	case "reposdir":
		r.main.reposDir = list(value)
	case "varsdir":
		r.main.varsDir = list(value)
	}
}

// boolean sets what a value says; a value that says nothing leaves it.
func (r *reader) boolean(to *bool, file string, line int, key, value string) {
	on, ok := truth(value)
	if !ok {
		r.Problem(file, line, fmt.Sprintf("dnf takes no notice of %s=%s: it is neither yes nor no", key, value), false)
		return
	}
	*to = on
}

// number sets what a value begins with, as a C++ stream reads it into 32 bits.
func (r *reader) number(to *int, file string, line int, key, value string) {
	n, ok := leadingNumber(value)
	if !ok {
		r.Problem(file, line, fmt.Sprintf("dnf takes no notice of %s=%s: it is not a number", key, value), false)
		return
	}
	*to = int(n)
}
