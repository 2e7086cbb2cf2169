package cli

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/read"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/names"
)

// signs and styles of host states; a sign stands beside the word, never alone.
var stateLook = map[string]struct {
	sign  string
	style view.Style
}{
	api.StateFailed: {"✗", view.Red}, api.StateDrifted: {"≠", view.Yellow}, api.StateSilent: {"?", view.Yellow},
	api.StateChanging: {"→", view.Blue}, api.StateNew: {"·", view.Plain}, api.StateSteady: {"=", view.Green},
}

var severityLook = map[string]struct {
	sign  string
	style view.Style
}{"danger": {"!!", view.Red}, "fault": {"! ", view.Yellow}, "note": {"- ", view.Plain}}

// listFlags are the flags of every list.
type listFlags struct {
	page, perPage int
	order         []string
}

// sort is the order that was asked for.
func (l *listFlags) sort() string { return one(l.order) }

func (l *listFlags) add(cmd *cobra.Command, sorts ...string) {
	cmd.Flags().IntVar(&l.page, "page", 1, "page, from 1")
	cmd.Flags().IntVar(&l.perPage, "per-page", 50, "rows on a page, at most 1000")
	listing(cmd)
	if len(sorts) > 0 {
		choose(cmd, &l.order, "sort", false, "order: "+strings.Join(sorts, ", "), sorts...)
	}
}

// more says where the rest of a list is: behind this page, or before it.
func (l *listFlags) more(a *app, shown, total int) {
	text := fmt.Sprintf("%d of %d shown", shown, total)
	switch last := (total + l.perPage - 1) / max(l.perPage, 1); {
	case l.page > max(last, 1):
		text = fmt.Sprintf("there is no page %d: the last is --page %d", l.page, max(last, 1))
	case total <= shown:
		return
	case l.page < last:
		text += fmt.Sprintf("; --page %d shows more", l.page+1)
	default:
		text += ": the last page"
	}
	a.out.Printf("%s", a.out.Paint(view.Dim, text))
}

func (a *app) hostList() *cobra.Command {
	var l listFlags
	var states []string
	var q string
	var m meant
	var family []string
	var has, like string
	cmd := &cobra.Command{
		Use: "list", Short: "List the fleet: system, revision, state, when last seen", Args: cobra.NoArgs,
		Example: "  lantern host list\n  lantern host list --state drifted,failed --sort -findings\n" +
			"  lantern host list --match site=north --format json\n  lantern host list --group gateways\n" +
			"  lantern host list --group gateways --where 'os.major >= 12'\n" +
			"  lantern host list --has saltmarsh\n  lantern host list --like gw-01",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list := client.List{
				Query: q, Sort: l.sort(), Page: l.page, PerPage: l.perPage,
				Filter: map[string][]string{"state": states, "family": family, "has": {has}, "like": {like}},
			}
			m.into(&list, nil)
			page, err := a.client().Hosts(cmd.Context(), list)
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.All == 0 {
				a.out.Printf("No host has joined yet. `lantern host invite NAME` makes a token for one.")
				return nil
			}
			var counts []string
			for _, s := range api.States {
				if n := page.States[s]; n > 0 {
					counts = append(counts, a.out.Paint(stateLook[s].style, fmt.Sprintf("%s %d %s", stateLook[s].sign, n, s)))
				}
			}
			a.out.Printf("%s   %s\n", view.Count(page.All, "host", "hosts"), strings.Join(counts, "   "))
			var rows [][]view.Cell
			for _, h := range page.Hosts {
				rows = append(rows, a.hostRow(h))
			}
			a.out.Table(
				[]view.Column{
					{Name: "HOST"},
					{Name: "STATE"},
					{Name: "SYSTEM", Less: 2},
					{Name: "REVISION", Right: true, Less: 3},
					{Name: "LAST SEEN", Less: 1},
					{Name: "WHY", Gives: true},
				},
				rows,
			)
			if page.Total < page.All {
				a.out.Printf("%s", a.out.Paint(view.Dim, fmt.Sprintf("%d of %s are as you ask", page.Total, view.Count(page.All, "host", "hosts"))))
			}
			a.notKnownWhether(page.Unknown)
			l.more(a, len(page.Hosts), page.Total)
			return nil
		},
	}
	l.add(cmd, turned("state", "name", "os", "revision", "findings", "last_seen")...)
	a.watching(cmd)
	l.order = []string{"state"} // the most pressing first
	choose(cmd, &states, "state", true, "only hosts in these states: "+strings.Join(api.States, ", "), api.States...)
	cmd.Flags().StringVar(&q, "match", "", "part of the name, the system, or a label (key=value)")
	cmd.Flags().StringVar(&has, "has", "", "only hosts that get packages from this repository")
	cmd.Flags().StringVar(&like, "like", "", "only hosts that are configured exactly as this one")
	must(cmd.RegisterFlagCompletionFunc("has", a.completing(repositoryNames)))
	must(cmd.RegisterFlagCompletionFunc("like", a.completing(hostNames)))
	m.add(a, cmd)
	choose(cmd, &family, "family", false, "only hosts of this family: "+strings.Join(families.OfHosts(), ", "), families.OfHosts()...)
	return cmd
}

