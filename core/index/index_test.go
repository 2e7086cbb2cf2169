package index_test

import (
	"archive/tar"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/index"
)

type reader func(io.Reader, func(index.Package)) error

func packages(read reader, text string) (out []index.Package, err error) {
	err = read(strings.NewReader(text), func(p index.Package) { out = append(out, p) })
	return out, err
}

// theirs reads a primary list with encoding/xml.
func theirs(text string) (out []index.Package, err error) {
	var m struct {
		XMLName xml.Name `xml:"metadata"`
		Package []struct {
			Type    string `xml:"type,attr"`
			Name    string `xml:"name"`
			Arch    string `xml:"arch"`
			Version struct {
				Epoch string `xml:"epoch,attr"`
				Ver   string `xml:"ver,attr"`
				Rel   string `xml:"rel,attr"`
			} `xml:"version"`
		} `xml:"package"`
	}
	if err := xml.Unmarshal([]byte(text), &m); err != nil {
		return nil, err
	}
	for _, p := range m.Package {
		if p.Type != "rpm" {
			continue
		}
		v := p.Version.Ver
		if p.Version.Rel != "" {
			v += "-" + p.Version.Rel
		}
		if e := p.Version.Epoch; e != "" && e != "0" {
			v = e + ":" + v
		}
		out = append(out, index.Package{Name: strings.TrimSpace(p.Name), Version: v, Arch: strings.TrimSpace(p.Arch)})
	}
	return out, nil
}

// What a list says is what the general reader of XML makes of it, however it is written.
func TestAPrimaryListIsReadAsXML(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.SampledFrom([]string{"tide-model", "a&amp;b", "x&#x41;&#66;", "<![CDATA[a<b>&]]>", "p<!-- > -->q", "sonar"})
		quote := rapid.SampledFrom([]string{`"`, `'`})
		space := rapid.SampledFrom([]string{"", " ", "\n\t"})
		entry := rapid.SampledFrom([]string{
			`<rpm:entry name="x"/>`, `<rpm:entry name="libtide.so.1()(64bit)" flags="GE" ver="1"/>` + "\n  ", `<rpm:entry name='x>y'/>`,
			`<rpm:entry name="x/>y"/>`, `<rpm:entry name="it's"/>`, `<rpm:entry name="x"></rpm:entry>`, `<!-- </rpm:provides> />` + "-->",
			`<![CDATA[</package>]]>`, `<?x y/?>`, `<e/>`, `<name/>`, `<name>deep</name>`, `<version epoch="7"/>`, strings.Repeat("<a>", 5) +
				"<b/><c/>" + strings.Repeat("</a>", 5), strings.Repeat(" ", 300) + "<pad/>",
		})
		var b strings.Builder
		b.WriteString("<?xml version=\"1.0\"?>\n<!-- <package> -->\n<metadata xmlns=\"x\" xmlns:rpm='y>z'>")
		for range rapid.IntRange(0, 4).Draw(t, "packages") {
			q := quote.Draw(t, "quote")
			fmt.Fprintf(
				&b,
				"<package type=%s%s%s>%s<name>%s</name>",
				q,
				rapid.SampledFrom([]string{"rpm", "rpm", "delta"}).Draw(t, "type"),
				q,
				space.Draw(t, "space"),
				word.Draw(t, "name"),
			)
			fmt.Fprintf(
				&b,
				"<arch>%s</arch><version%s epoch=%s%d%s ver='1>2&lt;3' rel=\"%d\"%s/>",
				space.Draw(t, "space")+"x86_64",
				" ",
				q,
				rapid.IntRange(0, 2).Draw(t, "epoch"),
				q,
				rapid.IntRange(1, 9).Draw(t, "release"),
				space.Draw(t, "space"),
			)
			b.WriteString("<summary>the name: <i><name>not this</name></i></summary><format><rpm:provides>")
			b.WriteString(strings.Join(rapid.SliceOfN(entry, 0, 40).Draw(t, "entries"), ""))
			b.WriteString("</rpm:provides><file>/a&lt;</file></format></package>")
		}
		b.WriteString("</metadata>\n<!-- end -->\n")
		want, err := theirs(b.String())
		if err != nil {
			t.Fatal(err)
		}
		got, err := packages(index.RPM, b.String())
		if err != nil {
			t.Fatalf("%v: %s", err, b.String())
		}
		assert.Equal(t, want, got, b.String())
		var slowly []index.Package
		give := func(p index.Package) { slowly = append(slowly, p) }
		require.NoError(t, index.RPM(iotest.OneByteReader(strings.NewReader(b.String())), give))
		assert.Equal(t, want, slowly, b.String())
		cut := rapid.IntRange(0, strings.LastIndex(b.String(), "</metadata>")).Draw(t, "cut")
		if _, err := packages(index.RPM, b.String()[:cut]); err == nil {
			t.Fatalf("what is cut off is read: %s", b.String()[:cut])
		}
	})
}

