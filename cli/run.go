package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"patientlantern.example/lantern/datafolder"
	"patientlantern.example/lantern/service/web"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/demo"
	"patientlantern.example/lantern/store"
)

func untilSignal(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
}

func (a *app) serve() *cobra.Command {
	var listen, cert, key, logLevel string
	var keep int
	var front []string
	o := datafolder.Options{Version: Version}
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
			behind, err := networks(front)
			if err != nil {
				return err
			}
			a.patient.Store(true)
			ctx, stop := untilSignal(cmd.Context())
			defer stop()
			// Nothing is made before it is known that it can be served.
			ln, err := net.Listen("tcp", listen)
			if err != nil {
				return no("cannot listen on %s: %v; choose another address with --listen", listen, err)
			}
			defer ln.Close()
			log := slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
			certificate, err := usable(cert, key, log)
			if err != nil {
				return err
			}
			m := spareMemory()
			o.Expect = m.expect
			o.Spend = func() (done func()) {
				m.spend(1)
				return func() { m.spend(-1) }
			}
			o.Keep, o.Certificate, o.Log, o.Behind = time.Duration(keep)*24*time.Hour, certificate, log, behind
			s, err := datafolder.Open(ctx, o)
			if err != nil {
				return no("%v", err)
			}
			defer s.Close()
			if s.FirstToken != "" {
				a.out.Printf("First operator's token, printed this once: %s", s.FirstToken)
			}
			go m.ready()
			scheme := "http"
			if cert != "" {
				scheme = "https"
			}
			a.out.Printf("Listening on %s://%s", scheme, ln.Addr())
			return s.Serve(ctx, ln)
		},
	}
	f := cmd.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:7800", "address to listen on")
	f.StringVar(&cert, "tls-cert", "", "certificate file (PEM); it is read again where it changes")
	f.StringVar(&key, "tls-key", "", "key file (PEM)")
	f.StringVar(&logLevel, "log", "info", "debug, info, warn or error")
	f.IntVar(&keep, "keep", 400, "days for which it is kept what hosts had")
	f.StringSliceVar(&front, "behind", nil, "addresses or networks of what stands in front of the service and speaks TLS for it: whom it\n"+
		"names in X-Forwarded-For is the caller whose failed tries count")
	serving(f, &o)
	return cmd
}

// serving are the options that a data folder is opened with.
func serving(f *pflag.FlagSet, o *datafolder.Options) {
	f.StringVar(&o.Data, "data", "lantern-data", "folder of the database and the signing key")
	f.StringVar(&o.Secrets, "secrets-key", "", "file of the age key that secrets are encrypted with (default secrets-key.txt in\n"+
		"the data folder; LANTERN_SECRETS_KEY may hold the key itself instead)")
	f.DurationVar(&o.Tend, "tend", 5*time.Minute, "how often vendors' desks are asked")
	f.DurationVar(&o.Watch, "watch", 6*time.Hour, "how often each host looks whether its sources can be refreshed; 0 for never")
	f.DurationVar(&o.Probe, "probe", time.Hour, "how often the service itself looks at each repository that hosts use; 0 for never")
	f.StringVar(&o.Shelves, "shelves", "", "folder below which all stands that shelf add may serve (default shelves in the data folder)")
	f.DurationVar(&o.Interval, "check-in", time.Minute, "how often a host checks in")
	f.DurationVar(&o.Patience, "leave-behind", 15*time.Minute, "how long a host with a change to carry out may give no sign of life before\n"+
		"the others go on without it; it catches up when it comes back")
}

