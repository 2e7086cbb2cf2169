package arch

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/source"
)

// Dir is where files of the policy stand. pacman.conf includes each by name: a
// pattern that nothing fits would make pacman refuse to work.
const Dir = "/etc/pacman.d"

// Reserved are the sections that are no repositories, and the name of what is installed.
var Reserved = []string{"options", "local"}

// Path is where a repository's section stands.
func Path(repository string) string { return Dir + "/lantern-" + repository + ".conf" }

// Access says in which file the server's URL with the login stands. While there is
// no access the URL stands there without one: pacman refuses to work at all when a
// file that it includes is not there.
func Access(repository, account, url string) []source.AccessFile {
	return []source.AccessFile{
		{
			Path:    Dir + "/lantern-" + repository + "." + account,
			Mode:    "0600",
			Form:    credential.FormPacman,
			URLs:    []string{url},
			Without: "Server = " + url + "\n",
		},
	}
}

// KeyDir is where signing keys stand that pacman's own keyring is to hold.
const KeyDir = Dir + "/lantern-keys"

// KeyPath is where a signing key stands that pacman's own keyring is to hold.
func KeyPath(name string) string { return KeyDir + "/" + name + ".asc" }

// Render writes a repository as a section in a file of its own, with the files that it
// needs. One that is off stands there as comments. Keys are trusted by way of pacman's
// keyring, for all sources alike.
func Render(d family.Definition) ([]source.SheetFile, source.SheetSource, []source.SheetKey) {
	src := d.Source(Path(d.Repository), strings.TrimRight(d.URL, "/"))
	files, keys := d.KeyFiles(&src, KeyPath)
	src.SignedBy = []string{}
	level := "Required DatabaseOptional"
	if d.Signatures == source.CheckOff {
		level = "Never"
	}
	server := ""
	if d.Mirrors != nil {
		list := d.MirrorFile(Dir+"/lantern-"+d.Repository+".mirrors", "Server = ")
		files = append(files, list)
		server = "Include = " + list.Path
		for _, m := range d.Mirrors {
			src.URLs = append(src.URLs, strings.TrimSuffix(m, "/")) // as pacman takes it
		}
	} else {
		server = "Server = " + src.URLs[0]
	}
	if d.Account != "" {
		server = "Include = " + Access(d.Repository, d.Account, d.URL)[0].Path
	}
	off := ""
	if !d.Enabled {
		off = "#"
	}
	var b strings.Builder
	b.WriteString(family.Head)
	if d.Title != "" {
		b.WriteString("#\n# " + d.Name() + "\n")
	}
	if d.Hold != nil && d.Enabled { // pacman knows no versions here: what is installed stays
		fmt.Fprintf(&b, "[options]\nIgnorePkg = %s\n", strings.Join(d.Hold.Packages, " "))
	}
	fmt.Fprintf(&b, "%[1]s[%[2]s]\n%[1]sSigLevel = %[3]s\n%[1]s%[4]s\n", off, d.Repository, level, server)
	return append(files, source.SheetFile{Path: src.File, Mode: "0644", Text: b.String(), Repository: src.Repository}), src, keys
}
