package splice

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestApply(t *testing.T) {
	for _, c := range []struct {
		name, want string
		edit       func(*Edits)
	}{
		{"nothing", "0123456789", func(*Edits) {}},
		{"replace", "01ab56789", func(e *Edits) { e.Replace(2, 5, "ab") }},
		{"insert in order", "0xy123456789", func(e *Edits) { e.Insert(1, "x"); e.Insert(1, "y") }},
		{"delete", "0156789", func(e *Edits) { e.Delete(2, 5) }},
		{"unordered", "a12345678b", func(e *Edits) { e.Replace(9, 10, "b"); e.Replace(0, 1, "a") }},
		{"at the end", "0123456789z", func(e *Edits) { e.Insert(10, "z") }},
		{"overlap", "a3456789", func(e *Edits) { e.Replace(0, 3, "a"); e.Replace(2, 4, "b") }},
		{"beyond", "0123456789", func(e *Edits) { e.Replace(8, 20, "x") }},
	} {
		var e Edits
		c.edit(&e)
		assert.Equal(t, c.want, string(e.Apply([]byte("0123456789"))), c.name)
	}
}

func TestBytesThatNoEditNamesStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(t, "src")
		from := rapid.IntRange(0, len(src)).Draw(t, "from")
		to := rapid.IntRange(from, len(src)).Draw(t, "to")
		text := rapid.String().Draw(t, "text")
		var e Edits
		e.Replace(from, to, text)
		if got, want := string(e.Apply(src)), string(src[:from])+text+string(src[to:]); got != want {
			t.Fatalf("got %q, want %q", got, want)
		}
	})
}

// What is put in front of a word goes again without a trace, on one line and over several.
func TestWordsComeAndGo(t *testing.T) {
	for _, c := range []struct{ text, with string }{
		{"a", "n a"}, {"a b", "n a b"}, {"x a, b", "x n a, b"}, {"\n  a\n  b\n", "\n  n a\n  b\n"}, {"b\n\ta", "b\n\tn a"}, {"b\n# a\n a", "b\n# a\n n a"},
	} {
		put := func(text string, to func(words []string) [][]string) string {
			var e Edits
			src := []byte(text)
			e.PutWords(src, Words(src, 0, len(src), ", \t\r\n", "#"), to)
			return string(e.Apply(src))
		}
		each := func(one func(word string) []string) func([]string) [][]string {
			return func(words []string) (out [][]string) {
				for _, w := range words {
					out = append(out, one(w))
				}
				return out
			}
		}
		with := put(c.text, each(func(w string) []string {
			if w == "a" {
				return []string{"n", "a"}
			}
			return []string{w}
		}))
		assert.Equal(t, c.with, with)
		without := each(func(w string) []string {
			if w == "n" {
				return nil
			}
			return []string{w}
		})
		assert.Equal(t, c.text, put(with, without))
		// Whoever writes the list anew may part them otherwise.
		assert.Equal(t, strings.ReplaceAll(c.with, "n a", "a"), put(strings.ReplaceAll(with, "n a", "n\n    a"), without))
	}
}
