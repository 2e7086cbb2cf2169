package deb

import (
	"fmt"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/credential"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// Definition is one repository as it shall stand on a host.
type Definition struct {
	Repository string // the name of its file
	Title      string
	Support    string
	Enabled    bool
	URL        string
	Mirrors    []string // instead of a URL
	InOrder    bool     // the first of them that answers is taken
	Pins       []string // what pins match
	Priority   *int     // of those pins; nil: there are none
	Level      int      // how many repositories of the policy stand below it
	While      string   // folder of the media that it comes from
	Suites     []string
	Components []string
	Archs      []string
	Kinds      []string
	Hold       *family.Hold // packages of it that stay at a series of versions
	Signatures string
	Keys       []family.SigningKey
	Embed      bool   // put the keys into the source itself
	Of         string // the repository of the policy that the file belongs to; empty: of that name
}

// CanEmbed reports whether an apt of that version takes a key inside
// Signed-By: since 2.3.10, as its own changelog tells.
func CanEmbed(apt string) bool {
	if _, rest, ok := strings.Cut(apt, ":"); ok {
		apt = rest
	}
	want := []int{2, 3, 10}
	parts := strings.FieldsFunc(apt, func(c rune) bool { return c < '0' || c > '9' })
	for i, w := range want {
		if i >= len(parts) {
			return false
		}
		n, err := strconv.Atoi(parts[i])
		if err != nil || n != w {
			return err == nil && n > w
		}
	}
	return true
}

// Access says in which file the login of an account stands, apt_auth.conf(5).
// apt reads it before it gives its privileges up.
func Access(account string, urls []string) []source.AccessFile {
	return []source.AccessFile{
		{Path: "/etc/apt/auth.conf.d/lantern-" + account + ".conf", Mode: "0600", Form: credential.FormNetrc, URLs: urls},
	}
}

// KeyPath is where a key stands that is not embedded.
func KeyPath(name string) string { return "/etc/apt/keyrings/" + name + ".asc" }

// Render writes a repository as a deb822 file of its own, with the key files
// that it needs.
func Render(d Definition) (files []source.SheetFile, src source.SheetSource, keys []source.SheetKey) {
	if d.Of == "" {
		d.Of = d.Repository
	}
	file := PartsDir + "/" + d.Repository + ".sources"
	if d.Mirrors != nil {
		list := mirrors(d)
		files, d.URL = append(files, list), "mirror+file:"+list.Path
	}
	if d.Priority != nil {
		files = append(files, pins(d))
	}
	if d.Hold != nil && d.Enabled {
		files = append(files, held(d))
	}
	var b strings.Builder
	b.WriteString(family.Head)
	if d.Title != "" {
		b.WriteString("#\n# " + strings.Join(strings.Fields(d.Title), " ") + "\n")
	}
	if !d.Enabled {
		b.WriteString("Enabled: no\n")
	}
	types := "deb"
	src = source.SheetSource{
		Repository: d.Of, File: file, Enabled: d.Enabled, Kinds: []string{"binary"},
		URLs: []string{
			EffectiveURL(d.URL, ""),
		}, Level: d.Level, While: d.While, Suites: source.Strings(d.Suites), Components: source.Strings(d.Components),
		Priority: d.Priority, Pins: d.Pins,
		Archs: source.Strings(d.Archs), SignedBy: []string{}, Signatures: d.Signatures, Support: d.Support,
	}
	for i, k := range d.Kinds {
		if i == 0 {
			types, src.Kinds = "", nil
		}
		types = strings.TrimSpace(types + " " + map[string]string{"binary": "deb", "source": "deb-src"}[k])
		src.Kinds = append(src.Kinds, k)
	}
	src.Kinds = kinds(strings.Fields(types))
	fmt.Fprintf(&b, "Types: %s\nURIs: %s\nSuites: %s\n", types, d.URL, strings.Join(d.Suites, " "))
	if len(d.Components) > 0 {
		fmt.Fprintf(&b, "Components: %s\n", strings.Join(d.Components, " "))
	}
	if len(d.Archs) > 0 {
		fmt.Fprintf(&b, "Architectures: %s\n", strings.Join(d.Archs, " "))
	}
	if d.Signatures == source.CheckOff {
		b.WriteString("Trusted: yes\n")
	}
	var paths []string
	for _, k := range d.Keys {
		src.SignedBy = append(src.SignedBy, k.Fingerprint)
		sk := source.SheetKey{Name: k.Name, Fingerprint: k.Fingerprint}
		if !d.Embed {
			sk.Path = KeyPath(k.Name)
			paths = append(paths, sk.Path)
			files = append(files, source.SheetFile{Path: sk.Path, Mode: "0644", Text: k.Armored})
		}
		keys = append(keys, sk)
	}
	switch {
	case d.Embed && len(d.Keys) > 0:
		b.WriteString("Signed-By:")
		for line := range strings.SplitSeq(strings.TrimRight(oneBlock(d.Keys), "\n"), "\n") {
			if line == "" {
				line = "." // deb822 has no empty lines inside a field
			}
			b.WriteString("\n " + line)
		}
		b.WriteByte('\n')
	case len(paths) > 0:
		fmt.Fprintf(&b, "Signed-By: %s\n", strings.Join(paths, " "))
	}
	files = append(files, source.SheetFile{Path: file, Mode: "0644", Text: b.String(), Repository: d.Of})
	return files, src, keys
}

// PriorityOf is the Pin-Priority of a level: 500 is what apt takes where nothing is
// said, above 100 a package is still installed on its own, from 1000 on apt would go
// back to an older version. apt_preferences(5). nil for the level of all others.
func PriorityOf(level int) *int {
	if level == 0 {
		return nil
	}
	n := min(max(500+10*level, 110), 990)
	return &n
}

// PreferencesDir is where pins stand.
const PreferencesDir = "/etc/apt/preferences.d"

func pins(d Definition) source.SheetFile {
	var b strings.Builder
	b.WriteString(family.Head)
	for i, p := range d.Pins {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "Package: *\nPin: %s\nPin-Priority: %d\n", p, *d.Priority)
	}
	return source.SheetFile{
		Path:       PreferencesDir + "/lantern-" + d.Repository + ".pref",
		Mode:       "0644",
		Text:       b.String(),
		Repository: d.Of,
	}
}

