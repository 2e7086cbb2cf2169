package wire_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/wire"
)

type inner struct {
	Name string            `json:"name"`
	List []string          `json:"list"`
	Map  map[string]string `json:"map"`
	At   *int              `json:"at"`
}

type outer struct {
	Parts []inner `json:"parts"`
	Lists []int   `json:"lists"`
	Word  string  `json:"word"`
}

func drawn(rt *rapid.T) outer {
	words := rapid.SampledFrom([]string{"", "a", "b", "<ü>", strings.Repeat("long", 5000)})
	part := rapid.Custom(func(rt *rapid.T) inner {
		x := inner{
			Name: words.Draw(rt, "name"), List: rapid.SliceOfN(words, 0, 2).Draw(rt, "list"),
			Map: rapid.MapOfN(words, words, 0, 2).Draw(rt, "map"),
		}
		if rapid.Bool().Draw(rt, "at?") {
			x.At = new(rapid.IntRange(0, 2).Draw(rt, "at"))
		}
		return x
	})
	return outer{
		Parts: rapid.SliceOfN(part, 0, 4).Draw(rt, "parts"),
		Lists: rapid.SliceOfN(rapid.IntRange(0, 2), 0, 2).Draw(rt, "lists"),
		Word:  words.Draw(rt, "word"),
	}
}

// A document means what it would alone, whatever was read before it, and what is wrong with it
// is wrong again.
func TestPartsAreReadAsTheyWouldBeAlone(t *testing.T) {
	ways := []*wire.Parts{ // so few are remembered that some go
		wire.NewParts(wire.Alike[inner](3, 99), wire.Alike[[]int](2, 99)),
		wire.NewParts(wire.Each[inner](3, 99), wire.Each[int](2, 99)),
	}
	rapid.Check(t, func(rt *rapid.T) {
		text, err := json.Marshal(drawn(rt))
		require.NoError(rt, err)
		if cut := rapid.IntRange(0, 3*len(text)).Draw(rt, "cut"); cut < len(text) {
			text = text[:cut]
		}
		text = []byte(strings.Replace(string(text), rapid.SampledFrom([]string{"{", "null", `"a"`}).Draw(rt, "old"),
			rapid.SampledFrom([]string{"{ ", "7", `"\u0061"`}).Draw(rt, "new"), rapid.IntRange(0, 2).Draw(rt, "times")))
		var alone outer
		want := wire.Read(text, &alone)
		for _, p := range ways {
			var shared outer
			got := p.Read(text, &shared)
			require.Equal(rt, want == nil, got == nil, "%s: %v, %v", text, want, got)
			if want == nil {
				require.Equal(rt, alone, shared)
			}
		}
	})
}

// A part is held once, and many may read at a time.
func TestEqualPartsAreHeldOnce(t *testing.T) {
	p := wire.NewParts(wire.Each[inner](8, 99))
	var all sync.WaitGroup
	read := make([]outer, 64)
	for i := range read {
		all.Go(func() {
			text := fmt.Appendf(nil, `{"parts":[{"name":"same","list":["x"]},{"name":"own-%d"}]}`, i)
			assert.NoError(t, p.Read(text, &read[i]))
		})
	}
	all.Wait()
	var again [2]outer
	for i := range again {
		require.NoError(t, p.Read([]byte(`{"parts":[{"name":"same","list":["x"]}]}`), &again[i]))
	}
	assert.Same(t, &again[0].Parts[0].List[0], &again[1].Parts[0].List[0])
	for i := range read {
		assert.Equal(t, []inner{{Name: "same", List: []string{"x"}}, {Name: fmt.Sprint("own-", i)}}, read[i].Parts)
	}
}
