package family_test

import (
	"bytes"
	"testing"

	"patientlantern.example/lantern/core/family"
)

// FuzzMask masks anything at all: what was masked once stays as it is, and no line comes or
// goes.
func FuzzMask(f *testing.F) {
	for _, s := range []string{"deb http://u:p@h/ s main\n", "password X\n", "x -u a:b y\n", "Authorization: Bearer abc\n", "token=a\n b\n", "a:b@c.example\n", "http://u:p/w@h/d http://v:q", "PASS x", "[a]\npassword = x\n y\n"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		once := family.MaskText(text)
		if bytes.Count(once, []byte("\n")) != bytes.Count(text, []byte("\n")) {
			t.Fatalf("lines came or went: %q → %q", text, once)
		}
		family.Plainly(string(text))
	})
}
