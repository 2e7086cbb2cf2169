// Package keyforms writes key files in the ways in which they are found, odd ones too, for
// tests that ask the real programs what they take.
package keyforms

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// boxes are the keyboxes that the real gpg makes of certificates.
var boxes sync.Map

func keybox(packets []byte) []byte {
	if have, ok := boxes.Load(string(packets)); ok {
		return have.([]byte)
	}
	home, err := os.MkdirTemp("", "keybox")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(home)
	cmd := exec.Command("gpg", "--homedir", home, "--batch", "--quiet", "--no-autostart", "--import")
	cmd.Stdin = bytes.NewReader(packets)
	if out, err := cmd.CombinedOutput(); err != nil {
		panic(string(out))
	}
	box, err := os.ReadFile(filepath.Join(home, "pubring.kbx"))
	if err != nil {
		panic(err)
	}
	boxes.Store(string(packets), box)
	return box
}

var forms = map[string]func(bin []byte, armour string) string{
	"binary":          func(b []byte, _ string) string { return string(b) },
	"armour":          func(_ []byte, a string) string { return a },
	"crlf":            func(_ []byte, a string) string { return strings.ReplaceAll(a, "\n", "\r\n") },
	"mark":            func(_ []byte, a string) string { return "\ufeff" + a },
	"indented":        func(_ []byte, a string) string { return " " + strings.ReplaceAll(a, "\n", "\n ") },
	"trailing blanks": func(_ []byte, a string) string { return strings.ReplaceAll(a, "\n", " \n") },
	"words in front":  func(_ []byte, a string) string { return "the key of Saltmarsh\n\n" + a },
	"words behind":    func(_ []byte, a string) string { return a + "\nthat was the key\n" },
	"comment header": func(_ []byte, a string) string {
		return strings.Replace(a, "\n\n", "\nComment: ours\nVersion: 1\n\n", 1)
	},
	"no empty line":      func(_ []byte, a string) string { return strings.Replace(a, "\n\n", "\n", 1) },
	"no checksum":        func(_ []byte, a string) string { return dropChecksum(a) },
	"no end":             func(_ []byte, a string) string { i := strings.LastIndex(a, "-----END"); return a[:i] },
	"cut armour":         func(_ []byte, a string) string { return a[:len(a)*2/3] },
	"keybox":             func(b []byte, _ string) string { return string(keybox(b)) },
	"garbage behind":     func(b []byte, _ string) string { return string(b) + "nonsense" },
	"zeros behind":       func(b []byte, _ string) string { return string(b) + "\x00\x00\x00\x00" },
	"high bytes behind":  func(b []byte, _ string) string { return string(b) + "\xff\xfe\xfd\xfc" },
	"newline behind":     func(b []byte, _ string) string { return string(b) + "\n" },
	"garbage in front":   func(b []byte, _ string) string { return "nonsense" + string(b) },
	"cut a little":       func(b []byte, _ string) string { return string(b[:len(b)-3]) },
	"cut in the subkeys": func(b []byte, _ string) string { return string(b[:len(b)*3/4]) },
	"cut by half":        func(b []byte, _ string) string { return string(b[:len(b)/2]) },
	"cut in the key":     func(b []byte, _ string) string { return string(b[:20]) },
	"old header":         func(b []byte, _ string) string { return oldHeader(b) },
	"twice":              func(b []byte, _ string) string { return string(b) + string(b) },
	"two blocks":         func(_ []byte, a string) string { return a + a },
	"empty":              func([]byte, string) string { return "" },
	"words":              func([]byte, string) string { return "no key at all\n" },

	"private":                  func(b []byte, _ string) string { return string(Private(b, locked)) },
	"private stub":             func(b []byte, _ string) string { return string(Private(b, stub)) },
	"private armour":           func(b []byte, _ string) string { return armoured(Private(b, locked), "PRIVATE") },
	"private stub armour":      func(b []byte, _ string) string { return armoured(Private(b, stub), "PRIVATE") },
	"private as public":        func(b []byte, _ string) string { return armoured(Private(b, locked), "PUBLIC") },
	"public as private":        func(b []byte, _ string) string { return armoured(b, "PRIVATE") },
	"private behind":           func(b []byte, _ string) string { return string(b) + string(Private(b, locked)) },
	"private in front":         func(b []byte, _ string) string { return string(Private(b, locked)) + string(b) },
	"another private behind":   func(b []byte, _ string) string { return string(b) + string(Private(other(), locked)) },
	"another private in front": func(b []byte, _ string) string { return string(Private(other(), locked)) + string(b) },
	"another private block":    func(_ []byte, a string) string { return armoured(Private(other(), locked), "PRIVATE") + a },
	"another private stub":     func(b []byte, _ string) string { return string(Private(other(), stub)) + string(b) },
	"private cut": func(b []byte, _ string) string {
		p := Private(other(), locked)
		return string(p[:len(p)/4]) + string(b)
	},
}

// oldHeader writes the first packet as gpg does, in the older form of headers.
func oldHeader(b []byte) string {
	out := slices.Clone(b)
	if out[0] == 0xc6 && out[1] < 192 {
		out[0] = 0x98
	}
	return string(out)
}

// Lenient reports whether gpg is 2.3 or later: --show-keys judges nothing there, armour needs neither
// its checksum nor its end, and of a certificate that is cut off it takes what it has.
var Lenient = sync.OnceValue(func() bool {
	out, err := exec.Command("gpg", "--version").Output()
	if err != nil {
		panic(err)
	}
	line, _, _ := strings.Cut(string(out), "\n")
	var major, minor int
	if _, err := fmt.Sscanf(line[strings.LastIndexByte(line, ' ')+1:], "%d.%d.", &major, &minor); err != nil {
		panic(line)
	}
	return major == 2 && minor >= 3 || major > 2
})

// Differs reports whether this machine's gpg takes more of a form than gpg 2.2, whose way our
// reading has.
func Differs(form string) bool {
	return Lenient() && (strings.HasPrefix(form, "cut ") || form == "no checksum" || form == "no end")
}

// Names lists the forms, sorted.
func Names() []string { return slices.Sorted(maps.Keys(forms)) }

// Write writes a certificate, given as packets and as an armoured block, in a form.
func Write(form string, packets []byte, armour string) string { return forms[form](packets, armour) }

func dropChecksum(a string) string {
	var out []string
	for _, line := range strings.Split(a, "\n") {
		if !strings.HasPrefix(line, "=") {
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n")
}
