package main

import (
	"errors"
	"os"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/cli/view"
)

func statusCommand(root *string) *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show how the agent of this host stands, and whether its service answers", Args: cobra.NoArgs,
		Long: "Show which service this host has joined and whether it answers, what was carried out last, and whether an agent is\n" +
			"at work. Where something is wrong the exit status is 1.",
		Example: "  lantern-agent status",
		RunE: func(cmd *cobra.Command, _ []string) error {
			h, err := agent.OpenHost(*root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			s, err := h.Status(cmd.Context())
			if err != nil {
				return err
			}
			return told(view.NewOut(os.Stdout, "auto"), &s)
		},
	}
}

// told prints how an agent stands. It is an error where that is not well.
func told(out *view.Out, s *agent.Status) error {
	wrong := 0
	say := func(what string, well bool, said string) {
		style := view.Plain
		if !well {
			wrong++
			style, said = view.Red, "! "+said
		}
		out.Printf("%-9s %s", what, out.Paint(style, said))
	}
	say("host", true, s.Host)
	switch {
	case s.Answer != nil:
		say("service", false, s.Service+": "+s.Answer.Error())
	case s.Waits:
		say("service", true, s.Service+" answers, and something waits to be carried out")
	default:
		say("service", true, s.Service+" answers; nothing waits")
	}
	if s.Works {
		say("agent", true, "at work, process "+s.Process)
	} else {
		say("agent", false, "not at work: lantern-agent run")
	}
	if s.Revision == 0 {
		say("revision", true, "none was carried out yet")
	} else {
		out.Printf("%-9s %d, given %s", "revision", s.Revision, s.Given.Local().Format("2006-01-02 15:04"))
	}
	if s.Open {
		say("change", s.Works, "one is under way, or was interrupted: it is put back when the agent starts")
	}
	if wrong > 0 {
		return errors.New("this host is not looked after")
	}
	return nil
}

func moveCommand(root *string) *cobra.Command {
	var service string
	cmd := &cobra.Command{
		Use: "move", Short: "Go on with the same service at another address", Args: cobra.NoArgs,
		Long: "Go on with the service that this host has joined, at another address: the host keeps its name and its keys, and what\n" +
			"was carried out. The agent is ended before, and started again afterwards.",
		Example: "  lantern-agent move --service https://lantern-2.brinewick.test",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if service == "" {
				return usage{errors.New("--service is needed: the new address")}
			}
			h, err := agent.OpenHost(*root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			name, err := h.Move(cmd.Context(), service)
			if err != nil {
				return err
			}
			view.NewOut(os.Stdout, "never").Printf("%s goes on with %s. Start the agent: lantern-agent run", name, service)
			return nil
		},
	}
	cmd.Flags().StringVar(&service, "service", "", "the new address of the service")
	return cmd
}
