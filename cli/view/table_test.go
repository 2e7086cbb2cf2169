package view

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A table is never wider than the terminal, keeps its first column, and names what it leaves out.
func TestATableFitsAndSaysWhatItLeavesOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 9).Draw(t, "columns")
		cols := make([]Column, n)
		for i := range cols {
			cols[i] = Column{
				Name:  strings.Repeat(string(rune('A'+i)), rapid.IntRange(1, 12).Draw(t, "name")),
				Gives: rapid.Bool().Draw(t, "gives"), Right: rapid.Bool().Draw(t, "right"), Path: rapid.Bool().Draw(t, "path"),
				Less: rapid.IntRange(0, 4).Draw(t, "less"), Below: rapid.Bool().Draw(t, "below"),
			}
		}
		rows := make([][]Cell, rapid.IntRange(0, 5).Draw(t, "rows"))
		for i := range rows {
			for _, c := range cols {
				cells := rapid.StringMatching(`[a-z. ]{0,60}`)
				if c.Below {
					cells = rapid.StringMatching(`([a-z.]{1,9} ){0,9}`)
				}
				rows[i] = append(rows[i], T(cells.Draw(t, "cell")))
			}
		}
		var out bytes.Buffer
		o := To(&out)
		o.Width = rapid.IntRange(40, 250).Draw(t, "width")
		o.Table(cols, rows)
		text := out.String()
		for line := range strings.Lines(text) {
			require.LessOrEqual(t, columns(strings.TrimRight(line, "\n")), o.Width, text)
		}
		head, _, _ := strings.Cut(text, "\n")
		require.Contains(t, head, cols[0].Name[:1])
		words := strings.Fields(strings.ReplaceAll(text, ",", " "))
		for i, c := range cols[1:] {
			if c.Below && !strings.Contains(head, c.Name[:1]) {
				for _, r := range rows {
					require.Subset(t, strings.Fields(text), strings.Fields(r[i+1].Text), "what has no room stands below")
				}
				continue
			}
			require.True(t, strings.Contains(head, c.Name[:1]) || contains(words, strings.TrimSuffix(c.Name, ":")), "%s is neither shown nor named:\n%s", c.Name, text)
		}
	})
}

func contains(words []string, name string) bool {
	for _, w := range words {
		if strings.TrimSuffix(w, ":") == name {
			return true
		}
	}
	return false
}

func TestWordsAreCutInTheirMiddleAndSentencesAtTheirEnd(t *testing.T) {
	for _, c := range []struct {
		text string
		most int
		want string
	}{
		{"gateway-north-0000001.brinewick.test", 20, "gateway-no…wick.test"},
		{"the contract ends in eleven days", 12, "the contrac…"},
		{"short", 20, "short"},
		{"gw-0000001", 6, "gw-00…"},
	} {
		assert.Equal(t, c.want, cutCell(c.text, c.most))
	}
}
