package cli

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/wire"
)

func (a *app) waiver() *cobra.Command {
	cmd := &cobra.Command{
		Use: "waiver", Short: "Accept findings until a date, with a reason", GroupID: "fleet",
		Example: "  lantern waiver add gw-01 --class pin-changed --until 30d --because \"metrics trial\"\n  lantern waiver list",
	}
	lists(cmd, a.waiverList())
	cmd.AddCommand(a.waiverAdd(), a.waiverEnd())
	return cmd
}

func (a *app) waiverAdd() *cobra.Command {
	var classes []string
	var file, until, because string
	var everywhere bool
	var m meant
	cmd := &cobra.Command{
		Use: "add HOST... --class CLASS --until DATE --because WHY", Short: "Accept findings of hosts until a date",
		Long: "A waiver is about one finding as it stands: when the finding changes, or the date comes, it is a finding again.\n" +
			"It is kept with your name. --everywhere waives the same finding on every host that has it.",
		Example: "  lantern waiver add gw-01 --class pin-changed --until 30d --because \"metrics trial\"\n" +
			"  lantern waiver add gw-01 --class pin-changed --until 30d --because \"ticket 4711\" --everywhere",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			ends, err := dateOf(until, time.Now())
			switch {
			case until == "":
				return wrong("say until when with --until, as 2026-12-31 or 30d")
			case err != nil:
				return err
			case because == "":
				return wrong("say why with --because; it is kept beside your name")
			case len(classes) == 0:
				return wrong("say which findings with --class; `lantern drift HOST` lists them")
			}
			var made []api.Waiver
			var without []string
			err = m.each(cmd.Context(), a, args, func(h string) error {
				d, err := a.client().Host(cmd.Context(), h)
				if err != nil {
					return err
				}
				of := 0
				for _, f := range d.Drift {
					if !slices.Contains(classes, f.Class) || file != "" && f.File != file {
						continue
					}
					o := api.WaiverOrder{Host: d.Name, Finding: api.Difference(f.Finding), Because: because, Ends: ends}
					if everywhere {
						o.Host = ""
					}
					w, err := a.client().Waive(cmd.Context(), o)
					if err != nil {
						return err
					}
					of++
					made = append(made, w)
				}
				if of == 0 {
					without = append(without, d.Name)
				}
				return nil
			})
			switch {
			case len(made) == 0 && len(without) == 0:
				return err
			case len(made) == 0:
				return no("%s: no such finding there; `lantern drift` lists them", someNames(without, 6))
			case len(without) > 0 && !everywhere:
				a.errOut.Printf("Without such a finding: %s.", someNames(without, 6))
			}
			for i := range made {
				if a.format == "table" {
					a.showWaiver(&made[i])
				}
			}
			_, told := a.json(listed[api.Waiver]{made, len(made)})
			return cmp.Or(told, err)
		},
	}
	m.add(a, cmd)
	choose(cmd, &classes, "class", true, "only these classes, such as pin-changed", drift.Classes...)
	cmd.Flags().StringVar(&file, "file", "", "only findings in this file")
	cmd.Flags().StringVar(&until, "until", "", "last day, as 2026-12-31, or a number of days, as 30d; within a year")
	cmd.Flags().StringVar(&because, "because", "", "why it may stay")
	cmd.Flags().BoolVar(&everywhere, "everywhere", false, "on every host that has the same finding")
	return cmd
}

// dateOf is the end of a day that somebody named: a date, or a number of days.
func dateOf(text string, now time.Time) (time.Time, error) {
	if days, err := strconv.Atoi(strings.TrimSuffix(text, "d")); err == nil && strings.HasSuffix(text, "d") && days > 0 && days < 1000 {
		return now.AddDate(0, 0, days), nil
	}
	day, err := time.ParseInLocation(time.DateOnly, text, now.Location())
	if err != nil {
		return day, wrong("--until wants a day as 2026-12-31, or days as 30d, and not %q", text)
	}
	return day.AddDate(0, 0, 1).Add(-time.Second), nil
}

func (a *app) showWaiver(w *api.Waiver) {
	on := "every host"
	if w.Host != "" {
		on = w.Host
	}
	by := w.By
	if w.Gone {
		by += " (no operator any more)"
	}
	until := "until " + w.Ends.Local().Format(time.DateOnly)
	if w.Over {
		until = a.out.Paint(view.Yellow, "ended "+w.Ends.Local().Format(time.DateOnly))
	}
	a.out.Printf(
		"%s  %s on %s, %s, by %s: %s",
		a.out.Paint(view.Bold, "waiver "+strconv.FormatInt(w.ID, 10)),
		w.Finding.Class,
		on,
		until,
		by,
		w.Because,
	)
	a.out.Printf("%s", a.out.Wrap(3, w.Finding.File+": "+w.Finding.Message))
	if w.Hosts == 0 {
		a.out.Printf("%s", a.out.Paint(view.Dim, "   no host has the finding any more"))
	}
}

func (a *app) waiverList() *cobra.Command {
	var l listFlags
	var over bool
	cmd := &cobra.Command{
		Use: "list", Short: "List waivers, those that end soonest first", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "csv"},
		Example: "  lantern waiver list\n  lantern waiver list --over --format csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Waivers(cmd.Context(), over, client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for _, w := range page.Waivers {
				rows = append(rows, []string{strconv.FormatInt(w.ID, 10), w.Host, w.Finding.Class, w.Finding.File, w.By, w.Because,
					w.Made.UTC().Format(wire.Moment), w.Ends.UTC().Format(wire.Moment), strconv.Itoa(w.Hosts)})
			}
			if done, err := a.csv([]string{"id", "host", "class", "file", "by", "because", "made", "ends", "hosts"}, rows); done {
				return err
			}
			if page.Total == 0 {
				a.out.Printf("No waivers.")
			}
			for i := range page.Waivers {
				a.showWaiver(&page.Waivers[i])
			}
			l.more(a, len(page.Waivers), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().BoolVar(&over, "over", false, "those that have ended, too")
	return cmd
}

func (a *app) waiverEnd() *cobra.Command {
	return &cobra.Command{
		Use: "end NUMBER", Short: "Take a waiver away: what it was about is a finding again", Args: cobra.ExactArgs(1),
		Example: "  lantern waiver end 1\n  lantern waiver end 2 --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return wrong("%q is no number of a waiver; `lantern waiver list` shows them", args[0])
			}
			if err := a.client().EndWaiver(cmd.Context(), id); err != nil {
				return err
			}
			return a.did("ended", args[0], "Waiver %d is taken away.", id)
		},
	}
}

// waived shows the findings of a host that somebody accepts.
func (a *app) waived(list []api.WaivedFinding) {
	if len(list) == 0 {
		return
	}
	a.out.Printf("\n%s", a.out.Paint(view.Bold, "Waived"))
	for _, w := range list {
		a.out.Printf("~ %s  %s  %s", w.Severity, a.out.Paint(view.Cyan, w.File), a.out.Paint(view.Dim,
			"by "+w.By+" until "+w.Ends.Local().Format(time.DateOnly)+", waiver "+strconv.FormatInt(w.Waiver, 10)))
		a.out.Printf("%s", a.out.Wrap(3, w.Message+" ["+w.Class+"]: "+w.Because))
	}
}
