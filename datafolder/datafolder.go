// Package datafolder turns a data folder into a running service: it takes the folder's lock,
// opens the database, reads the keys or makes them for a new folder, and serves.
//
// It is the only place that does. The command, the tests and the benchmarks start services
// with Open, serve them with Serve, and end them with Close.
package datafolder

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/console"
	"patientlantern.example/lantern/internal/onlyone"
	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/web"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

// Running is a service with its store and its HTTP side.
type Running struct {
	*service.Service
	*web.Web
	Store      *store.Store
	unlock     func()
	FirstToken string // of the operator "first"; only when the data folder is new

	certificate *Certificate // nil for none
	log         *slog.Logger
}

// Options say how to open a service.
type Options struct {
	Data     string // folder
	Secrets  string // file of the key of the secrets; empty: in the data folder
	Log      *slog.Logger
	Interval time.Duration    // between check-ins
	Now      func() time.Time // nil: the machine's clock
	Tend     time.Duration    // between looks at vendors' desks; 0: none by itself
	Keep     time.Duration    // how long it is kept what hosts had; 0: the usual
	Watch    time.Duration    // between looks of a host at whether its sources can be refreshed; 0: none
	Probe    time.Duration    // between looks at upstreams; 0: none by itself
	Shelves  string           // the folder below which all that stands that hosts are served; empty: shelves in the data folder
	Patience time.Duration    // how long a host with a task may give no sign of life; 0: the usual
	TLS      bool             // it speaks TLS itself

	Certificate *Certificate   // with which it does; nil for none
	Behind      []netip.Prefix // those who stand in front of the service
	Version     string

	Expect func(hosts int)      // makes room for reading so many hosts; nil: nothing is to be had
	Spend  func() (done func()) // lets the process take more memory for a while; nil: nothing is to be had
}

// database is the file of a data folder in which everything is but the keys.
const database = "lantern.db"

// Open opens the data folder and makes what is missing in a new one. Keys are
// made for a new folder only: one that is missing beside a database that relies on it is
// lost, and a new one would lock every host out without a word.
func Open(ctx context.Context, o Options) (r *Running, err error) {
	data := o.Data
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder cannot be made: %w", err)
	}
	unlock, err := lockFolder(data)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			unlock()
		}
	}()
	if err := closedToOthers(data, true); err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, filepath.Join(data, database))
	if err != nil {
		return nil, err
	}
	r = &Running{Store: st, unlock: unlock}
	if o.Secrets == "" {
		o.Secrets = filepath.Join(data, "secrets-key.txt")
	}
	if err := r.open(ctx, o); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	return r, nil
}

// open reads the keys and starts the service.
func (r *Running) open(ctx context.Context, o Options) error {
	o.TLS = o.TLS || o.Certificate != nil
	keyFile := filepath.Join(o.Data, "signing-key.pem")
	if err := r.missing(ctx, keyFile, o.Secrets); err != nil {
		return err
	}
	key, err := signingKey(keyFile)
	if err != nil {
		return err
	}
	secrets, err := vault.Open(o.Secrets, os.Getenv(vault.Variable))
	if err != nil {
		return err
	}
	shelves, err := filepath.Abs(cmp.Or(o.Shelves, filepath.Join(o.Data, "shelves")))
	if err != nil {
		return err
	}
	r.Service, err = service.New(
		ctx,
		service.Options{
			Store:    r.Store,
			Key:      key,
			Log:      o.Log,
			Interval: o.Interval,
			Now:      o.Now,
			Version:  o.Version,
			Vault:    secrets,
			Tend:     o.Tend,
			Patience: o.Patience,
			Watch:    o.Watch,
			Probe:    o.Probe,
			Shelves:  shelves,
			Keep:     o.Keep,
			TLS:      o.TLS,
			CertEnds: o.Certificate.Ends,
			Expect:   o.Expect,
			Spend:    o.Spend,
		},
	)
	if err != nil {
		return err
	}
	r.Web = web.New(r.Service, web.Options{Log: o.Log, Console: console.Files(), TLS: o.TLS, Version: o.Version, Behind: o.Behind})
	r.certificate, r.log = o.Certificate, o.Log
	r.FirstToken, err = firstOperator(ctx, r.Store)
	return err
}

