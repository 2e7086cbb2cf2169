package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/rollout"
	"patientlantern.example/lantern/service"
)

func (a *app) policy() *cobra.Command {
	cmd := &cobra.Command{Use: "policy", Short: "Check and publish a policy folder", GroupID: "policy", Example: "  lantern policy check ./policy\n  lantern policy publish ./policy -m 'Saltmarsh 9 for gateways'"}
	cmd.AddCommand(a.policyCheck(), a.policyPublish(), a.policyCompare(), a.policyFormat(), a.policyNew(), a.policyFetch(), a.policyRestore(), a.policyCodes())
	return cmd
}

func (a *app) policyCodes() *cobra.Command {
	return &cobra.Command{
		Use: "codes [CODE]", Short: "List the codes of diagnostics: what each means and what to do", Args: cobra.MaximumNArgs(1), Annotations: map[string]string{moreFormats: "markdown"},
		ValidArgs: policy.CodeNames(), Example: "  lantern policy codes\n  lantern policy codes key-mismatch",
		RunE: func(_ *cobra.Command, args []string) error {
			if a.format == "markdown" {
				fmt.Fprint(a.out, policy.Reference())
				return nil
			}
			list := policy.CodeNames()
			codes := policy.Codes
			if len(args) == 1 {
				c, ok := policy.Codes[args[0]]
				if !ok {
					near := "; `lantern policy codes` lists them"
					if n := names.Nearest(args[0], list); n != "" {
						near = fmt.Sprintf("; did you mean %q?", n)
					}
					return no("there is no code %q%s", args[0], near)
				}
				list, codes = args, map[string]policy.Code{args[0]: c}
			}
			if done, err := a.json(codes); done {
				return err
			}
			for _, name := range list {
				c := codes[name]
				style := view.Yellow
				if c.Severity == diag.Error {
					style = view.Red
				}
				a.out.Printf("%s  %s", a.out.Paint(view.Bold, name), a.out.Paint(style, c.Severity))
				a.out.Printf("%s", a.out.Wrap(2, c.Meaning+": "+c.Remedy))
			}
			return nil
		},
	}
}

// folder reads a policy folder.
func folder(dir string) (policy.Folder, []diag.Diagnostic, error) {
	info, err := os.Stat(dir)
	if err != nil {
		return nil, nil, wrong("there is no folder %s", dir)
	}
	if !info.IsDir() {
		return nil, nil, wrong("%s is not a folder; name the folder that holds policy.yaml", dir)
	}
	f, diags := policy.Collect(os.DirFS(dir))
	return f, diags, nil
}

// mostExcerpts is for how many diagnostics the line is shown: whoever has more begins at
// the top.
const mostExcerpts = 50

// diagnostics prints what is wrong with a policy and returns the number of errors.
func (a *app) diagnostics(dir string, list []diag.Diagnostic) (errors int) {
	for i, d := range list {
		style := view.Yellow
		if d.Severity == diag.Error {
			style = view.Red
			errors++
		}
		d.File = strings.TrimSuffix(dir, "/") + "/" + d.File
		d.Also = slices.Clone(d.Also)
		for i := range d.Also {
			d.Also[i].File = strings.TrimSuffix(dir, "/") + "/" + d.Also[i].File
		}
		text := d.String()
		place := d.Pos.String() + ": "
		a.out.Printf("%s%s", a.out.Paint(view.Bold, place), a.out.Paint(style, d.Severity)+strings.TrimPrefix(text, place+d.Severity))
		if i >= mostExcerpts {
			continue
		}
		data, err := os.ReadFile(d.File)
		if err != nil {
			continue // the diagnostic says so itself
		}
		line, caret := diag.Excerpt(data, d.Pos)
		if shown := string(family.MaskText([]byte(line))); shown != line {
			line, caret = shown, "" // a password stands in it, and the columns are others now
		}
		if line != "" {
			a.out.Printf("  %s", a.out.Paint(view.Dim, line))
		}
		if caret != "" {
			a.out.Printf("  %s", a.out.Paint(style, caret))
		}
	}
	return errors
}

