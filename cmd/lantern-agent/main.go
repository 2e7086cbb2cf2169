// Command lantern-agent is the host side of Patient Lantern.
package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/cli/read"
	"patientlantern.example/lantern/cli/view"
)

// Version is set when the binary is built.
var Version = "0.1.0"

// usage is an error of whoever typed the command.
type usage struct{ error }

func main() {
	// What it makes, and what programs make that it starts, is as others may read it: apt reads keys as a user of its own.
	syscall.Umask(0o022)
	err := command().Execute()
	var u usage
	var refused *read.Refused
	switch {
	case err == nil:
	case errors.As(err, &refused):
		os.Exit(3)
	case errors.As(err, &u):
		complain(err)
		os.Exit(2)
	default:
		complain(err)
		os.Exit(1)
	}
}

// complain prints an error in one line; what the service says in it steers no terminal.
func complain(err error) {
	view.NewOut(os.Stderr, "never").Printf("lantern-agent: %s", strings.Join(strings.Fields(err.Error()), " "))
}

func command() *cobra.Command {
	var root, logLevel string
	cmd := &cobra.Command{
		Use: "lantern-agent", Short: "The host side of Patient Lantern", Version: Version, SilenceUsage: true, SilenceErrors: true,
		Long: "The host side of Patient Lantern: surveys the host, carries signed deliveries out, and\ngoes on working when the " +
			"service is away.\n\nExit status: 0 done; 1 it could not be done; 2 wrong usage; 3 a root that the package\nmanager would refuse " +
			"(read).",
		Example: "  lantern-agent join --service https://lantern.brinewick.test --token plj_…\n  lantern-agent run",
	}
	cmd.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	cmd.PersistentFlags().StringVar(&root, "root", "/", "root folder of the host")

	var service, token string
	join := &cobra.Command{
		Use: "join", Short: "Take this host into a fleet", Args: cobra.NoArgs,
		Example: "  lantern-agent join --service https://lantern.brinewick.test --token plj_…\n  LANTERN_JOIN_TOKEN=plj_… lantern-agent " +
			"join --service https://lantern.brinewick.test",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if token == "" {
				token = os.Getenv("LANTERN_JOIN_TOKEN")
			}
			if service == "" || token == "" {
				return usage{errors.New("--service and --token are needed (the token may stand in LANTERN_JOIN_TOKEN)")}
			}
			h, err := agent.OpenHost(root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			name, err := h.Join(cmd.Context(), service, token)
			if err != nil {
				return err
			}
			view.NewOut(os.Stdout, "never").Printf("Joined as %s. Start the agent: lantern-agent run", name)
			return nil
		},
	}
	join.Flags().StringVar(&service, "service", "", "address of the service")
	join.Flags().StringVar(&token, "token", "", "one-time token of the invitation")

	run := &cobra.Command{
		Use: "run", Short: "Watch, check in and carry deliveries out", Args: cobra.NoArgs,
		Example: "  lantern-agent run\n  lantern-agent run --root demo-hosts/gw-01 --log debug",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var level slog.Level
			if err := level.UnmarshalText([]byte(logLevel)); err != nil {
				return usage{fmt.Errorf("--log is %q; it must be debug, info, warn or error", logLevel)}
			}
			h, err := agent.OpenHost(root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			a, err := agent.New(
				agent.Options{Host: h, Log: slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level})), Version: Version},
			)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return a.Run(ctx)
		},
	}
	run.Flags().StringVar(&logLevel, "log", "info", "debug, info, warn or error")

	forget := &cobra.Command{
		Use: "forget", Short: "Let this host begin anew: forget the service and what it carried out", Args: cobra.NoArgs,
		Long: "Forget the service that this host has joined, the agent's own key, and which revision was carried out\nlast. For a host " +
			"that goes to another service, one whose service was set up anew, one whose clock was\nwrong, and an image that hosts are made " +
			"from. No file of the host but the agent's own is changed.",
		Example: "  lantern-agent forget && lantern-agent join --service https://lantern.brinewick.test --token plj_…",
		RunE: func(*cobra.Command, []string) error {
			h, err := agent.OpenHost(root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			if err := h.Forget(); err != nil {
				return err
			}
			fmt.Println("Forgotten. This host can join again: lantern-agent join --service URL --token TOKEN")
			return nil
		},
	}

	var format string
	var texts bool
	readCmd := &cobra.Command{
		Use: "read", Short: "Show what is configured on this host", Args: cobra.NoArgs,
		Example: "  lantern-agent read\n  lantern-agent read --root /mnt/image --format json",
		RunE: func(*cobra.Command, []string) error {
			if format != "table" && format != "json" {
				return usage{fmt.Errorf("--format is %q; it must be table or json", format)}
			}
			err := read.Root(root, format, texts, view.NewOut(os.Stdout, "auto"))
			var missing *read.Missing
			if errors.As(err, &missing) {
				return usage{err}
			}
			return err
		},
	}
	readCmd.Flags().BoolVar(&texts, "texts", false, "print JSON with the source files in it, passwords masked: a saved survey")
	readCmd.Flags().StringVar(&format, "format", "table", "table or json")
	cmd.AddCommand(carryCommand(&root), statusCommand(&root), moveCommand(&root), join, run, forget, readCmd)
	cmd.SetContext(context.Background())
	return cmd
}
