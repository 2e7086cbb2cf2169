package cli

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/subscription"
)

// moreFormats marks commands that take a further format beside table and json.
const moreFormats = "format"

// csv prints rows as CSV (RFC 4180) and reports true when that is the format.
func (a *app) csv(head []string, rows [][]string) (bool, error) {
	if a.format != "csv" {
		return false, nil
	}
	w := csv.NewWriter(a.out)
	w.UseCRLF = true
	if err := w.Write(head); err != nil {
		return true, err
	}
	for _, r := range rows {
		for i, cell := range r {
			// A spreadsheet must not take a name that a host chose for a formula.
			if cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r") {
				r[i] = "'" + cell
			}
		}
	}
	return true, w.WriteAll(rows)
}

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }

func (a *app) account() *cobra.Command {
	cmd := &cobra.Command{Use: "account", Short: "The organisation's accounts at vendors' subscription desks", GroupID: "contracts", Example: "  lantern account list\n  lantern account add gannet --desk https://desk.gannet.example --login brinewick"}
	cmd.AddCommand(a.accountAdd(), a.accountList(), a.accountRemove())
	return cmd
}

func (a *app) accountAdd() *cobra.Command {
	var o api.AccountOrder
	var file string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Give the service an account, or a new login for one", Args: cobra.ExactArgs(1),
		Long:    "Give the service the organisation's account at a vendor's desk. The password is asked for,\nor read from a file or from standard input; it is kept encrypted and never shown again.\nNo host ever sees it. The desk is asked at once, so a wrong login is said now.",
		Example: "  lantern account add gannet --desk https://desk.gannet.example --login brinewick\n  lantern account add gannet --desk https://desk.gannet.example --login brinewick --password-file - < secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Name = args[0]
			if o.Desk == "" || o.Login == "" {
				return wrong("--desk and --login are needed")
			}
			password, err := a.readPassword(file)
			if err != nil {
				return err
			}
			o.Password = password
			acc, err := a.client().AddAccount(cmd.Context(), o)
			if err != nil {
				return err
			}
			if done, err := a.json(acc); done {
				return err
			}
			a.out.Printf("The account %s is kept; its desk tells of %s. Next: lantern contract list", acc.Name, view.Count(acc.Contracts, "contract", "contracts"))
			return nil
		},
	}
	cmd.Flags().StringVar(&o.Desk, "desk", "", "address of the vendor's desk")
	cmd.Flags().StringVar(&o.Login, "login", "", "the organisation's login there")
	cmd.Flags().StringVar(&o.Title, "title", "", "for people")
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	return cmd
}

// readPassword reads a password without showing it.
func (a *app) readPassword(file string) (string, error) {
	var text string
	switch {
	case file == "-" || file == "" && !term.IsTerminal(int(os.Stdin.Fd())):
		line, err := bufio.NewReader(io.LimitReader(os.Stdin, 4096)).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", wrong("the password cannot be read from standard input: %v", err)
		}
		text = line
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", wrong("--password-file: %v", err)
		}
		text = string(b)
	default:
		fmt.Fprint(a.errOut, "Password: ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.errOut)
		if err != nil {
			return "", wrong("the password cannot be read: %v", err)
		}
		text = string(b)
	}
	text = strings.TrimRight(text, "\r\n")
	if text == "" {
		return "", wrong("the password is empty")
	}
	return text, nil
}

func (a *app) accountList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List accounts, and whether their desks answer", Args: cobra.NoArgs, Example: "  lantern account list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Accounts(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if len(list.Accounts) == 0 {
				a.out.Printf("The service has no account at a vendor's desk yet: lantern account add NAME --desk URL --login NAME")
				return nil
			}
			var rows [][]view.Cell
			for _, x := range list.Accounts {
				state := view.Cell{Text: "= answers", Style: view.Green}
				if x.Trouble != "" {
					state = view.Cell{Text: "✗ " + x.Trouble, Style: view.Red}
					if x.Since != nil {
						state.Text = fmt.Sprintf("✗ away for %s: %s", strings.TrimSuffix(view.Ago(time.Since(*x.Since)), " ago"), x.Trouble)
					}
				}
				rows = append(rows, []view.Cell{view.T(x.Name), view.T(fmt.Sprint(x.Contracts)), view.T(fmt.Sprint(x.Seats)), view.T(x.Desk), state})
			}
			a.out.Table([]view.Column{{Name: "ACCOUNT"}, {Name: "CONTRACTS", Right: true}, {Name: "SEATS", Right: true}, {Name: "DESK", Gives: true}, {Name: "STATE", Gives: true}}, rows)
			return nil
		},
	}
}