func (a *app) policyCheck() *cobra.Command {
	var fleet, upstreams bool
	var from string
	cmd := &cobra.Command{
		Use: "check FOLDER", Short: "Say what is wrong with a policy folder, by file, line and column", Args: cobra.ExactArgs(1),
		Long:    "Check a policy folder. Without --fleet no service is needed; with it, or with --surveys,\nthe folder is also resolved for every host, so that contradictions, names of hosts that there\nare not and definitions that apply nowhere show. --format sarif\nprints SARIF 2.1.0, which code review tools read.",
		Example: "  lantern policy check ./policy\n  lantern policy check ./policy --fleet --format json\n  lantern policy check ./policy --surveys ./surveys\n  lantern policy check ./policy --upstreams\n  lantern policy check ./policy --format sarif > policy.sarif", Annotations: map[string]string{moreFormats: "sarif"},
		RunE: func(cmd *cobra.Command, args []string) error {
			f, diags, err := folder(args[0])
			if err != nil {
				return err
			}
			res := api.CheckResult{Diagnostics: diags}
			var p *policy.Policy
			if !diag.HasErrors(diags) {
				var more []diag.Diagnostic
				p, more = policy.Load(f, time.Now())
				res.Looked = service.Looked(p)
				res.Diagnostics = append(res.Diagnostics, more...)
			}
			if from != "" && !diag.HasErrors(res.Diagnostics) {
				hosts, err := surveys(from)
				if err != nil {
					return err
				}
				r := resolveFor(p, hosts)
				res.Looked.Hosts = r.fleet.Hosts()
				res.Diagnostics = append(res.Diagnostics, r.fleet.Diagnostics()...)
			}
			if upstreams && p != nil && !hasBlocking(res.Diagnostics) {
				more, asked, err := a.askUpstreams(cmd.Context(), p, from)
				if err != nil {
					return err
				}
				res.Diagnostics, res.Looked.Upstreams = append(res.Diagnostics, more...), asked
			}
			if fleet && !diag.HasErrors(res.Diagnostics) {
				asked := res
				if res, err = a.client().Check(cmd.Context(), api.Publication{Files: f}); err != nil {
					return err
				}
				res.Looked.Upstreams = asked.Looked.Upstreams
				for _, d := range asked.Diagnostics {
					if !slices.ContainsFunc(res.Diagnostics, func(x diag.Diagnostic) bool { return x.Code == d.Code && x.Pos == d.Pos }) {
						res.Diagnostics = append(res.Diagnostics, d)
					}
				}
			}
			if res.Diagnostics == nil {
				res.Diagnostics = []diag.Diagnostic{}
			}
			if a.format == "sarif" {
				text, err := diag.SARIF(Version, policy.Meanings(), strings.TrimSuffix(filepath.ToSlash(args[0]), "/"), res.Diagnostics)
				if err != nil {
					return err
				}
				fmt.Fprintln(a.out.JSON(), string(text))
				if diag.HasErrors(res.Diagnostics) {
					return &exit{ExitNo, ""}
				}
				return nil
			}
			if done, err := a.json(res); done {
				if err == nil && diag.HasErrors(res.Diagnostics) {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			errs := a.diagnostics(args[0], res.Diagnostics)
			l := res.Looked
			looked := fmt.Sprintf("%s, %s, %s", view.Count(l.Files, "file", "files"), view.Count(l.Repositories, "repository", "repositories"), view.Count(l.Keys, "key", "keys"))
			if l.Channels+l.Contracts > 0 {
				looked += fmt.Sprintf(", %s, %s", view.Count(l.Channels, "channel", "channels"), view.Count(l.Contracts, "contract", "contracts"))
			}
			looked += fmt.Sprintf(", %s, %s", view.Count(l.Groups, "group", "groups"), view.Count(l.Assignments, "assignment", "assignments"))
			if l.Hosts > 0 {
				looked += ", for " + view.Count(l.Hosts, "host", "hosts")
			}
			if l.Upstreams > 0 {
				looked += fmt.Sprintf(", %s asked for", view.Count(l.Upstreams, "Release file", "Release files"))
			}
			if l.Unknown > 0 {
				looked += fmt.Sprintf("; %s sent no survey yet, so it was not looked at for them", view.Count(l.Unknown, "host has", "hosts have"))
			}
			if l.Unsure > 0 {
				looked += fmt.Sprintf("; %s not said yet whether what repositories need is there", view.Count(l.Unsure, "host has", "hosts have"))
			}
			switch {
			case errs > 0:
				return no("%s in %s; nothing would be published", view.Count(errs, "error", "errors"), args[0])
			case len(res.Diagnostics) > 0:
				a.out.Printf("%s, no errors: %s", view.Count(len(res.Diagnostics), "warning", "warnings"), looked)
			default:
				a.out.Printf("%s: %s", a.out.Paint(view.Green, "no problems"), looked)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&from, "surveys", "", "also resolve it for the hosts of a folder of saved surveys")
	cmd.Flags().BoolVar(&fleet, "fleet", false, "also resolve it for every host, through the service")
	cmd.Flags().BoolVar(&upstreams, "upstreams", false, "also ask vendors for the Release files that pins match (apt), and hold them against the policy")
	cmd.MarkFlagsMutuallyExclusive("fleet", "surveys")
	return cmd
}

func (a *app) policyPublish() *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use: "publish FOLDER", Short: "Publish a policy folder as a numbered revision", Args: cobra.ExactArgs(1),
		Long:    "Publish a policy folder. A revision is never changed afterwards; no host changes\nuntil a rollout carries it there.",
		Example: "  lantern policy publish ./policy -m 'Gannet from the open channel'",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, diags, err := folder(args[0])
			if err != nil {
				return err
			}
			if !diag.HasErrors(diags) {
				_, more := policy.Load(f, time.Now())
				diags = append(diags, more...)
			}
			if diag.HasErrors(diags) {
				if done, err := a.json(api.CheckResult{Diagnostics: diags}); done {
					if err != nil {
						return err
					}
				} else {
					a.diagnostics(args[0], diags)
				}
				return no("the policy has errors; nothing was published")
			}
			r, err := a.client().Publish(cmd.Context(), api.Publication{Files: f, Message: message})
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.diagnostics(args[0], r.Diagnostics)
			if !r.Fresh {
				a.out.Printf("Revision %d holds this very folder already; nothing new was published.", r.Number)
				return nil
			}
			a.out.Printf("%s Next: lantern preview, then lantern rollout begin", a.out.Paint(view.Bold, fmt.Sprintf("Revision %d published.", r.Number)))
			return nil
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "what changed, for those who come later")
	return cmd
}

func (a *app) revisions() *cobra.Command {
	return &cobra.Command{
		Use: "revisions", Short: "List the published revisions", GroupID: "policy", Args: cobra.NoArgs, Example: "  lantern revisions",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.client().Revisions(cmd.Context())
			if err != nil {
				return err
			}
			if done, err := a.json(list); done {
				return err
			}
			if len(list.Revisions) == 0 {
				a.out.Printf("Nothing is published yet: lantern policy publish FOLDER")
				return nil
			}
			var rows [][]view.Cell
			for _, r := range list.Revisions {
				rows = append(rows, []view.Cell{view.T(fmt.Sprint(r.Number)), view.T(r.Created.Local().Format("2006-01-02 15:04")), view.T(r.Author), view.T(fmt.Sprint(r.Hosts)), view.T(r.Message)})
			}
			a.out.Table([]view.Column{{Name: "REVISION", Right: true}, {Name: "PUBLISHED"}, {Name: "BY"}, {Name: "HOSTS", Right: true}, {Name: "MESSAGE", Gives: true}}, rows)
			return nil
		},
	}
}

func (a *app) preview() *cobra.Command {
	var revision int64
	var from string
	cmd := &cobra.Command{
		Use: "preview [FOLDER]", Short: "Show which hosts a revision or a policy folder would change, and the exact lines", GroupID: "policy", Args: cobra.MaximumNArgs(1),
		Long: "Show what carrying a revision, or a policy folder that is not published, would change. Hosts\nthat would change in the same way stand together, the largest group first. What weakens\n" +
			"security and what comes to stand above other sources is told at the top.\n\nWith --surveys no service is needed: the folder is tried on saved surveys (lantern survey save),\nas in a pipeline that reviews a change of the policy.",
		Example: "  lantern preview\n  lantern preview --revision 3 --format json\n  lantern preview ./policy\n  lantern preview ./policy --surveys ./surveys",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.previewed(cmd.Context(), args, from, revision)
			if err != nil {
				return err
			}
			if done, err := a.json(p); done {
				return err
			}
			a.showPreview(p)
			return nil
		},
	}
	cmd.Flags().Int64Var(&revision, "revision", 0, "the revision; 0 for the newest")
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys to try the folder on, instead of the fleet")
	return cmd
}

