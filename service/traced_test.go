package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/internal/rig"
)

// A finding says when its file was written, which package was installed then, and who used
// sudo where the policy lets that be read.
func TestAFindingSaysWhenAndByWhom(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	publish(t, r, r.Policy())
	require.Equal(t, 1, r.Carry().Counts["done"])
	r.Until("the host is steady", func() bool { return len(r.Findings("gw-01")) == 0 })
	log := filepath.Join(root, "var/log")
	require.NoError(t, os.MkdirAll(log, 0o755))
	now := time.Now()
	require.NoError(t, os.WriteFile(filepath.Join(log, "auth.log"), fmt.Appendf(nil,
		"%s gw-01 sudo[8]:     mira : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/vi --password=hunter2 /etc/apt/sources.list\n", now.Format(time.RFC3339Nano)), 0o640))
	own := filepath.Join(root, "etc/apt/sources.list.d/own.list")
	require.NoError(t, os.WriteFile(own, []byte("deb http://own.example/apt stable main\n"), 0o644))
	said := func() string {
		d, err := r.Operator.Host(ctx, "gw-01")
		require.NoError(t, err)
		for _, f := range d.Drift {
			if f.File == "/etc/apt/sources.list.d/own.list" {
				return f.Trace
			}
		}
		return ""
	}
	r.Until("the host has told of the file", func() bool { return said() != "" })
	assert.Regexp(t, `^written 20\d\d-\d\d-\d\d \d\d:\d\d:\d\d \S+; by whom is not known: the policy does not say read-logins$`, said())

	files := r.Policy()
	files["hosts.yaml"] = []byte(strings.Replace(string(files["hosts.yaml"]), "  - to: everyone\n", "  - to: everyone\n    read-logins: true\n", 1))
	require.Contains(t, string(files["hosts.yaml"]), "read-logins")
	publish(t, r, files)
	require.Equal(t, 1, r.Carry().Counts["done"]+r.Carry().Counts["unchanged"])
	require.NoError(t, os.WriteFile(own, []byte("deb http://own.example/apt stable main more\n"), 0o644))
	r.Until("the host has told who", func() bool { return strings.Contains(said(), "mira used sudo (/usr/bin/vi)") })
	assert.NotContains(t, said(), "hunter2", "arguments are never read on")
	groups, err := r.Operator.GroupedDrift(ctx, client.List{})
	require.NoError(t, err)
	found := false
	for _, g := range groups.Groups {
		found = found || strings.Contains(g.Trace, "mira used sudo")
	}
	assert.True(t, found, "the list of findings says it too")
}