func (a *app) accountRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget an account that has no seats", Args: cobra.ExactArgs(1), Example: "  lantern account remove gannet",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.client().RemoveAccount(cmd.Context(), args[0]); err != nil {
				return err
			}
			a.out.Printf("The account %s is forgotten.", args[0])
			return nil
		},
	}
}

var contractLook = map[string]struct {
	sign  string
	style view.Style
}{"good": {"=", view.Green}, "ending": {"!", view.Yellow}, "over": {"✗", view.Red}, "ended": {"✗", view.Red}, "withdrawn": {"✗", view.Red}, "to-come": {"·", view.Plain}}

func (a *app) contract() *cobra.Command {
	cmd := &cobra.Command{Use: "contract", Short: "Contracts: what they open, seats used and free, what ends", GroupID: "contracts", Example: "  lantern contract list\n  lantern contract outlook"}
	cmd.AddCommand(a.contractList(), a.contractOutlook())
	return cmd
}

func (a *app) contractList() *cobra.Command {
	var l listFlags
	var q, account string
	var states []string
	cmd := &cobra.Command{
		Use: "list", Short: "List contracts and how they stand", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "csv"},
		Example: "  lantern contract list\n  lantern contract list --state ending,over\n  lantern contract list --format csv > contracts.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Contracts(cmd.Context(), client.List{Query: q, Filter: map[string][]string{"account": {account}, "state": states}, Sort: l.sort(), Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			var cells [][]view.Cell
			for _, c := range page.Contracts {
				var opens []string
				for _, o := range c.Opens {
					opens = append(opens, o.Name)
				}
				rows = append(rows, []string{c.Account, c.Number, c.Title, c.State, day(c.Start), day(c.End), fmt.Sprint(c.Evaluation), c.Cover, fmt.Sprint(c.Seats), fmt.Sprint(c.Used), fmt.Sprint(c.Free), fmt.Sprint(c.Over), subscription.Money(c.Price, ""), c.Currency, strings.Join(opens, " ")})
				look := contractLook[c.State]
				seats := fmt.Sprintf("%d of %d", c.Used, c.Seats)
				if c.Cover == subscription.CoverOrganisation {
					seats = fmt.Sprintf("%d, no limit", c.Used)
				}
				state := look.sign + " " + c.State
				if c.Evaluation {
					state += ", evaluation"
				}
				if c.Over > 0 {
					state += fmt.Sprintf(", %d too many", c.Over)
				}
				cells = append(cells, []view.Cell{view.T(c.Number), {Text: state, Style: look.style}, view.T(seats), view.T(ends(c.End)), view.T(subscription.Money(c.Price, c.Currency)), view.T(strings.Join(opens, ", ")), view.T(c.Title)})
			}
			if done, err := a.csv([]string{"account", "number", "title", "state", "start", "end", "evaluation", "cover", "seats", "used", "free", "over", "price", "currency", "opens"}, rows); done {
				return err
			}
			if len(cells) == 0 {
				a.out.Printf("No contract. `lantern account list` shows whether the vendors' desks answer.")
				return nil
			}
			a.out.Table([]view.Column{{Name: "CONTRACT"}, {Name: "STATE"}, {Name: "SEATS"}, {Name: "ENDS"}, {Name: "A SEAT"}, {Name: "OPENS", Gives: true}, {Name: "TITLE", Gives: true}}, cells)
			l.more(a, len(page.Contracts), page.Total)
			return nil
		},
	}
	l.add(cmd, turned("account", "end", "used")...)
	cmd.Flags().StringVar(&q, "match", "", "part of the number or the title")
	cmd.Flags().StringVar(&account, "account", "", "only contracts of this account")
	choose(cmd, &states, "state", true, "only in these states: good, ending, over, ended, withdrawn, to-come", "good", "ending", "over", "ended", "withdrawn", "to-come")
	return cmd
}