// previewed works a preview out: of a revision, or of a folder on the fleet or on saved
// surveys.
func (a *app) previewed(ctx context.Context, args []string, from string, revision int64) (api.Preview, error) {
	if len(args) == 0 && from != "" {
		return api.Preview{}, wrong("--surveys tries a policy folder; name it: lantern preview FOLDER --surveys %s", from)
	}
	if len(args) == 1 && revision != 0 {
		return api.Preview{}, wrong("give a folder or --revision, not both")
	}
	stop := a.waiting("working out the changes")
	defer stop()
	switch {
	case from != "":
		return a.previewOffline(args[0], from)
	case len(args) == 0:
		return a.client().Preview(ctx, revision)
	}
	f, diags, err := folder(args[0])
	if err != nil {
		return api.Preview{}, err
	}
	if diag.HasErrors(diags) {
		a.diagnostics(args[0], diags)
		return api.Preview{}, no("%s in %s", view.Count(len(diags), "error", "errors"), args[0])
	}
	return a.client().PreviewFolder(ctx, api.Publication{Files: f})
}

// first tells what people should look at before all else.
func (a *app) first(p api.Preview) {
	for _, x := range []struct {
		sign  string
		style view.Style
		of    func(g *api.PreviewGroup) []string
	}{{"!! weakens security:", view.Red, func(g *api.PreviewGroup) []string { return g.Weakens }}, {"! order:", view.Yellow, func(g *api.PreviewGroup) []string { return g.Overrides }}} {
		hosts := map[string][]string{}
		var order []string
		for i := range p.Groups {
			for _, w := range x.of(&p.Groups[i]) {
				if hosts[w] == nil {
					order = append(order, w)
				}
				hosts[w] = append(hosts[w], p.Groups[i].Hosts...)
			}
		}
		for _, w := range order {
			slices.Sort(hosts[w])
			a.out.Printf("%s %s, on %s: %s", a.out.Paint(x.style, x.sign), w, view.Count(len(hosts[w]), "host", "hosts"), someNames(hosts[w], 8))
		}
	}
}

