package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/wire"
)

func (a *app) repository() *cobra.Command {
	cmd := &cobra.Command{
		Use: "repository", Short: "Show where packages come from, and what stands there", GroupID: "fleet",
		Example: "  lantern repository list\n  lantern repository probe saltmarsh base",
	}
	lists(cmd, a.repositoryList())
	cmd.AddCommand(a.repositoryShow(), a.repositoryProbe())
	return cmd
}

// placeLook is how the states of a place are shown.
var placeLook = map[string]keyState{
	api.PlaceTrouble:  {"!!", "refused", view.Red}, // or not reached: seenOf,
	api.PlaceUnknown:  {"?", "not known", view.Yellow},
	api.PlaceUnsigned: {"·", "nothing pinned signs it", view.Dim},
	api.PlaceGood:     {"=", "good", view.Green},
}

// seenOf is how what was seen of a place is shown: what the service could not reach itself is
// not refused by that.
func seenOf(l *api.RepositoryLook) keyState {
	look := placeLook[l.State]
	if l.State == api.PlaceTrouble && l.Kind.Elsewhere() {
		look.word = "not reached"
	}
	return look
}

func (a *app) repositoryList() *cobra.Command {
	var l listFlags
	var states []string
	var q string
	cmd := &cobra.Command{
		Use: "list", Short: "List the places that hosts get packages from", Args: cobra.NoArgs,
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "List every place that a package manager of the fleet gets packages from, and what the service itself saw\n" +
			"there last: whether it answers, which key signed, how fresh it is, how many packages it offers. Refused ones\n" +
			"come first. A place is one address of a repository, with the suite, components and architectures asked for.",
		Example: "  lantern repository list\n  lantern repository list --state trouble,unknown\n" +
			"  lantern repository list --match saltmarsh --format json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			stop := a.waiting("gathering the places")
			page, err := a.client().Repositories(cmd.Context(), client.List{
				Query: q, Filter: map[string][]string{"state": states}, Sort: l.sort(), Page: l.page, PerPage: l.perPage,
			})
			stop()
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if done, err := a.placeCSV(page.Repositories); done {
				return err
			}
			a.placeTable(page.Repositories)
			l.more(a, len(page.Repositories), page.Total)
			a.placeSum(&page, q != "")
			return nil
		},
	}
	l.add(cmd, "state", "hosts", "address", "checked")
	choose(cmd, &states, "state", true, "only places in these states: "+strings.Join(api.PlaceStates, ", "), api.PlaceStates...)
	cmd.Flags().StringVar(&q, "match", "", "part of an address, a suite, or the name of a repository")
	return cmd
}

func (a *app) placeCSV(list []api.Repository) (bool, error) {
	var rows [][]string
	for i := range list {
		r := &list[i]
		rows = append(rows, []string{
			r.Key, r.Family, r.Address, r.Suite, strings.Join(r.Names, " "), strconv.Itoa(r.Hosts), r.Look.State,
			string(r.Look.Kind), r.Look.Why,
			signer(r), strconv.Itoa(r.Look.Packages), moment(r.Look.Checked), moment(r.Look.Read),
		})
	}
	return a.csv([]string{
		"key", "family", "address", "suite", "repositories", "hosts", "state", "cause", "why", "signed_by",
		"packages", "looked_at", "believed_at",
	}, rows)
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(wire.Moment)
}

// signer is who signed what was believed last.
func signer(r *api.Repository) string {
	if r.Look.Found == nil {
		return ""
	}
	for _, k := range r.Keys {
		if k.Signs && k.Policy != "" {
			return k.Policy
		}
	}
	return r.Look.Found.Signer
}

func (a *app) placeTable(list []api.Repository) {
	var rows [][]view.Cell
	for i := range list {
		r := &list[i]
		look := seenOf(&r.Look)
		names := strings.Join(r.Names, ", ")
		if names == "" {
			names = "-"
		}
		rows = append(rows, []view.Cell{
			{Text: look.sign + " " + look.word, Style: look.style}, view.T(names),
			view.T(strings.TrimSpace(r.Family + " " + strings.Join(r.Archs, ","))),
			view.T(
				strings.TrimSpace(strings.Join(append([]string{r.Address, r.Suite}, r.Components...), " ")),
			), view.T(strconv.Itoa(r.Hosts)), view.T(packageCount(r)), view.T(ago(r.Look.Checked)),
		})
	}
	a.out.Table([]view.Column{
		{
			Name: "STATE",
		}, {Name: "REPOSITORY", Gives: true}, {Name: "FOR"}, {Name: "ADDRESS", Gives: true, Path: true}, {Name: "HOSTS", Right: true},
		{Name: "PACKAGES", Right: true}, {Name: "LOOKED AT"},
	}, rows)
	for i := range list {
		r := &list[i]
		if r.Look.State == api.PlaceTrouble {
			a.out.Printf("\n%s", a.out.Wrap(0, fmt.Sprintf("%s: %s.", r.Address, r.Look.Why)))
			a.out.Printf("%s", a.out.Wrap(2, "  "+r.Look.Says+"; "+r.Look.Remedy+"."))
		}
		for _, w := range r.Witnesses {
			if !w.OK {
				a.out.Printf("\n%s", a.out.Wrap(0, fmt.Sprintf("%s: its witness %s", r.Address, witnessWords(w))))
			}
		}
	}
	a.unknownPlaces(list)
}