func ends(t time.Time) string {
	n := int(time.Until(t).Hours() / 24)
	switch {
	case time.Until(t) <= 0:
		return day(t) + ", over"
	case n < 100:
		return fmt.Sprintf("%s, %s", day(t), view.Count(n, "day", "days"))
	}
	return day(t)
}

// outlookParts are the tables of the outlook, each of which can be had as CSV.
var outlookParts = []string{"ending", "usage", "twice", "silent", "idle"}

func (a *app) contractOutlook() *cobra.Command {
	var part string
	cmd := &cobra.Command{
		Use: "outlook", Short: "What is coming: contracts that end, hosts that fall out, seats paid for nothing", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "csv"},
		Long:    "What the buyer of contracts wants to know: contracts that end within 90 days and the hosts\nthat would fall out; hosts that several contracts cover; seats of silent hosts, and of hosts\nthat need none; seats used, each time that it changed.\n\nWith --format csv one part is printed: " + strings.Join(outlookParts, ", ") + ".",
		Example: "  lantern contract outlook\n  lantern contract outlook --format csv --part usage > usage.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := a.client().Outlook(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(o); done {
				return err
			}
			if a.format == "csv" {
				return a.outlookCSV(o, part)
			}
			a.showOutlook(o)
			return nil
		},
	}
	cmd.Flags().StringVar(&part, "part", "ending", "with --format csv: which part")
	return cmd
}

func (a *app) outlookCSV(o api.Outlook, part string) error {
	var rows [][]string
	var head []string
	seats := func(list []api.SilentSeat) {
		head = []string{"host", "account", "contract", "last_seen"}
		for _, s := range list {
			seen := ""
			if s.LastSeen != nil {
				seen = s.LastSeen.Format(time.RFC3339)
			}
			rows = append(rows, []string{s.Host, s.Account, s.Contract, seen})
		}
	}
	switch part {
	case "ending":
		head = []string{"account", "contract", "end", "days", "host", "moves_to"}
		for _, e := range o.Ending {
			of := []string{e.Contract.Account, e.Contract.Number, day(e.Contract.End), fmt.Sprint(e.Days)}
			for _, m := range e.Moving {
				rows = append(rows, append(of[:4:4], m.Host, m.To))
			}
			for _, h := range e.Falling {
				rows = append(rows, append(of[:4:4], h, ""))
			}
			if len(e.Moving)+len(e.Falling) == 0 {
				rows = append(rows, append(of[:4:4], "", ""))
			}
		}
	case "usage":
		head = []string{"from", "account", "contract", "used", "seats"}
		for _, u := range o.Usage {
			rows = append(rows, []string{u.At.Format(time.RFC3339), u.Account, u.Contract, fmt.Sprint(u.Used), fmt.Sprint(u.Seats)})
		}
	case "twice":
		head = []string{"host", "account", "contracts"}
		for _, d := range o.Twice {
			rows = append(rows, []string{d.Host, d.Account, strings.Join(d.Contracts, " ")})
		}
	case "silent":
		seats(o.Silent)
	case "idle":
		seats(o.Idle)
	default:
		return wrong("--part is %q; it must be one of %s", part, strings.Join(outlookParts, ", "))
	}
	_, err := a.csv(head, rows)
	return err
}

