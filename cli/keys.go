package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/trust"
)

func (a *app) key() *cobra.Command {
	cmd := &cobra.Command{
		Use: "key", Short: "Show which signing keys the fleet believes", GroupID: "fleet",
		Example: "  lantern key list\n  lantern key show saltmarsh-2026",
	}
	lists(cmd, a.keyList())
	cmd.AddCommand(a.keyShow(), a.keyRetire(), a.keyWithdraw())
	return cmd
}

// keyState is how a state of a key is shown.
type keyState struct {
	sign, word string
	style      view.Style
}

// lookOf is how a key is shown: one that the policy names and no host has is not called good.
func lookOf(k *trust.FleetKey) keyState {
	if k.State == trust.Good && k.Hosts == 0 {
		return keyState{"·", "on no host", view.Dim}
	}
	return keyLook[k.State]
}

// keyLook is how the states of a key are shown.
var keyLook = map[string]keyState{
	trust.Revoked:   {"!!", "revoked", view.Red},
	trust.Withdrawn: {"!!", "withdrawn", view.Red},
	trust.Ended:     {"!!", "has ended", view.Red},
	trust.Ends:      {"!", "ends soon", view.Yellow},
	trust.Weak:      {"!", "weak", view.Yellow},
	trust.Unknown:   {"?", "not in the policy", view.Yellow},
	trust.Good:      {"=", "as the policy says", view.Green},
}

func (a *app) keyList() *cobra.Command {
	var l listFlags
	var states []string
	var q string
	var idle bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the keys that package managers believe, and on how many hosts", Args: cobra.NoArgs,
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "List every signing key that a package manager of the fleet really believes: on how many hosts, on how\n" +
			"many of those for every source, until when, and whether the policy knows it. The worst come first.\n" +
			"Which key a vendor signs with today is what the service saw there last (lantern repository list).",
		Example: "  lantern key list\n  lantern key list --state unknown,ended\n  lantern key list --match saltmarsh --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			stop := a.waiting("gathering the keys")
			page, err := a.client().Keys(cmd.Context(), idle, client.List{
				Query: q, Filter: map[string][]string{"state": states}, Sort: l.sort(), Page: l.page, PerPage: l.perPage,
			})
			stop()
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			var rows [][]string
			for i := range page.Keys {
				rows = append(rows, keyRow(&page.Keys[i]))
			}
			head := []string{
				"fingerprint",
				"name",
				"state",
				"algorithm",
				"expires",
				"hosts",
				"for_every_source",
				"idle",
				"policy",
				"repositories",
				"replacement",
			}
			if done, err := a.csv(head, rows); done {
				return err
			}
			a.out.Printf(
				"%s believed or named by the policy, on %s\n",
				view.Count(page.Total, "key", "keys"),
				view.Count(page.Hosts, "host", "hosts"),
			)
			a.keyTable(page.Keys)
			l.more(a, len(page.Keys), page.Total)
			a.unsurveyed(page.Unknown)
			a.silent(a.out, page.Silent)
			if page.Revision == 0 {
				a.out.Printf("Nothing is published yet, so the policy knows none of them: lantern policy publish FOLDER")
			}
			return nil
		},
	}
	l.add(cmd, "state", "hosts", "ends", "name")
	choose(cmd, &states, "state", true, "only keys in these states: "+strings.Join(trust.States, ", "), trust.States...)
	cmd.Flags().StringVar(&q, "match", "", "part of a fingerprint, a user id, or the name in the policy")
	cmd.Flags().BoolVar(&idle, "idle", false, "also keys that stand on hosts and that nothing uses")
	return cmd
}

// unsurveyed counts the hosts of which nothing is known.
func (a *app) unsurveyed(n int) {
	if n > 0 {
		a.out.Printf("%s sent no survey yet, so which keys they believe is not known.", a.unsure(n))
	}
}

func keyRow(k *trust.FleetKey) []string {
	return []string{
		k.Fingerprint, k.Name(), k.State, k.Algorithm, keyEnds(k), strconv.Itoa(k.Hosts), strconv.Itoa(k.Wide), strconv.Itoa(k.Idle), k.Policy,
		strings.Join(k.For, " "), k.Replacement,
	}
}

// keyEnds is the day on which a key ends.
func keyEnds(k *trust.FleetKey) string {
	if k.Expires == nil {
		return "never"
	}
	return k.Expires.UTC().Format("2006-01-02")
}

func (a *app) keyTable(keys []trust.FleetKey) {
	var rows [][]view.Cell
	for i := range keys {
		k := &keys[i]
		look := lookOf(k)
		until := keyEnds(k)
		if k.Expires != nil && k.State == trust.Ends {
			until += fmt.Sprintf(", %d days", int(time.Until(*k.Expires).Hours()/24))
		}
		rows = append(rows, []view.Cell{
			{Text: look.sign + " " + look.word, Style: look.style},
			view.T(k.Name()),
			view.T(strconv.Itoa(k.Hosts)),
			view.T(cmp.Or(k.BelievedFor, "-")),
			view.T(until),
			view.T(k.Algorithm),
			view.T(k.Fingerprint[max(len(k.Fingerprint)-16, 0):]),
		})
	}
	a.out.Table([]view.Column{
		{Name: "STATE"}, {Name: "KEY", Gives: true}, {Name: "HOSTS", Right: true}, {Name: "BELIEVED FOR", Less: 1},
		{Name: "UNTIL", Less: 2}, {Name: "ALGORITHM", Less: 3}, {Name: "LAST 16"},
	}, rows)
	for i := range keys {
		k := &keys[i]
		if k.Replacement != "" {
			a.out.Printf("\n%s", a.out.Wrap(0, k.Name()+": "+k.Replacement+"."))
		}
		if k.MayGo {
			a.out.Printf("Take it out: lantern key retire %s FOLDER", k.Name())
		}
	}
}

