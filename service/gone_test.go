package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// Before a source goes, it is said what is installed from it.
func TestWhatCameFromASourceIsSaidBeforeItGoes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	for _, h := range []string{"gw-01", "gw-02", "gw-05"} {
		r.Up(h)
	}
	files := r.Policy()
	p, err := r.Operator.PreviewFolder(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	assert.Empty(t, p.Gone, "nothing goes where sources come")
	require.Len(t, p.Waves, 2, "the waves are told: a quarter of three hosts, and the others")
	publish(t, r, files)
	ro := r.Carry()
	require.Equal(t, 3, ro.Counts["done"], "%+v", ro.Hosts)

	without := map[string][]byte{}
	for name, text := range files {
		without[name] = []byte(strings.Replace(string(text), "  - to: gateways\n    repositories: [saltmarsh]\n", "  - to: gateways\n", 1))
	}
	p, err = r.Operator.PreviewFolder(ctx, api.Publication{Files: without})
	require.NoError(t, err)
	require.Len(t, p.Gone, 1)
	assert.Equal(t, 3, p.Gone[0].Unknown, "what nobody has answered yet is not said to be none")
	assert.Contains(t, p.Gone[0].Says, "what is installed from it is not known: not answered yet")
	r.Until("the hosts have answered", func() bool {
		p, err = r.Operator.PreviewFolder(ctx, api.Publication{Files: without})
		return err == nil && p.Gone[0].Unknown == 0
	})
	g := p.Gone[0]
	assert.Equal(t, []any{3, 3, 3, []string{"saltmarsh-server"}}, []any{g.From, g.Hosts, g.Packages, g.Names}, g.Says)
	assert.Contains(t, g.Says, "/packages.saltmarsh.example/apt/8.x/ stable goes from 3 hosts; "+
		"3 packages on 3 hosts came from there and would get no more updates from it, the newest installed on ")

	moved := map[string][]byte{}
	for name, text := range files {
		moved[name] = []byte(strings.Replace(string(text), "series: \"8\"", "series: \"9\"", 1))
	}
	p, err = r.Operator.PreviewFolder(ctx, api.Publication{Files: moved})
	require.NoError(t, err)
	assert.Equal(t, 3, p.Changing)
	assert.Empty(t, p.Gone, "a repository that moves is not one that goes")
}