func (a *app) showPreview(p api.Preview) {
	total := p.Changing + p.Steady + p.Unmanaged + len(p.Unknown)
	what := fmt.Sprintf("Revision %d", p.Revision)
	if p.Revision == 0 {
		what = "The folder"
	}
	switch {
	case p.Changing == 0:
		a.out.Printf("%s would change %s.", what, a.out.Paint(view.Green, "nothing"))
	default:
		a.out.Printf("%s would change %s of %d, in %s.", what, a.out.Paint(view.Bold, view.Count(p.Changing, "host", "hosts")), total, view.Count(len(p.Groups), "way", "ways"))
	}
	if p.Steady > 0 {
		a.out.Printf("%s as it says already.", view.Count(p.Steady, "host is", "hosts are"))
	}
	if p.Unmanaged > 0 {
		a.out.Printf("%s of a family that cannot be changed yet.", view.Count(p.Unmanaged, "host is", "hosts are"))
	}
	if len(p.Unknown) > 0 {
		a.out.Printf("%s sent no survey yet: %s", a.unsure(len(p.Unknown)), someNames(p.Unknown, 8))
	}
	if len(p.Unsure) > 0 {
		a.out.Printf("%s not said yet whether what a repository needs is there, and will be asked: %s", a.unsure(len(p.Unsure)), someNames(p.Unsure, 8))
	}
	a.first(p)
	a.seatsAhead(p.Seats)
	for _, g := range p.Groups {
		a.out.Printf("\n%s %s", a.out.Paint(view.Bold, view.Count(len(g.Hosts), "host:", "hosts:")), someNames(g.Hosts, 8))
		for _, f := range g.Files {
			a.out.Printf("  %-6s %s  %s", f.Action, a.out.Paint(view.Cyan, f.Path), a.out.Paint(view.Dim, strings.Join(f.Why, "; ")))
		}
		for _, s := range g.Impossible {
			a.out.Printf("  %s %s", a.out.Paint(view.Red, "!! cannot be done:"), s)
		}
		if g.Diff != "" {
			a.out.Printf("")
			a.out.Diff(2, shortKeysInDiff(g.Diff))
		}
	}
}