func TestListsThatAreNone(t *testing.T) {
	bomb := `<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><metadata>&b;</metadata>`
	link := func(h tar.Header, text string) string {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		h.Size = int64(len(text))
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.String()
	}
	for _, x := range []struct {
		name string
		read reader
		text string
		want string
	}{
		{"entities", index.RPM, bomb, "declares a document type"},
		{"an unknown entity", index.RPM, `<metadata><package type="rpm"><name>&x;</name></package></metadata>`, "refers to &x"},
		{"a page", index.RPM, "<html><body>sign in</body></html>", "no list of packages: it begins with <html>"},
		{"two roots", index.RPM, "<metadata/><metadata/>", "no list of packages"},
		{"nothing", index.RPM, "", "cut off"},
		{"text", index.RPM, "not found", "cut off"},
		{"crossed", index.RPM, "<metadata><a></metadata></a>", "closes what is not open"},
		{"deep", index.RPM, "<metadata>" + strings.Repeat("<a>", 1000), "deeper in each other"},
		{"no version", index.RPM, `<metadata><package type="rpm"><name>a</name></package></metadata>`, "no name, or no version"},
		{"a long name", index.RPM, `<metadata><package type="rpm"><name>` + strings.Repeat("a", 5000), "longer than any package has"},
		{"a long tag", index.RPM, `<metadata x="` + strings.Repeat(">", 1<<17), "longer than any package has"},
		{"a long version", index.Deb, "Package: a\nVersion: " + strings.Repeat("1", 5000) + "\n\n", "longer than any package has"},
		{"a link", index.Pacman, link(tar.Header{Name: "a-1-1/desc", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}, ""), "is no file"},
		{"no name", index.Pacman, link(tar.Header{Name: "a-1-1/desc", Typeflag: tar.TypeReg}, "%VERSION%\n1-1\n"), "names no package"},
		{"no archive", index.Pacman, "<html>" + strings.Repeat(" ", 600), "tar"},
	} {
		_, err := packages(x.read, x.text)
		if assert.Error(t, err, x.name) {
			assert.Contains(t, err.Error(), x.want, x.name)
		}
	}
	_, err := packages(index.Deb, strings.Repeat("Package: a\nVersion: 1\n\n", index.MostPackages+1))
	assert.ErrorIs(t, err, index.ErrTooMany)
}

func TestPackagesOfApt(t *testing.T) {
	got, err := packages(index.Deb, "Package: a\nVersion: 1\nArchitecture: amd64\nDescription: x\n Package: not-this\n .\n\n\n"+
		"package:b\r\nVERSION : 2\r\nVersion:\t1:2-3\r\nArchitecture: all\r\n\r\nSource: c\n\nPackage: d\nDescription: "+strings.Repeat("x", 1<<18)+"\nVersion: 4")
	require.NoError(t, err)
	assert.Equal(t, []index.Package{
		{Name: "a", Version: "1", Arch: "amd64"}, {Name: "b", Version: "1:2-3", Arch: "all"}, {Name: "d", Version: "4"},
	}, got)
}