// unknownPlaces says why it is not known what stands at places, once for those with the same reason.
func (a *app) unknownPlaces(list []api.Repository) {
	var whys []string
	of := map[string][]string{}
	for i := range list {
		r := &list[i]
		if r.Look.State != api.PlaceUnknown {
			continue
		}
		if of[r.Look.Why] == nil {
			whys = append(whys, r.Look.Why)
		}
		of[r.Look.Why] = append(of[r.Look.Why], r.Address)
	}
	for _, why := range whys {
		what := of[why][0] + " is"
		if n := len(of[why]); n > 1 {
			what = fmt.Sprintf("%d places are", n)
		}
		a.out.Printf("\n%s", a.out.Wrap(0, fmt.Sprintf("%s not known: %s.", what, why)))
	}
}

func witnessWords(w api.WitnessOffered) string {
	switch {
	case w.Offered == "":
		return w.Package + " is not offered there."
	case !w.OK:
		return fmt.Sprintf("%s is offered at %s, and at least %s is wanted.", w.Package, w.Offered, w.AtLeast)
	}
	return fmt.Sprintf("%s is offered at %s.", w.Package, w.Offered)
}

func packageCount(r *api.Repository) string {
	if r.Look.Found == nil {
		return "?"
	}
	return strconv.Itoa(r.Look.Packages)
}

func ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return view.Ago(time.Since(*t))
}

// placeSum counts what is known and what is not.
func (a *app) placeSum(p *api.RepositoryPage, picked bool) {
	var parts []string
	for _, st := range api.PlaceStates {
		if n := p.States[st]; n > 0 {
			word := placeLook[st].word
			if st == api.PlaceTrouble {
				word = "refused or not reached"
			}
			parts = append(parts, a.out.Paint(placeLook[st].style, fmt.Sprintf("%d %s", n, word)))
		}
	}
	if len(parts) > 0 {
		a.out.Printf("\n%s", view.Count(total(p.States), "place", "places")+": "+strings.Join(parts, ", ")+".")
	} else {
		a.none(picked, "place", "No place is known.")
	}
	if p.Pending > 0 {
		a.out.Printf(
			"%s still being looked at: lantern repository list shows how that ends.",
			view.Count(p.Pending, "place is", "places are"),
		)
	}
	if p.Unknown > 0 {
		a.out.Printf("%s sent no survey yet, so where they get packages from is not known.", a.unsure(p.Unknown))
	}
	a.silent(a.out, p.Silent)
	if p.Every == 0 {
		a.out.Printf("The service looks only when it is asked to: lantern repository probe")
	}
}

func total(counts map[string]int) (n int) {
	for _, c := range counts {
		n += c
	}
	return n
}

func (a *app) repositoryShow() *cobra.Command {
	var l listFlags
	cmd := &cobra.Command{
		Use: "show REPOSITORY", Short: "Show one repository: each of its places, keys and hosts", Args: cobra.ExactArgs(1),
		Long: "Show everything that is known of a repository: the places that hosts get it from, which key signs there today,\n" +
			"how fresh it is, what changed last, its witnesses, and the hosts. REPOSITORY is a name of the policy, an\n" +
			"address, or the key of a place.",
		Example: "  lantern repository show saltmarsh\n  lantern repository show saltmarsh --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			places, err := a.placesCalled(cmd, args[0])
			if err != nil {
				return err
			}
			var list []api.Repository
			for _, p := range places {
				r, err := a.client().Repository(cmd.Context(), p.Key, client.List{Page: l.page, PerPage: l.perPage})
				if err != nil {
					return err
				}
				list = append(list, r)
			}
			if done, err := a.json(listed[api.Repository]{list, len(list)}); done {
				return err
			}
			for i := range list {
				if i > 0 {
					a.out.Printf("")
				}
				a.place(&list[i])
			}
			return nil
		},
	}
	l.add(cmd)
	return cmd
}

// placesCalled are the places of a repository.
func (a *app) placesCalled(cmd *cobra.Command, name string) (out []api.Repository, err error) {
	stop := a.waiting("gathering the places")
	defer stop()
	page, err := a.client().Repositories(cmd.Context(), client.List{Query: strings.TrimRight(name, "/"), PerPage: 1000})
	if err != nil {
		return nil, err
	}
	for _, r := range page.Repositories {
		same := r.Key == name || strings.TrimRight(r.Address, "/") == strings.TrimRight(name, "/")
		for _, n := range r.Names {
			same = same || n == name
		}
		if same {
			out = append(out, r)
		}
	}
	if len(out) == 0 {
		return nil, no("no host gets packages from %q: it is no repository of the policy that a host uses, and no address; "+
			"lantern repository list shows all", name)
	}
	return out, nil
}