func (a *app) keyShow() *cobra.Command {
	var l listFlags
	var idle bool
	var q string
	var scope []string
	cmd := &cobra.Command{
		Use: "show KEY", Short: "Show one key, and which hosts believe it", Args: cobra.ExactArgs(1),
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "Show a key with its whole fingerprint, and every host that believes it: for which sources, and where it\n" +
			"stands. KEY is a fingerprint, its last 16 digits or more, or the name that the policy gives.",
		Example: "  lantern key show saltmarsh-2026\n  lantern key show saltmarsh-2026 --format csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			stop := a.waiting("gathering the hosts")
			d, err := a.client().Key(cmd.Context(), args[0], idle, client.List{
				Query: q, Filter: map[string][]string{"scope": scope}, Page: l.page, PerPage: l.perPage,
			})
			stop()
			if err != nil {
				return err
			}
			if done, err := a.json(d); done {
				return err
			}
			if done, err := a.csv([]string{"host", "system", "scope", "used", "where", "sources"}, keyHosts(d.On)); done {
				return err
			}
			a.keyHead(&d.FleetKey)
			a.keyHostTable(d.On)
			l.more(a, len(d.On), d.Total)
			a.unsurveyed(d.Unknown)
			a.silent(a.out, d.Silent, d.Quiet...)
			return nil
		},
	}
	l.add(cmd)
	cmd.Flags().StringVar(&q, "match", "", "only hosts with this in their name or system, or in a place where the key stands")
	choose(cmd, &scope, "scope", false, "only hosts that believe it for every source (any), or for named ones (named)",
		source.ScopeAny, source.ScopeNamed)
	cmd.Flags().BoolVar(&idle, "idle", false, "also hosts on which it stands and nothing uses it")
	return cmd
}

// keyHosts are the hosts that believe a key, as CSV has them.
func keyHosts(on []api.KeyHost) (out [][]string) {
	for _, h := range on {
		out = append(out, []string{
			h.Host, h.OS, h.Scope, strconv.FormatBool(h.Used), strings.Join(h.Where, " "), strings.Join(h.Sources, " "),
		})
	}
	return out
}

// keyHostTable prints the hosts that believe a key.
func (a *app) keyHostTable(on []api.KeyHost) {
	var rows [][]view.Cell
	for _, h := range on {
		scope := "named sources"
		switch {
		case !h.Used:
			scope = "nothing: " + h.Because
		case h.Scope == source.ScopeAny:
			scope = "every source"
		}
		rows = append(rows, []view.Cell{
			view.T(h.Host), view.T(scope), view.T(strings.Join(h.Where, ", ")), view.T(strings.Join(h.Sources, ", ")),
		})
	}
	if len(rows) > 0 {
		a.out.Table([]view.Column{
			{Name: "HOST"}, {Name: "BELIEVED FOR"}, {Name: "STANDS IN", Gives: true, Path: true}, {Name: "NAMED BY", Gives: true, Path: true},
		}, rows)
	}
}

// keyHead tells what a key is.
func (a *app) keyHead(k *trust.FleetKey) {
	look := lookOf(k)
	a.out.Printf("%s  %s", a.out.Paint(view.Bold, k.Name()), a.out.Paint(look.style, look.sign+" "+look.word))
	a.out.Printf("%s", k.Fingerprint)
	for _, id := range k.UserIDs {
		a.out.Printf("  %s", id)
	}
	made := ""
	if !k.Created.IsZero() {
		made = ", made " + k.Created.UTC().Format("2006-01-02")
	}
	if k.Algorithm != "" { // else nobody has it, so nobody knows what it is
		a.out.Printf("%s%s, ends %s", k.Algorithm, made, keyEnds(k))
	}
	if k.Withdrawn != "" {
		a.out.Printf("%s", a.out.Paint(view.Red, "The policy takes it away: "+k.Withdrawn))
	}
	if k.Weakness != "" {
		a.out.Printf("%s", a.out.Paint(view.Yellow, "weak: "+k.Weakness))
	}
	switch {
	case k.Policy == "" && k.Withdrawn != "":
	case k.Policy == "":
		a.out.Printf("The policy does not know it.")
	case len(k.For) == 0:
		a.out.Printf("The policy names it, and no repository is believed by it.")
	default:
		a.out.Printf("By the policy for: %s", strings.Join(k.For, ", "))
	}
	if k.Replacement != "" {
		a.out.Printf("%s", k.Replacement+".")
	}
	if k.MayGo {
		a.out.Printf("Take it out: lantern key retire %s FOLDER", k.Policy)
	}
	if k.Signs > 0 {
		a.out.Printf("Signs %s today.", view.Count(k.Signs, "place of packages", "places of packages"))
	}
	on := "Believed on " + view.Count(k.Hosts, "host", "hosts")
	if k.Wide > 0 {
		on += fmt.Sprintf(", on %d of them for every source", k.Wide)
	}
	if k.Idle > 0 {
		on += fmt.Sprintf("; %d more have it and nothing uses it (--idle)", k.Idle)
	}
	a.out.Printf("%s.\n", on)
}
