package cli

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/console"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/demo"
	"patientlantern.example/lantern/internal/onlyone"
	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/store"
	"patientlantern.example/lantern/vault"
)

func untilSignal(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
}

func (a *app) serve() *cobra.Command {
	var listen, data, secrets, cert, key, logLevel string
	var interval, tend, patience time.Duration
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service, with the console in it", GroupID: "run", Args: cobra.NoArgs,
		Long: "Run the service. On its first start it prints the first operator's token, once.\nWithout a certificate, put it behind " +
			"something that speaks TLS, or keep it on loopback.",
		Example: "  lantern serve --data /var/lib/lantern\n  lantern serve --listen :7800 --tls-cert cert.pem --tls-key key.pem",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (cert == "") != (key == "") {
				return wrong("--tls-cert and --tls-key go together")
			}
			var level slog.Level
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return wrong("--log is %q; it must be debug, info, warn or error", logLevel)
			}
			ctx, stop := untilSignal(cmd.Context())
			defer stop()
			log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
			// Nothing is made before it is known that it can be served.
			ln, err := net.Listen("tcp", listen)
			if err != nil {
				return no("cannot listen on %s: %v; choose another address with --listen", listen, err)
			}
			defer ln.Close()
			if cert != "" {
				if _, err := tls.LoadX509KeyPair(cert, key); err != nil {
					return no("the certificate cannot be used: %v; give --tls-cert and --tls-key in PEM, of one pair", err)
				}
			}
			s, err := OpenService(
				ctx,
				ServiceOptions{Data: data, Secrets: secrets, Log: log, Interval: interval, Tend: tend, Patience: patience, TLS: cert != ""},
			)
			if err != nil {
				return no("%v", err)
			}
			defer s.Close()
			if s.FirstToken != "" {
				a.out.Printf("First operator's token, printed this once: %s", s.FirstToken)
			}
			spareMemory()
			scheme := "http"
			if cert != "" {
				scheme = "https"
			}
			a.out.Printf("Listening on %s://%s", scheme, ln.Addr())
			return s.Serve(ctx, ln, cert, key)
		},
	}
	f := cmd.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7800", "address to listen on")
	f.StringVar(&data, "data", "lantern-data", "folder of the database and the signing key")
	f.StringVar(
		&secrets,
		"secrets-key",
		"",
		"file of the age key that secrets are encrypted with (default secrets-key.txt in\nthe data folder; LANTERN_SECRETS_KEY may hold "+
			"the key itself instead)",
	)
	f.DurationVar(&tend, "tend", 5*time.Minute, "how often vendors' desks are asked")
	f.StringVar(&cert, "tls-cert", "", "certificate file (PEM)")
	f.StringVar(&key, "tls-key", "", "key file (PEM)")
	f.StringVar(&logLevel, "log", "info", "debug, info, warn or error")
	f.DurationVar(&interval, "check-in", time.Minute, "how often a host checks in")
	f.DurationVar(
		&patience,
		"leave-behind",
		15*time.Minute,
		"how long a host with a change to carry out may give no sign of life before\nthe others go on without it; it catches up when it "+
			"comes back",
	)
	return cmd
}

// spareMemory lets the process hold less than Go's default: what a service keeps is large
// and changes little, so looking through it more often costs next to nothing.
func spareMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(40)
	}
	debug.FreeOSMemory() // what reading the fleet left behind
}

// Running is a service with its store.
type Running struct {
	*service.Service
	Store      *store.Store
	unlock     func()
	FirstToken string // of the operator "first"; only when the data folder is new
}

// ServiceOptions say how to open a service.
type ServiceOptions struct {
	Data     string // folder
	Secrets  string // file of the key of the secrets; empty: in the data folder
	Log      *slog.Logger
	Interval time.Duration    // between check-ins
	Now      func() time.Time // nil: the machine's clock
	Tend     time.Duration    // between looks at vendors' desks; 0: none by itself
	Patience time.Duration    // how long a host with a task may give no sign of life; 0: the usual
	TLS      bool             // it speaks TLS itself
}

