package diag_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/diag"
)

func TestExcerpt(t *testing.T) {
	text := []byte("first: 1\n\tsecond: zwei\nthïrd: {x}\n\nlast")
	for _, c := range []struct {
		line, column int
		want, caret  string
	}{
		{1, 1, "first: 1", "^"},
		{1, 8, "first: 1", "       ^"},
		{2, 2, " second: zwei", " ^"},
		{3, 8, "thïrd: {x}", "       ^"},
		{5, 99, "last", "    ^"},
		{4, 1, "", ""},
		{6, 1, "", ""},
		{0, 0, "", ""},
	} {
		line, caret := diag.Excerpt(text, diag.At("x", c.line, c.column))
		assert.Equal(t, c.want, line)
		assert.Equal(t, c.caret, caret)
	}
	line, _ := diag.Excerpt([]byte("a\x1b[31mb"), diag.At("x", 1, 1))
	assert.Equal(t, "a·[31mb", line, "a policy must not steer the terminal")
}

func TestSARIF(t *testing.T) {
	list := []diag.Diagnostic{
		{Code: "unused", Severity: diag.Warning, Pos: diag.At("a b.yaml", 3, 5), Message: "nobody uses it", Remedy: "take it out"},
		{Code: "name-twice", Severity: diag.Error, Pos: diag.At("c.yaml", 1, 1), Message: "twice", Also: []diag.Pos{diag.At("d.yaml", 2, 0)}},
		{Code: "size", Severity: diag.Error, Pos: diag.Pos{File: "big.yaml"}, Message: "too large"},
	}
	b, err := diag.SARIF("1.2.3", map[string]string{"unused": "U", "name-twice": "N"}, "policy", list)
	require.NoError(t, err)
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine, StartColumn int }
					}
				}
				RelatedLocations []struct{ ID int }
			}
		}
	}
	require.NoError(t, json.Unmarshal(b, &log))
	assert.Equal(t, "2.1.0", log.Version)
	require.Len(t, log.Runs, 1)
	run := log.Runs[0]
	require.Len(t, run.Results, 3)
	for _, r := range run.Results {
		assert.Equal(t, r.RuleID, run.Tool.Driver.Rules[r.RuleIndex].ID, "a result's index leads to its rule")
	}
	first := run.Results[0]
	assert.Equal(t, "warning", first.Level)
	assert.Equal(t, "nobody uses it; take it out", first.Message.Text)
	assert.Equal(t, "policy/a%20b.yaml", first.Locations[0].PhysicalLocation.ArtifactLocation.URI)
	assert.Equal(t, 3, first.Locations[0].PhysicalLocation.Region.StartLine)
	assert.Len(t, run.Results[1].RelatedLocations, 1)
	assert.Nil(t, run.Results[2].Locations[0].PhysicalLocation.Region, "a place without a line has no region")
	again, err := diag.SARIF("1.2.3", map[string]string{"name-twice": "N", "unused": "U"}, "policy", list)
	require.NoError(t, err)
	assert.Equal(t, string(b), string(again))
	empty, err := diag.SARIF("1", nil, "", nil)
	require.NoError(t, err)
	assert.Contains(t, string(empty), `"results": []`)
}