// place tells all of one place.
func (a *app) place(r *api.Repository) {
	look := seenOf(&r.Look)
	name := strings.Join(r.Names, ", ")
	if name == "" {
		name = "not in the policy"
	}
	a.out.Printf("%s  %s", a.out.Paint(view.Bold, name), a.out.Paint(look.style, look.sign+" "+look.word))
	a.out.Printf("%s", strings.TrimSpace(r.Address+" "+r.Suite+" "+strings.Join(r.Components, " ")))
	if len(r.Archs) > 0 {
		a.out.Printf("for %s, %s", r.Family, strings.Join(r.Archs, ", "))
	} else {
		a.out.Printf("for %s", r.Family)
	}
	if len(r.Through) > 0 {
		a.out.Printf("%s", a.out.Wrap(0, "asked for through "+strings.Join(r.Through, ", ")))
	}
	if r.Look.Why != "" {
		a.out.Printf("%s", a.out.Wrap(0, "Why: "+r.Look.Why+"."))
	}
	if r.Look.Remedy != "" {
		a.out.Printf("%s", a.out.Wrap(0, "What to do: "+r.Look.Remedy+"."))
	}
	since := ""
	if r.Look.Since != nil {
		since = ", so since " + r.Look.Since.UTC().Format("2006-01-02 15:04 MST")
	}
	a.out.Printf("Looked at %s%s.", ago(r.Look.Checked), since)
	if f := r.Look.Found; f != nil {
		what := "Believed last " + ago(r.Look.Read) + ": " + view.Count(r.Look.Packages, "package", "packages")
		if !f.Date.IsZero() {
			what += ", made " + f.Date.UTC().Format("2006-01-02 15:04 MST")
		}
		if f.ValidUntil != nil {
			what += ", good until " + f.ValidUntil.UTC().Format("2006-01-02 15:04 MST")
		}
		a.out.Printf("%s.", what)
		for _, n := range f.Notes {
			a.out.Printf("%s", a.out.Wrap(0, "Note: "+n+"."))
		}
	}
	if c := r.Look.Changes; c != nil {
		a.out.Printf("Changed %s: %d new, %d gone, %d in other versions.", ago(r.Look.Changed), c.Added, c.Removed, c.Updated)
		for _, n := range c.Names {
			a.out.Printf("  %s", n)
		}
	}
	for _, w := range r.Witnesses {
		a.out.Printf("Witness: %s", witnessWords(w))
	}
	for _, k := range r.Keys {
		a.out.Printf("Key %s", placeKey(k))
	}
	on := view.Count(r.OnTotal, "host gets", "hosts get") + " packages from it"
	var hosts []string
	for _, h := range r.On {
		hosts = append(hosts, h.Host)
	}
	if len(hosts) > 0 {
		on += ": " + strings.Join(hosts, ", ")
	}
	if len(hosts) < r.OnTotal {
		on += fmt.Sprintf(" and %d more (--page)", r.OnTotal-len(hosts))
	}
	a.out.Printf("%s", a.out.Wrap(0, on+"."))
}

func placeKey(k api.RepositoryKey) string {
	out := k.Fingerprint
	if k.Policy != "" {
		out += " (" + k.Policy + ")"
	} else {
		out += " (not in the policy, so nothing is held against it)"
	}
	if k.Signs {
		out += " signs it today"
	}
	return out
}

func (a *app) repositoryProbe() *cobra.Command {
	cmd := &cobra.Command{
		Use: "probe [REPOSITORY]...", Short: "Have the service look at repositories now",
		Annotations: map[string]string{moreFormats: "csv"},
		Long: "Have the service look now at the places that hosts get repositories from, or at all of them: whether they\n" +
			"answer, whether a pinned key signed, whether the metadata is fresh and is what was promised. The exit status is\n" +
			"1 where one is refused.",
		Example: "  lantern repository probe\n  lantern repository probe saltmarsh base",
		RunE: func(cmd *cobra.Command, args []string) error {
			stop := a.waiting("looking at the repositories")
			page, err := a.client().Probe(cmd.Context(), args)
			stop()
			if err != nil {
				return err
			}
			done, err := a.json(page)
			if !done && err == nil {
				done, err = a.placeCSV(page.Repositories)
			}
			if err != nil {
				return err
			}
			if !done {
				a.placeTable(page.Repositories)
				a.placeSum(&page, false)
			}
			if page.States[api.PlaceTrouble] > 0 {
				return &exit{status: ExitNo}
			}
			return nil
		},
	}
	return cmd
}
