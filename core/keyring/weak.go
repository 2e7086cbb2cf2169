package keyring

import (
	"crypto"
	"fmt"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// leastRSA is the shortest RSA key that is not called weak, in bits: NIST SP 800-57
// part 1, 112 bits of security.
const leastRSA = 2048

// Weakness says why a certificate is weaker than it should be today; empty where it is
// not. DSA and short RSA keys can be forged with enough means, and a certificate bound
// together with SHA-1 or MD5 can be altered.
func Weakness(e *openpgp.Entity) string {
	keys := []*packet.PublicKey{e.PrimaryKey}
	for i := range e.Subkeys {
		if s := &e.Subkeys[i]; s.Sig != nil && s.Sig.FlagsValid && s.Sig.FlagSign && len(s.Revocations) == 0 {
			keys = append(keys, s.PublicKey)
		}
	}
	for i, k := range keys {
		what := "it is"
		if i > 0 {
			what = "a subkey that signs is"
		}
		switch kind := tooWeak(k); {
		case kind == "":
		case k.PubKeyAlgo == packet.PubKeyAlgoDSA:
			return what + " " + kind
		default:
			return fmt.Sprintf("%s %s, and %d are the least", what, kind, leastRSA)
		}
	}
	if sig := newestSelfSignature(e); sig != nil {
		switch sig.Hash {
		case crypto.SHA1:
			return "its self-signature is made with SHA-1"
		case crypto.MD5:
			return "its self-signature is made with MD5"
		}
	}
	return ""
}

// tooWeak says of what kind a key is that can be forged with enough means; empty where it cannot.
func tooWeak(k *packet.PublicKey) string {
	switch k.PubKeyAlgo {
	case packet.PubKeyAlgoDSA:
		return "a DSA key"
	case packet.PubKeyAlgoRSA, packet.PubKeyAlgoRSASignOnly:
		if bits, err := k.BitLength(); err == nil && bits < leastRSA {
			return fmt.Sprintf("an RSA key of %d bits", bits)
		}
	}
	return ""
}
