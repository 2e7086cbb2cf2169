package upstream

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/index"
	"patientlantern.example/lantern/core/unpack"
)

// promised is what signed metadata says of a list of packages.
type promised struct {
	url    string
	name   string // as the metadata has it
	size   int64  // packed; negative: it does not say
	opened int64  // unpacked; 0: it does not say
	sum    string // hex
	hash   func() hash.Hash
}

// hashes are the sums that are believed, strongest first.
var hashes = []struct {
	name string
	make func() hash.Hash
}{{"sha512", sha512.New}, {"sha384", sha512.New384}, {"sha256", sha256.New}, {"sha224", sha256.New224}}

// reader reads a list of packages.
type reader func(io.Reader, func(index.Package)) error

// list fetches a list, and returns its packages once its sum was found to fit.
func (l *looker) list(p promised, read reader) ([]index.Package, *Refused) {
	body, err := l.fetch(p.url)
	if err != nil {
		return nil, of(err, p.name)
	}
	defer body.Close()
	most := int64(mostPacked)
	if p.size >= 0 && p.size < most {
		most = p.size
	}
	sum := p.hash()
	count := &counted{r: io.TeeReader(io.LimitReader(body, most+1), sum)}
	in := bufio.NewReaderSize(count, 1<<16)
	packages, readErr := l.unpacked(in, &p, read)
	if _, err := io.Copy(io.Discard, in); err != nil { // the sum is that of all
		return nil, of(err, p.name)
	}
	switch {
	case count.n > most && p.size >= 0:
		return nil, refuse(cause.Mismatch, p.name, "it has an unexpected size: more than the %d bytes that were promised", p.size)
	case count.n > most:
		return nil, refuse(cause.TooLarge, p.name, "it is longer than %d bytes", most)
	case p.size >= 0 && count.n < p.size:
		return nil, refuse(cause.Mismatch, p.name, "it has an unexpected size: %d bytes, and %d were promised", count.n, p.size)
	case p.sum != "" && hex.EncodeToString(sum.Sum(nil)) != strings.ToLower(p.sum):
		return nil, refuse(cause.Mismatch, p.name, "it does not match the expected sum")
	case readErr != nil:
		return nil, of(readErr, p.name)
	}
	return packages, nil
}

// unpacked reads the packages of what is packed as its name says.
func (l *looker) unpacked(in *bufio.Reader, p *promised, read reader) (out []index.Package, err error) {
	ext := path.Ext(p.name)
	switch ext {
	case ".gz", ".bz2", ".xz", ".zst":
	default:
		if ext = unpack.Sniff(in); ext == "" {
			if head, _ := in.Peek(200); page(head, p.name) != nil {
				return nil, page(head, p.name)
			}
		}
	}
	plain, done, err := unpack.Reader(in, ext)
	if err != nil {
		return nil, fmt.Errorf("it cannot be unpacked: %w", err)
	}
	defer done()
	most := int64(mostPlain)
	if p.opened > 0 && p.opened < most {
		most = p.opened
	}
	beside, stop := unpack.Ahead(io.LimitReader(plain, most+1))
	count := &counted{r: beside}
	err = read(count, func(x index.Package) {
		if len(out) == cap(out) {
			out = slices.Grow(out, max(64, len(out))) // doubled: by a quarter, as large slices grow, more is copied
		}
		out = append(out, x)
	})
	stop()
	if count.n > most {
		return nil, refuse(cause.TooLarge, p.name, "it holds more than the %d bytes that it may, unpacked", most)
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// counted counts what is read.
type counted struct {
	r io.Reader
	n int64
}

// Read implements io.Reader.
func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func digest(parts ...[]byte) string {
	sum := sha256.Sum256(bytes.Join(parts, nil))
	return hex.EncodeToString(sum[:])
}

// database reads a list of pacman's that nothing promises a sum of, and returns its own.
func (l *looker) database(p promised) (sum string, out []index.Package, refused *Refused) {
	h := p.hash()
	p.hash = func() hash.Hash { return h }
	out, refused = l.list(p, index.Pacman)
	return hex.EncodeToString(h.Sum(nil)), out, refused
}

// held hands out what is in memory already.
func held(text []byte) Fetch {
	return func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
}