// seatsAhead says which seats a rollout would take, and which it cannot.
func (a *app) seatsAhead(s api.SeatsAhead) {
	for _, x := range s.Short {
		a.out.Printf("%s %s needs %s, %d of them missing, so a rollout would not begin; without: %s", a.out.Paint(view.Red, "✗ seats"), x.Group, view.Count(x.Needed, "seat", "seats"), x.Short, someNames(x.Hosts, 8))
		a.out.Printf("%s", a.out.Wrap(4, x.Why))
	}
	if len(s.ByHand) > 0 {
		a.out.Printf("%s %s a seat that nobody has taken, so a rollout would not begin: lantern seat take %s", a.out.Paint(view.Red, "✗ seats"), view.Count(len(s.ByHand), "host needs", "hosts need"), someNames(s.ByHand, 8))
	}
	by := map[string][]string{}
	var order []string
	for _, t := range s.Taking {
		if by[t.Contract] == nil {
			order = append(order, t.Contract)
		}
		by[t.Contract] = append(by[t.Contract], t.Host)
	}
	for _, n := range order {
		a.out.Printf("%s would be taken in %s: %s", view.Count(len(by[n]), "seat", "seats"), n, someNames(by[n], 8))
	}
}

// someNames writes the first names of a list, without what all have in common.
func someNames(list []string, most int) string {
	var names []string
	for _, n := range list[:min(len(list), most)] {
		names = append(names, short(n))
	}
	out := strings.Join(names, " ")
	if len(list) > most {
		out += fmt.Sprintf(" and %d more", len(list)-most)
	}
	return out
}

// shortKeysInDiff folds the inner lines of armoured keys: nobody reads them. The
// fingerprint is in the policy, and --format json has every line.
func shortKeysInDiff(diff string) string {
	var out strings.Builder
	inside, folded := false, 0
	for line := range strings.Lines(diff) {
		switch {
		case strings.Contains(line, "-----BEGIN PGP PUBLIC KEY BLOCK-----"), strings.Contains(line, "-----BEGIN CERTIFICATE-----"):
			inside, folded = true, 0
			out.WriteString(line)
		case inside && strings.Contains(line, "-----END "):
			inside = false
			what := "key"
			if strings.Contains(line, "CERTIFICATE") {
				what = "certificate"
			}
			fmt.Fprintf(&out, "%s … %d lines of the %s …\n%s", line[:1], folded, what, line)
		case inside && (line[0] == '+' || line[0] == '-' || line[0] == ' '):
			folded++
		default:
			inside = false
			out.WriteString(line)
		}
	}
	return out.String()
}

// waiting shows that something is under way when it takes more than a moment.
func (a *app) waiting(what string) (stop func()) {
	if !a.errOut.Live {
		return func() {}
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		start := time.Now()
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				a.errOut.Over("")
				return
			case <-tick.C:
				if d := time.Since(start); d > 700*time.Millisecond {
					a.errOut.Over(fmt.Sprintf("%s, %ds …", what, int(d.Seconds())))
				}
			}
		}
	}()
	return func() { close(done); <-gone }
}

func (a *app) rollout() *cobra.Command {
	cmd := &cobra.Command{Use: "rollout", Short: "Carry a revision to the hosts, and see how far it is", GroupID: "policy", Example: "  lantern rollout begin\n  lantern rollout show 4"}
	cmd.AddCommand(a.rolloutBegin(), a.rolloutShow(), a.rolloutList(), a.rolloutStop())
	return cmd
}

