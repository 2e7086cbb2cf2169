package keyring_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/core/source"
)

// gpg runs the real gpg in a home of its own.
func gpg(t *testing.T, home string, args ...string) string {
	t.Helper()
	cmd := exec.Command("gpg", append([]string{"--homedir", home, "--batch", "--no-tty", "--pinentry-mode", "loopback", "--passphrase", ""}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.Output()
	require.NoError(t, err, "gpg %s: %s", args, &said)
	return string(out)
}

// facts are what gpg's listing says of certificates, a line each.
func facts(listing string) (out []string) {
	last := ""
	for line := range strings.Lines(listing) {
		f := strings.Split(strings.TrimSpace(line), ":")
		switch f[0] {
		case "pub", "sub":
			sign := strings.Contains(f[11], "s")
			if f[0] == "pub" {
				sign = false // said of subkeys only
			}
			end := ""
			if n, err := strconv.ParseInt(f[6], 10, 64); err == nil {
				end = time.Unix(n, 0).UTC().Format(time.RFC3339)
			}
			last = fmt.Sprintf("expires=%s revoked=%v sign=%v", end, f[1] == "r", sign)
		case "fpr":
			out = append(out, f[9]+" "+last)
		}
	}
	slices.Sort(out)
	return out
}

func ourFacts(keys []source.Key) (out []string) {
	end := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Format(time.RFC3339)
	}
	for _, k := range keys {
		out = append(out, fmt.Sprintf("%s expires=%s revoked=%v sign=false", k.Fingerprint, end(k.Expires), k.Revoked))
		for _, s := range k.Subkeys {
			out = append(out, fmt.Sprintf("%s expires=%s revoked=%v sign=%v", s.Fingerprint, end(s.Expires), s.Revoked || k.Revoked, s.CanSign))
		}
	}
	slices.Sort(out)
	return out
}

// TestKeysThatPeopleChangedAgreeWithGPG makes keys with gpg, changes them as they
// are changed over the years, and compares exports and the keybox itself.
func TestKeysThatPeopleChangedAgreeWithGPG(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, os.Chmod(home, 0o700))
	defer exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
	fingerprint := func(name string) string {
		for line := range strings.Lines(gpg(t, home, "--with-colons", "--list-keys", name)) {
			if f := strings.Split(line, ":"); f[0] == "fpr" {
				return f[9]
			}
		}
		t.Fatalf("gpg does not list %s", name)
		return ""
	}
	day := 0
	on := func(year string, args ...string) string { // each a day later: gpg's own time goes on while it works
		day++
		return gpg(t, home, append([]string{"--faked-system-time", fmt.Sprintf("%s01%02dT000000", year, day)}, args...)...)
	}
	on("2024", "--quick-gen-key", "Saltmarsh <packages@saltmarsh.example>", "rsa2048", "cert", "2y")
	salt := fingerprint("saltmarsh")
	on("2024", "--quick-add-key", salt, "rsa2048", "sign", "1y")
	on("2024", "--quick-add-key", salt, "rsa2048", "encrypt", "never")
	on("2025", "--quick-set-expire", salt, "5y")
	on("2025", "--quick-set-expire", salt, "3y", "*")
	on("2025", "--quick-add-uid", salt, "Saltmarsh Archive <archive@saltmarsh.example>")
	on("2024", "--quick-gen-key", "Gannet <keys@gannet.example>", "ed25519", "sign", "1y")
	on("2024", "--quick-gen-key", "Plover <keys@plover.example>", "nistp256", "sign", "never")
	plover := fingerprint("plover")
	revocation, err := os.ReadFile(filepath.Join(home, "openpgp-revocs.d", plover+".rev"))
	require.NoError(t, err)
	file := filepath.Join(home, "revoke")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(revocation), ":-----BEGIN", "-----BEGIN", 1)), 0o600))
	gpg(t, home, "--import", file)

	want := facts(gpg(t, home, "--with-colons", "--fixed-list-mode", "--list-keys"))
	require.Len(t, want, 5)
	box, err := os.ReadFile(filepath.Join(home, "pubring.kbx"))
	require.NoError(t, err)
	for name, data := range map[string][]byte{
		"armoured": []byte(gpg(t, home, "--armor", "--export")), "binary": []byte(gpg(t, home, "--export")), "keybox": box,
	} {
		keys, err := keyring.Read(data, keyring.At{Now: time.Now()})
		require.NoError(t, err, name)
		assert.Equal(t, want, ourFacts(keys), name)
	}
	all := keyring.ReadAll([][]byte{box, []byte("none"), box}, keyring.At{Now: time.Now()})
	assert.Equal(t, all[0], all[2])
	assert.ErrorIs(t, all[1].Err, keyring.ErrNoKey)
	for _, cut := range []int{5, 40, len(box) - 3} {
		_, err := keyring.Read(box[:cut], keyring.At{Now: time.Now()})
		assert.Error(t, err)
	}
}
