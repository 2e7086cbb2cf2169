package service_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/internal/rig"
)

// put writes a file below a root.
func put(t *testing.T, root, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
}

func found(t *testing.T, r *rig.Rig, host string, want ...string) {
	t.Helper()
	r.Until(host+" has its findings", func() bool {
		got := r.Findings(host)
		slices.Sort(got)
		return slices.Equal(got, want)
	})
}

// What the policy says nothing of is held against what it was when the policy came: found,
// healed where the agent has a copy, accepted where somebody says that it is right. A rollout
// moves nothing of that.
func TestWhatThePolicySaysNothingOf(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	r.Publish()
	_, err := r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "too early"})
	require.ErrorContains(t, err, "nothing was carried to gw-01.brinewick.test yet")
	require.Equal(t, 1, r.Carry().Counts["done"])
	found(t, r, "gw-01")
	list := filepath.Join(root, "etc/apt/sources.list")
	was := read(t, list)

	// The distribution's own entry is trusted without a signature: healed to the byte.
	edited(t, list, "deb http", "deb [trusted=yes] http")
	foundAndHealed(t, r, "gw-01", "checks-weakened danger /etc/apt/sources.list", list, was)

	// A pin by hand is set aside.
	put(t, root, "etc/apt/preferences.d/own", "Package: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n")
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own")
	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	ended := r.Ended(heal.ID)
	require.Equal(t, 1, ended.Counts["done"], "%+v", ended.Hosts[0].Report)
	found(t, r, "gw-01")
	assert.NoFileExists(t, filepath.Join(root, "etc/apt/preferences.d/own"))
	assert.Contains(t, read(t, filepath.Join(root, "etc/apt/preferences.d/own.disabled")), "1001", "nothing that somebody wrote is lost")

	// Without healing no rollout makes it right.
	put(t, root, "etc/apt/preferences.d/own", "Package: *\nPin: origin elsewhere.example\nPin-Priority: 1001\n")
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own")
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own")

	// A check taken away from all sources is no reason to put a change back, and nobody can accept it.
	put(t, root, "etc/apt/apt.conf.d/99own", "Acquire::AllowWeakRepositories \"true\";\n")
	both := []string{"pin-changed fault /etc/apt/preferences.d/own", "setting-weakened danger /etc/apt/apt.conf.d/99own"}
	found(t, r, "gw-01", both...)
	ro = r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts[0].Report)
	found(t, r, "gw-01", both...)

	tried, err := r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "as agreed", Try: true})
	require.NoError(t, err)
	require.Len(t, tried.Accepted, 1)
	assert.Equal(t, "pin-changed", tried.Accepted[0].Class)
	found(t, r, "gw-01", both...)
	_, err = r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "as agreed", Document: "of before"})
	require.ErrorContains(t, err, "has changed since you looked at it")
	done, err := r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "as agreed"})
	require.NoError(t, err)
	require.Len(t, done.Left, 1)
	found(t, r, "gw-01", both[1])
	d, err := r.Operator.Host(ctx, "gw-01")
	require.NoError(t, err)
	require.NotNil(t, d.Base)
	assert.Equal(t, "as agreed", d.Base.Why)

	r.Until("the agent keeps the files as they are", func() bool {
		return strings.Contains(read(t, filepath.Join(root, "var/lib/lantern-agent/base.json")), d.Document)
	})

	// What was accepted is the measure now: taking it away again is found.
	require.NoError(t, os.Remove(filepath.Join(root, "etc/apt/apt.conf.d/99own")))
	require.NoError(t, os.Remove(filepath.Join(root, "etc/apt/preferences.d/own")))
	found(t, r, "gw-01", "pin-changed fault /etc/apt/preferences.d/own", "setting-changed note /etc/apt/apt.conf.d/99own")

	// Healing puts the pin back, and not the danger.
	heal, err = r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	require.Equal(t, 1, r.Ended(heal.ID).Counts["done"])
	found(t, r, "gw-01", "setting-changed note /etc/apt/apt.conf.d/99own")
	assert.FileExists(t, filepath.Join(root, "etc/apt/preferences.d/own"))
	assert.NoFileExists(t, filepath.Join(root, "etc/apt/apt.conf.d/99own"))
}

// What decides beside apt's configuration is found and healed over the real agent; a folder that
// others may write in is told of, and keeps no healing from what it can mend.
func TestWhatDecidesBesideTheConfiguration(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	root := r.Up("gw-01")
	put(t, root, "etc/dpkg/dpkg.cfg", "# dpkg's own\nno-debsig\n")
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["done"])
	found(t, r, "gw-01")

	put(t, root, "etc/dpkg/dpkg.cfg.d/new", "pre-invoke=/usr/local/bin/x\n")
	put(t, root, "etc/dpkg/dpkg.cfg", "no-debsig\nforce-bad-verify\n")
	put(t, root, "usr/local/share/ca-certificates/own.crt", "no certificate\n")
	require.NoError(t, os.Chmod(filepath.Join(root, "etc/apt/sources.list.d"), 0o777))
	stays := []string{
		"changed-mode danger /etc/apt/sources.list.d", "setting-changed danger /usr/local/share/ca-certificates/own.crt",
	}
	found(t, r, "gw-01", stays[0], "setting-changed danger /etc/dpkg/dpkg.cfg.d/new", stays[1], "setting-weakened danger /etc/dpkg/dpkg.cfg")
	heal, err := r.Operator.Heal(ctx, "gw-01")
	require.NoError(t, err)
	ended := r.Ended(heal.ID)
	require.Equal(t, 1, ended.Counts["done"], "%+v", ended.Hosts[0].Report)
	found(t, r, "gw-01", stays...)
	assert.Equal(t, "# dpkg's own\nno-debsig\n", read(t, filepath.Join(root, "etc/dpkg/dpkg.cfg")))
	assert.NoFileExists(t, filepath.Join(root, "etc/dpkg/dpkg.cfg.d/new"))
	assert.FileExists(t, filepath.Join(root, "etc/dpkg/dpkg.cfg.d/new.disabled"), "nothing that somebody wrote is lost")

	// Who has looked at the certificate accepts it; the folder is for somebody on the host.
	done, err := r.Operator.Accept(ctx, "gw-01", api.AcceptOrder{Because: "the site's own"})
	require.NoError(t, err)
	require.Len(t, done.Left, 1)
	found(t, r, "gw-01", stays[0])
	require.NoError(t, os.Chmod(filepath.Join(root, "etc/apt/sources.list.d"), 0o755))
	found(t, r, "gw-01")
}
