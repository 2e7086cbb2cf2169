package main

import (
	"errors"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/agent"
	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

// carryCommand carries an export out on a host that no service looks after.
func carryCommand(root *string) *cobra.Command {
	var export string
	var dry, undo bool
	cmd := &cobra.Command{
		Use: "carry", Short: "Carry an export out on a host that no service looks after", Args: cobra.NoArgs,
		Long: "Carry out what lantern host export wrote: by the same steps as a rollout, with the package manager's own refresh as\n" +
			"the proof, and " +
			"put back where that fails. --undo takes the newest change back, to the byte. Licensed sources need the service.",
		Example: "  lantern-agent carry --export buoy-7.tar --dry-run\n  lantern-agent carry --export buoy-7.tar\n  lantern-agent carry --undo",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (export == "") == !undo {
				return usage{errors.New("give --export FILE, or --undo")}
			}
			h, err := agent.OpenHost(*root)
			if err != nil {
				return usage{err}
			}
			defer h.Close()
			out := view.NewOut(os.Stdout, "auto")
			log := slog.New(slog.DiscardHandler)
			if undo {
				rep, err := h.UndoExport(cmd.Context(), log)
				return carried(out, rep, err)
			}
			f, err := os.Open(export)
			if err != nil {
				return usage{err}
			}
			defer f.Close()
			text, err := agent.ReadExport(f)
			if err != nil {
				return usage{errors.New(export + ": " + err.Error())}
			}
			if dry {
				diff, err := h.TryExport(text)
				if err != nil {
					return err
				}
				if diff == "" {
					out.Printf("Nothing would change.")
				}
				out.Diff(0, view.FoldKeys(diff))
				return nil
			}
			rep, err := h.CarryExport(cmd.Context(), text, log)
			return carried(out, rep, err)
		},
	}
	cmd.Flags().StringVar(&export, "export", "", "file that lantern host export wrote")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "show what would change, keys folded, and change nothing")
	cmd.Flags().BoolVar(&undo, "undo", false, "take the newest change back")
	return cmd
}

// carried tells how carrying went.
func carried(out *view.Out, rep *api.Report, err error) error {
	if rep != nil {
		for _, e := range rep.Edits {
			out.Printf("%-8s %s  %s", e.Action, e.Path, strings.Join(e.Why, "; "))
		}
	}
	if err != nil {
		return err
	}
	if rep.Message != "" {
		out.Printf("%s", rep.Message)
	}
	switch rep.State {
	case "unchanged":
		out.Printf("Nothing had to be changed.")
	default:
		out.Printf("%s changed.", view.Count(len(rep.Edits), "file", "files"))
	}
	return nil
}
