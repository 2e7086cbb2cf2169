package index_test

import (
	"fmt"
	"strings"
	"testing"

	"patientlantern.example/lantern/core/index"
)

func BenchmarkRPM(b *testing.B) {
	var text strings.Builder
	text.WriteString("<metadata>")
	for i := range 2000 {
		fmt.Fprintf(&text, "<package type=\"rpm\">\n  <name>tide-%05d</name>\n  <arch>x86_64</arch>\n  <version epoch=\"0\" ver=\"1.%d\" rel=\"1\"/>\n  <format>\n", i, i)
		for j := range 20 {
			fmt.Fprintf(&text, "      <rpm:entry name=\"libtide-%d.so.%d()(64bit)\"/>\n", i, j)
		}
		text.WriteString("</format></package>")
	}
	text.WriteString("</metadata>")
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		if err := index.RPM(strings.NewReader(text.String()), func(index.Package) {}); err != nil {
			b.Fatal(err)
		}
	}
}
