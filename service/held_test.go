package service_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// A choice that holds packages at a series is written, is no drift, is told where a package
// manager cannot do it, and goes again without a trace.
func TestAHeldSeriesComesAndGoes(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	hosts := map[string]struct{ file, line string }{
		"gw-01":   {"etc/apt/preferences.d/lantern-hold-gannet-open.pref", "Package: gannet-tools"},
		"arc-2":   {"etc/yum.repos.d/gannet-open.repo", "excludepkgs=gannet-tools-0:[!8]*-*.* gannet-tools-0:8[0-9]*-*.* gannet-tools-1:*-*.*"},
		"chart-1": {"etc/zypp/locks", "solvable_name: gannet-tools\nversion: >= 9~~\ncomment: Patient Lantern: gannet-open\n"},
		"model-2": {"etc/pacman.d/lantern-gannet-open.conf", "IgnorePkg = gannet-tools"},
	}
	roots := map[string]string{}
	for name := range hosts {
		roots[name] = r.Up(name)
	}
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	files, before := r.Policy(), r.Policy()
	for _, f := range []string{"channels.yaml", "hosts.yaml"} {
		text := string(files[f])
		text = strings.Replace(text, "open: { repository: gannet-open }", "open: { repository: gannet-open }\n    steady: { repository: gannet-open, pinned: \"8\", hold: [gannet-tools] }", 1)
		for _, seats := range []string{" # taken before a rollout, given back when the group moves on\n", "\n"} {
			text = strings.Replace(text, "channels: { gannet: licensed }\n    seats: automatic"+seats,
				"channels: { gannet: open }\n    without-contract: { because: \"they only keep what others ask for\", author: tide-ops, review: 2027-03-31 }\n", 1)
		}
		before[f] = []byte(text)
		files[f] = []byte(strings.ReplaceAll(text, "gannet: open", "gannet: steady"))
	}
	checked, err := r.Operator.Publish(ctx, api.Publication{Files: files})
	require.NoError(t, err)
	said := ""
	for _, d := range checked.Diagnostics {
		said += d.String() + "\n"
	}
	assert.Contains(t, said, "not-held")
	assert.Contains(t, said, "pacman can only keep what is installed")
	ro := r.Carry()
	for _, h := range ro.Hosts {
		require.Equal(t, "done", string(h.State), "%s: %+v", h.Host, h.Report)
	}
	for name, h := range hosts {
		assert.Contains(t, read(t, filepath.Join(roots[name], h.file)), h.line, name)
		r.Until(name+" is steady", func() bool { return len(r.Findings(name)) == 0 })
	}
	edited(t, filepath.Join(roots["chart-1"], hosts["chart-1"].file), ">= 9~~", ">= 12")
	r.Until("an edit of the lock is found", func() bool { return len(r.Findings("chart-1")) > 0 })
	edited(t, filepath.Join(roots["gw-01"], hosts["gw-01"].file), "Pin-Priority: -1", "Pin-Priority: 500")
	r.Until("an edit of the hold is found", func() bool { return len(r.Findings("gw-01")) > 0 })

	publish(t, r, before)
	ro = r.Carry()
	require.Equal(t, len(hosts), ro.Counts["done"], "%+v", ro.Hosts)
	for _, name := range []string{"gw-01", "chart-1"} {
		_, err = os.Stat(filepath.Join(roots[name], hosts[name].file))
		assert.ErrorIs(t, err, os.ErrNotExist, name)
	}
	for name, h := range hosts {
		if name != "gw-01" && name != "chart-1" {
			assert.NotContains(t, read(t, filepath.Join(roots[name], h.file)), "gannet-tools", name)
		}
		r.Until(name+" is steady again", func() bool { return len(r.Findings(name)) == 0 })
	}
}
