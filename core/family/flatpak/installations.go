package flatpak

import (
	"errors"
	"io/fs"
	"path"
	"strings"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/ini"
)

// otherInstallations is where further installations beside the system's own are named.
const otherInstallations = "/etc/flatpak/installations.d"

// others notes what the files say by which there are more installations, and the configuration and keyrings of each:
// flatpak updates from all of them. Their remotes are not told one by one, and that is said.
func (r *reader) others() {
	touches := family.Both(family.Origin, family.Trust)
	entries, err := r.root.ReadDir(otherInstallations)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			r.Unread(otherInstallations, 0, "cannot be listed: "+family.Plain(err))
		}
		return
	}
	for _, e := range entries {
		name := path.Join(otherInstallations, e.Name())
		if !strings.HasSuffix(name, ".conf") {
			continue
		}
		r.Decides(r.root, []family.Deciding{{Path: name, Touches: touches, Comment: "#", Since: source.Scopes}})
		text, err := r.root.ReadText(name)
		if err != nil {
			continue // flatpak reads it no more than we do, or it is said that it was not read
		}
		r.Unread(name, 0, "the remotes of this installation are not told: only those of the system's own are")
		for _, repo := range repositories(text) {
			r.Decides(r.root, []family.Deciding{
				{Path: repo + "/config", Touches: touches, Comment: "#", Stays: true, Since: source.Scopes},
				{Path: repo, Names: family.Suffix(".trustedkeys.gpg", ".sign"), Touches: family.Trust, Stays: true, Since: source.Scopes},
			})
		}
	}
}

// repositories are where the installations that a file names keep what they have.
func repositories(text []byte) (out []string) {
	f := ini.ParseKeyFile(text)
	for i := range f.Sections {
		if at, said := f.Get(&f.Sections[i], "Path"); said && strings.HasPrefix(at, "/") {
			out = append(out, path.Join(at, "repo"))
		}
	}
	return out
}