// OpenService opens the data folder and makes what is missing in a new one. Keys are
// made for a new folder only: one that is missing beside a database that relies on it is
// lost, and a new one would lock every host out without a word.
func OpenService(ctx context.Context, o ServiceOptions) (r *Running, err error) {
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
	st, err := store.Open(ctx, filepath.Join(data, "lantern.db"))
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
func (r *Running) open(ctx context.Context, o ServiceOptions) error {
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
	r.Service, err = service.New(
		ctx,
		service.Options{
			Store:    r.Store,
			Key:      key,
			Log:      o.Log,
			Interval: o.Interval,
			Now:      o.Now,
			Console:  console.Files(),
			Version:  Version,
			Vault:    secrets,
			Tend:     o.Tend,
			Patience: o.Patience,
			TLS:      o.TLS,
		},
	)
	if err != nil {
		return err
	}
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
	token, hash := service.NewToken("plo_")
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
func (r *Running) Serve(ctx context.Context, ln net.Listener, cert, key string) error {
	srv := &http.Server{
		Handler:           r.Handler(),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       60 * time.Second,
		WriteTimeout:      3 * time.Minute,
		IdleTimeout:       3 * time.Minute,
		MaxHeaderBytes:    32 << 10,
	}
	failed := make(chan error, 1)
	go func() {
		if cert != "" {
			failed <- srv.ServeTLS(ln, cert, key)
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

func (a *app) demo() *cobra.Command {
	o := demo.Options{}
	cmd := &cobra.Command{
		Use: "demo", Short: "Run everything on this machine: service, upstreams and simulated hosts", GroupID: "run", Args: cobra.NoArgs,
		Long: "Run the service, stand-ins for the vendors' repositories and\nsubscription desks, and simulated hosts with real agents, " +
			"all on loopback.\nFolders demo-hosts and demo-state are made anew in the current folder. Ctrl-C ends all of it.",
		Example: "  lantern demo",
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := untilSignal(cmd.Context())
			defer stop()
			o.Say = func(format string, args ...any) { a.out.Printf(format, args...) }
			o.Bold = func(s string) string { return a.out.Paint(view.Bold, s) }
			o.Open = func(ctx context.Context, data string, log *slog.Logger, interval time.Duration) (demo.Service, string, error) {
				r, err := OpenService(ctx, ServiceOptions{Data: data, Log: log, Interval: interval, Tend: 2 * interval})
				if err != nil {
					return nil, "", err
				}
				return r, r.FirstToken, nil
			}
			if err := demo.Run(ctx, o); err != nil {
				return no("%v", err)
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.Listen, "listen", "127.0.0.1:7800", "address of the service")
	f.StringVar(&o.Upstream, "upstream", "127.0.0.1:7801", "address of the stand-in repositories")
	f.StringVar(&o.Secure, "upstream-tls", "127.0.0.1:7802", "address of the same over TLS, for client certificates")
	f.StringVar(&o.Desks, "desks", "127.0.0.1:7803", "address of the stand-in subscription desks")
	f.StringVar(&o.Dir, "dir", ".", "folder in which demo-hosts and demo-state are made")
	f.StringVar(&o.Agent, "agent", "", "the agent's binary (default: lantern-agent beside this one)")
	f.DurationVar(&o.Interval, "check-in", time.Second, "how often a host checks in")
	return cmd
}

func (a *app) operator() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "operator",
		Short:   "List, add and remove who may sign in",
		GroupID: "run",
		Example: "  lantern operator add mira --role reader",
	}
	list := &cobra.Command{
		Use: "list", Short: "List who may sign in", Args: cobra.NoArgs, Example: "  lantern operator list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := a.client().Operators(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(l); done {
				return err
			}
			var rows [][]view.Cell
			for _, o := range l.Operators {
				rows = append(rows, []view.Cell{view.T(o.Name), view.T(o.Role), view.T(o.Created.Local().Format("2006-01-02 15:04"))})
			}
			a.out.Table([]view.Column{{Name: "OPERATOR"}, {Name: "ROLE"}, {Name: "ADDED"}}, rows)
			return nil
		},
	}
	var role []string
	add := &cobra.Command{
		Use:     "add NAME",
		Short:   "Add an operator, or give one a new token; the token is printed once",
		Args:    cobra.ExactArgs(1),
		Example: "  lantern operator add mira --role reader",
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.client().AddOperator(cmd.Context(), api.OperatorOrder{Name: args[0], Role: cmp.Or(one(role), store.RoleReader)})
			if err != nil {
				return err
			}
			if done, err := a.json(o); done {
				return err
			}
			a.out.Printf("%s signs in as %s with this token, printed this once: %s", o.Name, o.Role, o.Token)
			return nil
		},
	}
	choose(add, &role, "role", false, "reader (looks) or operator (changes); reader when left out", store.RoleReader, store.RoleOperator)
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Take an operator away", Args: cobra.ExactArgs(1), Example: "  lantern operator remove mira",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveOperator(cmd.Context(), args[0]); err != nil {
				return err
			}
			a.out.Printf("%s can no longer sign in.", args[0])
			return nil
		},
	}
	cmd.AddCommand(list, add, remove)
	return cmd
}

func (a *app) openapi() *cobra.Command {
	return &cobra.Command{
		Use:     "openapi",
		Short:   "Print the OpenAPI description of the service",
		GroupID: "run",
		Args:    cobra.NoArgs,
		Example: "  lantern openapi > openapi.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := os.MkdirTemp("", "lantern-openapi-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			r, err := OpenService(cmd.Context(), ServiceOptions{Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Minute})
			if err != nil {
				return err
			}
			defer r.Close()
			b, err := r.OpenAPI()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out.JSON(), "%s\n", b)
			return err
		},
	}
}

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use:       "schema survey|policy",
		Short:     "Print the JSON Schema of what lantern read prints, or of policy files",
		GroupID:   "run",
		Args:      cobra.ExactArgs(1),
		ValidArgs: []string{"survey", "policy"},
		Long: "Print a JSON Schema (2020-12): survey is what lantern read prints; policy is for editors, which\n" +
			"complete keys and show mistakes with it while one types. policy check finds what a schema cannot say.",
		Example: "  lantern schema survey > survey.schema.json\n  lantern schema policy > policy.schema.json",
		RunE: func(_ *cobra.Command, args []string) error {
			if args[0] == "policy" {
				text, err := policy.Schema()
				fmt.Fprint(a.out.JSON(), string(text))
				return err
			}
			if args[0] != "survey" {
				return wrong("there is no schema %q; there are survey and policy", args[0])
			}
			b, err := service.SurveySchema()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out.JSON(), "%s\n", b)
			return err
		},
	}
}