func (a *app) hostRow(h api.Host) []view.Cell {
	look := stateLook[h.State]
	rev, seen := "-", "never"
	if h.Revision > 0 {
		rev = fmt.Sprint(h.Revision)
	}
	if h.LastSeen != nil {
		seen = view.Ago(time.Since(*h.LastSeen))
	}
	return []view.Cell{
		view.T(h.Name),
		{Text: look.sign + " " + h.State, Style: look.style},
		view.T(h.OS),
		view.T(rev),
		view.T(seen),
		view.T(why(h)),
	}
}

// why says in one line why a host stands as it does: an agent that is to be brought up to date first, and danger, of
// which the state alone does not tell.
func why(h api.Host) string {
	says := h.Detail
	switch {
	case h.Worst != drift.Danger:
	case h.State == api.StateDrifted:
		says = "!! danger: " + says
	default:
		says = "!! danger is found; " + says
	}
	if h.OldAgent {
		return "old agent; " + says
	}
	return says
}

func (a *app) host() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "host",
		Short:   "The hosts: list, show, compare, invite, label, accept, export, retire",
		GroupID: "fleet",
		Example: "  lantern host list\n  lantern host show gw-01\n  lantern host invite gw-07.brinewick.test",
	}
	lists(cmd, a.hostList())
	cmd.AddCommand(a.hostShow(), a.hostHistory(), a.hostCompare())
	cmd.AddCommand(a.hostInvite(), a.hostLabel(), a.hostAccept(), a.hostRetire(), a.hostExport())
	return cmd
}

func (a *app) hostShow() *cobra.Command {
	var at string
	var m meant
	cmd := &cobra.Command{
		Use: "show HOST...", Short: "Show hosts: traits, findings, sources, keys", ValidArgsFunction: a.completeEveryHost,
		Example: "  lantern host show gw-01\n  lantern host show gw-01 --format json | jq .sources\n  lantern host show gw-01 --at 2026-11-24",
		RunE: func(cmd *cobra.Command, args []string) error {
			if at != "" {
				return m.each(cmd.Context(), a, args, func(h string) error { return a.hostPast(cmd.Context(), h, at) })
			}
			return every(cmd.Context(), a, &m, args, func(h string) (api.HostDetail, error) {
				return a.client().Host(cmd.Context(), h)
			}, a.showHost)
		},
	}
	listing(cmd)
	m.add(a, cmd)
	cmd.Flags().StringVar(&at, "at", "", "what it had at a moment: a time, a day (to its end), or how long ago, as 3h")
	return cmd
}

// listed is a list that a command puts together itself.
type listed[T any] struct {
	Items []T `json:"items"`
	Total int `json:"total"`
}

// pairs are labels in words, by name.
func pairs(labels map[string]string) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(labels)) {
		out = append(out, k+"="+labels[k])
	}
	return strings.Join(out, ", ")
}

