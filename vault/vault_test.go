package vault_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/vault"
)

func TestASecretIsSealedAndOpened(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.txt")
	v, err := vault.Open(file, "")
	require.NoError(t, err)
	sealed := sealed(t, v, []byte("ebb and flow"))
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
	sealed := sealed(t, v, []byte("x"))
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

func sealed(t *testing.T, v *vault.Vault, plain []byte) (out []byte) {
	t.Helper()
	require.NoError(t, v.Keep(plain, func(sealed []byte) error {
		out = sealed
		return nil
	}))
	return out
}

// What is being kept while the key changes is found by the one who encrypts anew, or is encrypted
// with the new key.
func TestNothingIsLostThatIsKeptWhileTheKeyChanges(t *testing.T) {
	v, err := vault.Open(filepath.Join(t.TempDir(), "key.txt"), "")
	require.NoError(t, err)
	var mu sync.Mutex
	var kept [][]byte
	var all errgroup.Group
	for range 4 {
		all.Go(func() error {
			for range 50 {
				if err := v.Keep([]byte("ebb"), func(sealed []byte) error {
					time.Sleep(time.Millisecond) // as a commit takes
					mu.Lock()
					defer mu.Unlock()
					kept = append(kept, sealed)
					return nil
				}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	for range 20 {
		require.NoError(t, v.Rotate(func(again func([]byte) ([]byte, error)) (err error) {
			mu.Lock()
			defer mu.Unlock()
			for i := range kept {
				if kept[i], err = again(kept[i]); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	require.NoError(t, all.Wait())
	require.Len(t, kept, 200)
	for _, secret := range kept {
		_, err := v.Open(secret)
		require.NoError(t, err)
	}
}

func TestRotatingForgetsTheOldKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key.txt")
	v, err := vault.Open(file, "")
	require.NoError(t, err)
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	secret := sealed(t, v, []byte("x"))
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
	secret := sealed(t, v, []byte("x"))
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
	secret := sealed(t, one, []byte("x"))
	assert.ErrorContains(t, one.Rotate(nil), "the key comes from LANTERN_SECRETS_KEY, which this program cannot change: put a new key in front of the old one there")
	both, err := vault.Open("", second+","+first)
	require.NoError(t, err)
	require.NoError(t, both.Rotate(func(again func([]byte) ([]byte, error)) (err error) { secret, err = again(secret); return err }))
	only, err := vault.Open("", second)
	require.NoError(t, err)
	_, err = only.Open(secret)
	assert.NoError(t, err)
}
