package keyring

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
)

// ParseFingerprint takes a fingerprint as people write it, blanks and colons
// allowed, and returns it as upper-case hex of 40 or 64 digits.
func ParseFingerprint(s string) (string, error) {
	fpr := strings.ToUpper(strings.NewReplacer(" ", "", "\t", "", ":", "", "0x", "").Replace(s))
	if _, err := hex.DecodeString(fpr); err != nil {
		return "", fmt.Errorf("fingerprint %q is not hexadecimal", s)
	}
	if len(fpr) != 40 && len(fpr) != 64 {
		return "", fmt.Errorf("fingerprint %q has %d digits; a full fingerprint has 40 (or 64, for version 6)", s, len(fpr))
	}
	return fpr, nil
}

// Armor writes certificates as one armoured block, ending in a newline.
func Armor(list openpgp.EntityList) (string, error) {
	var raw bytes.Buffer
	for _, e := range list {
		if err := e.Serialize(&raw); err != nil {
			return "", err
		}
	}
	return string(armoured(raw.Bytes())), nil
}

// Join makes one armoured block of several, without looking into them: one block may
// hold any number of certificates.
func Join(blocks []string) (string, error) {
	if len(blocks) == 1 {
		return blocks[0], nil
	}
	var raw bytes.Buffer
	for _, text := range blocks {
		block, err := armor.Decode(strings.NewReader(text))
		if err != nil {
			return "", err
		}
		if _, err := io.Copy(&raw, block.Body); err != nil {
			return "", err
		}
	}
	return string(armoured(raw.Bytes())), nil
}

// armoured writes packets as one armoured block, ending in a newline.
func armoured(raw []byte) []byte {
	var out bytes.Buffer
	w, err := armor.Encode(&out, openpgp.PublicKeyType, nil)
	if err == nil {
		_, err = w.Write(raw)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic(err) // a buffer takes whatever is written
	}
	return append(bytes.TrimRight(out.Bytes(), "\n"), '\n')
}
