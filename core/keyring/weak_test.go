package keyring_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/keyring"
)

func TestWeakness(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, os.Chmod(home, 0o700))
	defer exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
	for _, c := range []struct {
		algorithm, digest, want string
	}{
		{"ed25519", "SHA256", ""},
		{"rsa2048", "SHA256", ""},
		{"rsa1024", "SHA256", "it is an RSA key of 1024 bits, and 2048 are the least"},
		{"dsa2048", "SHA256", "it is a DSA key"},
		{"rsa2048", "SHA1", "its self-signature is made with SHA-1"},
	} {
		name := c.algorithm + "-" + c.digest + "@saltmarsh.example"
		gpg(t, home, "--cert-digest-algo", c.digest, "--quick-gen-key", name, c.algorithm, "sign", "never")
		list, err := keyring.Certificates([]byte(gpg(t, home, "--armor", "--export", name)))
		require.NoError(t, err, name)
		require.Len(t, list, 1)
		assert.Equal(t, c.want, keyring.Weakness(list[0]), name)
	}
}
