package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/internal/rig"
)

// What the policy heals is put right by itself, twice; then something fights it, and that is
// said. What it only reports stays, with the weight that the policy gives it.
func TestAClassIsHealedByItselfUntilSomethingFightsIt(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	files := r.Policy()
	files["hosts.yaml"] = []byte(strings.Replace(string(files["hosts.yaml"]), "    unlisted: report\n",
		"    unlisted: report\n    findings: { changed-source: heal, unlisted-source: { severity: note } }\n", 1))
	publish(t, r, files)
	require.Zero(t, r.Carry().Counts[rollout.Failed])
	file := filepath.Join(root, "etc/apt/sources.list.d/saltmarsh.sources")
	was := read(t, file)
	spoil := func() {
		edited(t, file, "Components: main", "Components: main testing")
	}
	for range 2 {
		spoil()
		r.Until("it is healed by itself", func() bool { return read(t, file) == was && state(t, r, "gw-01") == api.StateSteady })
	}
	spoil()
	r.Until("it says that something fights it", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && len(d.Drift) == 1 && strings.Contains(d.Drift[0].Message, "it was healed 2 times")
	})
	time.Sleep(3 * rig.Interval)
	assert.NotEqual(t, was, read(t, file))
	_, err := r.Operator.Heal(ctx, "gw-01") // a person can
	require.NoError(t, err)
	r.Until("it is healed", func() bool { return read(t, file) == was })

	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/apt/sources.list.d/own.list"), []byte("deb http://own.example/apt stable main\n"), 0o644))
	r.Until("it is worth knowing, and no more", func() bool {
		d, err := r.Operator.Host(ctx, "gw-01")
		return err == nil && len(d.Drift) == 1 && d.Drift[0].Severity == "note" && d.State == api.StateSteady
	})
}
