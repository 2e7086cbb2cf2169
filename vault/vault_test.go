package vault_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/vault"
)

func TestASecretIsSealedAndOpened(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.txt")
	v, err := vault.Open(file, "")
	require.NoError(t, err)
	sealed, err := v.Seal([]byte("ebb and flow"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "ebb")
	again, err := vault.Open(file, "")
	require.NoError(t, err)
	plain, err := again.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "ebb and flow", string(plain))

	b, err := os.ReadFile(file)
	require.NoError(t, err)
	key := strings.TrimSpace(strings.SplitN(string(b), "\n", 2)[1])
	env, err := vault.Open("/nowhere/at/all", key)
	require.NoError(t, err, "the key from the environment")
	plain, err = env.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "ebb and flow", string(plain))
}

func TestWhatCannotBeOpened(t *testing.T) {
	dir := t.TempDir()
	v, err := vault.Open(filepath.Join(dir, "a"), "")
	require.NoError(t, err)
	other, err := vault.New()
	require.NoError(t, err)
	sealed, err := v.Seal([]byte("x"))
	require.NoError(t, err)
	_, err = other.Open(sealed)
	assert.ErrorIs(t, err, vault.ErrKey)
	sealed[len(sealed)-1] ^= 1
	_, err = v.Open(sealed)
	assert.Error(t, err)

	for name, text := range map[string]string{"empty": "", "no key": "not-a-key-at-all\n"} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := vault.Open(file, "")
		require.Error(t, err, name)
		assert.Equal(t, file+" holds no key that can be read; it must hold lines that begin with AGE-SECRET-KEY-1", err.Error())
	}
	open := filepath.Join(dir, "a")
	require.NoError(t, os.Chmod(open, 0o640))
	_, err = vault.Open(open, "")
	assert.EqualError(t, err, open+" can be read by others (mode 0640); change its mode to 0600")
}

func TestRotatingForgetsTheOldKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.txt")
	v, err := vault.Open(file, "")
	require.NoError(t, err)
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	secret, err := v.Seal([]byte("x"))
	require.NoError(t, err)
	var during []byte
	require.NoError(t, v.Rotate(func(again func([]byte) ([]byte, error)) (err error) {
		if during, err = os.ReadFile(file); err != nil {
			return err
		}
		secret, err = again(secret)
		return err
	}))
	assert.Equal(t, 2, strings.Count(string(during), "AGE-SECRET-KEY-1"), "a crash meanwhile leaves a file that opens both")
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(after), "AGE-SECRET-KEY-1"))
	assert.NotEqual(t, string(before), string(after))
	plain, err := v.Open(secret)
	require.NoError(t, err)
	assert.Equal(t, "x", string(plain))
}

func TestARotationThatFailsKeepsBothKeys(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.txt")
	v, err := vault.Open(file, "")
	require.NoError(t, err)
	secret, err := v.Seal([]byte("x"))
	require.NoError(t, err)
	require.Error(t, v.Rotate(func(func([]byte) ([]byte, error)) error { return errors.New("the disk is full") }))
	again, err := vault.Open(file, "")
	require.NoError(t, err)
	_, err = again.Open(secret)
	assert.NoError(t, err)
}

func TestAKeyFromTheEnvironmentIsRotatedThere(t *testing.T) {
	dir := t.TempDir()
	key := func(name string) string {
		_, err := vault.Open(filepath.Join(dir, name), "")
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return strings.TrimSpace(strings.SplitN(string(b), "\n", 2)[1])
	}
	first, second := key("1"), key("2")
	one, err := vault.Open("", first)
	require.NoError(t, err)
	secret, err := one.Seal([]byte("x"))
	require.NoError(t, err)
	assert.ErrorContains(t, one.Rotate(nil), "the key comes from LANTERN_SECRETS_KEY, which this program cannot change: put a new key in front of the old one there")
	both, err := vault.Open("", second+","+first)
	require.NoError(t, err)
	require.NoError(t, both.Rotate(func(again func([]byte) ([]byte, error)) (err error) { secret, err = again(secret); return err }))
	only, err := vault.Open("", second)
	require.NoError(t, err)
	_, err = only.Open(secret)
	assert.NoError(t, err)
}