// Two packages of apt's are one build where their lists say the same of size, relations and sum: core/choice
// holds that against apt itself.
func TestBuilds(t *testing.T) {
	sum := "SHA256: " + strings.Repeat("ab", 32) + "\n"
	for _, x := range []struct {
		a, b string
		same bool
	}{
		{"", "", true},
		{sum, sum, true},
		{sum, "SHA256: " + strings.Repeat("AB", 32) + "\n", true},
		{sum, "SHA256: " + strings.Repeat("ac", 32) + "\n", false},
		{"Size: 1\n", "Size: 2\n", false},
		{"Depends: tern, gull\n", "depends:  tern,gull \n", true},
		{"Depends: tern,\n gull\n", "Depends: tern, gull\n", true},
		{"Depends: tern\nSize: 1\n", "Size: 1\nDepends: tern\n", true},
		{"Depends: tern (< 2)\n", "Depends: tern (<= 2)\n", true},
		{"Depends: tern (<< 2)\n", "Depends: tern (<= 2)\n", false},
		{"Depends: tern\n", "Pre-Depends: tern\n", false},
		{"Suggests: tern\n", "Suggests: gull\n", true},
		{"Multi-Arch: same\n", "", false},
	} {
		got, err := packages(index.Deb, "Size: 9\n\nPackage: a\nVersion: 1\n"+x.a+"\nPackage: a\nVersion: 1\n"+x.b)
		require.NoError(t, err)
		require.Len(t, got, 2)
		assert.Equal(t, x.same, got[0].Build == got[1].Build, "%q and %q", x.a, x.b)
	}
	rpm := func(sum string) string {
		return `<package type="rpm"><name>a</name><version ver="1"/><checksum type="sha256" pkgid="YES">` + sum + `</checksum></package>`
	}
	got, err := packages(index.RPM, "<metadata>"+rpm(strings.Repeat("1f", 32))+rpm(" "+strings.Repeat("1F", 32)+"\n")+rpm(strings.Repeat("2f", 32))+rpm("x")+"</metadata>")
	require.NoError(t, err)
	require.Len(t, got, 4)
	assert.Equal(t, got[0].Build, got[1].Build)
	assert.NotEqual(t, got[0].Build, got[2].Build)
	assert.Zero(t, got[3].Build)
}

// Nothing that is handed in makes a reader fail otherwise than with words.
func fuzz(f *testing.F, read reader, seeds ...string) {
	for _, s := range seeds {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		n := 0
		err := read(bytes.NewReader(data), func(p index.Package) {
			n++
			if p.Name == "" {
				t.Fatal("a package without a name")
			}
		})
		if n > len(data) {
			t.Fatal("more packages than bytes", err)
		}
	})
}

func FuzzDeb(f *testing.F) { fuzz(f, index.Deb, "Package: a\nVersion: 1\n\n") }

func FuzzRPM(f *testing.F) {
	fuzz(f, index.RPM, `<metadata><package type="rpm"><name>a</name><arch>x</arch><version ver="1" rel="2"/></package></metadata>`)
}

func FuzzPacman(f *testing.F) { fuzz(f, index.Pacman, strings.Repeat("\x00", 1024)) }

func FuzzOSTree(f *testing.F) {
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, data []byte) {
		_, err := index.OSTree(data, func(p index.Package) {
			if p.Name == "" && p.Version == "" && p.Arch == "" {
				return
			}
		})
		_, other := index.OSTreeSignatures(data)
		_, subs, third := index.OSTreeIndex(data)
		for _, s := range subs {
			if len(s.Digest) != 64 {
				t.Fatalf("%q is no digest", s.Digest)
			}
		}
		_ = errors.Join(err, other, third)
	})
}
