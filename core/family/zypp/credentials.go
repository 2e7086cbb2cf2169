package zypp

import (
	"fmt"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// credentials lists the login that a URL of the repository points to.
func (r *reader) credentials(src *source.Source, s *section) {
	for _, key := range []string{"baseurl", "mirrorlist", "metalink"} {
		for _, u := range s.urls(key) {
			_, query, _ := strings.Cut(u, "?")
			for part := range strings.SplitSeq(query, "&") {
				name, ok := strings.CutPrefix(part, "credentials=")
				if !ok || name == "" {
					continue
				}
				file := path.Clean("/" + name)
				if !strings.HasPrefix(name, "/") {
					file = path.Join(r.dirs.credentials, name)
				}
				text, err := r.root.ReadText(file)
				if err != nil {
					r.Problem(
						src.File,
						src.Line,
						fmt.Sprintf("the credentials file %s of %q cannot be read: %s", file, src.ID, family.Plain(err)),
						false,
					)
					continue
				}
				user, ok := credentials(text)
				if !ok {
					r.Problem(file, 0, fmt.Sprintf("zypper logs in to %q with nothing: the file gives no user and password", src.ID), false)
					continue
				}
				r.Login(r.root, file, src.ID, user)
			}
		}
	}
}

// credentials is the user that libzypp takes out of a file; ok is false where it takes none:
// the file begins with a section, spells the keys otherwise, or has no password.
func credentials(text []byte) (user string, ok bool) {
	password := ""
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		if line[0] == '[' {
			break
		}
		key, value, _ := strings.Cut(line, "=")
		switch strings.TrimSpace(key) {
		case "username":
			user = strings.TrimSpace(value)
		case "password":
			password = strings.TrimSpace(value)
		}
	}
	return user, user != "" && password != ""
}

// catalogue lists the logins that libzypp keeps by URL.
func (r *reader) catalogue() {
	for _, file := range []string{"/etc/zypp/credentials.cat", "/root/.zypp/credentials.cat"} {
		text, err := r.root.ReadText(file)
		if err != nil {
			continue
		}
		f := ini.ParseZypp(text)
		for i := range f.Sections {
			s := &f.Sections[i]
			if user, ok := f.Get(s, "username"); ok {
				r.Login(r.root, file, family.MaskURL(f.Name(s)), user)
			}
		}
	}
}
