package zypp_test

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/cell"
)

// A definition that zypper skips or throws away may have it refuse all the same, by what a URL comes to.
func TestWhatIsThrownAwayMayRefuseAsWell(t *testing.T) {
	c, err := cell.Open()
	require.NoError(t, err)
	defer func() { require.NoError(t, c.Close()) }()
	bad, good := "http://a.example/$releasever/$basearch/\n", "http://f.example/x/\n"
	bodies := []string{
		"", "baseurl=" + bad, "baseurl=" + good, "mirrorlist=" + bad, "metalink=" + bad, "baseurl=" + bad + "mirrorlist=" + good, "baseurl=" + good + "mirrorlist=" + bad,
		"baseurl=" + bad + "metalink=" + good, "baseurl=" + good + "metalink=" + bad, "metalink=" + bad + "mirrorlist=" + good, "metalink=" + good + "mirrorlist=" + bad,
		"baseurl=" + good + "metalink=" + good + "mirrorlist=" + bad, "baseurl=" + good + "metalink=" + bad + "mirrorlist=" + good, "gpgkey=" + bad, "baseurl=" + good + "gpgkey=" + bad,
		"baseurl=" + good + "gpgkey=" + good + "       " + bad, "baseurl=" + good + "       " + bad, "baseurl=" + bad + "       " + good + "mirrorlist=" + bad,
	}
	first := "[plover]\nbaseurl=http://x.example/\n"
	places := map[string]func(body string) map[string]string{
		"alone":  func(b string) map[string]string { return map[string]string{"a": "[plover]\n" + b} },
		"off":    func(b string) map[string]string { return map[string]string{"a": "[plover]\nenabled=0\n" + b} },
		"second": func(b string) map[string]string { return map[string]string{"a": first, "b": "[plover]\n" + b} },
		"second, off": func(b string) map[string]string {
			return map[string]string{"a": first, "b": "[plover]\nenabled=0\n" + b}
		},
		"of an unknown service": func(b string) map[string]string { return map[string]string{"a": "[plover]\nservice=none\n" + b} },
		"second of an unknown service": func(b string) map[string]string {
			return map[string]string{"a": first, "b": "[plover]\nservice=none\n" + b}
		},
		"before one of an unknown service": func(b string) map[string]string {
			return map[string]string{"a": "[plover]\n" + b, "b": first + "service=none\n"}
		},
		"behind one of an unknown service": func(b string) map[string]string {
			return map[string]string{"a": first + "service=none\n", "b": "[plover]\n" + b}
		},
	}
	base, n, asked := t.TempDir(), 0, cell.Share(4)
	for place, files := range places {
		for _, body := range bodies {
			if !asked() {
				continue
			}
			n++
			root := filepath.Join(base, fmt.Sprint(n))
			tree := map[string]string{"etc/zypp/vars.d/releasever": " lead"}
			for name, text := range files(body) {
				tree["etc/zypp/repos.d/"+name+".repo"] = text
			}
			require.NoError(t, cell.Write(root, tree))
			r, err := cell.Inside(root, func(root *rootfs.FS) family.Reading { return zypp.Read(root, family.Host{Arch: "x86_64"}) })
			require.NoError(t, err)
			a, err := c.Run(root, "/usr/bin/zypper", "--xmlout", "lr", "-d")
			require.NoError(t, err)
			refused := strings.Contains(a.Out, "Unexpected exception")
			assert.Equal(t, refused, slices.ContainsFunc(r.Problems, func(p source.Problem) bool { return p.Fatal }), "%s: %q\n%s%v", place, body, a.Out, r.Problems)
		}
	}
}
