package journal_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"

	"patientlantern.example/lantern/service/journal"
)

func TestWhatAnEntryTellsIsSaidInWords(t *testing.T) {
	for detail, want := range map[string]string{
		`{"ended":true}`:                              "ended",
		`{"ended":false}`:                             "",
		`{"phase":"changing","wave":1}`:               "phase changing, wave 1",
		`{"hosts":100000,"revision":7}`:               "hosts 100000, revision 7",
		`{"contract":"GN-2026-014","account":""}`:     "contract GN-2026-014",
		`{"keys":["a","b"],"more":[{"x":1}]}`:         "keys a b, more 1",
		`{"drifted_hosts":{"deb":2,"rpm":1}}`:         "drifted hosts 2",
		`{"until":"2026-12-01T06:00:00Z","group":""}`: "until 2026-12-01T06:00:00Z",
		``:     "",
		`null`: "",
		`[1]`:  "",
	} {
		assert.Equal(t, want, journal.Words(json.RawMessage(detail)), detail)
	}
}
