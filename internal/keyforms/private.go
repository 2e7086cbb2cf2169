package keyforms

import (
	"bytes"
	"slices"
	"strings"
	"sync"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// What stands behind the public part of a key in the packet of a private one, RFC 9580, section 5.5.3: encrypted, with
// a check by SHA-1; in the open; and the stub that gpg leaves where the private part is kept elsewhere.
var (
	locked = "\xfe\x09\x03\x08saltsalt\x60" + strings.Repeat("i", 16) + strings.Repeat("k", 54)
	bare   = "\x00\x00\xff" + strings.Repeat("k", 32) + "\x0d\x60"
	stub   = "\xff\x00\x65\x00GNU\x01"
)

// PrivateBytes are some of those that a private key is written with here, and how they come out in base64.
var PrivateBytes = []string{"kkkkkkkkkkkk", "a2tra2tra2tr", "tra2tra2tra2"}

// PrivateEnds are ends of the packets of private keys, odd ones too.
func PrivateEnds() []string {
	return []string{
		"", locked, bare, stub,
		"\xff" + locked[1:],                        // with a sum
		"\x09" + locked[13:], "\x02" + locked[:20], // by a cipher alone
		"\xfe\x09\x00\x08" + locked[13:], "\xfe\x09\x01\x08" + locked[4:12] + locked[13:], "\xfe\x09\x04\x08" + locked[4:],
		"\xfe\x63" + locked[2:],
		stub[:7] + "\x02\x02ab", stub[:7] + "\x03",
	}
}

// Private writes the certificates of a stream of packets as private keys.
func Private(packets []byte, behind string) []byte {
	var out bytes.Buffer
	for reader := packet.NewOpaqueReader(bytes.NewReader(packets)); ; {
		p, err := reader.Next()
		if err != nil {
			return out.Bytes()
		}
		switch p.Tag {
		case 6:
			p.Tag, p.Contents = 5, slices.Concat(p.Contents, []byte(behind))
		case 14:
			p.Tag, p.Contents = 7, slices.Concat(p.Contents, []byte(behind))
		}
		if err := p.Serialize(&out); err != nil {
			panic(err)
		}
	}
}

// other is the certificate of somebody else.
var other = sync.OnceValue(func() []byte {
	e, err := openpgp.NewEntity("Tern", "", "tern@brinewick.test", &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA})
	if err != nil {
		panic(err)
	}
	var out bytes.Buffer
	if err := e.Serialize(&out); err != nil {
		panic(err)
	}
	return out.Bytes()
})

// armoured writes packets as a block of a kind.
func armoured(packets []byte, kind string) string {
	var out bytes.Buffer
	w, err := armor.Encode(&out, "PGP "+kind+" KEY BLOCK", nil)
	if err == nil {
		_, err = w.Write(packets)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic(err)
	}
	return out.String() + "\n"
}
