// Package agent is the host side: it surveys, carries signed deliveries out, and
// goes on working when the service is away.
package agent

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2"
	"golang.org/x/sys/unix"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
)

// StateDir is where the agent keeps what it must remember, inside the root.
const StateDir = "/var/lib/lantern-agent"

// Enrolment is what joining left.
type Enrolment struct {
	Service string          `json:"service"` // URL
	Host    string          `json:"host"`
	Key     json.RawMessage `json:"key"` // the service's signing key, a JWK, pinned
}

// memory is what the last carrying left.
type memory struct {
	Revision int64     `json:"revision"`
	Sheet    string    `json:"sheet"`
	Issued   time.Time `json:"issued"`
}

// Host is the machine that the agent looks after, reached through a root folder.
type Host struct {
	Root  string // "/" or the folder of a simulated host
	State string // the agent's own folder
	dir   *os.Root
	in    *inRoot // nil where the kernel has no openat2
	fs    *rootfs.FS
	// offered is what the last own reading of upstreams saw: URL and package → versions.
	offered map[string][]string
	secrets secrets
	// accessWritten is what the agent wrote into access files before.
	accessWritten []accessFile
	// asked are folders of media that were asked what stands in them, and have not said; list is how, rootfs's where nobody says.
	asked map[string]chan bool
	list  func(dir string) ([]fs.DirEntry, error)
	// clock is what time it is; that of the machine where nobody says.
	clock func() time.Time
}

func (h *Host) now() time.Time {
	if h.clock == nil {
		return time.Now()
	}
	return h.clock()
}

// OpenHost opens a root folder.
func OpenHost(root string) (*Host, error) {
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	dir, err := os.OpenRoot(abs)
	if err != nil {
		return nil, fmt.Errorf("the root %s cannot be opened: %w", root, errors.Unwrap(err))
	}
	h := &Host{Root: abs, State: filepath.Join(abs, StateDir), dir: dir}
	if in, err := openInRoot(dir, abs); err == nil && in != nil {
		h.in = in
	}
	h.fs = rootfs.New(h.whole())
	return h, nil
}

// whole is the root folder as a file system.
func (h *Host) whole() fs.FS {
	if h.in != nil {
		return h.in
	}
	return h.dir.FS()
}

// Close closes the root folder.
func (h *Host) Close() error {
	if h.in != nil {
		unix.Close(h.in.dir)
	}
	return h.dir.Close()
}

// path is where a path inside the root really stands, links followed.
func (h *Host) path(inside string) (string, error) {
	p, err := h.fs.Resolve(inside)
	if err != nil {
		return "", err
	}
	return filepath.Join(h.Root, p), nil
}

func (h *Host) statePath(name string) string { return filepath.Join(h.State, name) }

// save writes a file of the agent's own, whole or not at all.
func (h *Host) save(name string, data []byte) error {
	if err := makeDirs(filepath.Dir(h.statePath(name)), 0o700); err != nil {
		return err
	}
	if err := renameio.WriteFile(h.statePath(name), data, 0o600); err != nil {
		return err
	}
	return syncDir(filepath.Dir(h.statePath(name)))
}

func (h *Host) saveJSON(name string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return h.save(name, b)
}

func (h *Host) loadJSON(name string, v any) error {
	b, err := os.ReadFile(h.statePath(name))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, v); err != nil {
		return fmt.Errorf("%s is damaged: %w", h.statePath(name), err)
	}
	return nil
}

// makeDirs makes a folder and those above it, so that a power cut does not take them with
// what is written into them: a folder's name is on the disk once the folder above is.
func makeDirs(dir string, mode fs.FileMode) error {
	if info, err := os.Stat(dir); err == nil && info.IsDir() {
		return nil
	}
	if above := filepath.Dir(dir); above != dir {
		if err := makeDirs(above, mode); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, mode); err != nil {
		if info, statErr := os.Stat(dir); statErr == nil && info.IsDir() {
			return nil // somebody else was quicker
		}
		return err
	}
	return syncDir(filepath.Dir(dir))
}

func syncDir(dir string) error { return syncFile(dir) }

// syncFile sees to it that the disk has a file as it is: what it says, and what it is dressed with.
func syncFile(real string) error {
	f, err := os.Open(real)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// key returns the agent's own key, which joining has made.
func (h *Host) key() (ed25519.PrivateKey, error) {
	b, err := os.ReadFile(h.statePath("key.pem"))
	if err != nil {
		return nil, err
	}
	return ParseKey(b)
}

// keyToJoin is the agent's own key, made where there is none yet.
func (h *Host) keyToJoin() (ed25519.PrivateKey, error) {
	key, err := h.key()
	if !errors.Is(err, fs.ErrNotExist) {
		return key, err
	}
	if _, key, err = ed25519.GenerateKey(rand.Reader); err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, h.save("key.pem", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// ParseKey reads an Ed25519 private key, PKCS #8 in PEM.
func ParseKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("the key file is not PEM")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, errors.New("the key file is not PKCS #8")
	}
	key, ok := k.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("the key file does not hold an Ed25519 key")
	}
	return key, nil
}

// lastSheet returns the sheet that was carried out last, or nil.
func (h *Host) lastSheet() *source.Sheet {
	var s source.Sheet
	if h.loadJSON("sheet.json", &s) != nil {
		return nil
	}
	return &s
}

// kept returns the source files as they stood after the last carrying.
func (h *Host) kept() map[string][]byte {
	var m map[string][]byte
	if h.loadJSON("kept.json", &m) != nil {
		return nil
	}
	return m
}
