// Package cli is the command line: thin commands over the client and the core.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/names"
)

// Exit statuses.
const (
	ExitOK      = 0
	ExitNo      = 1 // the answer is no: errors in a policy, hosts that failed
	ExitUsage   = 2 // wrong usage
	ExitRefused = 3 // lantern read: the package manager would refuse the configuration
	ExitService = 4 // the service does not answer, or will not do it
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
	token    string
	from     string // where the service's address comes from
	out      *view.Out
	errOut   *view.Out
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
	err := root.Execute()
	if err == nil && a.out != nil && a.out.Err() != nil {
		err = no("the output cannot be written: %v", a.out.Err())
	}
	if err == nil {
		return ExitOK
	}
	if a.errOut == nil {
		a.errOut = view.NewOut(os.Stderr, "auto")
	}
	return a.complain(err)
}

// complain prints an error in one line, with what to do, and gives its status.
func (a *app) complain(err error) int {
	status := ExitNo
	msg := err.Error()
	var ex *exit
	var away *client.Unreachable
	var refused *client.Error
	switch {
	case errors.Is(err, context.Canceled):
		return 130
	case errors.As(err, &ex):
		status = ex.status
	case errors.As(err, &away):
		status = ExitService
		msg += fmt.Sprintf(
			" (address from %s); start one with `lantern serve`, or give another address with --service, LANTERN_SERVICE or service: in a "+
				"settings file",
			a.from,
		)
	case errors.As(err, &refused):
		status = ExitService
		if refused.Status == 422 || refused.Status == 409 || refused.Status == 404 { // it answers, and the answer is no
			status = ExitNo
		}
		for _, d := range refused.Details {
			a.errOut.Printf("%s", d)
		}
		if refused.Status == 401 {
			msg += "; give the token with LANTERN_TOKEN, --token-file or token: in a settings file"
		}
	}
	if msg != "" {
		a.errOut.Printf("%s%s", a.errOut.Paint(view.Red, "lantern: "), strings.Join(strings.Fields(msg), " "))
	}
	return status
}

const exitHelp = `Exit status: 0 done; 1 the answer is no (a policy has errors, hosts failed, there
is nothing of that name, the output cannot be written); 2 wrong usage; 3 a root that the package manager would refuse (lantern read);
4 the service does not answer or will not do it; 130 interrupted.

Settings come from flags, then the environment (LANTERN_SERVICE, LANTERN_TOKEN,
LANTERN_FORMAT, LANTERN_COLOUR), then a file: the one that --settings or
LANTERN_SETTINGS names, else .lantern.yaml in the current folder where it is your
own, else lantern/settings.yaml in $XDG_CONFIG_HOME or ~/.config.`

func (a *app) root() *cobra.Command {
	var tokenFile string
	root := &cobra.Command{
		Use:   "lantern",
		Short: "Package sources of a fleet: shared policy, careful changes, drift found",
		Long: "Patient Lantern keeps repository, signing-key and channel definitions for a fleet\nof hosts as shared policy, " +
			"carries changes to hosts, and finds those that have drifted.\n\n" +
			"Alone it says how the fleet stands, and what to do next.\n\n" + exitHelp,
		RunE:          func(cmd *cobra.Command, _ []string) error { return a.overview(cmd) },
		Example:       "  lantern\n  lantern hosts\n  lantern policy check ./policy\n  lantern drift",
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
	f.StringVar(&a.format, "format", "", "table or json, for some commands csv or sarif too (default table)")
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
	a.commands(root)
	guard(root)
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
		a.hosts(),
		a.host(),
		a.drift(),
		a.cohorts(),
		a.key(),
		a.repository(),
		a.whence(),
		a.waiver(),
		a.heal(),
		a.read(),
		a.survey(),
		a.explain(),
		a.learn(),
		a.adopt(),
		a.policy(),
		a.revisions(),
		a.preview(),
		a.rollout(),
		a.export(),
		a.freeze(),
		a.thaw(),
		a.channel(),
		a.contract(),
		a.seat(),
		a.account(),
		a.serve(),
		a.demo(),
		a.operator(),
		a.audit(),
		a.webhook(),
		a.secrets(),
		a.openapi(),
		a.schema(),
	)
}

// guard makes wrong arguments say what is wanted, and unknown subcommands an error.
func guard(c *cobra.Command) {
	args := c.Args
	c.Args = func(cmd *cobra.Command, given []string) error {
		switch {
		case cmd.HasSubCommands() && len(given) > 0:
			return wrong("%s has no command %q%s", cmd.CommandPath(), given[0], didYouMean(cmd, given[0]))
		case args == nil:
			return nil
		}
		if err := args(cmd, given); err != nil {
			return wrong("%s: %v; it is used as: %s", cmd.CommandPath(), err, cmd.UseLine())
		}
		return nil
	}
	if c.HasSubCommands() && c.RunE == nil {
		c.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	}
	for _, sub := range c.Commands() {
		guard(sub)
	}
}

func didYouMean(cmd *cobra.Command, given string) string {
	var all []string
	for _, c := range cmd.Commands() {
		all = append(all, c.Name())
	}
	if near := names.Nearest(given, all); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return fmt.Sprintf("; `%s --help` lists them", cmd.CommandPath())
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
	if more := cmd.Annotations[moreFormats]; a.format != "table" && a.format != "json" && (more == "" || a.format != more) {
		if more != "" {
			return wrong("--format is %q; it must be table, json or %s", a.format, more)
		}
		return wrong("--format is %q; it must be table or json", a.format)
	}
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

// json prints v as JSON and reports true when that is the format.
func (a *app) json(v any) (bool, error) {
	if a.format != "json" {
		return false, nil
	}
	enc := json.NewEncoder(a.out.JSON())
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return true, enc.Encode(v)
}

// completeHosts completes the names of hosts.
func (a *app) completeHosts(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 || a.settle(cmd, "") != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	page, err := a.client().Hosts(cmd.Context(), client.List{PerPage: 1000})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, h := range page.Hosts {
		short, _, _ := strings.Cut(h.Name, ".")
		out = append(out, short)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}