// HoldPath is the path, without its ending, of the file that holds packages of a repository at a
// series; of those of every repository where none is named.
func HoldPath(repository string) string { return PreferencesDir + "/lantern-hold-" + repository }

// MirrorList is the list by which apt asks a site's mirror first, and upstream where that does not answer, for entries of the
// distribution's own that come from one URL. It is named by the URL.
func MirrorList(repository, at, of string) source.SheetFile {
	host, _, _ := strings.Cut(strings.TrimPrefix(of[strings.Index(of, "://")+1:], "//"), "/")
	plain := func(r rune) rune {
		if r == '.' || r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' {
			return r
		}
		return '-'
	}
	name := strings.Map(plain, strings.ToLower(host)) + "-" + source.Digest([]byte(of))[:8]
	return mirrors(Definition{Repository: "lantern-" + name, Of: repository, Mirrors: []string{at, of}, InOrder: true})
}

// mirrors writes the mirrors of a repository into a file of their own. apt takes them as they
// come where nothing is said of their order, apt-transport-mirror(1).
func mirrors(d Definition) source.SheetFile {
	list := (&family.Definition{Repository: d.Of, Mirrors: d.Mirrors}).MirrorFile("/etc/apt/mirrors/"+d.Repository+".list", "")
	if d.InOrder {
		list.Text = family.Head
		for i, m := range d.Mirrors {
			list.Text += fmt.Sprintf("%s\tpriority:%d\n", m, i+1)
		}
	}
	return list
}

// held are the pins that keep packages at a series of versions: all others are passed over,
// wherever they come from, and those of the series keep the priority that they have.
func held(d Definition) source.SheetFile {
	text := family.Head + "Package: " + strings.Join(
		d.Hold.Packages,
		" ",
	) + "\nPin: version /" + d.Hold.Series.Others() + "/\nPin-Priority: -1\n"
	return source.SheetFile{Path: HoldPath(d.Of) + ".pref", Mode: "0644", Text: text, Repository: d.Of}
}

// oneBlock joins armoured keys into one armoured block.
func oneBlock(keys []family.SigningKey) string {
	var blocks []string
	for _, k := range keys {
		blocks = append(blocks, k.Armored)
	}
	text, err := keyring.Join(blocks)
	if err != nil {
		return strings.Join(blocks, "")
	}
	return text
}
