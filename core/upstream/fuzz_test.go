package upstream_test

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/standin"
)

// Whatever every file of a repository holds, it is refused with a cause or read; and nothing
// that a pinned key did not sign is believed.
func FuzzLook(f *testing.F) {
	key, err := standin.NewKey("fuzz", "Fuzz <fuzz@brinewick.test>", time.Now().Add(-time.Hour), 2)
	require.NoError(f, err)
	signed, err := key.ClearSign([]byte("Date: Mon, 02 Nov 2026 10:00:00 UTC\nSHA256:\n 00 1 main/binary-amd64/Packages\n"), time.Now())
	require.NoError(f, err)
	for _, seed := range []string{
		string(signed), "Date: Mon, 02 Nov 2026 10:00:00 UTC\n", `<repomd><data type="primary"><checksum type="sha256">00</checksum><location href="x"/></data></repomd>`,
		`<metalink><files><file name="repomd.xml"><resources><url preference="1">http://a/</url></resources></file></files></metalink>`, "http://a/\n",
	} {
		f.Add([]byte(seed))
	}
	other, err := standin.NewKey("other", "Other <other@brinewick.test>", time.Now().Add(-time.Hour), 2)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, data []byte) {
		open := func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
		for _, family := range []string{"deb", "rpm", "zypp", "arch", "flatpak"} {
			for _, checked := range []bool{false, true} {
				s := upstream.Source{
					Family:     family,
					URLs:       []string{"http://a/"},
					Suite:      "stable",
					Components: []string{"main"},
					Archs:      []string{"amd64"},
					ID:         "x",
				}
				if family == "rpm" {
					s.Metalink, s.Mirrorlist = "http://m/", "http://l/"
				}
				if checked {
					s.Keys = append(s.Keys, other.Entity)
				}
				_, err := upstream.Look(&s, open, time.Now())
				var r *upstream.Refused
				if err != nil && !errors.As(err, &r) {
					t.Fatalf("%s: %v says no cause", family, err)
				}
				if err == nil && checked {
					t.Fatalf("%s: what nobody signed is believed", family)
				}
			}
		}
	})
}
