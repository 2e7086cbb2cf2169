package agent

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
)

// What pacman says of a server that does not give a database counts where no other gave it.
func TestWhatPacmanSaysOfDatabases(t *testing.T) {
	section := func(id string, urls ...string) source.Source {
		return source.Source{Family: "arch", ID: id, File: "/etc/pacman.conf", Enabled: true, EffURLs: urls}
	}
	now := &survey.Result{Survey: source.Survey{Sources: []source.Source{
		section("one", "http://a/one", "http://b/one"), section("two", "http://a/two", "http://b/two"), section("theirs", "http://c/theirs"),
	}}}
	q := asked{survey: now, sheet: &source.Sheet{Family: "arch", InPlace: []source.InPlace{{Sections: []string{"one", "two"}, Enabled: true}}}}
	exit := errors.New("exit status 1")
	const no = "error: failed retrieving file '"
	for _, c := range []struct {
		name   string
		text   string
		failed error
		want   map[string]string // section: why it was not had
		named  bool
	}{
		{"nothing", "", nil, nil, false},
		{"one server of two, and another database", no + "one.db' from a : 404\n" + no + "two.db' from a : 404\n" + no + "two.db' from b : 500\nerror: failed to synchronize all databases (x)\n",
			exit, map[string]string{"two": "404"}, true},
		{"a server that is left out then", no + "one.db' from a : 404\nwarning: too many errors from a, skipping for the remainder of this transaction\n", exit, map[string]string{"one": "404"}, true},
		{"a signature", no + "one.db.sig' from a : 404\n", exit, map[string]string{"one": "its signature: 404"}, true},
		{"not believed", "error: one: signature from \"X\" is invalid\nerror: failed to update one (invalid or corrupted database (PGP signature))\n", exit,
			map[string]string{"one": `signature from "X" is invalid`}, true},
		{"had, and no database", "error: could not open file /var/lib/pacman/sync/two.db: Unrecognized archive format\n", nil, map[string]string{"two": "Unrecognized archive format"}, true},
		{"somebody else's alone", no + "theirs.db' from c : 404\nerror: failed to synchronize all databases (x)\n", exit, nil, true},
		{"in words that name none", "error: GPGME error: No data\n", exit, map[string]string{"one": "GPGME error: No data", "two": "GPGME error: No data"}, false},
	} {
		out, named := readSync(c.text, c.failed, q)
		got := map[string]string{}
		for i, o := range out {
			if !o.OK {
				got[now.Survey.Sources[i].ID] = o.Message
			}
		}
		if c.want == nil {
			c.want = map[string]string{}
		}
		assert.Equal(t, c.want, got, c.name)
		assert.Equal(t, c.named, named, c.name)
	}
}
