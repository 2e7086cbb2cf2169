// Package unpack reads what indexes of packages are packed in, in bounded memory.
package unpack

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/therootcompany/xz"
)

// mostWindow bounds what a way to pack may look back, in bytes: `xz -9` takes that much, and
// so does zstd where nobody says --ultra.
const mostWindow = 64 << 20

// ErrUnknown is returned for a way to pack that is not read.
var ErrUnknown = errors.New("it is packed in a way that is not read")

// Reader reads what is packed in the way that the end of a file's name tells: ".gz", ".bz2",
// ".lz4", ".xz", ".zst", or "" for not at all. Nothing bounds how much comes out; done frees
// what it took.
func Reader(r io.Reader, ext string) (plain io.Reader, done func(), err error) {
	plain, done = r, func() {}
	switch ext {
	case "":
	case ".gz":
		plain, err = gzip.NewReader(r)
	case ".bz2":
		plain = bzip2.NewReader(r)
	case ".lz4":
		plain = lz4.NewReader(r)
	case ".xz":
		plain, err = xz.NewReader(r, mostWindow)
	case ".zst":
		var z *zstd.Decoder
		z, err = zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(mostWindow))
		if err == nil {
			plain, done = z, z.Close
		}
	default:
		err = ErrUnknown
	}
	if err != nil {
		return nil, nil, err
	}
	return plain, done, nil
}

// packings are ways to pack by the first bytes of a file.
var packings = map[string]string{
	"\x1f\x8b":         ".gz",
	"\xfd7zXZ\x00":     ".xz",
	"\x28\xb5\x2f\xfd": ".zst",
	"BZh":              ".bz2",
	"\x04\"M\x18":      ".lz4",
}

// Sniff tells by its first bytes how a file is packed; "" for not at all.
func Sniff(in *bufio.Reader) string {
	head, _ := in.Peek(6) // of a shorter one what there is
	for magic, ext := range packings {
		if bytes.HasPrefix(head, []byte(magic)) {
			return ext
		}
	}
	return ""
}
