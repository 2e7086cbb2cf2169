package family

import (
	"fmt"
	"strings"

	"patientlantern.example/lantern/core/series"
	"patientlantern.example/lantern/core/source"
)

// Definition is one repository as it shall stand on a host that dnf, zypper or pacman
// keeps.
type Definition struct {
	Repository string // its name on the host, and that of its file
	Of         string // the repository of the policy that the file belongs to; empty: of that name
	Title      string
	Support    string
	Enabled    bool
	URL        string
	Mirrors    []string // instead of a URL
	Priority   *int     // nil: none is written
	Level      int      // how many repositories of the policy stand below it
	While      string   // folder of the media that it comes from
	Hold       *Hold    // packages of it that stay at a series of versions
	Signatures string   // required or off
	Keys       []SigningKey
	Authority  string // rpm only: certificates (PEM) that vouch for the server; empty: the system's
	Account    string // whose access opens it; empty: nobody's
	Kind       string // of that access, as in the package credential
	Proxy      string // what it is fetched through; empty: whatever the host is told otherwise
}

// Hold keeps packages at a series of versions.
type Hold struct {
	Packages []string
	Series   series.Series
}

// Name is the title in one line, or the repository's name where there is none.
func (d *Definition) Name() string {
	if title := strings.Join(strings.Fields(d.Title), " "); title != "" {
		return title
	}
	return d.Repository
}

// Source says what a definition in a file comes to, keys aside.
func (d *Definition) Source(file, url string) source.SheetSource {
	of := d.Of
	if of == "" {
		of = d.Repository
	}
	urls := []string{}
	if url != "" {
		urls = append(urls, url)
	}
	return source.SheetSource{
		Repository: of,
		File:       file,
		ID:         d.Repository,
		Enabled:    d.Enabled,
		Kinds:      []string{"binary"},
		URLs:       urls,
		Priority:   d.Priority,
		Level:      d.Level,
		While:      d.While,
		Suites:     []string{}, Components: []string{}, Archs: []string{}, SignedBy: []string{}, Signatures: d.Signatures, Support: d.Support,
	}
}

// KeyFiles writes each signing key as a file of its own, and notes it with the source.
func (d *Definition) KeyFiles(src *source.SheetSource, path func(name string) string) (files []source.SheetFile, keys []source.SheetKey) {
	for _, k := range d.Keys {
		src.SignedBy = append(src.SignedBy, k.Fingerprint)
		keys = append(keys, source.SheetKey{Name: k.Name, Fingerprint: k.Fingerprint, Path: path(k.Name)})
		files = append(files, source.SheetFile{Path: path(k.Name), Mode: "0644", Text: k.Armored})
	}
	return files, keys
}

// MirrorFile writes mirrors into a file of their own, one on a line.
func (d *Definition) MirrorFile(path, lead string) source.SheetFile {
	var b strings.Builder
	b.WriteString(Head)
	for _, m := range d.Mirrors {
		b.WriteString(lead + m + "\n")
	}
	of := d.Of
	if of == "" {
		of = d.Repository
	}
	return source.SheetFile{Path: path, Mode: "0644", Text: b.String(), Repository: of}
}

// PriorityOf is the number of a level where a smaller number wins over a greater one
// and 99 is what is taken where none is given; nil for the level of all others.
func PriorityOf(level int) *int {
	if level == 0 {
		return nil
	}
	n := min(max(99-10*level, 1), 199)
	return &n
}

// OnOff writes a switch as .repo files do.
func OnOff(on bool) string {
	if on {
		return "1"
	}
	return "0"
}

// Section begins a .repo file.
func (d *Definition) Section() string {
	return fmt.Sprintf("%s[%s]\nname=%s\n", Head, d.Repository, d.Name())
}