// networks reads addresses and networks.
func networks(list []string) (out []netip.Prefix, err error) {
	for _, text := range list {
		p, err := netip.ParsePrefix(text)
		if at, single := netip.ParseAddr(text); single == nil {
			p, err = netip.PrefixFrom(at.Unmap(), at.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, wrong("--behind is %q; it must be an address or a network, as 127.0.0.1 or 10.0.0.0/8", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// usable checks a certificate before anything is made; none is no error.
func usable(cert, key string, log *slog.Logger) (*datafolder.Certificate, error) {
	if cert == "" {
		return nil, nil
	}
	c, err := datafolder.LoadCertificate(cert, key, log)
	if err != nil {
		return nil, no("the certificate cannot be used: %v; give --tls-cert and --tls-key in PEM, of one pair", err)
	}
	if ends := c.Ends(); ends.Before(time.Now()) {
		log.Error("the certificate has ended: hosts and browsers refuse it until another is in its file", "file", cert, "ended", ends)
	}
	return c, nil
}

// reading is how much memory a service may take while it reads its fleet, before what is not
// needed any more is collected, in bytes: whatever the fleet, and for each of its hosts.
const (
	reading     = 336 << 20
	readingEach = 3 << 10
)

// least is how much a service may take, however small its fleet, before more is collected, in bytes.
const least = 384 << 20

// memory lets the process hold less than Go's default: what a service keeps is large
// and changes little, so looking through it more often costs next to nothing. While the fleet
// is read hardly anything of it goes, and little is collected until ready is called. From then
// on it may take some times what the fleet takes: less costs processor time, since more often
// nearly all of it is looked through. Whoever runs the service may have said something else of it.
type memory struct {
	ruled    bool // by whoever runs the service
	mu       sync.Mutex
	spending int
}

func spareMemory() *memory {
	m := &memory{ruled: os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != ""}
	if !m.ruled {
		debug.SetGCPercent(-1)
		debug.SetMemoryLimit(reading)
	}
	return m
}

// expect makes room for reading a fleet.
func (m *memory) expect(hosts int) {
	if !m.ruled {
		debug.SetMemoryLimit(max(reading, int64(hosts)*readingEach))
	}
}

// ready is called when the fleet has been read.
func (m *memory) ready() {
	debug.FreeOSMemory()
	if m.ruled {
		return
	}
	var held runtime.MemStats
	runtime.ReadMemStats(&held)
	debug.SetMemoryLimit(max(least, 5*int64(held.HeapAlloc)))
	m.spend(0)
}

// spend changes how many there are who spend. While spent memory is given back at once (a preview of the whole fleet), more may be
// taken: looking through all that a service keeps for the sake of what lives for a second costs more than that is worth.
func (m *memory) spend(by int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.spending += by
	switch {
	case m.ruled:
	case m.spending > 0:
		debug.SetGCPercent(spent)
	default:
		debug.SetGCPercent(saving)
	}
}

// By how many hundredths the heap may grow before it is looked through: always, and for a short while.
const (
	saving = 35
	spent  = 100
)

func (a *app) demo() *cobra.Command {
	o := demo.Options{}
	var probe time.Duration
	cmd := &cobra.Command{
		Use: "demo", Short: "Run everything on this machine: service, upstreams and simulated hosts", GroupID: "run", Args: cobra.NoArgs,
		Long: "Run the service, stand-ins for the vendors' repositories and\nsubscription desks, and simulated hosts with real agents, " +
			"all on loopback.\nFolders demo-hosts, demo-state and demo-untended are made anew in the current folder. Ctrl-C ends all of it.",
		Example: "  lantern demo\n  lantern demo --dir ./trial --check-in 5s",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a.patient.Store(true)
			ctx, stop := untilSignal(cmd.Context())
			defer stop()
			o.Say = func(format string, args ...any) { a.out.Printf(format, args...) }
			o.Bold = func(s string) string { return a.out.Paint(view.Bold, s) }
			o.Open = func(ctx context.Context, data string, log *slog.Logger, interval time.Duration) (demo.Service, string, error) {
				r, err := datafolder.Open(
					ctx,
					datafolder.Options{
						Version:  Version,
						Data:     data,
						Log:      log,
						Interval: interval,
						Tend:     2 * interval,
						Watch:    time.Minute,
						Probe:    probe,
					},
				)
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
	f.StringVar(&o.Dir, "dir", ".", "folder in which demo-hosts, demo-state and demo-untended are made")
	f.StringVar(&o.Agent, "agent", "", "the agent's binary (default: lantern-agent beside this one)")
	f.DurationVar(&o.Interval, "check-in", time.Second, "how often a host checks in")
	f.DurationVar(&probe, "probe", time.Minute, "how often the service itself looks at each repository; 0 for never")
	return cmd
}

func (a *app) operator() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "operator",
		Short:   "List, add and remove who may sign in",
		GroupID: "run",
		Example: "  lantern operator add mira --role reader\n  lantern operator list",
	}
	list := &cobra.Command{
		Use: "list", Short: "List who may sign in", Args: cobra.NoArgs,
		Example: "  lantern operator list\n" +
			"  lantern operator list --format csv",
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
	var data string
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Add an operator, or give one a new token; the token is printed once",
		Long: "Add an operator, or give one a new token and end every session with the old one. The token is printed once.\nWhere everybody's " +
			"token is lost: stop the service and add an operator to its data folder with --data.",
		Args:    cobra.ExactArgs(1),
		Example: "  lantern operator add mira --role reader\n  lantern operator add skua --role operator --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.addOperator(cmd.Context(), data, args[0], one(role))
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
	choose(
		add,
		&role,
		"role",
		false,
		"reader (looks) or operator (changes); when left out the one that NAME has, for somebody new reader",
		store.RoleReader,
		store.RoleOperator,
	)
	add.Flags().StringVar(&data, "data", "", "data folder of a service that does not run; somebody new is an operator there")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Take an operator away", Args: cobra.ExactArgs(1),
		Example: "  lantern operator remove mira\n" +
			"  lantern operator remove skua --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveOperator(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.did("removed", args[0], "%s can no longer sign in.", args[0])
		},
	}
	listing(list)
	lists(cmd, list)
	cmd.AddCommand(add, remove)
	return cmd
}

// addOperator adds an operator by the service, or in a data folder. One that there is keeps the role where none is said.
func (a *app) addOperator(ctx context.Context, data, name, role string) (api.Operator, error) {
	if data != "" {
		o, err := datafolder.AddOperator(ctx, data, api.OperatorOrder{Name: name, Role: cmp.Or(role, store.RoleOperator)})
		if err != nil {
			return o, no("%v", err)
		}
		return o, nil
	}
	if role == "" {
		l, err := a.client().Operators(ctx)
		if err != nil {
			return api.Operator{}, err
		}
		role = store.RoleReader
		for _, o := range l.Operators {
			if o.Name == name {
				role = o.Role
			}
		}
	}
	return a.client().AddOperator(ctx, api.OperatorOrder{Name: name, Role: role})
}

func (a *app) openapi() *cobra.Command {
	return &cobra.Command{
		Use:     "openapi",
		Short:   "Print the OpenAPI description of the service",
		GroupID: "run",
		Args:    cobra.NoArgs,
		Example: "  lantern openapi > openapi.json\n  lantern openapi | grep -m 4 operationId",
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := os.MkdirTemp("", "lantern-openapi-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			r, err := datafolder.Open(
				cmd.Context(),
				datafolder.Options{Version: Version, Data: dir, Log: slog.New(slog.DiscardHandler), Interval: time.Minute},
			)
			if err != nil {
				return err
			}
			defer r.Close()
			b, err := r.OpenAPI()
			if err != nil {
				return err
			}
			var text bytes.Buffer
			if err := json.Indent(&text, b, "", "  "); err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out.JSON(), "%s\n", &text)
			return err
		},
	}
}

func (a *app) schema() *cobra.Command {
	return &cobra.Command{
		Use:       "schema survey | policy | COMMAND...",
		Short:     "Print a JSON Schema: of surveys, of policy files, or of what a command prints",
		GroupID:   "run",
		Args:      cobra.MinimumNArgs(1),
		ValidArgs: append([]string{"survey", "policy"}, slices.Sorted(maps.Keys(answers))...),
		Long: "Print a JSON Schema (2020-12): survey is what lantern read prints; policy is for editors, which\n" +
			"complete keys and show mistakes with it while one types. policy check finds what a schema cannot say.\n" +
			"The words of a command give the schema of what it prints with --format json.",
		Example: "  lantern schema survey > survey.schema.json\n  lantern schema policy\n  lantern schema host list",
		RunE: func(_ *cobra.Command, args []string) error {
			if args[0] == "policy" {
				text, err := policy.Schema()
				fmt.Fprint(a.out.JSON(), string(text))
				return err
			}
			b, err := web.SurveySchema()
			if args[0] != "survey" || len(args) > 1 {
				b, err = answerSchema(strings.Join(args, " "))
			}
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out.JSON(), "%s\n", b)
			return err
		},
	}
}
