package index_test

import (
	"fmt"
	"strings"
	"testing"

	"patientlantern.example/lantern/core/index"
)

func BenchmarkDeb(b *testing.B) {
	var t strings.Builder
	for i := range 2000 {
		fmt.Fprintf(&t, "Package: tide-%05d\nVersion: 1.%d-1\nArchitecture: amd64\nMaintainer: Brinewick <tide@brinewick.test>\nInstalled-Size: %d\n"+
			"Depends: libc6 (>= 2.34), libtide%d (>= 1.2), tide-base | tide-other\n"+
			"Section: net\nPriority: optional\nFilename: pool/t/tide-%d.deb\nSize: %d\n"+
			"SHA256: 9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\nDescription: tide current harbour gauge model grid\n\n", i, i, i, i, i, i)
	}
	b.SetBytes(int64(t.Len()))
	for b.Loop() {
		if err := index.Deb(strings.NewReader(t.String()), func(index.Package) {}); err != nil {
			b.Fatal(err)
		}
	}
}
