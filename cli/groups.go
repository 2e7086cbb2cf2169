package cli

import (
	"context"
	"fmt"
	"maps"
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

// failOn is the error of a finding that is as bad as somebody asked for, on a host or on
// any; nil where none is.
func (a *app) failOn(ctx context.Context, severity string, of client.List) error {
	if severity == "" {
		return nil
	}
	filter := maps.Clone(of.Filter)
	filter["severity"] = []string{drift.Danger, drift.Fault, drift.Note}[:drift.Rank(severity)+1]
	of.Filter, of.Sort, of.Page, of.PerPage = filter, "", 1, 1
	page, err := a.client().Drift(ctx, of)
	switch {
	case err != nil:
		return err
	case page.Total > 0:
		return no("%s on %s", view.Count(page.Total, "finding", "findings"), view.Count(page.Hosts, "host", "hosts"))
	case !page.Standing.Known() || page.Unknown > 0:
		return no("there is no such finding, and it is not known of every host how it stands")
	}
	return nil
}

// findingRows are findings as a table.
func findingRows(list []api.Finding) (head []string, rows [][]string) {
	for _, f := range list {
		rows = append(rows, []string{f.Host, f.Severity, f.Class, f.Repository, f.Field, f.File, strconv.Itoa(f.Line), f.Want, f.Have,
			f.Since.UTC().Format(wire.Moment), f.Message})
	}
	return []string{"host", "severity", "class", "repository", "field", "file", "line", "want", "have", "since", "message"}, rows
}

// groups shows each finding once.
func (a *app) groups(ctx context.Context, l *driftFlags, list client.List) error {
	page, err := a.client().GroupedDrift(ctx, list)
	if err != nil {
		return err
	}
	if done, err := a.json(page); done {
		return err
	}
	var rows [][]string
	for _, g := range page.Groups {
		rows = append(rows, []string{g.Severity, g.Class, g.Repository, g.Field, g.File, g.Want, g.Have, strconv.Itoa(g.Hosts), g.First,
			g.Since.UTC().Format(wire.Moment), g.Message})
	}
	head := []string{"severity", "class", "repository", "field", "file", "want", "have", "hosts", "first", "since", "message"}
	if done, err := a.csv(head, rows); done {
		return err
	}
	if page.Total == 0 {
		a.out.Printf("No findings%s.", map[bool]string{true: " of that kind"}[l.picky()])
	} else {
		a.out.Printf("%s, %s on %s\n", view.Count(page.Total, "different finding", "different findings"),
			view.Count(page.Findings, "in all", "in all"), view.Count(page.Hosts, "host", "hosts"))
	}
	for _, g := range page.Groups {
		a.findingGroup(g)
	}
	a.notKnownWhether(page.Unknown)
	l.more(a, len(page.Groups), page.Total)
	if page.Total > 0 {
		a.out.Printf("")
	}
	a.standing(page.Standing)
	return nil
}

func (a *app) findingGroup(g api.FindingGroup) {
	look := severityLook[g.Severity]
	where := g.File
	if where == "" {
		where = "several files"
	}
	names := strings.Join(g.Names, ", ")
	if more := g.Hosts - len(g.Names); more > 0 {
		names += fmt.Sprintf(" and %d more", more)
	}
	first, on := "", ""
	if g.Hosts > 1 {
		first, on = ", first on "+g.First, "on "+g.First+": "
	}
	a.out.Printf("%s  %s  %s  %s", a.out.Paint(look.style, fmt.Sprintf("%s %-6s", look.sign, g.Severity)),
		a.out.Paint(view.Bold, view.Count(g.Hosts, "host", "hosts")), a.out.Paint(view.Cyan, where),
		a.out.Paint(view.Dim, "for "+view.Span(max(0, time.Since(g.Since)))+first))
	a.out.Printf("%s", a.out.Wrap(3, g.Message+" ["+g.Class+"]"))
	a.closes(g.Closes)
	if g.Trace != "" {
		a.out.Printf("%s", a.out.Paint(view.Dim, a.out.Wrap(3, on+g.Trace)))
	}
	a.out.Printf("%s", a.out.Paint(view.Dim, a.out.Wrap(3, names)))
}

func (a *app) cohort() *cobra.Command {
	cmd := &cobra.Command{
		Use: "cohort", Short: "Hosts that are configured alike: how many kinds there are, and who stands outside", GroupID: "fleet",
		Example: "  lantern cohort list\n  lantern cohort list --system \"skerry 12\" --diff",
	}
	lists(cmd, a.cohortList())
	return cmd
}

func (a *app) cohortList() *cobra.Command {
	var l listFlags
	var diff bool
	var q string
	cmd := &cobra.Command{
		Use: "list", Short: "Show how many different configurations there are, and who stands outside", Args: cobra.NoArgs,
		Long: "Hosts are alike when their surveys are equal: sources, keys, settings, pins, holds and the texts of their files. The\n" +
			"commonest of a system comes first; --diff says by which lines the others differ from it.",
		Example: "  lantern cohort list\n  lantern cohort list --system \"skerry 12\" --diff\n" +
			"  lantern cohort list --format json | jq '.items[].names'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Cohorts(cmd.Context(), q, diff, client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			a.out.Printf("%s on %s\n", view.Count(page.Total, "configuration", "different configurations"), view.Count(page.Hosts, "host", "hosts"))
			for _, c := range page.Cohorts {
				a.showCohort(c)
			}
			l.more(a, len(page.Cohorts), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "system", "", "only hosts of this system, such as skerry")
	cmd.Flags().BoolVar(&diff, "diff", false, "show by which lines each differs from the commonest of its system")
	return cmd
}

func (a *app) showCohort(c api.Cohort) {
	names := strings.Join(c.Names, ", ")
	if more := c.Hosts - len(c.Names); more > 0 {
		names += fmt.Sprintf(" and %d more", more)
	}
	kind := "the commonest of " + c.OS
	if c.Hosts == 1 {
		kind = c.OS + ", with which the others are compared"
	}
	switch {
	case c.Survey == "":
		kind = "no survey yet"
	case c.Like != "":
		kind = "another " + c.OS
	}
	if c.Drifted {
		kind += a.out.Paint(view.Yellow, ", drifted")
	}
	if c.Silent > 0 {
		kind += a.out.Paint(view.Yellow, fmt.Sprintf(", %d of them silent", c.Silent))
	}
	a.out.Printf("%s  %s", a.out.Paint(view.Bold, fmt.Sprintf("%5d", c.Hosts)), kind)
	a.out.Printf("%s", a.out.Paint(view.Dim, a.out.Wrap(7, names)))
	if c.Diff != "" {
		some, more := firstLines(c.Diff, mostDiff)
		a.out.Diff(7, some)
		if more > 0 {
			left := fmt.Sprintf("       … %s; --format json has all", view.Count(more, "more line", "more lines"))
			a.out.Printf("%s", a.out.Paint(view.Dim, left))
		}
	}
	for _, m := range c.More {
		a.out.Printf("%s", a.out.Wrap(7, m))
	}
}

// mostDiff is how many lines of a difference are shown of each cohort.
const mostDiff = 24

// firstLines cuts a text after so many lines, and says how many are left.
func firstLines(text string, most int) (string, int) {
	all := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	if len(all) <= most {
		return text, 0
	}
	return strings.Join(all[:most], ""), len(all) - most
}
