package keyring_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/keyring"
	"patientlantern.example/lantern/internal/cell"
)

// validities asks the real gpg how valid each key of a home is.
func validities(t *testing.T, home string) map[string]string {
	words := map[string]string{"u": keyring.ValidityUltimate, "f": keyring.ValidityFull, "m": keyring.ValidityMarginal}
	out := map[string]string{}
	pub := ""
	for line := range strings.Lines(gpg(t, home, "--with-colons", "--list-keys")) {
		f := strings.Split(strings.TrimSpace(line), ":")
		switch {
		case f[0] == "pub":
			pub = f[1]
		case f[0] == "fpr" && pub != "":
			word := words[pub]
			if word == "" {
				word = keyring.ValidityUnknown
			}
			out[f[9]], pub = word, ""
		}
	}
	return out
}

// Who signed whom, and who is trusted how much, gives the validity that gpg gives.
func TestTheWebOfTrustIsAsGPGSeesIt(t *testing.T) {
	base := t.TempDir()
	require.NoError(t, os.Chmod(base, 0o700))
	var fprs []string
	for i := range 6 {
		gpg(t, base, "--quick-gen-key", fmt.Sprintf("Saltmarsh %d <k%d@saltmarsh.example>", i, i), "ed25519", "sign,cert", "never")
	}
	for line := range strings.Lines(gpg(t, base, "--with-colons", "--list-keys")) {
		if f := strings.Split(line, ":"); f[0] == "fpr" {
			fprs = append(fprs, f[9])
		}
	}
	stop := func(home string) { _ = exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run() } // it may have ended
	stop(base)
	n, most := 0, cell.Rounds(8)
	rapid.Check(t, func(rt *rapid.T) {
		if n++; n > most {
			return
		}
		home := filepath.Join(t.TempDir(), fmt.Sprint(n))
		require.NoError(rt, os.CopyFS(home, os.DirFS(base)))
		require.NoError(rt, os.Chmod(home, 0o700))
		defer stop(home)
		for range rapid.IntRange(0, 8).Draw(rt, "signatures") {
			by, of := rapid.SampledFrom(fprs).Draw(rt, "by"), rapid.SampledFrom(fprs).Draw(rt, "of")
			if by != of {
				gpg(t, home, "-u", by, "--yes", rapid.SampledFrom([]string{"--quick-lsign-key", "--quick-sign-key"}).Draw(rt, "how"), of)
			}
		}
		var trust strings.Builder
		for i, fpr := range fprs {
			level := rapid.SampledFrom([]int{2, 3, 4, 4, 5, 6}).Draw(rt, "trust")
			if i == 0 {
				level = 6
			}
			fmt.Fprintf(&trust, "%s:%d:\n", fpr, level)
		}
		name := filepath.Join(home, "ownertrust")
		require.NoError(rt, os.WriteFile(name, []byte(trust.String()), 0o600))
		gpg(t, home, "--import-ownertrust", name)
		gpg(t, home, "--check-trustdb")
		want := validities(t, home)
		box, err := os.ReadFile(filepath.Join(home, "pubring.kbx"))
		require.NoError(rt, err)
		db, err := os.ReadFile(filepath.Join(home, "trustdb.gpg"))
		require.NoError(rt, err)
		keys, err := keyring.ReadWeb(box, db, keyring.At{Now: time.Now()})
		require.NoError(rt, err)
		got := map[string]string{}
		for _, k := range keys {
			got[k.Fingerprint] = k.Validity
		}
		if !assert.ObjectsAreEqual(want, got) {
			rt.Fatalf("gpg: %v\nours: %v\n%s", want, got, trust.String())
		}
	})
}