func (a *app) showOutlook(o api.Outlook) {
	quiet := true
	for _, e := range o.Ending {
		quiet = false
		what := fmt.Sprintf("ends on %s, in %s", day(e.Contract.End), view.Count(e.Days, "day", "days"))
		style := view.Yellow
		switch {
		case e.Contract.Withdrawn:
			what, style = "was withdrawn", view.Red
		case e.Days < 0 || time.Until(e.Contract.End) <= 0:
			what, style = "ended on "+day(e.Contract.End), view.Red
		}
		if e.Contract.Evaluation {
			what = "is an evaluation and " + what
		}
		a.out.Printf("%s %s", a.out.Paint(style, "! "+e.Contract.Number), what)
		for _, m := range e.Moving {
			a.out.Printf("    %s  another contract takes it: %s", m.Host, m.To)
		}
		for _, h := range e.Falling {
			a.out.Printf("    %s  %s", h, a.out.Paint(view.Red, "would have no seat"))
		}
		if len(e.Moving)+len(e.Falling) == 0 {
			a.out.Printf("    no host sits in it")
		}
	}
	for _, x := range o.Twice {
		quiet = false
		a.out.Printf("%s %s is covered by %s: the first could be given back", a.out.Paint(view.Yellow, "! twice"), x.Host, strings.Join(x.Contracts, " and "))
	}
	for _, x := range o.Silent {
		quiet = false
		seen := "never"
		if x.LastSeen != nil {
			seen = view.Ago(time.Since(*x.LastSeen))
		}
		a.out.Printf("%s %s has a seat in %s and was last seen %s", a.out.Paint(view.Yellow, "? silent"), x.Host, x.Contract, seen)
	}
	for _, x := range o.Idle {
		quiet = false
		a.out.Printf("%s %s has a seat in %s that its sheet does not need: lantern seat release %s", a.out.Paint(view.Yellow, "- idle"), x.Host, x.Contract, shortName(x.Host))
	}
	if quiet {
		a.out.Printf("%s", a.out.Paint(view.Green, "Nothing ends within 90 days, and no seat is paid for nothing."))
	}
	latest := map[string]api.SeatUsage{}
	var order []string
	first := map[string]time.Time{}
	for _, u := range o.Usage {
		if _, ok := latest[u.Contract]; !ok {
			order = append(order, u.Contract)
			first[u.Contract] = u.At
		}
		latest[u.Contract] = u
	}
	var rows [][]view.Cell
	for _, n := range order {
		u := latest[n]
		of := "no limit"
		if u.Seats > 0 {
			of = fmt.Sprint(u.Seats)
		}
		rows = append(rows, []view.Cell{view.T(n), view.T(fmt.Sprint(u.Used)), view.T(of), view.T(day(first[n]))})
	}
	if len(rows) > 0 {
		a.out.Printf("")
		a.out.Table([]view.Column{{Name: "CONTRACT"}, {Name: "USED", Right: true}, {Name: "SEATS", Right: true}, {Name: "COUNTED SINCE"}}, rows)
	}
}

func shortName(host string) string {
	s, _, _ := strings.Cut(host, ".")
	return s
}

func (a *app) seat() *cobra.Command {
	cmd := &cobra.Command{Use: "seat", Short: "Take, release and list the seats of hosts in contracts", GroupID: "contracts", Example: "  lantern seat take gw-01\n  lantern seat list"}
	cmd.AddCommand(a.seatTake(), a.seatRelease(), a.seatList())
	return cmd
}

func (a *app) seatTake() *cobra.Command {
	var o api.SeatOrder
	cmd := &cobra.Command{
		Use: "take HOST...", Short: "Take a seat for a host in the contract that fits it best", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeHosts,
		Long:    "Take a seat. Of the contracts that open everything which the host's sheet needs, one that\nis no evaluation is taken if there is any; of those the cheapest; of those the one that ends\nlast. The answer says why this one.",
		Example: "  lantern seat take gw-01\n  lantern seat take gw-01 gw-02 --account gannet\n  lantern seat take gw-01 --account gannet --contract GN-2026-031",
		RunE: func(cmd *cobra.Command, args []string) error {
			var all []api.Seat
			for _, host := range args {
				o.Host = host
				s, err := a.client().TakeSeat(cmd.Context(), o)
				if err != nil {
					return err
				}
				all = append(all, s)
				if a.format == "table" {
					a.out.Printf("%s has a seat in %s: %s", s.Host, s.Contract, s.Why)
				}
			}
			_, err := a.json(all)
			return err
		},
	}
	cmd.Flags().StringVar(&o.Account, "account", "", "which account; needed where the host needs several")
	cmd.Flags().StringVar(&o.Contract, "contract", "", "this contract, and not the one that fits best")
	return cmd
}

