package source

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
)

// Canonical returns the canonical JSON of v: Go's encoding of a struct has a
// fixed field order and sorts map keys, so equal
// values give equal bytes.
func Canonical(v any) ([]byte, error) {
	return json.Marshal(v)
}

// Digest returns the SHA-256 of b as lower-case hex: the name of a document.
func Digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// IsDigest reports whether s could be a Digest.
func IsDigest(s string) bool {
	if len(s) != 64 {
		return false
	}
	for i := range len(s) {
		if c := s[i]; (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return true
}

// Strings returns s, never nil, so that an empty list is [] in JSON.
func Strings(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

// SameSet reports whether a and b hold the same strings, order and repeats aside.
func SameSet(a, b []string) bool {
	for _, s := range a {
		if !slices.Contains(b, s) {
			return false
		}
	}
	for _, s := range b {
		if !slices.Contains(a, s) {
			return false
		}
	}
	return true
}