// missing reports keys that are not there and that what the database holds relies on.
func (r *Running) missing(ctx context.Context, keyFile, secretsFile string) error {
	relies, err := r.Store.Relies(ctx)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(keyFile); errors.Is(err, fs.ErrNotExist) && relies.Hosts > 0 {
		return fmt.Errorf(
			"the signing key %s is missing, and %d hosts have pinned it: with another key they would refuse everything. Put it back from a "+
				"backup; if it is lost, start with an empty data folder and let the hosts join it",
			keyFile,
			relies.Hosts,
		)
	}
	if _, err := os.Lstat(secretsFile); errors.Is(err, fs.ErrNotExist) && os.Getenv(vault.Variable) == "" && relies.Secrets > 0 {
		return fmt.Errorf(
			"the secrets' key %s is missing, and %d secrets are encrypted with it. Put it back from a backup, or name it with --secrets-key or %s",
			secretsFile,
			relies.Secrets,
			vault.Variable,
		)
	}
	return nil
}

// lockFolder makes sure that one service at a time works on a data folder.
func lockFolder(data string) (func(), error) {
	release, err := onlyone.Lock(filepath.Join(data, "lock"))
	var taken *onlyone.TakenError
	switch {
	case errors.As(err, &taken):
		return nil, fmt.Errorf("another service is at work on the data folder %s; end it first, or choose another with --data", data)
	case err != nil:
		return nil, fmt.Errorf("the lock of the data folder cannot be taken: %w", err)
	}
	return release, nil
}

// closedToOthers checks the mode of something that holds secrets.
func closedToOthers(name string, folder bool) error {
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		want := "0600"
		if folder {
			want = "0700"
		}
		return fmt.Errorf(
			"%s can be reached by others (mode %04o), and it holds keys; change its mode: chmod %s %s",
			name,
			mode,
			want,
			name,
		)
	}
	return nil
}

func firstOperator(ctx context.Context, st *store.Store) (string, error) {
	list, err := st.Operators(ctx)
	if err != nil || len(list) > 0 {
		return "", err
	}
	token, hash := identity.NewToken("plo_")
	return token, st.AddOperator(ctx, store.Operator{Name: "first", Role: store.RoleOperator, Created: time.Now()}, hash, store.Change{})
}

// signingKey reads the service's key, or makes one.
func signingKey(name string) (ed25519.PrivateKey, error) {
	b, err := os.ReadFile(name)
	if err == nil {
		if err := closedToOthers(name, false); err != nil {
			return nil, err
		}
		k, err := agent.ParseKey(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return k, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, renameio.WriteFile(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
}

// Serve answers on a listener until the context ends.
func (r *Running) Serve(ctx context.Context, ln net.Listener) error {
	srv := &http.Server{
		Handler:           r.Handler(),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       60 * time.Second,
		WriteTimeout:      3 * time.Minute,
		IdleTimeout:       3 * time.Minute,
		MaxHeaderBytes:    32 << 10,
		ErrorLog:          log.New(serverLog{r.log}, "", 0),
	}
	return Until(ctx, srv, ln, r.certificate)
}

// serverLog takes what Go's server says of its own.
type serverLog struct{ log *slog.Logger }

func (l serverLog) Write(said []byte) (int, error) {
	text, level := strings.TrimSpace(string(said)), slog.LevelWarn
	if strings.Contains(text, "TLS handshake error") { // of every host, each minute, where the certificate is none of theirs
		level = slog.LevelDebug
	}
	l.log.Log(context.Background(), level, text)
	return len(said), nil
}

// Until has a server answer on a listener until the context ends, by TLS where there is a certificate.
func Until(ctx context.Context, srv *http.Server, ln net.Listener, cert *Certificate) error {
	failed := make(chan error, 1)
	go func() {
		if cert != nil {
			srv.TLSConfig = cert.config()
			failed <- srv.ServeTLS(ln, "", "")
		} else {
			failed <- srv.Serve(ln)
		}
	}()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if srv.Shutdown(end) != nil {
		return srv.Close() // streams that do not end by themselves
	}
	return nil
}

// Close writes what is in memory and closes the store.
func (r *Running) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	defer r.unlock()
	return errors.Join(r.Service.Close(ctx), r.Store.Close())
}
