// Package vault encrypts secrets at rest with age (https://age-encryption.org/v1).
package vault

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"

	"filippo.io/age"
	"github.com/google/renameio/v2"
)

// Variable is the environment variable that may hold the keys instead of a file.
const Variable = "LANTERN_SECRETS_KEY"

// Vault encrypts to its first key, and decrypts with any. It is safe for use by
// several goroutines.
type Vault struct {
	turn sync.RWMutex // held for reading while what was sealed is being kept, for writing while keys change
	mu   sync.RWMutex
	keys []*age.X25519Identity
	file string // empty where the keys come from the environment
}

// New makes a vault whose key nobody keeps.
func New() (*Vault, error) {
	key, err := age.GenerateX25519Identity()
	return &Vault{keys: []*age.X25519Identity{key}}, err
}

// Open takes the keys from text, which may be empty, or else from a file, which
// is made with a new key where it is missing.
func Open(file, text string) (*Vault, error) {
	v := &Vault{}
	if text != "" {
		return v, v.parse(strings.ReplaceAll(strings.ReplaceAll(text, ",", "\n"), " ", "\n"), Variable)
	}
	v.file = file
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		v.keys = []*age.X25519Identity{key}
		return v, v.save()
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others (mode %04o); change its mode to 0600", file, info.Mode().Perm())
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return v, v.parse(string(b), file)
}

// parse reads keys as age writes them, one on a line. Errors never hold any of it.
func (v *Vault) parse(text, from string) error {
	ids, err := age.ParseIdentities(strings.NewReader(text))
	if err != nil {
		return fmt.Errorf("%s holds no key that can be read; it must hold lines that begin with AGE-SECRET-KEY-1", from)
	}
	v.keys = nil
	for _, id := range ids {
		key, ok := id.(*age.X25519Identity)
		if !ok {
			return fmt.Errorf("%s holds a key of another kind; it must begin with AGE-SECRET-KEY-1", from)
		}
		v.keys = append(v.keys, key)
	}
	return nil
}

// save writes the key file, whole or not at all.
func (v *Vault) save() error {
	var b strings.Builder
	b.WriteString("# The key of this service's secrets. Whoever has it and the database has them all.\n")
	for _, k := range v.keys {
		fmt.Fprintf(&b, "%s\n", k)
	}
	return renameio.WriteFile(v.file, []byte(b.String()), 0o600)
}

// Keep encrypts to the first key, and lets keep store what came of it. The key is not forgotten before keep
// returns: what it stores is what a rotation finds, or is encrypted with the new key.
func (v *Vault) Keep(plain []byte, keep func(sealed []byte) error) error {
	v.turn.RLock()
	defer v.turn.RUnlock()
	sealed, err := v.seal(plain)
	if err != nil {
		return err
	}
	return keep(sealed)
}

// seal encrypts to the first key.
func (v *Vault) seal(plain []byte) ([]byte, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	var out bytes.Buffer
	w, err := age.Encrypt(&out, v.keys[0].Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// ErrKey is returned for a secret that none of the keys opens.
var ErrKey = errors.New("none of the keys opens the secret; was it encrypted with a key that is gone?")

// Open decrypts.
func (v *Vault) Open(sealed []byte) ([]byte, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	ids := make([]age.Identity, len(v.keys))
	for i, k := range v.keys {
		ids[i] = k
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), ids...)
	if err != nil {
		return nil, ErrKey
	}
	plain, err := io.ReadAll(r)
	if err != nil {
		return nil, errors.New("the secret is damaged")
	}
	return plain, nil
}

// Rotate makes a new key, lets reseal encrypt every secret anew, and forgets the
// old keys. A crash at any point leaves a key file that opens everything. Keys
// from the environment cannot be written there: the first of them becomes the only
// one in use, and the others may go.
func (v *Vault) Rotate(reseal func(again func([]byte) ([]byte, error)) error) error {
	v.turn.Lock()
	defer v.turn.Unlock()
	if v.file != "" {
		key, err := age.GenerateX25519Identity()
		if err != nil {
			return err
		}
		v.mu.Lock()
		old := v.keys
		v.keys = append([]*age.X25519Identity{key}, v.keys...)
		if err := v.save(); err != nil {
			v.keys = old
			v.mu.Unlock()
			return fmt.Errorf("the new key cannot be kept, so nothing was changed: %w", err)
		}
		v.mu.Unlock()
	} else if v.count() < 2 {
		return fmt.Errorf(
			"the key comes from %s, which this program cannot change: put a new key in front of the old one there, start the service again, "+
				"and rotate then",
			Variable,
		)
	}
	err := reseal(func(sealed []byte) ([]byte, error) {
		plain, err := v.Open(sealed)
		if err != nil {
			return nil, err
		}
		defer clear(plain)
		return v.seal(plain)
	})
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.keys = v.keys[:1]
	if v.file == "" {
		return nil
	}
	return v.save()
}

func (v *Vault) count() int {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return len(v.keys)
}
