package service_test

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/internal/rig"
	"patientlantern.example/lantern/store"
)

// A revision that an earlier version took, and that would be refused today, goes on: hosts get what it says, and what else the team
// mends is published without mending that first. It is refused where it comes new.
func TestAnOlderRevisionIsReadStill(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Up("gw-01")
	r.Publish()
	older := r.Policy()
	const login = "https://a4Zq9@tern@packages.saltmarsh.example/apt/7.x"
	for name, text := range older {
		older[name] = []byte(strings.Replace(string(text), "\nrepositories:\n",
			"\nrepositories:\n  terns:\n    keys: [saltmarsh-2026]\n    deb: { url: \""+login+"\", suites: [stable], components: [main] }\n", 1))
	}
	older["terns.yaml"] = []byte("format: patient-lantern/1\nassign:\n  - { to: everyone, repositories: [terns] }\n")
	refused := func(files map[string][]byte) (out []string) {
		said, err := r.Operator.Check(ctx, api.Publication{Files: files})
		require.NoError(t, err)
		for _, d := range diag.Errors(said.Diagnostics) {
			out = append(out, d.Message)
		}
		return out
	}
	require.Equal(t, []string{"a URL with a login stands in the policy"}, refused(older), "today")
	_, err := r.Operator.Publish(ctx, api.Publication{Files: older})
	require.Error(t, err)
	r.Reopen(func(data string) {
		st, err := store.Open(ctx, filepath.Join(data, "lantern.db"))
		require.NoError(t, err)
		folder, err := source.Canonical(policy.Folder(older))
		require.NoError(t, err)
		_, fresh, err := st.Publish(ctx, store.Revision{Policy: source.Digest(folder), Created: time.Now(), Author: "mira"}, folder,
			func(store.Revision, bool) store.Change { return store.Change{} })
		require.NoError(t, err)
		require.True(t, fresh)
		require.NoError(t, st.Close())
	})
	ro := r.Carry()
	require.Equal(t, int64(2), ro.Revision)
	for _, h := range ro.Hosts {
		text, err := json.Marshal(h)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "a4Zq9", "no report repeats the login")
	}

	older["terns.yaml"] = append(older["terns.yaml"], "# another\n"...)
	_, err = r.Operator.Publish(ctx, api.Publication{Files: older})
	require.NoError(t, err, "what stands there already keeps nothing else")
	older["more.yaml"] = []byte("format: patient-lantern/1\nrepositories:\n  main:\n    keys: [saltmarsh-2026]\n    rpm: { url: \"https://m.example/\" }\n")
	require.Equal(t, []string{`to dnf a section [main] is none of a repository, so the repository "main" would not be read`}, refused(older))
}
