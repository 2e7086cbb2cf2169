package standin

import (
	"bytes"
	"encoding/binary"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/armor"
)

// FlatpakRemote is a remote without applications: flatpak reads its summary and checks
// its signature.
type FlatpakRemote struct {
	Base string // path below the server's root
	Key  *Key
}

// Build writes the remote's summary and its signature: path → content. The form is
// that of ostree: a GVariant of refs and metadata, and a dictionary of signatures.
func (r FlatpakRemote) Build(at time.Time) (map[string][]byte, error) {
	metadata := array(
		8,
		entry("ostree.summary.last-modified", variant("t", binary.LittleEndian.AppendUint64(nil, bigEndian(uint64(at.Unix()))))),
	)
	summary := container(nil, metadata) // no refs
	armoured, err := r.Key.DetachSign(summary, at)
	if err != nil {
		return nil, err
	}
	block, err := armor.Decode(bytes.NewReader(armoured))
	if err != nil {
		return nil, err
	}
	var sig bytes.Buffer
	if _, err := sig.ReadFrom(block.Body); err != nil {
		return nil, err
	}
	signed := array(8, entry("ostree.gpgsigs", variant("aay", array(1, sig.Bytes()))))
	return map[string][]byte{
		r.Base + "/summary":     summary,
		r.Base + "/summary.sig": signed,
		r.Base + "/config":      []byte("[core]\nrepo_version=1\nmode=archive-z2\n"),
	}, nil
}

// bigEndian swaps the bytes: ostree keeps times so.
func bigEndian(n uint64) uint64 {
	return binary.LittleEndian.Uint64(binary.BigEndian.AppendUint64(nil, n))
}

// framed appends the ends of elements, each as wide as the whole wants.
func framed(data []byte, ends []int) []byte {
	for _, width := range []int{1, 2, 4} {
		total := len(data) + width*len(ends)
		if width < 4 && total >= 1<<(8*width) {
			continue
		}
		for _, e := range ends {
			data = append(data, binary.LittleEndian.AppendUint32(nil, uint32(e))[:width]...)
		}
		return data
	}
	return data
}

func pad(data []byte, to int) []byte {
	for len(data)%to != 0 {
		data = append(data, 0)
	}
	return data
}

// array is an array of elements of no fixed size.
func array(align int, elements ...[]byte) []byte {
	var data []byte
	var ends []int
	for _, e := range elements {
		data = append(pad(data, align), e...)
		ends = append(ends, len(data))
	}
	return framed(data, ends)
}

// container is a pair of arrays.
func container(first, second []byte) []byte {
	end := len(first)
	return framed(append(pad(bytes.Clone(first), 8), second...), []int{end})
}

func variant(kind string, data []byte) []byte {
	return append(append(bytes.Clone(data), 0), kind...)
}

// entry is an entry of a dictionary.
func entry(key string, value []byte) []byte {
	data := append([]byte(key), 0)
	end := len(data)
	return framed(append(pad(data, 8), value...), []int{end})
}