func (a *app) rolloutBegin() *cobra.Command {
	var revision int64
	var wait time.Duration
	var leave bool
	cmd := &cobra.Command{
		Use: "begin", Short: "Carry a revision to all hosts, and watch until it is done", Args: cobra.NoArgs,
		Example: "  lantern rollout begin\n  lantern rollout begin --revision 3 --no-wait",
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := a.client().BeginRollout(cmd.Context(), revision)
			if err != nil {
				return err
			}
			if leave {
				if done, err := a.json(r); done {
					return err
				}
				a.out.Printf("Rollout %d of revision %d begun on %s. Watch it with: lantern rollout show %d", r.ID, r.Revision, view.Count(r.All(), "host", "hosts"), r.ID)
				return nil
			}
			return a.follow(cmd.Context(), r.ID, wait)
		},
	}
	cmd.Flags().Int64Var(&revision, "revision", 0, "the revision; 0 for the newest")
	cmd.Flags().DurationVar(&wait, "wait", 10*time.Minute, "how long to watch; it goes on without watching")
	cmd.Flags().BoolVar(&leave, "no-wait", false, "begin it and come back at once")
	return cmd
}

// mostFollowed is how many hosts a rollout has at most whose lines are written one by one;
// of a larger one, those that need somebody.
const mostFollowed = 200

// pauseFor is how long to wait before looking at a rollout of so many hosts again.
func pauseFor(hosts int) time.Duration {
	if hosts > mostFollowed {
		return 2 * time.Second
	}
	return 250 * time.Millisecond
}