func (a *app) seatRelease() *cobra.Command {
	var account string
	cmd := &cobra.Command{
		Use: "release HOST...", Short: "Give a host's seat back; what it opened is closed", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.completeHosts,
		Example: "  lantern seat release gw-01\n  lantern seat release gw-01 --account gannet",
		RunE: func(cmd *cobra.Command, args []string) error {
			var all []api.Seat
			for _, host := range args {
				of := account
				if of == "" {
					d, err := a.client().Host(cmd.Context(), host)
					if err != nil {
						return err
					}
					var have []string
					for _, s := range d.Seats {
						if !s.Leaving {
							have = append(have, s.Account)
						}
					}
					switch len(have) {
					case 0:
						return no("%s has no seat", d.Name)
					case 1:
						of = have[0]
					default:
						return wrong("%s has seats in the accounts %s; say which with --account", d.Name, strings.Join(have, ", "))
					}
				}
				s, err := a.client().ReleaseSeat(cmd.Context(), host, of)
				if err != nil {
					return err
				}
				all = append(all, s)
				if a.format == "table" {
					if s.Leaving {
						a.out.Printf("%s has its seat in %s no more; the vendor hears of it as soon as its desk answers.", s.Host, s.Contract)
					} else {
						a.out.Printf("%s gave its seat in %s back.", s.Host, s.Contract)
					}
				}
			}
			_, err := a.json(all)
			return err
		},
	}
	cmd.Flags().StringVar(&account, "account", "", "which account; needed where the host has seats in several")
	return cmd
}

func (a *app) seatList() *cobra.Command {
	var l listFlags
	var q, account, contract string
	cmd := &cobra.Command{
		Use: "list", Short: "List seats: who has them, why, and when the access is renewed", Args: cobra.NoArgs, Annotations: map[string]string{moreFormats: "csv"},
		Example: "  lantern seat list\n  lantern seat list --contract GN-2026-014 --sort expires\n  lantern seat list --format csv > seats.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Seats(cmd.Context(), client.List{Query: q, Filter: map[string][]string{"account": {account}, "contract": {contract}}, Sort: l.sort(), Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			var cells [][]view.Cell
			for _, s := range page.Seats {
				expires := ""
				if s.Expires != nil {
					expires = s.Expires.Format(time.RFC3339)
				}
				rows = append(rows, []string{s.Host, s.Account, s.Contract, s.Taken.Format(time.RFC3339), s.By, fmt.Sprint(s.Automatic), fmt.Sprint(s.Needed), s.Kind, expires, s.Renewal, s.Why})
				cells = append(cells, []view.Cell{view.T(s.Host), view.T(s.Contract), a.accessCell(s), view.T(s.By), view.T(view.Ago(time.Since(s.Taken))), view.T(s.Why)})
			}
			if done, err := a.csv([]string{"host", "account", "contract", "taken", "by", "automatic", "needed", "kind", "expires", "renewal", "why"}, rows); done {
				return err
			}
			if len(cells) == 0 {
				a.out.Printf("No seat is taken. A rollout takes those that the policy wants taken; lantern seat take HOST takes one by hand.")
				return nil
			}
			a.out.Table([]view.Column{{Name: "HOST"}, {Name: "CONTRACT"}, {Name: "ACCESS"}, {Name: "BY"}, {Name: "TAKEN"}, {Name: "WHY THIS ONE", Gives: true}}, cells)
			l.more(a, len(page.Seats), page.Total)
			return nil
		},
	}
	l.add(cmd, turned("host", "contract", "taken", "expires")...)
	cmd.Flags().StringVar(&q, "match", "", "part of the host's name or the contract's number")
	cmd.Flags().StringVar(&account, "account", "", "only seats in this account")
	cmd.Flags().StringVar(&contract, "contract", "", "only seats in this contract")
	return cmd
}

// left says how long something lasts, in one unit.
func left(d time.Duration) string {
	return strings.TrimSuffix(view.Ago(d), " ago")
}

// accessCell says how the access of a seat stands.
func (a *app) accessCell(s api.Seat) view.Cell {
	kind := map[string]string{"basic": "login", "client-certificate": "certificate", "token-url": "token"}[s.Kind]
	switch {
	case s.Leaving:
		return view.Cell{Text: "→ leaving, the desk is away", Style: view.Yellow}
	case s.Renewal != "":
		return view.Cell{Text: "✗ " + s.Renewal, Style: view.Red}
	case s.Expires == nil:
		return view.T("· not fetched yet")
	case s.Expires.Before(time.Now()):
		return view.Cell{Text: "✗ " + kind + " ended", Style: view.Red}
	}
	return view.Cell{Text: fmt.Sprintf("= %s, %s left", kind, left(time.Until(*s.Expires))), Style: view.Green}
}

func (a *app) channel() *cobra.Command {
	cmd := &cobra.Command{Use: "channel", Short: "Channels: the choices between repositories that stand for each other", GroupID: "contracts", Example: "  lantern channel list"}
	cmd.AddCommand(a.channelList())
	return cmd
}

