package splice

import (
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
