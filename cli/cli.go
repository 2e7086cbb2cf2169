// Package cli is the command line: thin commands over the client and the core.
package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

// Exit statuses.
const (
	ExitOK      = 0
	ExitNo      = 1 // the answer is no: errors in a policy, hosts that failed
	ExitUsage   = 2 // wrong usage
	ExitRefused = 3 // lantern read: the package manager would refuse the configuration
	ExitService = 4 // the service does not answer, or will not do it

	ExitInterrupted = 130 // by a signal
)

// exit is an error with a status of its own. An empty message is not printed.
type exit struct {
	status  int
	message string
}

func (e *exit) Error() string { return e.message }

func no(format string, args ...any) error { return &exit{ExitNo, fmt.Sprintf(format, args...)} }

func wrong(format string, args ...any) error { return &exit{ExitUsage, fmt.Sprintf(format, args...)} }

// Version is set when the binary is built.
var Version = "0.1.0"

// DefaultService is the address of a service on this machine.
const DefaultService = "http://127.0.0.1:7800"

// app is what commands share.
type app struct {
	service  string
	settings string
	format   string
	colour   string
	wide     bool
	token    string
	from     string // where the service's address comes from

	ownColumns bool // the command prints csv itself
	page       *pager
	patient    atomic.Bool // the command ends by itself when it is interrupted, and takes its time
	out        *view.Out
	errOut     *view.Out
}

// settingsFile is the form of a settings file.
type settingsFile struct {
	Service string `yaml:"service"`
	Token   string `yaml:"token"`
	Format  string `yaml:"format"`
	Colour  string `yaml:"colour"`
}

// Main runs the command with arguments and returns its exit status.
func Main(args []string) int {
	a := &app{}
	root := a.root()
	root.SetArgs(args)
	ctx, stop := interruptible(&a.patient)
	err := root.ExecuteContext(ctx)
	stop()
	if a.page != nil {
		a.page.wait()
	}
	if a.page == nil && a.out != nil && a.out.Err() != nil { // who leaves a pager has read enough
		err = no("the output cannot be written: %v", a.out.Err())
	}
	if err == nil {
		return ExitOK
	}
	if a.errOut == nil { // the settings were not reached
		a.errOut = view.NewOut(os.Stderr, "auto")
		a.format = formatAsked(args, a.format)
	}
	return a.complain(err)
}

// formatAsked is the format that was asked for, where the arguments were not understood.
func formatAsked(args []string, known string) string {
	for i, arg := range args {
		if word, is := strings.CutPrefix(arg, "--format="); is {
			return word
		}
		if arg == "--format" && i+1 < len(args) {
			return args[i+1]
		}
	}
	return cmp.Or(known, os.Getenv("LANTERN_FORMAT"))
}

// complain prints an error in one line, with what to do, and gives its status.
func (a *app) complain(err error) int {
	p := problem{Title: "The answer is no", Exit: ExitNo, Detail: err.Error()}
	var ex *exit
	var away *client.Unreachable
	var refused *client.Error
	switch {
	case errors.Is(err, context.Canceled):
		p.Title, p.Exit, p.Detail = "Interrupted", ExitInterrupted, "interrupted; what the service was asked to do goes on there"
	case errors.As(err, &ex):
		p.Exit = ex.status
		if ex.status == ExitUsage {
			p.Title = "Wrong usage"
		}
	case errors.As(err, &away):
		p.Title, p.Exit = "The service does not answer", ExitService
		p.Detail += fmt.Sprintf(" (address from %s)", a.from)
		if away.Disbelieved() == "" {
			p.Detail += "; start one with `lantern serve`, or give another address with --service, LANTERN_SERVICE or service: in a settings file"
		}
	case errors.As(err, &refused):
		p.Title, p.Exit, p.Status, p.Errors = "The service will not do it", ExitService, refused.Status, refused.Details
		if refused.Status == 422 || refused.Status == 409 || refused.Status == 404 { // it answers, and the answer is no
			p.Title, p.Exit = "The answer is no", ExitNo
		}
		if refused.Status == 401 {
			p.Detail += "; give the token with LANTERN_TOKEN, --token-file or token: in a settings file"
		}
	}
	if p.Detail = strings.Join(strings.Fields(p.Detail), " "); p.Detail != "" {
		a.complaint(p)
	}
	return p.Exit
}