// showHost shows one host in words.
func (a *app) showHost(d *api.HostDetail) {
	look := stateLook[d.State]
	a.out.Printf("%s  %s  %s", a.out.Paint(view.Bold, d.Name), a.out.Paint(look.style, look.sign+" "+d.State), d.Detail)
	if d.Traits != nil {
		t := *d.Traits
		t.Free = d.Free
		a.out.Traits(&t)
	}
	rev := "no revision carried yet"
	if d.Revision > 0 {
		rev = fmt.Sprintf("revision %d", d.Revision)
		if d.Carried != nil {
			rev += ", carried " + view.Ago(time.Since(*d.Carried))
		}
	}
	a.out.Printf("%s %s; agent %s", a.out.Paint(view.Dim, "state "), rev, d.Agent)
	a.base(d)
	if len(d.Labels) > 0 {
		a.out.Printf("%s %s", a.out.Paint(view.Dim, "labels"), pairs(d.Labels))
	}
	if len(d.PolicyLabels) > 0 {
		a.out.Printf("%s %s, by the policy", a.out.Paint(view.Dim, "labels"), pairs(d.PolicyLabels))
	}
	if len(d.Groups) > 0 {
		a.out.Printf("%s %s", a.out.Paint(view.Dim, "groups"), strings.Join(d.Groups, ", "))
	}
	if len(d.Drift) > 0 {
		a.out.Printf("\n%s", a.out.Paint(view.Bold, "Findings"))
		for _, f := range d.Drift {
			a.finding(f, false)
		}
		if d.Diff != "" {
			a.out.Printf(
				"\n%s %s",
				a.out.Paint(view.Bold, "Healing would change"),
				a.out.Paint(view.Dim, "(lantern heal "+short(d.Name)+")"),
			)
			a.out.Diff(2, d.Diff)
		}
	} else if d.Revision > 0 && len(d.Waived) == 0 && d.State == api.StateSteady {
		a.out.Printf("\n%s", a.out.Paint(view.Green, "No findings: the host is as the policy says, and else as it was accepted."))
	} else if d.Revision > 0 && len(d.Waived) == 0 {
		a.out.Printf("\n%s", a.out.Paint(view.Yellow, "? No findings in its last survey; it is "+d.State+", so how it stands now is not known."))
	}
	if len(d.TextOnly) > 0 {
		a.out.Printf("%s %s", a.out.Paint(view.Dim, "reads differently and means the same:"), strings.Join(d.TextOnly, ", "))
	}
	a.waived(d.Waived)
	a.out.Problems(d.Problems)
	a.out.Configured(d.Configured(), time.Now())
}

func (a *app) hostInvite() *cobra.Command {
	var hours int
	cmd := &cobra.Command{
		Use: "invite NAME...", Short: "Make a one-time token with which a host joins", Args: cobra.MinimumNArgs(1),
		Example: "  lantern host invite gw-07.brinewick.test\n  lantern host invite gw-{13..16}.brinewick.test --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			hosts, err := spelled(args)
			if err != nil {
				return err
			}
			return everyOf(cmd.Context(), a, hosts, !(&meant{}).several(args), func(h string) (api.Invite, error) {
				return a.client().Invite(cmd.Context(), api.InviteOrder{Host: h, Hours: hours})
			}, a.invitation)
		},
	}
	cmd.Flags().IntVar(&hours, "hours", 24, "how long the token is good")
	return cmd
}

// mostSpelled bounds how many hosts are meant by ranges alone, in case one was not meant so.
const mostSpelled = 1_000

// spelled are the names that words stand for, where there is no list of hosts to look them up in.
func spelled(words []string) (out []string, err error) {
	for _, w := range apart(words) {
		some, err := names.Expand(w)
		if err != nil {
			return nil, wrong("%v", err)
		}
		out = append(out, some...)
	}
	if len(out) > mostSpelled {
		return nil, wrong("%s stands for %d hosts; %d is the most at once", strings.Join(words, " "), len(out), mostSpelled)
	}
	return out, nil
}

func (a *app) invitation(i *api.Invite) {
	a.out.Printf(
		"On %s, as root, until %s:\n\n  lantern-agent join --service %s --token %s\n  lantern-agent run\n\nThe token works once and "+
			"pins this service's key.",
		i.Host,
		i.Expires.Local().Format("2006-01-02 15:04"),
		a.service,
		i.Token,
	)
}

func (a *app) hostRetire() *cobra.Command {
	var m meant
	var yes bool
	cmd := &cobra.Command{
		Use: "retire HOST...", Short: "Forget hosts; their files stay as they are", ValidArgsFunction: a.completeEveryHost,
		Long: "Forget hosts: their seats go back, their history goes with the time that it is kept for. More than one is named first, and\n" +
			"goes with --yes.",
		Example: "  lantern host retire gw-07\n  lantern host retire desk-{1..3} --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			hosts, err := m.hosts(cmd.Context(), a, args)
			if err != nil {
				return err
			}
			if len(hosts) > 1 && !yes {
				if slices.Equal(hosts, args) { // nobody looked yet whether they are there
					err = a.eachOf(cmd.Context(), hosts, func(h string) error {
						_, err := a.client().Host(cmd.Context(), h)
						return err
					})
				}
				if err != nil {
					return err
				}
				return no("%s would be forgotten: %s; say --yes", view.Count(len(hosts), "host", "hosts"), someNames(hosts, 12))
			}
			return a.eachOf(cmd.Context(), hosts, func(h string) error {
				if err := a.client().Retire(cmd.Context(), h); err != nil {
					return err
				}
				return a.did("retired", h, "%s is forgotten. Stop its agent; nothing on the host was changed.", h)
			})
		},
	}
	m.add(a, cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "forget more than one host")
	return cmd
}

