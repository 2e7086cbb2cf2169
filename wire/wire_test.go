package wire_test

import (
	"bytes"
	"encoding/json"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/wire"
)

type sample struct {
	At    time.Time            `json:"at"`
	Ended *time.Time           `json:"ended"`
	Zero  time.Time            `json:"zero,omitzero"`
	Texts map[string]string    `json:"texts"`
	List  []int                `json:"list"`
	Names []string             `json:"names,omitempty"`
	Raw   json.RawMessage      `json:"raw"`
	Under map[string]time.Time `json:"under"`
}

var moment = regexp.MustCompile(`"\d{4,5}-\d\d-\d\dT[^"]*"`)

// Moments have one form; all else is what encoding/json writes.
func TestOnlyMomentsHaveAFormOfTheirOwn(t *testing.T) {
	zone := time.FixedZone("east", 3*3600)
	rapid.Check(t, func(rt *rapid.T) {
		at := time.Unix(rapid.Int64Range(0, 4e9).Draw(rt, "seconds"), rapid.Int64Range(0, 999_999_999).Draw(rt, "nanoseconds")).In(zone)
		v := sample{
			At: at, Texts: rapid.MapOf(rapid.String(), rapid.String()).Draw(rt, "texts"), List: rapid.SliceOf(rapid.Int()).Draw(rt, "list"),
			Names: rapid.SliceOf(rapid.StringOf(rapid.RuneFrom([]rune("<&>\u2028\x00é\"")))).Draw(rt, "names"), Raw: json.RawMessage(`{"a":"<b>"}`),
			Under: map[string]time.Time{"x": at},
		}
		if rapid.Bool().Draw(rt, "ended") {
			v.Ended = &at
		}
		var got, want bytes.Buffer
		require.NoError(rt, wire.WriteIndented(&got, v))
		v.At, v.Under["x"] = at.UTC().Truncate(time.Millisecond), at.UTC().Truncate(time.Millisecond)
		if v.Ended != nil {
			short := v.At
			v.Ended = &short
		}
		enc := json.NewEncoder(&want)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		require.NoError(rt, enc.Encode(v))
		for _, m := range moment.FindAllString(got.String(), -1) {
			require.Regexp(rt, `^"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z"$`, m)
		}
		var a, b sample
		require.NoError(rt, json.Unmarshal(got.Bytes(), &a))
		require.NoError(rt, json.Unmarshal(want.Bytes(), &b))
		require.Equal(rt, b.At, a.At)
		plain := func(text []byte) string { return moment.ReplaceAllString(string(text), "@") }
		require.Equal(rt, plain(want.Bytes()), plain(got.Bytes()))
	})
	text, err := wire.Text(time.Date(2026, 3, 1, 2, 3, 4, 0, zone))
	require.NoError(t, err)
	assert.Equal(t, `"2026-02-28T23:03:04.000Z"`, string(text))
}
