package deb_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/family/deb"
)

// apt that is asked about another root is shown what stands there, in both styles of file.
func TestFilesOfAnotherRootAreNamedThere(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"a.list", "deb http://archive.skerry.example/skerry mussel main\n", "deb http://archive.skerry.example/skerry mussel main\n"},
		{"a.list", "deb [signed-by=/k.asc,/l.asc] file:/srv/apt mussel main\n", "deb [signed-by=/r/k.asc,/r/l.asc] file:/r/srv/apt mussel main\n"},
		{"a.list", "deb mirror+file:/etc/apt/mirrors/x.list mussel main\n", "deb mirror+file:/r/etc/apt/mirrors/x.list mussel main\n"},
		{"a.list", "deb file:///srv/apt ./\n", "deb file:/r/srv/apt ./\n"},
		{"a.sources", "Types: deb\nURIs: copy:/srv/apt http://archive.skerry.example/\nSuites: ./\n", "Types: deb\nURIs: copy:/r/srv/apt http://archive.skerry.example/\nSuites: ./\n"},
		{"a.sources", "Types: deb\nURIs: mirror+file:/etc/apt/mirrors/x.list\nSuites: ./\nSigned-By: /k.asc\n",
			"Types: deb\nURIs: mirror+file:/r/etc/apt/mirrors/x.list\nSuites: ./\nSigned-By: /r/k.asc\n"},
	} {
		assert.Equal(t, c.want, string(deb.Rooted(c.name, []byte(c.text), "/r")), c.text)
	}
}
