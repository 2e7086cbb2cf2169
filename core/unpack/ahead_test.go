package unpack_test

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/unpack"
)

// What is read ahead is what there is, to the end or to the error, and whoever stops early
// leaves nobody reading.
func TestReadingAhead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := bytes.Repeat([]byte("tide "), rapid.IntRange(0, 400_000).Draw(t, "length"))
		broken := errors.New("broken")
		var in io.Reader = bytes.NewReader(text)
		fails := rapid.Bool().Draw(t, "fails")
		if fails {
			in = io.MultiReader(in, iotest.ErrReader(broken))
		}
		out, stop := unpack.Ahead(in)
		if rapid.Bool().Draw(t, "early") {
			_, err := io.CopyN(io.Discard, out, int64(len(text)/2))
			require.NoError(t, err)
			stop()
			return
		}
		got, err := io.ReadAll(out)
		stop()
		assert.True(t, bytes.Equal(text, got))
		if fails {
			assert.ErrorIs(t, err, broken)
		} else {
			assert.NoError(t, err)
		}
	})
}

type breaks struct{}

func (breaks) Read([]byte) (int, error) { panic("index out of range") }

func TestAnUnpackerThatBreaksDownFailsAlone(t *testing.T) {
	out, stop := unpack.Ahead(breaks{})
	_, err := io.ReadAll(out)
	stop()
	assert.ErrorContains(t, err, "unpacking it broke down")
}
