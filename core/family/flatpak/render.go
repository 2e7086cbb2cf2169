package flatpak

import (
	"bytes"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// KeyPath is where a signing key of a remote stands. flatpak's own place for it is a
// binary keyring beside its configuration; gpgkeypath, ostree.repo-config(5), names
// files that people can read.
func KeyPath(name string) string { return "/etc/flatpak/keys/" + name + ".asc" }

// Priority is xa.prio of a level: a greater number wins, 1 is what is taken where none
// is given. nil for the level of all others.
func Priority(level int) *int {
	if level == 0 {
		return nil
	}
	n := defaultPriority + level
	return &n
}

// Render says what a repository comes to as a remote, with the key files that it needs.
// The remote itself stands in flatpak's own configuration, see Set.
func Render(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey) {
	src := d.Source(Config, d.URL)
	src.Family, src.Title = Family, d.Name()
	files, keys := d.KeyFiles(&src, KeyPath)
	return files, src, keys
}

// Set writes a remote into flatpak's configuration. What else the section says is left
// as it is, but for keys and an order that the policy does not speak of. keys are the files of its signing keys.
func Set(text []byte, s *source.SheetSource, keys []string) ([]byte, error) {
	verify := "true"
	if s.Signatures == source.CheckOff {
		verify = "false"
	}
	want := [][2]string{
		{"url", strings.Join(s.URLs, "")},
		{"gpg-verify", verify},
		{"gpg-verify-summary", verify},
		{"xa.title", s.Title},
		{"xa.title-is-set", "true"},
	}
	var none []string // what must not stand there
	if s.Priority != nil {
		want = append(want, [2]string{"xa.prio", strconv.Itoa(*s.Priority)})
	} else {
		none = append(none, "xa.prio")
	}
	if len(keys) > 0 {
		want = append(want, [2]string{"gpgkeypath", strings.Join(keys, ";")})
	} else {
		none = append(none, "gpgkeypath") // of a policy before: nothing is checked by it any more
	}
	disable := [2]string{"xa.disable", strconv.FormatBool(!s.Enabled)}
	f := ini.ParseKeyFile(text)
	section := last(f, s.ID)
	if section == nil {
		if !s.Enabled {
			want = append(want, disable)
		}
		err := f.Add(`remote "`+s.ID+`"`, want...)
		return f.Bytes(), err
	}
	if _, said := f.Get(section, disable[0]); said || !s.Enabled {
		want = append(want, disable)
	}
	for _, w := range want {
		if old, ok := f.Get(section, w[0]); ok && ini.Unescape(old) == w[1] {
			continue
		}
		if err := f.Set(section, w[0], w[1]); err != nil {
			return nil, err
		}
	}
	for _, key := range none {
		f.Delete(section, key)
	}
	return f.Bytes(), nil
}

// last returns the last section of a remote: what it says counts.
func last(f *ini.File, id string) (out *ini.Section) {
	for i := range f.Sections {
		if f.Name(&f.Sections[i]) == `remote "`+id+`"` {
			out = &f.Sections[i]
		}
	}
	return out
}

// Switch switches a remote off, or takes it out, and with one at the end the empty line that Set has put before it.
func Switch(text []byte, id string, remove bool) ([]byte, error) {
	f := ini.ParseKeyFile(text)
	section := last(f, id)
	switch {
	case section == nil:
		return text, nil
	case remove:
		for i := range f.Sections {
			if f.Name(&f.Sections[i]) == f.Name(section) {
				f.DeleteSection(&f.Sections[i])
			}
		}
		out := f.Bytes()
		if end := &f.Sections[len(f.Sections)-1]; f.Name(end) == f.Name(section) && bytes.HasSuffix(out, []byte("\n\n")) {
			out = out[:len(out)-1]
		}
		return out, nil
	default:
		if err := f.Set(section, "xa.disable", "true"); err != nil {
			return nil, err
		}
	}
	return f.Bytes(), nil
}

// Section returns the text of a remote's group.
func Section(text []byte, id string) (string, bool) {
	f := ini.ParseKeyFile(text)
	section := last(f, id)
	if section == nil {
		return "", false
	}
	return f.Text(section), true
}

// Core returns the text of the group that is about all remotes.
func Core(text []byte) (string, bool) {
	f := ini.ParseKeyFile(text)
	for i := range f.Sections {
		if f.Name(&f.Sections[i]) == "core" {
			return f.Text(&f.Sections[i]), true
		}
	}
	return "", false
}

// Rooted returns flatpak's configuration with the files that it names made to lead
// below a root folder.
func Rooted(text []byte, root string) []byte {
	f := ini.ParseKeyFile(text)
	for i := range f.Sections {
		s := &f.Sections[i]
		if v, ok := f.Get(s, "gpgkeypath"); ok {
			list := strings.Split(v, ";")
			for n, p := range list {
				if strings.HasPrefix(p, "/") {
					list[n] = root + p
				}
			}
			_ = f.Set(s, "gpgkeypath", strings.Join(list, ";")) // what cannot be written is left
		}
	}
	return f.Bytes()
}
