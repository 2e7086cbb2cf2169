package names

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestExpand(t *testing.T) {
	for _, c := range []struct{ in, want, err string }{
		{"gw-01.brinewick.test", "gw-01.brinewick.test", ""},
		{"gw-{01..03}", "gw-01 gw-02 gw-03", ""},
		{"gw-{9..11}", "gw-9 gw-10 gw-11", ""},
		{"gw-{08..10}.{a,b}", "gw-08.a gw-08.b gw-09.a gw-09.b gw-10.a gw-10.b", ""},
		{"gw-{3..1}", "", `the range {3..1} in "gw-{3..1}" is empty: it counts down`},
		{"gw-{1..10000000}", "", `"gw-{1..10000000}" stands for more than 100000 names`},
		{"{1..1000}{1..1000}", "", `"{1..1000}{1..1000}" stands for more than 100000 names`},
		{"gw-{}", "", `{} in "gw-{}" is empty or has an empty choice`},
		{"gw-{a..c}", "", `{a..c} in "gw-{a..c}" is not a range of numbers`},
		{"gw-{1..2", "", `"gw-{1..2" has a { that is not closed`},
		{"gw-1}", "", `"gw-1}" has a } without a {`},
	} {
		t.Run(c.in, func(t *testing.T) {
			got, err := Expand(c.in)
			if c.err != "" {
				assert.EqualError(t, err, c.err)
				return
			}
			assert.NoError(t, err)
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestNearest(t *testing.T) {
	all := []string{"saltmarsh", "gannet-open", "plover", "os.codename", "os.major"}
	for in, want := range map[string]string{"saltmrash": "saltmarsh", "ganet-open": "gannet-open", "os.mayor": "os.major", "fulmar": "", "x": ""} {
		assert.Equal(t, want, Nearest(in, all), in)
	}
}

// plain counts by the whole table, as the definition says.
func plain(a, b string) int {
	t := make([][]int, len(a)+1)
	for i := range t {
		t[i] = make([]int, len(b)+1)
		t[i][0] = i
	}
	for j := range t[0] {
		t[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			t[i][j] = min(t[i-1][j]+1, t[i][j-1]+1, t[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				t[i][j] = min(t[i][j], t[i-2][j-2]+1)
			}
		}
	}
	return min(t[len(a)][len(b)], 4)
}

func TestDistanceIsThatOfTheWholeTable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringOfN(rapid.SampledFrom([]rune("ab0-")), 0, 80, -1)
		a := word.Draw(t, "a")
		b := word.Draw(t, "b")
		if rapid.Bool().Draw(t, "alike") { // most names that are compared are
			at := rapid.IntRange(0, len(a)).Draw(t, "at")
			b = a[:at] + rapid.StringOfN(rapid.SampledFrom([]rune("ab")), 0, 3, -1).Draw(t, "in") + a[min(len(a), at+rapid.IntRange(0, 2).Draw(t, "out")):]
		}
		if got, want := Distance(a, b), plain(a, b); got != want {
			t.Fatalf("%q to %q: %d, and it is %d", a, b, got, want)
		}
	})
}

// Who is asked only for what is near gets the same answer as who counts all the way.
func TestTheNearestIsThatOfAnUnboundedCount(t *testing.T) {
	name := rapid.StringMatching(`[ab0-2]{1,7}(\.x)?`)
	rapid.Check(t, func(rt *rapid.T) {
		s := name.Draw(rt, "name")
		all := rapid.SliceOfN(name, 0, 12).Draw(rt, "all")
		best, at := "", max(2, len(s)/3)+1
		for _, n := range all {
			if d := Distance(s, n); d < at || d == at && best != "" && n < best {
				best, at = n, d
			}
		}
		if at > 3 {
			best = ""
		}
		require.Equal(rt, best, Nearest(s, all), "%q of %q", s, all)
	})
}

// A list is parted at its commas, and at none of those that part the alternatives of a range.
// The nearest of parts is that of the nearest ones of each.
func TestTheNearestOfPartsIsThatOfTheWhole(t *testing.T) {
	word := rapid.StringMatching(`[ab]{0,2}[a-c]{1,3}(-[01]{1,2})?`)
	rapid.Check(t, func(t *rapid.T) {
		wrong, all := word.Draw(t, "wrong"), rapid.SliceOfN(word, 0, 12).Draw(t, "all")
		at := rapid.IntRange(0, len(all)).Draw(t, "at")
		var each []string
		for _, part := range [][]string{all[:at], all[at:]} {
			if near := Nearest(wrong, part); near != "" {
				each = append(each, near)
			}
		}
		require.Equal(t, Nearest(wrong, all), Nearest(wrong, each))
	})
}

func TestAListIsPartedOutsideOfRanges(t *testing.T) {
	for list, want := range map[string][]string{
		"":                         nil,
		"gw-01":                    {"gw-01"},
		"gw-01,desk-1":             {"gw-01", "desk-1"},
		"gw-{01,04},desk-1":        {"gw-{01,04}", "desk-1"},
		"gw-{01..04},{a,b}-{1,2},": {"gw-{01..04}", "{a,b}-{1,2}"},
		",,gw-{01,":                {"gw-{01,"},
	} {
		got := Apart(list)
		if !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", list, got, want)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,3}(\{[a-z]{1,2}(,[a-z]{1,2}){0,2}\})?`), 1, 4).Draw(t, "parts")
		if got := Apart(strings.Join(parts, ",")); !slices.Equal(got, parts) {
			t.Fatalf("%q, want %q", got, parts)
		}
	})
}
