package zypp_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// A policy's locks come into a list and go out of it, and what others wrote stays byte for byte.
func TestLocksComeAndGoBesideThoseOfOthers(t *testing.T) {
	lock := rapid.Custom(func(t *rapid.T) source.SheetLock {
		return source.SheetLock{
			Repository: rapid.SampledFrom([]string{"plover", "fulmar"}).Draw(t, "repository"),
			Package:    rapid.SampledFrom([]string{"plover-agent", "tide-model", "g++"}).Draw(t, "package"),
			Criteria:   "version: >= " + rapid.SampledFrom([]string{"1.45~~", "2:10~~", "3bA"}).Draw(t, "beyond"),
		}
	})
	locks := rapid.SliceOfNDistinct(lock, 0, 4, rapid.ID)
	rapid.Check(t, func(t *rapid.T) {
		theirs := ""
		for range rapid.IntRange(0, 3).Draw(t, "blocks") {
			theirs += rapid.SampledFrom([]string{
				"type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: tern\n\n", "# why\nsolvable_name: plover-agent\nversion: >= 1.45~~\n\n\n", "\n\n",
				"type: package\ncomment: by hand: Patient Lantern\n\n", "# nothing\n\n", "solvable_name: sedge\r\n\r\n",
			}).Draw(t, "block")
		}
		whole := theirs
		theirs += rapid.SampledFrom([]string{"", "", "solvable_name: last", "solvable_name: last\n"}).Draw(t, "end")
		one, two := locks.Draw(t, "one"), locks.Draw(t, "two")
		with := zypp.Arrange([]byte(theirs), one)
		assert.True(t, strings.HasPrefix(string(with), theirs), "%q", with)
		assert.Equal(t, string(with), string(zypp.Arrange(with, one)), "again")
		then := zypp.Arrange(with, two)
		assert.ElementsMatch(t, two, heldBy(t, string(then), "Patient Lantern: "))
		gone := string(zypp.Arrange(then, nil))
		assert.True(t, strings.HasPrefix(gone, theirs) && strings.TrimSpace(gone[len(theirs):]) == "", "%q of %q", gone, theirs)
		if theirs == whole {
			assert.Equal(t, theirs, gone)
		}
	})
}

// heldBy reads locks back that have a comment that begins so.
func heldBy(t *rapid.T, text, comment string) (out []source.SheetLock) {
	ours := map[int]string{}
	begin, n := 0, 0
	for line := range strings.Lines(text) {
		n++
		if strings.TrimSpace(line) == "" {
			begin = 0
		} else if begin == 0 && line[0] != '#' {
			begin = n
		}
		if rest, is := strings.CutPrefix(line, "comment: "+comment); is {
			ours[begin] = strings.TrimSpace(rest)
		}
	}
	r := zypp.Read(rootfs.New(fstest.MapFS{"etc/zypp/locks": {Data: []byte(text), Mode: 0o644}}), family.Host{Arch: "x86_64"})
	for _, h := range r.Holds {
		if of := ours[h.Line]; of != "" {
			out = append(out, source.SheetLock{Repository: of, Package: h.What, Criteria: h.Criteria})
		}
	}
	return out
}