const settingsHelp = `Settings come from flags, then the environment (LANTERN_SERVICE, LANTERN_TOKEN,
LANTERN_FORMAT, LANTERN_COLOUR), then a file: the one that --settings or
LANTERN_SETTINGS names, else .lantern.yaml in the current folder where it is your
own, else lantern/settings.yaml in $XDG_CONFIG_HOME or ~/.config.`

// exitHelp lists the exit statuses.
func exitHelp() string {
	var b strings.Builder
	b.WriteString("Exit status:\n")
	for _, s := range statuses {
		fmt.Fprintf(&b, "  %3d  %s\n", s.number, s.means)
	}
	return b.String() + "\n"
}

func (a *app) root() *cobra.Command {
	var tokenFile string
	root := &cobra.Command{
		Use:   "lantern",
		Short: "Package sources of a fleet: shared policy, careful changes, drift found",
		Long: "Patient Lantern keeps repository, signing-key and channel definitions for a fleet\nof hosts as shared policy, " +
			"carries changes to hosts, and finds those that have drifted.\n\n" +
			"Alone it says how the fleet stands, and what to do next.\n\n" + exitHelp() + settingsHelp,
		RunE:          func(cmd *cobra.Command, _ []string) error { return a.overview(cmd) },
		Example:       "  lantern\n  lantern host list\n  lantern policy check ./policy\n  lantern drift",
		Version:       Version,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			return a.settle(cmd, tokenFile)
		},
	}
	root.SetVersionTemplate("lantern {{.Version}}\n")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return wrong("%v; `%s --help` shows the options", err, cmd.CommandPath())
	})
	f := root.PersistentFlags()
	f.StringVar(&a.service, "service", "", "address of the service (default "+DefaultService+")")
	f.StringVar(&tokenFile, "token-file", "", "file that holds the operator's token")
	f.StringVar(&a.settings, "settings", "", "settings file")
	f.StringVar(&a.format, "format", "", "table or json; lists give jsonl and csv too (default table)")
	f.BoolVar(&a.wide, "wide", false, "show tables in full, however wide the terminal is")
	f.StringVar(&a.colour, "colour", "", "auto, always or never (default auto)")
	must(
		root.RegisterFlagCompletionFunc(
			"format",
			cobra.FixedCompletions([]string{"table", "json"}, cobra.ShellCompDirectiveNoFileComp),
		),
	)
	must(
		root.RegisterFlagCompletionFunc(
			"colour",
			cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp),
		),
	)
	root.SetOut(stdout{a})
	a.commands(root)
	a.complete(root)
	guard(root)
	pages(root)
	return root
}

// commands adds all of them.
func (a *app) commands(root *cobra.Command) {
	root.AddGroup(
		&cobra.Group{ID: "fleet", Title: "The fleet:"},
		&cobra.Group{ID: "policy", Title: "Policy and change:"},
		&cobra.Group{ID: "contracts", Title: "Contracts and seats:"},
		&cobra.Group{ID: "run", Title: "Running it:"},
	)
	root.AddCommand(
		a.host(),
		a.group(),
		a.cohort(),
		a.key(),
		a.repository(),
		a.waiver(),
		a.survey(),
		a.drift(),
		a.heal(),
		a.explain(),
		a.whence(),
		a.read(),
		a.policy(),
		a.proposal(),
		a.revision(),
		a.rollout(),
		a.freeze(),
		a.date(),
		a.day(),
		a.channel(),
		a.contract(),
		a.seat(),
		a.account(),
		a.audit(),
		a.operator(),
		a.webhook(),
		a.shelf(),
		a.secrets(),
		a.setting(),
		a.serve(),
		a.demo(),
		a.openapi(),
		a.schema(),
		a.man(),
	)
	root.AddCommand(
		a.old(a.hostList(), "hosts", "lantern host list"),
		a.old(a.cohortList(), "cohorts", "lantern cohort list"),
		a.old(a.revisionList(), "revisions", "lantern revision list"),
		a.old(a.policyPreview(), "preview", "lantern policy preview"),
		a.old(a.policyLearn(), "learn", "lantern policy learn"),
		a.old(a.policyAdopt(), "adopt", "lantern policy adopt"),
		a.old(a.hostExport(), "export", "lantern host export"),
		a.old(a.freezeEnd(), "thaw", "lantern freeze end"),
	)
}

