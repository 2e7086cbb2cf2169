package fleet_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/fleet"
)

// What a look found is gone with a refresh of the same since, and with one of the source that stands at that line at another address.
func TestWhatALookFoundIsGone(t *testing.T) {
	const at, elsewhere = "http://archive.driftwood.example/os", "http://elsewhere.example/os"
	bad := api.SourceOutcome{File: "/etc/pacman.conf", Line: 8, URL: at, Suite: "mussel"}
	for name, c := range map[string]struct {
		since []api.SourceOutcome
		gone  bool
	}{
		"nothing was refreshed":              {},
		"the same was":                       {[]api.SourceOutcome{{File: bad.File, Line: 8, URL: at, Suite: "mussel", OK: true}}, true},
		"the same, elsewhere in the file":    {[]api.SourceOutcome{{File: bad.File, Line: 9, URL: at, Suite: "mussel", OK: true}}, true},
		"the same was not":                   {[]api.SourceOutcome{{File: bad.File, Line: 8, URL: at, Suite: "mussel"}}, false},
		"another address at that line":       {[]api.SourceOutcome{{File: bad.File, Line: 8, URL: elsewhere, Suite: "mussel", OK: true}}, true},
		"another address, which fails too":   {[]api.SourceOutcome{{File: bad.File, Line: 8, URL: elsewhere, Suite: "mussel"}}, false},
		"another line":                       {[]api.SourceOutcome{{File: bad.File, Line: 20, URL: elsewhere, OK: true}}, false},
		"another suite of that line as well": {[]api.SourceOutcome{{File: bad.File, Line: 8, URL: at, Suite: "x", OK: true}, bad}, false},
	} {
		t.Run(name, func(t *testing.T) {
			look, err := json.Marshal(api.SourcesLook{Bad: []api.SourceOutcome{bad}})
			require.NoError(t, err)
			var left api.SourcesLook
			require.NoError(t, json.Unmarshal(fleet.StillBad(look, c.since), &left))
			assert.Equal(t, c.gone, len(left.Bad) == 0)
		})
	}
}
