package cli

import (
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
)

func (a *app) freeze() *cobra.Command {
	cmd := &cobra.Command{
		Use: "freeze", Short: "Let nothing move in the fleet, or in a group, until a time", GroupID: "policy",
		Long: "While a freeze holds, no host of it begins with a rollout, a healing or a back-out; what is at work ends.",
		Example: "  lantern freeze add gateways --until 4h --because \"a release\"\n" +
			"  lantern freeze list\n  lantern freeze end 1",
	}
	lists(cmd, a.freezeList())
	a.freezeAsBefore(cmd)
	cmd.AddCommand(a.freezeAdd(), a.freezeEnd())
	return cmd
}

// freezeAsBefore lets lantern freeze [GROUP] --until go on for one release.
func (a *app) freezeAsBefore(cmd *cobra.Command) {
	before := a.freezeAdd()
	before.Flags().VisitAll(func(f *pflag.Flag) {
		f.Hidden = true
		cmd.Flags().AddFlag(f)
	})
	list := cmd.RunE
	cmd.Annotations = mark(cmd.Annotations, "words", "group")
	cmd.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case c.Flags().Changed("until"):
			a.renamed("lantern freeze", "lantern freeze add")
			return before.RunE(c, args)
		case len(args) > 0:
			return wrong("%s has no command %q%s", c.CommandPath(), args[0], didYouMean(c, args[0]))
		}
		return list(c, args)
	}
}

func (a *app) freezeAdd() *cobra.Command {
	var o api.FreezeOrder
	var until string
	cmd := &cobra.Command{
		Use: "add [GROUP]", Short: "Let nothing begin in the fleet, or in a group, until a time", Args: cobra.MaximumNArgs(1),
		Example: "  lantern freeze add --until 14d --because \"year's end\"\n" +
			"  lantern freeze add gateways --until 4h --because \"a release\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if until == "" {
				return wrong("say until when with --until, as 2026-12-27, 2026-12-27T06:00 or 4h")
			}
			if o.Because == "" {
				return wrong("say why with --because; it is kept beside your name")
			}
			var err error
			if o.Until, err = timeOf(until, time.Now()); err != nil {
				return err
			}
			if len(args) > 0 {
				o.Group = args[0]
			}
			f, err := a.client().Freeze(cmd.Context(), o)
			if err != nil {
				return err
			}
			if done, err := a.json(f); done {
				return err
			}
			a.out.Printf(
				"Freeze %d: nothing begins %s until %s. End it with: lantern freeze end %d",
				f.ID,
				where(f.Group),
				local(f.Until),
				f.ID,
			)
			return nil
		},
	}
	cmd.Flags().StringVar(&until, "until", "", "a day (to its end), a time, or how long, as 4h")
	cmd.Flags().StringVar(&o.Because, "because", "", "why")
	return cmd
}

func where(group string) string {
	if group == "" {
		return "in the fleet"
	}
	return "in " + group
}

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04 MST") }

// timeOf is a time that somebody named: a day, of which the end is meant, a time, or how long.
func timeOf(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	if t, ok := namedTime(text); ok {
		return t, nil
	}
	return dateOf(text, now)
}

// namedTime is a time that is written out.
func namedTime(text string) (time.Time, bool) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04"} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

func (a *app) freezeList() *cobra.Command {
	cmd := &cobra.Command{
		Use: "list", Short: "List freezes: where, until when, and why", Args: cobra.NoArgs,
		Example: "  lantern freeze list\n  lantern freeze list --format json",
		RunE:    func(cmd *cobra.Command, _ []string) error { return a.listFreezes(cmd) },
	}
	listing(cmd)
	return cmd
}

func (a *app) listFreezes(cmd *cobra.Command) error {
	list, err := a.client().Freezes(cmd.Context())
	if err != nil {
		return err
	}
	if done, err := a.json(list); done {
		return err
	}
	if len(list.Freezes) == 0 {
		a.out.Printf("No freeze: the fleet can move.")
		return nil
	}
	var rows [][]view.Cell
	for _, f := range list.Freezes {
		state := view.Cell{Text: "over", Style: view.Dim}
		switch {
		case f.Stands:
			state = view.Cell{Text: "holds", Style: view.Blue}
		case f.Ended != nil:
			state.Text = "ended " + local(*f.Ended)
		}
		rows = append(rows, []view.Cell{
			view.T(fmt.Sprint(f.ID)), view.T(where(f.Group)), state, view.T(local(f.Until)), view.T(f.Author), view.T(f.Because),
		})
	}
	a.out.Table([]view.Column{
		{Name: "FREEZE", Right: true}, {Name: "WHERE"}, {Name: "IS"}, {Name: "UNTIL"}, {Name: "BY"}, {Name: "BECAUSE"},
	}, rows)
	return nil
}

func (a *app) freezeEnd() *cobra.Command {
	return &cobra.Command{
		Use: "end NUMBER", Short: "End a freeze before its time", Args: cobra.ExactArgs(1),
		Example: "  lantern freeze end 1\n  lantern freeze end 2 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return wrong("%q is not the number of a freeze; `lantern freeze list` lists them", args[0])
			}
			f, err := a.client().Thaw(cmd.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.json(f); done {
				return err
			}
			a.out.Printf("Freeze %d is over: %s the hosts can move.", f.ID, where(f.Group))
			return nil
		},
	}
}
