// Package unpack reads what indexes of packages are packed in.
package unpack

import (
	"compress/gzip"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
)

// mostMemory bounds what unpacking takes, in bytes.
const mostMemory = 256 << 20

// ErrUnknown is returned for a way to pack that is not read.
var ErrUnknown = errors.New("it is packed in a way that is not read")

// Reader reads what is packed in the way that the end of a file's name tells: ".gz", ".lz4",
// ".xz", ".zst", or "" for not at all. Nothing bounds how much comes out; done frees what it
// took.
func Reader(r io.Reader, ext string) (plain io.Reader, done func(), err error) {
	plain, done = r, func() {}
	switch ext {
	case "":
	case ".gz":
		plain, err = gzip.NewReader(r)
	case ".lz4":
		plain = lz4.NewReader(r)
	case ".xz":
		plain, err = xz.NewReader(r)
	case ".zst":
		var z *zstd.Decoder
		if z, err = zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostMemory)); err == nil {
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
