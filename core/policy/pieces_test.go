package policy_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/policy"
)

// TestALargeFileIsReadAsASmallOne draws files and reads each twice: as it is, and made so
// long by remarks that it is read in pieces.
func TestALargeFileIsReadAsASmallOne(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		filler := strings.Repeat("# "+strings.Repeat("-", 96)+"\n", 400)
		var short, long strings.Builder
		both := func(s string) { short.WriteString(s); long.WriteString(s) }
		both("format: patient-lantern/1\n")
		for _, section := range rapid.Permutation([]string{"groups", "assign", "labels"}).Draw(rt, "sections") {
			both(section + ":" + rapid.SampledFrom([]string{"", " # why", " {}"}).Draw(rt, "head"+section) + "\n")
			for i := range rapid.IntRange(0, 250).Draw(rt, "entries of "+section) {
				line := map[string]string{
					"groups": "  g%d: { hosts: [h%d.brinewick.test] }\n", "assign": "  - { to: g%d, unlisted: report }\n", "labels": "  h%d.brinewick.test:\n    site: north\n    duty: |\n      x\n",
				}[section]
				both(fmt.Sprintf(strings.ReplaceAll(line, "%d", "%[1]d"), i))
				if rapid.IntRange(0, 60).Draw(rt, "odd") == 0 {
					both(rapid.SampledFrom([]string{"  g1: { hosts: [a.brinewick.test] }\n", "  oops\n", "  Bad: x\n", "  - to: nobody\n", "\n", "   # remark\n", "  g: [\n  a ]\n"}).Draw(rt, "line"))
				}
			}
		}
		long.WriteString(filler)
		at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
		p, small := policy.Load(policy.Folder{"policy.yaml": []byte(short.String())}, at)
		q, large := policy.Load(policy.Folder{"policy.yaml": []byte(long.String())}, at)
		require.Equal(rt, len(small), len(large), short.String())
		for i := range small {
			require.Equal(rt, small[i].Message, large[i].Message)
			require.Equal(rt, small[i].Pos.Line, large[i].Pos.Line, small[i].Message)
		}
		require.Equal(rt, len(p.Groups), len(q.Groups))
		require.Equal(rt, len(p.Assignments), len(q.Assignments))
	})
}

// An entry that stands twice is told as that in whichever piece of a file it stands, also where its name is none.
func TestAnEntryStandsTwiceAcrossPieces(t *testing.T) {
	text := "format: patient-lantern/1\ngroups:\n  Bad: x\n"
	for i := range 400 {
		text += fmt.Sprintf("  g%d: { hosts: [h%[1]d.brinewick.test] } # %s\n", i, strings.Repeat("-", 60))
	}
	_, found := policy.Load(policy.Folder{"policy.yaml": []byte(text + "  Bad: x\n")}, time.Now())
	last := found[len(found)-1]
	assert.Equal(t, `"Bad" stands twice in groups`, last.Message)
	assert.Equal(t, 404, last.Line)
}

func TestAFolderHasBounds(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"marks of lists", "format: patient-lantern/1\ngroups:\n" + strings.Repeat("- ", 100_000), "lists and mappings are nested more than 64 deep"},
		{"marks of lists over lines", stairs(2000), "lists and mappings are nested more than 64 deep"},
		{"brackets", "format: patient-lantern/1\ngroups: " + strings.Repeat("[", 100_000), "brackets are nested more than"},
		{"a file that is too large", "format: patient-lantern/1\n" + strings.Repeat("# x\n", 1_200_000), "the file has 4687 KiB, and 4096 are the most"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, diags := policy.Load(policy.Folder{"policy.yaml": []byte(c.text)}, time.Now())
			require.Len(t, diags, 1)
			assert.Contains(t, diags[0].Message, c.want)
		})
	}
}

func stairs(n int) string {
	var b strings.Builder
	b.WriteString("format: patient-lantern/1\ngroups:\n")
	for i := range n {
		b.WriteString(strings.Repeat(" ", i+1) + "a:\n")
	}
	return b.String()
}

func TestAFileThatCannotBeReadIsToldAlone(t *testing.T) {
	_, diags := policy.Load(policy.Folder{"a.yaml": []byte("format: patient-lantern/1\ngroups: {\n"), "b.yaml": []byte("format: patient-lantern/1\nassign: [{ to: gateways, repositories: [saltmarsh] }]\n")}, time.Now())
	require.Len(t, diags, 1, "what follows from its absence is not said")
	assert.Equal(t, "a.yaml", diags[0].Pos.File)
	assert.Equal(t, "syntax", diags[0].Code)
}