// must stops on a mistake in the program itself.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

// settle works out the settings: flags, then environment, then file.
func (a *app) settle(cmd *cobra.Command, tokenFile string) error {
	a.errOut = view.NewOut(os.Stderr, a.colour)
	file, name, err := a.readSettings()
	if err != nil {
		return err
	}
	pick := func(flag *string, env, inFile, def string) string {
		switch {
		case *flag != "":
			return "the command line"
		case os.Getenv(env) != "":
			*flag = os.Getenv(env)
			return env
		case inFile != "":
			*flag = inFile
			return name
		}
		*flag = def
		return "the default"
	}
	a.from = pick(&a.service, "LANTERN_SERVICE", file.Service, DefaultService)
	pick(&a.format, "LANTERN_FORMAT", file.Format, "table")
	pick(&a.colour, "LANTERN_COLOUR", file.Colour, "auto")
	if allowed := formats(cmd); !slices.Contains(allowed, a.format) {
		last := len(allowed) - 1
		return wrong("--format is %q; %s gives %s or %s", a.format, cmd.CommandPath(), strings.Join(allowed[:last], ", "), allowed[last])
	}
	a.ownColumns = strings.Contains(cmd.Annotations[moreFormats], "csv")
	if a.colour != "auto" && a.colour != "always" && a.colour != "never" {
		return wrong("--colour is %q; it must be auto, always or never", a.colour)
	}
	if !strings.HasPrefix(a.service, "http://") && !strings.HasPrefix(a.service, "https://") {
		return wrong("the service's address %q (from %s) must begin with http:// or https://", a.service, a.from)
	}
	if tokenFile != "" {
		b, err := os.ReadFile(tokenFile)
		if err != nil {
			return wrong("--token-file: %v", err)
		}
		a.token = strings.TrimSpace(string(b))
	} else {
		pick(&a.token, "LANTERN_TOKEN", file.Token, "")
	}
	a.out, a.errOut = view.NewOut(os.Stdout, a.colour), view.NewOut(os.Stderr, a.colour)
	if a.wide {
		a.out.Width = 0
	}
	if cmd.Annotations["list"] != "" && !flagged(cmd, "watch") {
		a.page = startPager(a.out)
	}
	return nil
}

func (a *app) readSettings() (settingsFile, string, error) {
	var s settingsFile
	name, asked := a.settings, true
	if name == "" {
		name = os.Getenv("LANTERN_SETTINGS")
	}
	if name == "" {
		asked = false
		if info, err := os.Stat(".lantern.yaml"); err == nil {
			// Somebody else's file in a shared folder must not send us elsewhere.
			if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) == os.Geteuid() {
				name = ".lantern.yaml"
			}
		}
	}
	if name == "" {
		dir, err := os.UserConfigDir()
		if err != nil {
			return s, "", nil //nolint:nilerr // no home, no settings
		}
		name = filepath.Join(dir, "lantern", "settings.yaml")
	}
	b, err := os.ReadFile(name)
	if err != nil {
		if !asked && errors.Is(err, os.ErrNotExist) {
			return s, "", nil
		}
		return s, "", wrong("the settings file cannot be read: %v", err)
	}
	b = bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n")) // the parser counts lines of Windows twice behind a comment
	if err := yaml.UnmarshalWithOptions(b, &s, yaml.Strict()); err != nil {
		place, what, ok := strings.Cut(strings.SplitN(yaml.FormatError(err, false, false), "\n", 2)[0], "] ")
		if !ok {
			return s, "", wrong("%s: %s", name, place)
		}
		return s, "", wrong("%s:%s: %s; it may hold service, token, format, colour", name, strings.TrimPrefix(place, "["), what)
	}
	return s, name, nil
}

func (a *app) client() *client.Client { return client.New(a.service, a.token) }