func (a *app) heal() *cobra.Command {
	var wait time.Duration
	var aside, yes bool
	var many api.HealManyOrder
	var m meant
	cmd := &cobra.Command{
		Use:               "heal [HOST...]",
		Short:             "Put right what has drifted on a host, or on many",
		GroupID:           "fleet",
		ValidArgsFunction: a.completeEveryHost,
		Long: "Put right what has drifted on a host: the files of the policy, and the lines of others that it\nspeaks of. A " +
			"file that stops the package manager and that the policy does not know is gone around;\nwith --set-aside it is renamed (its name " +
			"then ends in .disabled), so that nothing stops it any more.\n" +
			"Several hosts, ranges, --group, --where and --class go by the waves and gates of their plans, as a rollout does.",
		Example: "  lantern heal gw-03\n  lantern heal desk-1 --set-aside\n  lantern heal gw-{01..04} --yes\n" +
			"  lantern heal --group gateways --class changed-source --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if args = apart(args); m.several(args) {
				many.To, many.Where = slices.Concat(many.To, args, m.groups), m.where
				return a.healMany(cmd.Context(), many, yes, wait)
			}
			if len(many.To)+len(many.Class) > 0 {
				return wrong("name one host, or hosts with --to and --class, not both")
			}
			r, err := a.client().HealAs(cmd.Context(), args[0], api.HealOrder{SetAside: aside})
			if err != nil {
				return err
			}
			if err := a.follow(cmd.Context(), r.ID, wait); err != nil {
				return err
			}
			d, err := a.client().Host(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.format == "table" {
				a.healed(&d)
			}
			return leftOf(&d)
		},
	}
	cmd.Flags().DurationVar(&wait, "wait", 5*time.Minute, "how long to watch; it goes on without watching")
	cmd.Flags().Var(namesFlag{&many.To}, "to", "these hosts, ranges or groups")
	must(cmd.RegisterFlagCompletionFunc("to", a.completeTo))
	m.add(a, cmd)
	choose(cmd, &many.Class, "class", true, "only hosts with a finding of these classes", drift.Classes...)
	cmd.Flags().StringVar(&many.Because, "because", "", "why; it is kept beside your name")
	cmd.Flags().BoolVar(&yes, "yes", false, "begin; without it the waves are only shown")
	cmd.Flags().BoolVar(&aside, "set-aside", false, "rename files that stop the package manager and that the policy does not know")
	return cmd
}

// healed says how a host stands after it was healed.
func (a *app) healed(d *api.HostDetail) {
	if len(d.Drift) == 0 {
		a.out.Printf("%s is as the policy says.", d.Name)
		return
	}
	a.out.Printf("\nThese are left:")
	for _, f := range d.Drift {
		a.finding(f, false)
	}
}

// leftOf is an answer of no where a host has findings after it was healed.
func leftOf(d *api.HostDetail) error {
	n := 0
	for _, f := range d.Drift {
		if f.Severity != drift.Note {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return no("%s on %s that healing did not close: lantern drift %s", view.Count(n, "finding is left", "findings are left"), d.Name, d.Name)
}

func (a *app) read() *cobra.Command {
	var root string
	var texts bool
	cmd := &cobra.Command{
		Use: "read", Short: "Show what is configured on a root folder; needs no service", GroupID: "fleet", Args: cobra.NoArgs,
		Long: "Read package sources, keys and traits off a root folder: this machine's, or that of\nanother. Nothing is run and " +
			"nothing is changed.",
		Example: "  lantern read\n  lantern read --root demo-hosts/gw-03\n  lantern read --root demo-hosts/model-1\n" +
			"  lantern read --root /mnt/image --format json | jq " +
			"'.sources[].effective_urls'\n  lantern read --root demo-hosts/gw-03 --texts > surveys/gw-03.brinewick.test.json",
		RunE: func(_ *cobra.Command, _ []string) error {
			err := read.Root(root, a.format, texts, a.out)
			var missing *read.Missing
			var refused *read.Refused
			switch {
			case errors.As(err, &missing):
				return wrong("%v", err)
			case errors.As(err, &refused):
				return &exit{ExitRefused, ""}
			}
			return err
		},
	}
	cmd.Flags().StringVar(&root, "root", "/", "root folder")
	cmd.Flags().BoolVar(&texts, "texts", false, "print JSON with the source files in it, passwords masked: a saved survey")
	return cmd
}
