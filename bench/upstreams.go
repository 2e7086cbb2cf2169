package main

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io"
	"runtime"
	"strings"
	"time"

	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/upstream"
)

// offeredPackages is how many packages a large repository offers.
const offeredPackages = 60_000

// largeList is a large list of packages, packed, and the metadata that names it.
type largeList struct {
	family, name string
	plain        int
	packed       []byte
	top          string
}

func newLargeList(family, name string, plain []byte) (*largeList, error) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	l := &largeList{family: family, name: name, plain: len(plain), packed: b.Bytes()}
	sum := sha256.Sum256(l.packed)
	if family == "rpm" {
		l.top = fmt.Sprintf(`<repomd><data type="primary"><checksum type="sha256">%x</checksum><location href="%s"/></data></repomd>`, sum, name)
		return l, nil
	}
	at := time.Now().Add(-time.Hour).UTC().Format(time.RFC1123)
	l.top = fmt.Sprintf("Date: %s\nSHA256:\n %x %d %s\n", at, sum, len(l.packed), name)
	return l, nil
}

// alone unpacks and sums the list, and does nothing else.
func (l *largeList) alone() {
	sum := sha256.New()
	if r, err := gzip.NewReader(io.TeeReader(bytes.NewReader(l.packed), sum)); err == nil {
		_, _ = io.Copy(io.Discard, r)
	}
	sum.Sum(nil)
}

// look reads and verifies the list, and makes it ready to be stored.
func (l *largeList) look() (*index.List, error) {
	fetch := func(url string) (io.ReadCloser, error) {
		if strings.HasSuffix(url, l.name) {
			return io.NopCloser(bytes.NewReader(l.packed)), nil
		}
		return io.NopCloser(strings.NewReader(l.top)), nil
	}
	found, err := upstream.Look(&upstream.Source{
		Family: l.family, URLs: []string{"http://a/"}, Suite: "stable", Components: []string{"main"}, Archs: []string{"amd64"},
	}, fetch, time.Now())
	if err != nil {
		return nil, err
	}
	list := index.NewList(found.Packages)
	_, err = list.Pack()
	return list, err
}

// upstreams measures how large lists of packages are read, verified and made ready to be stored.
func upstreams(s *suite) error {
	for _, x := range []struct {
		family, name string
		list         []byte
	}{{"deb", "main/binary-amd64/Packages.gz", debIndex()}, {"rpm", "repodata/primary.xml.gz", rpmIndex()}} {
		l, err := newLargeList(x.family, x.name, x.list)
		if err != nil {
			return err
		}
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		list, err := l.look()
		if err != nil {
			return err
		}
		runtime.ReadMemStats(&after)
		took := float64(after.HeapAlloc-before.HeapAlloc) / (1 << 20)
		alone := fastest(7, l.alone)
		whole := fastest(7, func() { _, _ = l.look() }) // it went well before
		ratio := whole.Seconds() / alone.Seconds()
		s.add(
			fmt.Sprintf("a list of %d packages of %s, %d MB, read, verified, packed", list.Len(), x.family, l.plain>>20),
			"1.5 times, 64 MiB", ratio <= 1.5 && took < 64,
			fmt.Sprintf("%.2f times, %s, %.0f MiB", ratio, whole.Round(time.Millisecond), took),
			"gzip and SHA-256 alone "+alone.Round(time.Millisecond).String(),
		)
	}
	return nil
}

func debIndex() []byte {
	var b bytes.Buffer
	for i := range offeredPackages {
		fmt.Fprintf(&b, "Package: tide-%05d\nSource: tide-%d\nVersion: 1:%d.%d-%d\nInstalled-Size: %d\n", i, i%997, i%7, i%31, i%5, i*17)
		fmt.Fprintf(&b, "Maintainer: Tide <x@brinewick.test>\nArchitecture: amd64\n")
		fmt.Fprintf(&b, "Depends: libtide-%d (>= 2.%d), tide-common (= 1:%d), ", i%101, i%13, i%7)
		fmt.Fprintf(&b, "adduser, ca-certificates | tide-certificates\nDescription: %s\nHomepage: https://brinewick.test/tide/%d\n", prose(i), i)
		fmt.Fprintf(&b, "Section: science\nPriority: optional\nFilename: pool/main/t/tide/tide_%d_amd64.deb\nSize: %d\n", i, i*977)
		fmt.Fprintf(&b, "SHA256: %x\n\n", sha256.Sum256(fmt.Append(nil, i)))
	}
	return b.Bytes()
}

func rpmIndex() []byte {
	var b bytes.Buffer
	b.WriteString(`<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" `)
	b.WriteString(`xmlns:rpm="http://linux.duke.edu/metadata/rpm">`)
	for i := range offeredPackages {
		fmt.Fprintf(&b, "\n<package type=\"rpm\">\n  <name>tide-%05d</name>\n  <arch>x86_64</arch>\n", i)
		fmt.Fprintf(&b, "  <version epoch=\"0\" ver=\"%d.%d\" rel=\"%d.el9\"/>\n", i%7, i%31, i%5)
		fmt.Fprintf(&b, "  <checksum type=\"sha256\" pkgid=\"YES\">%x</checksum>\n", sha256.Sum256(fmt.Append(nil, i)))
		fmt.Fprintf(&b, "  <summary>%s</summary>\n  <description>%s &amp; why.</description>\n  <packager/>\n", prose(i), prose(i*3))
		fmt.Fprintf(&b, "  <url>https://brinewick.test/</url>\n  <time file=\"%d\" build=\"1\"/>\n", i)
		fmt.Fprintf(&b, "  <size package=\"%d\" installed=\"1\" archive=\"1\"/>\n", i*977)
		fmt.Fprintf(&b, "  <location href=\"t/tide-%d.rpm\"/>\n", i)
		fmt.Fprintf(&b, "  <format>\n    <rpm:license>MIT</rpm:license>\n    <rpm:provides>\n")
		fmt.Fprintf(&b, "      <rpm:entry name=\"tide-%d\" flags=\"EQ\" ver=\"1\"/>\n", i)
		b.WriteString("    </rpm:provides>\n    <rpm:requires>\n")
		for j := range 12 {
			fmt.Fprintf(&b, "      <rpm:entry name=\"libtide-%d.so.%d()(64bit)\"/>\n", i%101, j)
		}
		b.WriteString("    </rpm:requires>\n  </format>\n</package>")
	}
	b.WriteString("\n</metadata>\n")
	return b.Bytes()
}

// prose is what people write of packages: it packs as badly as real words do.
func prose(seed int) string {
	words := strings.Fields("tide current harbour gauge model grid station ebb flood buoy chart sounding mooring drift salt reef surge " +
		"mean level data reads writes shows keeps plots filters joins a of the for with and from")
	out := make([]string, 0, 12)
	n := uint32(seed)*2654435761 + 12345
	for range 12 {
		n = n*1664525 + 1013904223
		out = append(out, words[int(n>>8)%len(words)])
	}
	return strings.Join(out, " ")
}
