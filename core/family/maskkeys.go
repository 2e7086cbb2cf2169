package family

import (
	"bytes"
	"encoding/base64"
	"strings"
	"unicode/utf8"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// flatpakKey is the entry that carries a key in base64.
const flatpakKey = "GPGKey="

// inDigest begins what is told of a binary file with a private key: its digest.
const inDigest = "SHA-256 "

// maskKeys hides private keys that stand in a text: armoured blocks of any kind in which one is found, commented out or
// indented as well, and what a definition of flatpak carries. Of a binary file with one its digest is told alone.
func maskKeys(text []byte) []byte {
	if !utf8.Valid(text) && keyring.HoldsPrivate(text) {
		return []byte(inDigest + source.Digest(text) + "\n")
	}
	if !bytes.Contains(text, []byte("-----BEGIN ")) && !bytes.Contains(text, []byte(flatpakKey)) {
		return text
	}
	var out []byte
	for rest := text; len(rest) > 0; {
		_, after, _ := bytes.Cut(rest, []byte("\n"))
		line := rest[:len(rest)-len(after)]
		switch at := bytes.Index(line, []byte("-----BEGIN ")); {
		case at >= 0:
			n := blockEnd(rest, line[:at])
			out = append(out, maskBlock(rest[:n], line[:at])...)
			rest = rest[n:]
			continue
		case bytes.Contains(line, []byte(flatpakKey)):
			out = append(out, maskFlatpakKey(line)...)
		default:
			out = append(out, line...)
		}
		rest = after
	}
	return out
}

// bare takes off a line what stands in front of each line of its block: blanks, signs of a comment, the dot that
// stands for an empty line.
func bare(line, lead []byte) []byte {
	line = bytes.TrimRight(bytes.TrimPrefix(line, lead), "\r\n \t")
	return bytes.TrimLeft(line, " \t#;>.")
}

// inBlock reports whether a line may stand in a block: letters of base64, a header, nothing.
func inBlock(line []byte) bool {
	return bytes.Contains(line, []byte(": ")) ||
		len(bytes.Trim(line, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=")) == 0
}

// blockEnd is where a block ends that begins a text: behind the line that says so, or before the first one that cannot
// stand in it.
func blockEnd(text, lead []byte) int {
	at := bytes.IndexByte(text, '\n') + 1
	if at == 0 {
		return len(text)
	}
	for at < len(text) {
		line, _, _ := bytes.Cut(text[at:], []byte("\n"))
		n := min(len(line)+1, len(text)-at)
		switch {
		case bytes.Contains(line, []byte("-----END ")):
			return at + n
		case !inBlock(bare(line, lead)):
			return at
		}
		at += n
	}
	return at
}

// maskBlock hides the lines of a block in which a private key stands.
func maskBlock(block, lead []byte) []byte {
	var plain bytes.Buffer
	for line := range bytes.Lines(block) {
		plain.Write(bare(line, lead))
		plain.WriteByte('\n')
	}
	if !keyring.HoldsPrivate(plain.Bytes()) {
		return block
	}
	var out bytes.Buffer
	for line := range bytes.Lines(block) {
		if word := bare(line, lead); len(word) > 0 && !bytes.HasPrefix(word, []byte("-----")) && !bytes.Contains(word, []byte(": ")) {
			line = bytes.Replace(line, word, []byte(Hidden), 1)
		}
		out.Write(line)
	}
	return out.Bytes()
}

// maskFlatpakKey hides a private key in the entry that carries a key.
func maskFlatpakKey(line []byte) []byte {
	head, value, _ := bytes.Cut(line, []byte(flatpakKey))
	word := bytes.TrimSpace(value)
	letters := strings.Map(func(c rune) rune {
		if inBlock([]byte(string(c))) && c != '=' {
			return c
		}
		return -1
	}, string(word))
	raw, _ := base64.RawStdEncoding.DecodeString(letters[:len(letters)-min(len(letters), len(letters)%4&1)])
	if !keyring.HoldsPrivate(raw) {
		return line
	}
	return append(append(bytes.Clone(head), flatpakKey...), bytes.Replace(value, word, []byte(Hidden), 1)...)
}