// follow watches a rollout until it ends.
func (a *app) follow(ctx context.Context, id int64, wait time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	told := map[string]bool{}
	width := 0
	start := time.Now()
	for {
		r, err := a.client().Rollout(ctx, id, client.List{PerPage: mostFollowed})
		if err != nil && ctx.Err() == nil {
			return err
		}
		if ctx.Err() != nil {
			return no("rollout %d is still under way after %s; it goes on: lantern rollout show %d", id, wait, id)
		}
		if a.format == "table" {
			width = max(width, longest(r.Hosts))
			a.tellProgress(r, told, width, time.Since(start))
		}
		if r.Ended != nil {
			if done, err := a.json(r); done {
				if err == nil && r.Counts[rollout.Failed]+r.Counts[rollout.Behind] > 0 {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			return a.ended(r)
		}
		select {
		case <-ctx.Done():
		case <-time.After(pauseFor(r.All())):
		}
	}
}

var progressLook = map[rollout.State]struct {
	sign  string
	style view.Style
}{
	rollout.Waiting: {"·", view.Dim}, rollout.Working: {"→", view.Blue}, rollout.Behind: {"?", view.Yellow},
	rollout.Done: {"✓", view.Green}, rollout.Unchanged: {"=", view.Plain}, rollout.Failed: {"✗", view.Red},
}

// tellProgress writes a line for each host that has finished, and on a terminal
// one line for the rest that is written over.
func (a *app) tellProgress(r api.Rollout, told map[string]bool, width int, since time.Duration) {
	if a.out.Live {
		a.out.Over("")
	}
	for _, h := range r.Hosts {
		well := h.State == rollout.Done || h.State == rollout.Unchanged
		if told[h.Host] || h.State.Open() || well && r.All() > mostFollowed {
			continue
		}
		told[h.Host] = true
		a.progressLine(h, width)
	}
	if a.out.Live && r.Ended == nil {
		a.out.Over(fmt.Sprintf("%d of %d done, %d at work, %ds …", r.Counts[rollout.Done]+r.Counts[rollout.Unchanged], r.All(), r.Counts[rollout.Working], int(since.Seconds())))
	}
}

// longest is the length of the longest name.
func longest(hosts []api.HostProgress) (n int) {
	for _, h := range hosts {
		n = max(n, len(h.Host))
	}
	return n
}

func (a *app) progressLine(h api.HostProgress, width int) {
	look := progressLook[h.State]
	text := ""
	if h.Report != nil {
		switch h.State {
		case rollout.Failed:
			text = fmt.Sprintf("at %s: %s", h.Report.Step, h.Report.Message)
			if h.Report.Undone {
				text += " (put back as it was)"
			}
			if len(h.Report.Kept) > 0 {
				text += " (kept: " + strings.Join(h.Report.Kept, ", ") + ")"
			}
		case rollout.Done:
			text = view.Count(len(h.Report.Edits), "file", "files") + " changed"
		case rollout.Unchanged:
			text = "was so already"
		case rollout.Working:
			text = "at " + h.Report.Step
		}
		if h.State != rollout.Failed && h.State != rollout.Working && h.Report.Message != "" && len(h.Report.Around) > 0 {
			text += "; " + strings.Join(h.Report.Around, "; ")
		}
		if ok, bad := refreshed(h.Report); ok+bad > 0 {
			text += fmt.Sprintf("; %d of %s refreshed by %s", ok, view.Count(ok+bad, "source", "sources"), h.Report.Refresh)
		}
	}
	if h.State == rollout.Behind {
		text = "gives no sign of life; the others went on, and it catches up when it comes back"
	}
	a.out.Printf("%s  %s  %s", a.out.Paint(look.style, fmt.Sprintf("%s %-9s", look.sign, h.State)), a.out.Paint(view.Bold, fmt.Sprintf("%-*s", width, h.Host)), text)
	if h.Report != nil {
		for _, s := range h.Report.Sources {
			if !s.OK {
				a.out.Printf("%s %s %s %s", strings.Repeat(" ", 13), a.out.Paint(view.Red, "!"), s.URL+" "+s.Suite, a.out.Paint(view.Dim, s.Message))
			}
		}
	}
}

func refreshed(r *api.Report) (ok, bad int) {
	for _, s := range r.Sources {
		if s.OK {
			ok++
		} else {
			bad++
		}
	}
	return ok, bad
}

func (a *app) ended(r api.Rollout) error {
	took := r.Ended.Sub(r.Begun).Round(100 * time.Millisecond)
	if failed, behind := r.Counts[rollout.Failed], r.Counts[rollout.Behind]; failed+behind > 0 {
		text := fmt.Sprintf("rollout %d ended after %s: %s failed, %d done, %d unchanged", r.ID, took, view.Count(failed, "host", "hosts"), r.Counts[rollout.Done], r.Counts[rollout.Unchanged])
		if behind > 0 {
			text += fmt.Sprintf(", %d left behind without a sign of life", behind)
		}
		return no("%s", text)
	}
	if r.Stopped != nil {
		a.out.Printf("%s %d changed, %d unchanged before it was stopped.", a.out.Paint(view.Yellow, fmt.Sprintf("Rollout %d stopped:", r.ID)), r.Counts[rollout.Done], r.Counts[rollout.Unchanged])
		return nil
	}
	a.out.Printf("%s %d changed, %d unchanged, in %s.", a.out.Paint(view.Green, fmt.Sprintf("Rollout %d done:", r.ID)), r.Counts[rollout.Done], r.Counts[rollout.Unchanged], took)
	return nil
}

func (a *app) rolloutShow() *cobra.Command {
	var l listFlags
	var states []string
	var q string
	cmd := &cobra.Command{
		Use: "show NUMBER", Short: "Show how far a rollout is, host by host, those first that need somebody", Args: cobra.ExactArgs(1),
		Example: "  lantern rollout show 4\n  lantern rollout show 4 --state failed,behind",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			list := client.List{Query: q, Filter: map[string][]string{"state": states}, Page: l.page, PerPage: l.perPage}
			r, err := a.client().Rollout(cmd.Context(), id, list)
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.showRollout(r)
			l.more(a, len(r.Hosts), r.Total)
			return nil
		},
	}
	l.add(cmd)
	var names []string
	for _, st := range rollout.States {
		names = append(names, string(st))
	}
	choose(cmd, &states, "state", true, "only hosts in these states: "+strings.Join(names, ", "), names...)
	cmd.Flags().StringVar(&q, "match", "", "only hosts with this in their name")
	return cmd
}

func (a *app) showRollout(r api.Rollout) {
	state := "under way"
	if r.Ended != nil {
		state = "ended after " + r.Ended.Sub(r.Begun).Round(100*time.Millisecond).String()
	}
	a.out.Printf("%s of revision %d by %s, begun %s, %s", a.out.Paint(view.Bold, fmt.Sprintf("%s %d", r.Kind, r.ID)), r.Revision, r.Author, r.Begun.Local().Format("2006-01-02 15:04:05"), state)
	var counts []string
	for _, st := range rollout.States {
		if n := r.Counts[st]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, st))
		}
	}
	a.out.Printf("%s: %s\n", view.Count(r.All(), "host", "hosts"), strings.Join(counts, ", "))
	for _, h := range r.Hosts {
		a.progressLine(h, longest(r.Hosts))
		if h.Report == nil {
			continue
		}
		for _, e := range h.Report.Edits {
			a.out.Printf("%s%-6s %s  %s", strings.Repeat(" ", 13), e.Action, a.out.Paint(view.Cyan, e.Path), a.out.Paint(view.Dim, strings.Join(e.Why, "; ")))
		}
	}
}

