package lines

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// apply makes new out of old and the hunks.
func apply(old, new []string, hunks []Hunk) string {
	var out []string
	at := 0
	for _, h := range hunks {
		out = append(out, old[at:h.OldFrom]...)
		out = append(out, new[h.NewFrom:h.NewTo]...)
		at = h.OldTo
	}
	return strings.Join(append(out, old[at:]...), "")
}

func TestHunksTurnOldIntoNew(t *testing.T) {
	text := rapid.Map(rapid.SliceOfN(rapid.SampledFrom([]string{"a\n", "b\n", "c\n", "\n"}), 0, 14), func(l []string) string { return strings.Join(l, "") })
	rapid.Check(t, func(t *rapid.T) {
		a, b := Split(text.Draw(t, "old")), Split(text.Draw(t, "new"))
		hunks := Compare(a, b)
		if got := apply(a, b, hunks); got != strings.Join(b, "") {
			t.Fatalf("%v gives %q", hunks, got)
		}
		common := len(a)
		for i, h := range hunks {
			common -= h.OldTo - h.OldFrom
			if i > 0 && h.OldFrom <= hunks[i-1].OldTo && h.NewFrom <= hunks[i-1].NewTo {
				t.Fatalf("hunks %v touch", hunks)
			}
		}
		if want := longestCommon(a, b); common != want {
			t.Fatalf("%d lines are kept, %d could be", common, want)
		}
	})
}

// longestCommon is the textbook table, to check the quick way against.
func longestCommon(a, b []string) int {
	row := make([]int, len(b)+1)
	for i := range a {
		before := 0
		for j := range b {
			old := row[j+1]
			switch {
			case a[i] == b[j]:
				row[j+1] = before + 1
			default:
				row[j+1] = max(row[j+1], row[j])
			}
			before = old
		}
	}
	return row[len(b)]
}

func TestUnified(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"same", "a\n", "a\n", ""},
		{"one line", "1\n2\n3\n4\n5\n6\n7\n8\n9\n", "1\n2\n3\n4\nfive\n6\n7\n8\n9\n", "--- x\n+++ x\n@@ -2,7 +2,7 @@\n 2\n 3\n 4\n-5\n+five\n 6\n 7\n 8\n"},
		{"two hunks", "1\n2\n3\n4\n5\n6\n7\n8\n9\n", "0\n2\n3\n4\n5\n6\n7\n8\n0\n", "--- x\n+++ x\n@@ -1,4 +1,4 @@\n-1\n+0\n 2\n 3\n 4\n@@ -6,4 +6,4 @@\n 6\n 7\n 8\n-9\n+0\n"},
		{"no last newline", "a", "a\n", "--- x\n+++ x\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+a\n"},
		{"emptied", "a\n", "", "--- x\n+++ x\n@@ -1 +0,0 @@\n-a\n"},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, Unified("x", "x", c.old, c.new)) })
	}
	assert.Equal(t, "--- /dev/null\n+++ x\n@@ -0,0 +1 @@\n+a\n", Unified("", "x", "", "a\n"))
	assert.Equal(t, "--- x\n+++ /dev/null\n@@ -1 +0,0 @@\n-a\n", Unified("x", "", "a\n", ""))
}

func TestVeryDifferentTextsAreReplacedWhole(t *testing.T) {
	a, b := strings.Repeat("a\n", 5000), strings.Repeat("b\n", 5000)
	assert.Equal(t, []Hunk{{0, 5000, 0, 5000}}, Compare(Split(a), Split(b)))
}

// What is no text is told by its size and digest; what somebody wrote, in whatever encoding, stands as it is.
func TestWhatIsNoTextIsNotShownAsOne(t *testing.T) {
	const digest = "6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d"
	for text, want := range map[string]string{
		"": "",
		"deb http://mirror.brinewick.test/ mussel main\n": "deb http://mirror.brinewick.test/ mussel main\n",
		"# K\xfcste und H\xe4fen\r\n\tmain\n":             "# K\xfcste und H\xe4fen\r\n\tmain\n",
		"# Küste":                                         "# Küste",
		"\x00":                                            "(binary, 1 bytes, SHA-256 " + digest + ")\n",
		"main\n\x00":                                      "(binary, 6 bytes, SHA-256 " + fmt.Sprintf("%x", sha256.Sum256([]byte("main\n\x00"))) + ")\n",
		"\x99\x01\x8d\x04abc":                             "(binary, 7 bytes, SHA-256 " + fmt.Sprintf("%x", sha256.Sum256([]byte("\x99\x01\x8d\x04abc"))) + ")\n",
	} {
		assert.Equal(t, want, Shown(text), "%q", text)
	}
	assert.Equal(t, "--- /a.gpg\n+++ /dev/null\n@@ -1 +0,0 @@\n-(binary, 1 bytes, SHA-256 "+digest+")\n", Unified("/a.gpg", "", Shown("\x00"), ""))
}
