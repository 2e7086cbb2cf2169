package view

import (
	"encoding/json"
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/source"
)

func TestATableFitsTheTerminal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		o := &Out{to: &b, Width: rapid.IntRange(40, 160).Draw(t, "width")}
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
	var b strings.Builder
	o := &Out{to: &b, Colour: true}
	o.Printf("%s%s", o.Paint(Red, "x"), "\x1b[32my")
	assert.Equal(t, "\x1b[31mx\x1b[0m·[32my\n", b.String(), "a change of colour that somebody else wrote is none")
}

func TestWhatAHostSendsDoesNotSteerTheTerminal(t *testing.T) {
	assert.Equal(t, "a·[31mb·c", Cut("a\x1b[31mb\rc", 80))
	var b strings.Builder
	(&Out{to: &b}).Survey(&source.Survey{
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
	(&Out{to: &b}).Keys([]source.Key{{Fingerprint: strings.Repeat("A", 40), Expires: in(400)}, {Expires: in(30)}, {Expires: in(-1)}, {Revoked: true}, {}}, now)
	for _, want := range []string{"…AAAAAAAAAAAAAAAA", "400 days", "30 days !", "EXPIRED", "REVOKED", "for ever"} {
		assert.Contains(t, b.String(), want)
	}
}

// Of an access whose end nobody told it is not said that it lasts.
func TestAnAccessDoesNotLastBecauseNobodySaysHowLong(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	soon := now.AddDate(0, 0, 3)
	for says, a := range map[string]source.Access{
		"not told":    {Kind: "basic", Identity: "reef", For: "packages.plover.example"},
		"not known !": {Kind: "client-certificate", For: "plover"},
		"3 days !":    {Kind: "client-certificate", For: "plover", Expires: &soon},
	} {
		var text strings.Builder
		(&Out{to: &text}).Access([]source.Access{a}, now)
		assert.Contains(t, text.String(), says)
		assert.NotContains(t, text.String(), "for ever")
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
	assert.Equal(t, "  one two"+lineEnd+"  three", (&Out{Width: 12}).Wrap(2, "one two three"))
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

// TestNothingThatOthersWroteSteersATerminal draws texts with all that could, and shows them
// in every way in which commands show something.
func TestNothingThatOthersWroteSteersATerminal(t *testing.T) {
	evil := rapid.SampledFrom([]string{"\x1b[2J", "\x1b]0;x\x07", "\u009b31m", "\u202e", "\u2066", "\u200b", "\ufeff", "\r", "\n", "\u2028", "\u0085", "\x00", "\x7f", "\U000e0041", "a", "é", "海", "\xff", "\b", "\t"})
	rapid.Check(t, func(t *rapid.T) {
		word := func(name string) string { return strings.Join(rapid.SliceOfN(evil, 0, 6).Draw(t, name), "") }
		var b strings.Builder
		o := &Out{to: &b, Width: 80, Colour: rapid.Bool().Draw(t, "colour")}
		o.Printf("%s and %s", word("plain"), o.Paint(Red, word("painted")))
		lines := 1
		o.Table([]Column{{Name: "A"}, {Name: "B", Gives: true, Path: true}}, [][]Cell{{T(word("a")), {Text: word("b"), Style: Green}}})
		lines += 2
		o.Printf("%v", errors.New(word("error")))
		lines++
		o.Over(word("over"))
		text := b.String()
		if n := strings.Count(text, "\n"); n != lines {
			t.Fatalf("%d lines, not %d: %q", n, lines, text)
		}
		ours := regexp.MustCompile("\x1b\\[[0-9]*m|\r\x1b\\[K")
		if !o.Colour {
			ours = regexp.MustCompile("\r\x1b\\[K")
		}
		for _, r := range ours.ReplaceAllString(text, "") {
			if r != '\n' && unicode.In(r, steers...) {
				t.Fatalf("%U in %q", r, text)
			}
		}
		b.Reset()
		in := map[string]string{"x": strings.ToValidUTF8(word("json"), "?")}
		if err := json.NewEncoder(o.JSON()).Encode(in); err != nil {
			t.Fatal(err)
		}
		for _, r := range strings.TrimSuffix(b.String(), "\n") {
			if unicode.In(r, steers...) {
				t.Fatalf("%U in %q", r, b.String())
			}
		}
		var back map[string]string
		if err := json.Unmarshal([]byte(b.String()), &back); err != nil || back["x"] != in["x"] {
			t.Fatalf("%v: %q is not %q", err, back["x"], in["x"])
		}
	})
}

func TestWhatDecidesOfASourceStandsOnItsLines(t *testing.T) {
	for _, x := range []struct {
		family, name, value string
		told                bool
	}{
		{source.FamilyArch, "CacheServer", "http://cache.brinewick.test/$repo", true},
		{source.FamilyArch, "Include", "/etc/pacman.d/mirrorlist", false}, // its servers are told
		{source.FamilyRpm, "proxy", "http://proxy.brinewick.test:3128", true},
		{source.FamilyRpm, "excludepkgs", "tern", false}, // the holds tell it
		{source.FamilyRpm, "countme", "1", false},
		{source.FamilyRpm, "gpgcheck", "0", false},  // the checks tell it
		{source.FamilyRpm, "sslverify", "0", false}, // told as weakened
		{source.FamilyDeb, "Snapshot", "20261129T000000Z", true},
	} {
		var text strings.Builder
		o := &Out{to: &text, Width: 200}
		o.Sources([]source.Source{{Family: x.family, ID: "saltmarsh", Enabled: true, Kinds: []string{"binary"}, Options: map[string]string{x.name: x.value}}}, nil)
		assert.Equal(t, x.told, strings.Contains(text.String(), x.name+" "+x.value), "%s of %s: %s", x.name, x.family, text.String())
	}
}

func TestAProcessorOfWhichNothingIsKnownIsCalledSo(t *testing.T) {
	var text strings.Builder
	(&Out{to: &text, Width: 100}).Traits(&source.Traits{})
	assert.Equal(t, "unknown system  processor not known\n", text.String())
}