func number(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, wrong("%q is not the number of a rollout; `lantern rollout list` shows them", s)
	}
	return n, nil
}

func (a *app) rolloutList() *cobra.Command {
	var l listFlags
	cmd := &cobra.Command{
		Use: "list", Short: "List rollouts, the newest first", Args: cobra.NoArgs, Example: "  lantern rollout list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := a.client().Rollouts(cmd.Context(), client.List{Page: l.page, PerPage: l.perPage})
			if err != nil {
				return err
			}
			if done, err := a.json(page); done {
				return err
			}
			if page.Total == 0 {
				a.out.Printf("No rollout yet: lantern rollout begin")
				return nil
			}
			var rows [][]view.Cell
			for _, r := range page.Rollouts {
				ended := view.Cell{Text: "under way", Style: view.Blue}
				if r.Ended != nil {
					ended = view.T(r.Ended.Local().Format("15:04:05"))
				}
				failed := view.T(fmt.Sprint(r.Counts[rollout.Failed]))
				if r.Counts[rollout.Failed] > 0 {
					failed.Style = view.Red
				}
				rows = append(rows, []view.Cell{view.T(fmt.Sprint(r.ID)), view.T(r.Kind), view.T(fmt.Sprint(r.Revision)), view.T(r.Author), view.T(r.Begun.Local().Format("2006-01-02 15:04:05")), ended,
					view.T(fmt.Sprint(r.Counts[rollout.Done])), view.T(fmt.Sprint(r.Counts[rollout.Unchanged])), failed, view.T(fmt.Sprint(r.Counts[rollout.Waiting] + r.Counts[rollout.Working]))})
			}
			a.out.Table([]view.Column{{Name: "ROLLOUT", Right: true}, {Name: "KIND"}, {Name: "REVISION", Right: true}, {Name: "BY"}, {Name: "BEGUN"}, {Name: "ENDED"},
				{Name: "DONE", Right: true}, {Name: "UNCHANGED", Right: true}, {Name: "FAILED", Right: true}, {Name: "TO DO", Right: true}}, rows)
			l.more(a, len(page.Rollouts), page.Total)
			return nil
		},
	}
	l.add(cmd)
	return cmd
}

func (a *app) rolloutStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop NUMBER", Short: "Stop a rollout where nothing was touched yet", Args: cobra.ExactArgs(1), Example: "  lantern rollout stop 4",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			r, err := a.client().StopRollout(cmd.Context(), id)
			if err != nil {
				return err
			}
			if done, err := a.json(r); done {
				return err
			}
			a.out.Printf("Rollout %d stopped: %d changed, %d unchanged, %d failed, %d left behind.", r.ID, r.Counts[rollout.Done], r.Counts[rollout.Unchanged], r.Counts[rollout.Failed], r.Counts[rollout.Behind])
			if len(r.Left) > 0 {
				a.out.Printf("%s at work, and cannot be interrupted safely; they stop before they touch anything, or finish: %s", view.Count(len(r.Left), "host is", "hosts are"), someNames(r.Left, 8))
			}
			return nil
		},
	}
}

// unsure begins a line about hosts of which something is not known.
func (a *app) unsure(n int) string {
	return a.out.Paint(view.Yellow, "? ") + view.Count(n, "host has", "hosts have")
}
