package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
)

// momentOf is a moment that somebody named: a time, a day, of which the end is meant, or how
// long ago.
func momentOf(flag, text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	if t, ok := namedTime(text); ok {
		return t, nil
	}
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return t.AddDate(0, 0, 1).Add(-time.Second), nil
	}
	return time.Time{}, wrong("--%s is %q; write it as 2026-11-24, 2026-11-24T06:00 or 3h", flag, text)
}

// hostPast shows what a host had at a moment.
func (a *app) hostPast(ctx context.Context, name, at string) error {
	now := time.Now()
	moment, err := momentOf("at", at, now)
	if err != nil {
		return err
	}
	p, err := a.client().Past(ctx, name, moment)
	if err != nil {
		return err
	}
	if done, err := a.json(p); done {
		return err
	}
	until := "and is so still"
	if p.Until != nil {
		until = "until " + local(*p.Until)
	}
	a.out.Printf("%s as it was on %s: so since %s, %s", a.out.Paint(view.Bold, p.Host), local(p.At), local(p.Since), until)
	if p.Revision > 0 {
		a.out.Printf("%s revision %d", a.out.Paint(view.Dim, "state "), p.Revision)
	}
	if len(p.Drift) > 0 {
		a.out.Printf("\n%s", a.out.Paint(view.Bold, "Findings, as they are judged today"))
		for _, f := range p.Drift {
			a.finding(f, false)
		}
	}
	if p.Survey != nil {
		a.out.Printf("")
		a.out.Configured(p.Survey, p.At)
	}
	return nil
}

func (a *app) hostCompare() *cobra.Command {
	var l listFlags
	var from, to string
	var m meant
	cmd := &cobra.Command{
		Use: "compare HOST...", Short: "Show what of hosts is another than it was at an earlier moment",
		Long: "Show what came, what went and which fields changed between two moments: sources, keys, settings, pins, holds, services,\n" +
			"facts and files, whether the policy speaks of them or not. Moments are days, of which the end is meant, times, or how long ago.",
		Example: "  lantern host compare gw-05 --from 2026-11-24\n  lantern host compare gw-05 --from 2026-11-24 --format json\n" +
			"  lantern host compare gw-01 --from 48h --to 3h",
		ValidArgsFunction: a.completeEveryHost,
		RunE: func(cmd *cobra.Command, args []string) error {
			if from == "" {
				return wrong("say since when: --from 2026-11-24, --from 3h")
			}
			now := time.Now()
			earlier, err := momentOf("from", from, now)
			if err != nil {
				return err
			}
			var later time.Time
			if to != "" {
				if later, err = momentOf("to", to, now); err != nil {
					return err
				}
			}
			return every(cmd.Context(), a, &m, args, func(h string) (api.BetweenPage, error) {
				return a.client().Between(cmd.Context(), h, earlier, later, client.List{Page: l.page, PerPage: l.perPage})
			}, func(p *api.BetweenPage) {
				a.between(p)
				l.more(a, len(p.Items), p.Total)
			})
		},
	}
	l.add(cmd)
	m.add(a, cmd)
	cmd.Flags().StringVar(&from, "from", "", "the earlier moment: 2026-11-24, 2026-11-24T06:00 or 3h")
	cmd.Flags().StringVar(&to, "to", "", "the later moment; now, where it is left out")
	return cmd
}

// between shows what differs on a host between two moments.
func (a *app) between(p *api.BetweenPage) {
	a.out.Printf("%s from %s (revision %d, so since %s) to %s (revision %d, so since %s)", a.out.Paint(view.Bold, p.Host),
		local(p.From), p.FromRevision, local(p.FromSince), local(p.To), p.ToRevision, local(p.ToSince))
	if p.Total == 0 {
		a.out.Printf("Nothing is another that its surveys tell.")
		return
	}
	for _, d := range p.Items {
		where := d.Kind + " " + d.Name
		if d.File != "" && d.File != d.Name {
			where += "  " + a.out.Paint(view.Dim, d.File)
		}
		a.out.Printf("%s", where)
		if d.Field != "" {
			a.out.Printf("  %s", d.Field)
		}
		if d.Was != "" {
			a.out.Printf("  %s", a.out.Paint(view.Red, "- "+d.Was))
		}
		if d.Is != "" {
			a.out.Printf("  %s", a.out.Paint(view.Green, "+ "+d.Is))
		}
	}
}