func (a *app) channelList() *cobra.Command {
	var l listFlags
	var q string
	var variants bool
	cmd := &cobra.Command{
		Use: "list", Short: "List channels: what opens each choice, its versions and support, who follows it", Args: cobra.NoArgs,
		Long:    "List the channels of the newest revision. Moving a group from one choice to another is one\nline of the policy: channels: { NAME: CHOICE } in the group's assignment. A group that is\n(decided) follows an open choice by a recorded decision. Debug and source\nvariants are shown with --variants only.",
		Example: "  lantern channel list\n  lantern channel list --variants --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			filter := map[string][]string{}
			if variants {
				filter["variants"] = []string{"true"}
			}
			page, err := a.client().Channels(cmd.Context(), client.List{Query: q, Filter: filter, Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Revision == 0 {
				a.out.Printf("Nothing is published yet: lantern policy publish FOLDER")
				return nil
			}
			if len(page.Channels) == 0 {
				a.out.Printf("Revision %d has no such channel.", page.Revision)
				return nil
			}
			var rows [][]view.Cell
			for _, c := range page.Channels {
				name := c.Name
				for _, x := range c.Choices {
					rows = append(rows, a.choiceRow(name, x))
					name = ""
				}
			}
			a.out.Table([]view.Column{{Name: "CHANNEL"}, {Name: "CHOICE"}, {Name: "REPOSITORY"}, {Name: "VERSION"}, {Name: "SUPPORT"}, {Name: "OPENED BY"}, {Name: "HOSTS", Right: true}, {Name: "FOLLOWED BY", Gives: true}}, rows)
			l.more(a, len(page.Channels), page.Total)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "match", "", "part of the channel's name or title")
	cmd.Flags().BoolVar(&variants, "variants", false, "debug and source variants as well")
	return cmd
}

func (a *app) choiceRow(channel string, x api.ChannelChoice) []view.Cell {
	choice, versions := x.Name, "rolling"
	if x.Variant != "" {
		choice = "  " + x.Variant
	}
	if x.Pinned != "" {
		versions = x.Pinned
	}
	opened := view.Cell{Text: "open to all", Style: view.Plain}
	switch {
	case x.Licensed && len(x.Contracts) > 0:
		opened = view.Cell{Text: x.Contracts[0], Style: view.Green}
		if n := len(x.Contracts) - 1; n > 0 {
			opened.Text += fmt.Sprintf(" + %d", n)
		}
	case x.Licensed:
		opened = view.Cell{Text: "✗ no contract of " + x.Contract, Style: view.Red}
	}
	decided := map[string]string{}
	for _, d := range x.Decision {
		decided[d.Group] = " (decided)"
		if d.Due {
			decided[d.Group] = " (decided, to be looked at again)"
		}
	}
	var by []string
	for _, g := range x.Groups {
		by = append(by, g+decided[g])
	}
	who := strings.Join(by, ", ")
	if who == "" {
		who = "nobody"
	}
	return []view.Cell{{Text: channel, Style: view.Bold}, view.T(choice), view.T(x.Repository), view.T(versions), view.T(x.Support), opened, view.T(fmt.Sprint(x.Hosts)), view.T(who)}
}

func (a *app) secrets() *cobra.Command {
	cmd := &cobra.Command{Use: "secrets", Short: "The key with which the service encrypts its secrets", GroupID: "run", Example: "  lantern secrets rotate"}
	cmd.AddCommand(&cobra.Command{
		Use: "rotate", Short: "Encrypt every secret with a new key, and forget the old one", Args: cobra.NoArgs,
		Long:    "Encrypt every login and all access that the service keeps with a new key. Where the key\ncomes from LANTERN_SECRETS_KEY, put the new one in front of the old one there and start the\nservice again first. Copies of the database from before still need the old key.",
		Example: "  lantern secrets rotate",
		RunE: func(cmd *cobra.Command, _ []string) error {
			n, err := a.client().RotateSecrets(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(map[string]int{"secrets": n}); done {
				return err
			}
			a.out.Printf("%s encrypted with a new key; the old one is forgotten.", view.Count(n, "secret", "secrets"))
			return nil
		},
	})
	return cmd
}
