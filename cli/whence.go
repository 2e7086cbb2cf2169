package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/choice"
)

func (a *app) whence() *cobra.Command {
	var l listFlags
	var m meant
	var hosts []string
	cmd := &cobra.Command{
		Use: "whence PACKAGE", Short: "Show where hosts would get a package from, and in which version", GroupID: "fleet",
		Args:        cobra.ExactArgs(1),
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "Show what the sources of hosts offer under the name of a package, which of it each package manager would take\n" +
			"and why (pins, priorities, order, excludes, holds), and what is installed. Hosts for which the answer is the\n" +
			"same are one row. It rests on what the service saw upstream last; sources that it could not read are named.",
		Example: "  lantern whence tide-model\n  lantern whence saltmarsh-server --group gateways\n" +
			"  lantern whence saltmarsh-server --host gw-{01..04} --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			stop := a.waiting("looking the package up")
			list := client.List{Page: l.page, PerPage: l.perPage}
			m.into(&list, hosts)
			w, err := a.client().Whence(cmd.Context(), args[0], list)
			stop()
			if err != nil {
				return err
			}
			if done, err := a.json(w); done {
				return err
			}
			if done, err := a.whenceCSV(&w); done {
				return err
			}
			a.whenceText(&w)
			l.more(a, len(w.Rows), w.Total)
			return nil
		},
	}
	l.add(cmd)
	m.add(a, cmd)
	cmd.Flags().Var(namesFlag{&hosts}, "host", "only these hosts or ranges of hosts")
	must(cmd.RegisterFlagCompletionFunc("host", a.completeEveryHost))
	return cmd
}

func (a *app) whenceCSV(w *api.Whence) (bool, error) {
	var rows [][]string
	for _, r := range w.Rows {
		version, from := "", ""
		if r.Taken != nil {
			version, from = r.Taken.Version, strings.TrimSpace(r.Taken.From+" "+r.Taken.Suite)
		}
		rows = append(rows, []string{
			w.Package, r.Family, strconv.Itoa(r.Hosts), strings.Join(r.Names, " "), r.Installed, strconv.FormatBool(r.Asked), version, from,
			strconv.FormatBool(r.Stays), r.Why, strconv.Itoa(len(r.Unread)),
		})
	}
	return a.csv([]string{
		"package", "family", "hosts", "first_hosts", "installed", "installed_known", "taken", "from", "stays", "why", "sources_not_known",
	}, rows)
}

func (a *app) whenceText(w *api.Whence) {
	a.out.Printf("%s on %s", a.out.Paint(view.Bold, w.Package), view.Count(w.Hosts, "host", "hosts"))
	for i := range w.Rows {
		r := &w.Rows[i]
		if len(r.Offers) == 0 && r.Installed == "" && len(r.Unread) == 0 { // they are counted below
			continue
		}
		a.out.Printf("")
		a.whenceRow(r)
	}
	a.out.Printf("")
	if w.Nowhere > 0 {
		a.out.Printf("On %s no source that is known offers it.", view.Count(w.Nowhere, "host", "hosts"))
	}
	if w.Unsure > 0 {
		a.out.Printf("%s with sources of which it is not known what they offer: the answer for them may be another.",
			a.out.Paint(view.Yellow, "? "+view.Count(w.Unsure, "host", "hosts")))
	}
	a.silent(a.out, w.Silent)
	if w.Unknown > 0 {
		a.out.Printf("%s sent no survey yet, so nothing is known of them.", a.unsure(w.Unknown))
	}
}

func (a *app) whenceRow(r *api.WhenceRow) {
	names := strings.Join(r.Names, ", ")
	if n := r.Hosts - len(r.Names); n > 0 {
		names += fmt.Sprintf(" and %d more", n)
	}
	a.out.Printf("%s (%s, %s)", a.out.Wrap(2, names), r.Family, strings.Join(r.OS, ", "))
	has := "not installed"
	switch {
	case !r.Asked:
		has = a.out.Paint(view.Yellow, "? whether it is installed is being asked; look again in a minute")
	case r.Installed != "":
		has = "installed: " + r.Installed
	}
	a.out.Printf("  %s", has)
	verdict := ""
	switch {
	case r.Taken != nil && r.Stays:
		verdict = "stays as it is"
	case r.Taken != nil && r.Installed != "":
		verdict = a.out.Paint(view.Cyan, "would become "+build(r.Taken))
	case r.Taken != nil:
		verdict = a.out.Paint(view.Cyan, "would be "+build(r.Taken))
	case r.Installed != "" && (len(r.Offers) > 0 || len(r.Unread) == 0):
		verdict = a.out.Paint(view.Yellow, "stays as it is")
	case len(r.Unread) > 0:
		verdict = a.out.Paint(view.Yellow, "? not known")
	default:
		verdict = a.out.Paint(view.Yellow, "would not be found")
	}
	a.out.Printf("%s", a.out.Wrap(2, verdict+": "+r.Why))
	a.offersTable(r)
	for _, u := range r.Unread {
		a.out.Printf("%s", a.out.Wrap(2, a.out.Paint(view.Yellow, "?")+" "+u))
	}
}

// build is a version for an architecture, from a source.
func build(o *choice.Offered) string {
	if o.Arch == "" {
		return o.Version + " from " + offeredBy(o)
	}
	return o.Version + " for " + o.Arch + " from " + offeredBy(o)
}

func offeredBy(o *choice.Offered) string { return strings.TrimSpace(o.From + " " + o.Suite) }

// offersTable shows what is offered, where there is a choice.
func (a *app) offersTable(r *api.WhenceRow) {
	if len(r.Offers) == 0 || len(r.Offers) == 1 && r.Offers[0].Out == "" && !r.Stays {
		return
	}
	cols := []view.Column{{Name: ""}, {Name: "VERSION"}, {Name: "FOR"}}
	weighed, out := false, false
	for i := range r.Offers {
		weighed, out = weighed || r.Offers[i].Priority != nil, out || r.Offers[i].Out != ""
	}
	if weighed {
		cols = append(cols, view.Column{Name: "PRIORITY", Right: true})
	}
	cols = append(cols, view.Column{Name: "OFFERED BY", Gives: true, Path: true})
	if out {
		cols = append(cols, view.Column{Name: "LEFT OUT", Gives: true})
	}
	var rows [][]view.Cell
	for i := range r.Offers {
		o := &r.Offers[i]
		mark := " "
		if r.Taken != nil && o.Version == r.Taken.Version && o.From == r.Taken.From && o.Suite == r.Taken.Suite && o.Arch == r.Taken.Arch {
			mark = "›"
		}
		row := []view.Cell{view.T("  " + mark), view.T(o.Version), view.T(o.Arch)}
		if weighed {
			row = append(row, view.T(strconv.Itoa(*o.Priority)))
		}
		row = append(row, view.T(offeredBy(o)))
		if out {
			row = append(row, view.T(o.Out))
		}
		rows = append(rows, row)
	}
	a.out.Table(cols, rows)
}
