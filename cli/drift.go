package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
)

func (a *app) finding(f api.Finding, host bool) {
	look := severityLook[f.Severity]
	where := f.File
	if f.Line > 0 {
		where += fmt.Sprintf(":%d", f.Line)
	}
	if where == "" {
		where = "several files"
	}
	head := a.out.Paint(look.style, fmt.Sprintf("%s %-6s", look.sign, f.Severity))
	if host {
		head += "  " + a.out.Paint(view.Bold, f.Host)
	}
	a.out.Printf(
		"%s  %s  %s",
		head,
		a.out.Paint(view.Cyan, where),
		a.out.Paint(view.Dim, fmt.Sprintf("since %s, %s", f.Since.Local().Format("15:04:05"), view.Ago(time.Since(f.Since)))),
	)
	a.out.Printf("%s", a.out.Wrap(3, f.Message+" ["+f.Class+"]"))
	a.closes(f.Closes)
	if f.Trace != "" {
		a.out.Printf("%s", a.out.Paint(view.Dim, a.out.Wrap(3, f.Trace)))
	}
}

// closes says how a finding is closed that healing does not close.
func (a *app) closes(how string) {
	if how != "" {
		a.out.Printf("%s", a.out.Wrap(3, "to close it: "+how))
	}
}

// driftFlags say which findings are wanted, and how.
type driftFlags struct {
	listFlags
	severities, classes, fails []string
	repositories               []string
	part                       string
	meant                      meant
	diff, each                 bool
}

// picky reports whether findings of some kinds only are wanted.
func (fl *driftFlags) picky() bool {
	return len(fl.severities)+len(fl.classes)+len(fl.repositories) > 0 || fl.part != ""
}

func (a *app) drift() *cobra.Command {
	var fl driftFlags
	cmd := &cobra.Command{
		Use:               "drift [HOST...]",
		Annotations:       map[string]string{moreFormats: "csv"},
		Short:             "Show what differs from the policy: host, file and line, since when",
		GroupID:           "fleet",
		ValidArgsFunction: a.completeEveryHost,
		Long: "Show every finding, the worst first: once, with the hosts that have it, or with --each or a HOST one by one.\n\n" +
			"  !! danger  packages could come from somebody who should not supply them\n" +
			"  !  fault   the host does not get what it should, or gets what it should not\n  -  note    worth knowing",
		Example: "  lantern drift\n  lantern drift gw-03 --diff\n  lantern drift --group gateways --severity danger --format json\n" +
			"  lantern drift --fail-on danger   # for monitoring: 1 where one is found, or it is not known of every host",
		RunE: func(cmd *cobra.Command, args []string) error {
			args = apart(args)
			show := a.findingList
			if len(args) != 1 && !fl.each && !fl.diff && fl.sort() != "host" {
				show = a.groups
			}
			list := client.List{
				Query:   fl.part,
				Filter:  map[string][]string{"severity": fl.severities, "class": fl.classes, "repository": fl.repositories},
				Sort:    fl.sort(),
				Page:    fl.page,
				PerPage: fl.perPage,
			}
			fl.meant.into(&list, args)
			if len(args) == 1 && !strings.ContainsAny(args[0], "{}") && !fl.meant.some() {
				list.To, list.Filter["host"] = nil, args
			}
			if err := show(cmd.Context(), &fl, list); err != nil {
				return err
			}
			return a.failOn(cmd.Context(), one(fl.fails), list)
		},
	}
	fl.add(cmd, "severity", "since", "-since", "host", "hosts")
	a.watching(cmd)
	cmd.Flags().BoolVar(&fl.each, "each", false, "one by one, host by host")
	worst := []string{drift.Danger, drift.Fault, drift.Note}
	choose(cmd, &fl.fails, "fail-on", false, "exit with 1 where a finding is as bad as this, or it is not known of every host", worst...)
	choose(cmd, &fl.severities, "severity", true, "only these: danger, fault, note", worst...)
	choose(cmd, &fl.classes, "class", true, "only these classes, such as unlisted-source", drift.Classes...)
	cmd.Flags().StringSliceVar(&fl.repositories, "repository", nil, "only findings about these repositories of the policy")
	cmd.Flags().StringVar(&fl.part, "match", "", "part of the message, of the file or of the repository's name")
	fl.meant.add(a, cmd)
	cmd.Flags().BoolVar(&fl.diff, "diff", false, "show what healing would change")
	return cmd
}

// findingList shows findings one by one.
func (a *app) findingList(ctx context.Context, fl *driftFlags, list client.List) error {
	page, err := a.client().Drift(ctx, list)
	if err != nil {
		return err
	}
	if done, err := a.json(page); done {
		return err
	}
	if done, err := a.csv(findingRows(page.Findings)); done {
		return err
	}
	switch {
	case page.Total > 0:
		a.out.Printf("%s on %s\n", view.Count(page.Total, "finding", "findings"), view.Count(page.Hosts, "host", "hosts"))
	case fl.picky():
		a.out.Printf("No findings of that kind.")
	default:
		a.out.Printf("No findings.")
	}
	for i, f := range page.Findings {
		a.finding(f, true)
		last := i+1 == len(page.Findings) || page.Findings[i+1].Host != f.Host
		if fl.diff && last {
			d, err := a.client().Host(ctx, f.Host)
			if err != nil {
				return err
			}
			a.out.Diff(3, d.Diff)
		}
	}
	a.notKnownWhether(page.Unknown)
	fl.more(a, len(page.Findings), page.Total)
	if page.Total > 0 {
		a.out.Printf("")
	}
	a.standing(page.Standing)
	return nil
}

// standing says of how many hosts it is known how they stand, and of how many not.
func (a *app) standing(s api.Standing) {
	steady := fmt.Sprintf("%d of %s as the policy says", s.Steady, view.Count(s.Hosts, "host", "hosts"))
	if s.Known() && s.Drifted == 0 {
		steady = a.out.Paint(view.Green, steady)
	}
	line := steady
	if s.Drifted > 0 {
		line += ", " + a.out.Paint(view.Yellow, fmt.Sprintf("%d drifted", s.Drifted))
	}
	a.out.Printf("%s.", line)
	var not []string
	for _, x := range []struct {
		n    int
		what string
	}{
		{s.Failed, "failed, or whose agent cannot work"},
		{s.Silent, "silent"},
		{s.Changing, "being changed"},
		{s.NoSurvey, "without a survey yet"},
		{s.NoRevision, "to which no revision was carried"},
		{s.Invited, "invited and not joined"},
	} {
		if x.n > 0 {
			not = append(not, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	if len(not) > 0 {
		a.out.Printf("%s %s.", a.out.Paint(view.Yellow, "? Not known of:"), strings.Join(not, ", "))
	}
	var of []string
	for _, x := range []struct {
		n    int
		what string
	}{
		{s.Unfetched, "with sources that could not be refreshed"},
		{s.Older, "on an older revision"},
		{s.Unread, "on which something could not be read"},
		{s.Waived, "with findings that somebody waived"},
	} {
		if x.n > 0 {
			of = append(of, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	if len(of) > 0 {
		a.out.Printf("%s %s.", a.out.Paint(view.Yellow, "? Of the hosts:"), strings.Join(of, ", "))
	}
}
