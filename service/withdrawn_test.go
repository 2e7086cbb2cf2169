package service_test

import (
	"bytes"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/internal/rig"
)

// A key that is withdrawn leaves the keyrings that package managers alone write as well: until then it is a danger,
// and whoever takes the withdrawal back has it as it was.
func TestAWithdrawnKeyLeavesEveryKeyring(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	r.Accounts()
	roots := map[string]string{}
	for _, host := range []string{"gw-01", "chart-2", "model-2"} {
		roots[host] = r.Up(host)
	}
	_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": "model"})
	require.NoError(t, err)
	salt, err := r.Upstreams.Keys()["saltmarsh-2026"].Binary()
	require.NoError(t, err)
	put(t, roots["gw-01"], "etc/apt/trusted.gpg.d/salt.gpg", string(salt))
	files := r.Policy()
	publish(t, r, files)
	ro := r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	other := r.Upstreams.Keys()["foreland-archive"] // of a kind that every release of rpm takes
	text, err := other.Public()
	require.NoError(t, err)
	put(t, roots["chart-2"], "srv/foreland.asc", text)
	importForeland := func() {
		out, err := exec.Command("rpmkeys", "--root", roots["chart-2"], "--dbpath", "/var/lib/rpm", "--import",
			filepath.Join(roots["chart-2"], "srv/foreland.asc")).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	importForeland()
	rpm := func() string {
		out, err := exec.Command("rpm", "--root", roots["chart-2"], "--dbpath", "/var/lib/rpm", "-qa", "gpg-pubkey", "--qf", "%{SUMMARY}\n").CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	pacman := func() string { return keysOf(t, filepath.Join(roots["model-2"], "etc/pacman.d/gnupg")) }
	gone := func() {
		t.Helper()
		assert.NotContains(t, rpm(), "Foreland")
		assert.NotContains(t, pacman(), "fulmar")
		assert.NoFileExists(t, filepath.Join(roots["gw-01"], "etc/apt/trusted.gpg.d/salt.gpg"))
	}
	require.Contains(t, rpm(), "Foreland", "somebody had rpm take it")
	require.Contains(t, pacman(), "fulmar")

	const because = "{ because: it is in other hands }"
	files["withdrawn.yaml"] = []byte("format: patient-lantern/1\nwithdrawn: { saltmarsh-2026: " + because + ", saltmarsh-2029: " + because + ", fulmar-2025: " + because +
		", " + keyring.Fingerprint(other.Entity) + ": " + because + " }\n")
	publish(t, r, files)
	ro = r.Carry()
	for _, h := range ro.Hosts {
		require.EqualValues(t, "done", h.State, "%s: %+v", h.Host, h.Report)
	}
	gone()
	for host := range roots {
		r.Until("no key is withdrawn and believed on "+host, func() bool {
			return !strings.Contains(strings.Join(r.Findings(host), ","), "key")
		})
	}

	back, err := r.Operator.PullLever(ctx, ro.ID, client.LeverBackOut, api.LeverOrder{Because: "it was not lost"})
	require.NoError(t, err)
	ro = r.Ended(back.ID)
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	assert.Contains(t, rpm(), "Foreland")
	assert.Contains(t, pacman(), "fulmar")
	assert.FileExists(t, filepath.Join(roots["gw-01"], "etc/apt/trusted.gpg.d/salt.gpg"))

	// What else the change brings does not work, so it is put back; the keys stay out.
	works := files["policy.yaml"]
	files["policy.yaml"] = bytes.ReplaceAll(bytes.ReplaceAll(bytes.ReplaceAll(works,
		[]byte("/apt.gannet.example/open-storage"), []byte("/apt.gannet.example/none")),
		[]byte("/arch.gannet.example/open"), []byte("/arch.gannet.example/none")),
		[]byte("/rpm.gannet.example/licensed/halyard"), []byte("/rpm.gannet.example/none/halyard"))
	publish(t, r, files)
	ro = r.Carry()
	require.Equal(t, 3, ro.Counts["failed"], "%+v", ro.Hosts)
	gone()
	for _, h := range ro.Hosts {
		assert.Contains(t, h.Report.Message, "stays", h.Host)
		assert.False(t, h.Report.Undone, h.Host)
	}
	files["policy.yaml"] = works
	publish(t, r, files)
	ro = r.Carry()
	require.Zero(t, ro.Counts["failed"], "%+v", ro.Hosts)
	gone()
	// Whoever has it taken up again is told, and healed.
	importForeland()
	found(t, r, "chart-2", "key-withdrawn danger /var/lib/rpm/rpmdb.sqlite")
	heal, err := r.Operator.Heal(ctx, "chart-2")
	require.NoError(t, err)
	ended := r.Ended(heal.ID)
	require.Equal(t, 1, ended.Counts["done"], "%+v", ended.Hosts[0].Report)
	assert.NotContains(t, rpm(), "Foreland")
}

// keysOf lists the keys of a keyring as gpg does.
func keysOf(t *testing.T, ring string) string {
	t.Helper()
	out, err := exec.Command("gpg", "--homedir", ring, "--batch", "--list-keys").CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// What a change has put into a keyring that is for every source goes again with the last repository that goes by it, and
// none of it is called somebody's doing.
func TestAKeyInAKeyringGoesWithItsRepositories(t *testing.T) {
	t.Parallel()
	r := rig.New(t)
	ring := filepath.Join(r.Up("model-2"), "etc/pacman.d/gnupg")
	keys := func() string { return keysOf(t, ring) }
	carried := func(duty string) {
		_, err := r.Operator.Label(ctx, "model-2", map[string]string{"duty": duty})
		require.NoError(t, err)
		files := r.Policy()
		files["policy.yaml"] = append(files["policy.yaml"], "\n# "+duty+" comes\n"...)
		publish(t, r, files)
		ro := r.Carry()
		require.Equal(t, 1, ro.Counts["done"], "%+v", ro.Hosts[0].Report)
		r.Until("the host is steady", func() bool {
			h, err := r.Operator.Host(ctx, "model-2")
			return err == nil && h.State == "steady"
		})
	}
	r.Publish()
	require.Equal(t, 1, r.Carry().Counts["unchanged"], "it gets no repository, and has no keyring")
	require.NoDirExists(t, ring)
	carried("model")
	assert.Contains(t, keys(), "fulmar")
	carried("none")
	assert.NotContains(t, keys(), "fulmar")
	assert.Contains(t, keys(), "Pacman Keyring Master Key", "the keyring stays")
	carried("model")
	assert.Contains(t, keys(), "fulmar")
}
