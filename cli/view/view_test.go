package view

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
)

func TestATableFitsTheTerminal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		o := &Out{Writer: &b, Width: rapid.IntRange(40, 160).Draw(t, "width")}
		word := rapid.StringMatching(`[a-z海 ]{0,60}`)
		var rows [][]Cell
		for range rapid.IntRange(0, 5).Draw(t, "rows") {
			rows = append(rows, []Cell{T("gw-01"), {Text: word.Draw(t, "a"), Style: Red}, T(word.Draw(t, "b"))})
		}
		o.Table([]Column{{Name: "HOST"}, {Name: "A", Gives: true}, {Name: "B", Gives: true}}, rows)
		for line := range strings.Lines(b.String()) {
			if n := columns(strings.TrimRight(line, "\n")); n > o.Width {
				t.Fatalf("%d columns in a terminal of %d: %q", n, o.Width, line)
			}
		}
	})
}

func TestColourOnlyWhereItMay(t *testing.T) {
	assert.Equal(t, "x", (&Out{}).Paint(Red, "x"))
	assert.Equal(t, "\x1b[31mx\x1b[0m", (&Out{Colour: true}).Paint(Red, "x"))
}

func TestWhatAHostSendsDoesNotSteerTheTerminal(t *testing.T) {
	assert.Equal(t, "a·[31mb·c", Cut("a\x1b[31mb\rc", 80))
	var b strings.Builder
	(&Out{Writer: &b}).Survey(&source.Survey{
		Traits:   source.Traits{OS: source.OS{Name: "Skerry"}},
		Sources:  []source.Source{{File: "/etc/apt/sources.list", Line: 1, EffURLs: []string{"http://\x1b]0;x\x07a.example/"}, Enabled: true}},
		Problems: []source.Problem{{File: "/x\x1b[2J", Message: "why\x07", Fatal: true}},
	}, time.Now())
	assert.NotContains(t, b.String(), "\x1b")
	assert.NotContains(t, b.String(), "\x07")
	assert.Less(t, strings.Index(b.String(), "Problems"), strings.Index(b.String(), "Sources"), "problems come first")
}

func TestKeysTellTheDaysThatTheyHave(t *testing.T) {
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	in := func(days int) *time.Time { t := now.AddDate(0, 0, days); return &t }
	var b strings.Builder
	(&Out{Writer: &b}).Keys([]source.Key{{Fingerprint: strings.Repeat("A", 40), Expires: in(400)}, {Expires: in(30)}, {Expires: in(-1)}, {Revoked: true}, {}}, now)
	for _, want := range []string{"…AAAAAAAAAAAAAAAA", "400 days", "30 days !", "EXPIRED", "REVOKED", "for ever"} {
		assert.Contains(t, b.String(), want)
	}
}

func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{-time.Second: "now", 3 * time.Second: "3s ago", 90 * time.Second: "1m ago", 3 * time.Hour: "3h ago", 72 * time.Hour: "3d ago"} {
		assert.Equal(t, want, Ago(d))
	}
	assert.Equal(t, "1 host", Count(1, "host", "hosts"))
	assert.Equal(t, "0 hosts", Count(0, "host", "hosts"))
	assert.Equal(t, "512 KiB", Bytes(512<<10))
	assert.Equal(t, "200 MiB", Bytes(200<<20))
	assert.Equal(t, "77 GiB", Bytes(77<<30))
	assert.Equal(t, "  one two\n  three", (&Out{Width: 12}).Wrap(2, "one two three"))
}

func TestAPathIsCutAtItsFront(t *testing.T) {
	for _, c := range []struct {
		text string
		most int
		want string
	}{{"/etc/pki/rpm-gpg/SALT", 10, "…-gpg/SALT"}, {"/etc", 4, "/etc"}, {"/etc", 2, "…c"}, {"日本語", 4, "…語"}, {"abc", 0, "…"}} {
		if got := cutFront(c.text, c.most); got != c.want {
			t.Errorf("cutFront(%q, %d) is %q, want %q", c.text, c.most, got, c.want)
		}
	}
}
