package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryPageTeaches(t *testing.T) {
	shown := map[string]bool{}
	leaf := map[string]bool{}
	for _, c := range leaves((&app{}).root()) {
		name := words(c)
		leaf[name] = true
		assert.NotContains(t, c.Long, `\n`, name)
		u, known := uses()[name]
		assert.True(t, known && u.when != "", "lessons/commands.txt says nothing of when one needs %s", name)
		answered := 0
		for line := range strings.Lines(c.Example) {
			command, _, _ := strings.Cut(strings.TrimSpace(line), "   #")
			if _, is := shownLessons()[command]; is {
				answered++
				shown[command] = true
			}
		}
		assert.GreaterOrEqual(t, answered, 2, "two examples of %s show what they answer", name)
	}
	for name, u := range uses() {
		assert.True(t, leaf[name], "there is no command %s", name)
		for next := range strings.SplitSeq(u.next, ";") {
			if next = strings.TrimSpace(next); strings.HasPrefix(next, "lantern ") {
				assert.NoError(t, understood(strings.Split(next, ",")[0]), name)
			}
		}
	}
	for command := range shownLessons() {
		assert.True(t, shown[command] || command == "lantern", "%s is no example of a command", command)
	}
}

func TestPagesSayHowACommandEnds(t *testing.T) {
	for name, u := range uses() {
		ends := u.ends(name)
		assert.Contains(t, ends, "2 wrong usage", name)
		assert.Equal(t, slices.Contains(offline, name), !strings.Contains(ends, "4 the service"), name)
	}
}
