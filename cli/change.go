package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/service/policies"
)

func (a *app) policy() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "policy",
		Short:   "A policy folder: begin one, check, preview, publish, compare, go back",
		GroupID: "policy",
		Example: "  lantern policy check ./policy\n  lantern policy publish ./policy -m 'Gannet from the open channel'",
	}
	cmd.AddCommand(
		a.policyNew(),
		a.policyLearn(),
		a.policyAdopt(),
		a.policyCheck(),
		a.policyTest(),
		a.policyPreview(),
		a.policyPublish(),
		a.policyCompare(),
		a.policyFormat(),
		a.policyFetch(),
		a.policyRestore(),
		a.policyCodes(),
	)
	return cmd
}

// codeRow is a code as policy codes prints it as JSON.
type codeRow struct {
	Name string `json:"code"`
	policy.Code
}

func (a *app) policyCodes() *cobra.Command {
	return &cobra.Command{
		Use:         "codes [CODE]",
		Short:       "List the codes of diagnostics: what each means and what to do",
		Args:        cobra.MaximumNArgs(1),
		Annotations: map[string]string{moreFormats: "markdown", "list": "yes"},
		ValidArgs:   policy.CodeNames(), Example: "  lantern policy codes\n  lantern policy codes key-mismatch",
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
			page := listed[codeRow]{Total: len(list)}
			for _, name := range list {
				page.Items = append(page.Items, codeRow{name, codes[name]})
			}
			if done, err := a.json(page); done {
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

// sent is folder for commands that go on with what it holds, and so say on the side what it left out.
func (a *app) sent(dir string) (policy.Folder, []diag.Diagnostic, error) {
	f, diags, err := folder(dir)
	for _, d := range diags {
		if d.Code == "left-out" {
			a.errOut.Printf("%s%s/%s: %s", a.errOut.Paint(view.Yellow, "! "), strings.TrimSuffix(dir, "/"), d.File, d.Message)
		}
	}
	return f, diags, err
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
		Long: "Check a policy folder. Without --fleet no service is needed; with it, or with --surveys,\nthe folder is also " +
			"resolved for every host, so that contradictions, names of hosts that there\nare not and definitions that apply nowhere show. " +
			"--format sarif\nprints SARIF 2.1.0, which code review tools read.",
		Example: "  lantern policy check ./policy\n  lantern policy check ./policy --fleet --format json\n  lantern policy check " +
			"./policy --surveys ./surveys\n  lantern policy check ./policy --upstreams\n  lantern policy check ./policy --format sarif > " +
			"policy.sarif",
		Annotations: map[string]string{moreFormats: "sarif"},
		RunE: func(cmd *cobra.Command, args []string) error {
			debug.SetGCPercent(400) // a process of a moment, that holds a folder of text
			f, diags, err := folder(args[0])
			if err != nil {
				return err
			}
			res := api.CheckResult{Diagnostics: diags, Expectations: []reason.Expected{}}
			var p *policy.Policy
			if !diag.HasErrors(diags) {
				var more []diag.Diagnostic
				p, more = policy.Load(f, time.Now())
				res.Looked = policies.Looked(p)
				res.Diagnostics = append(res.Diagnostics, more...)
			}
			if !diag.HasErrors(res.Diagnostics) {
				if err := checkOn(&res, p, from); err != nil {
					return err
				}
			}
			if upstreams && p != nil && !hasBlocking(res.Diagnostics) {
				more, asked, err := a.askUpstreams(cmd.Context(), p, from)
				if err != nil {
					return err
				}
				res.Diagnostics, res.Looked.Upstreams = append(res.Diagnostics, more...), asked
				if more, asked, err = a.askPlaces(cmd.Context(), p, from); err != nil {
					return err
				}
				res.Diagnostics, res.Looked.Places = append(res.Diagnostics, more...), asked
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
				if refuses(res.Diagnostics) {
					return &exit{ExitNo, ""}
				}
				return nil
			}
			if done, err := a.json(res); done {
				if err == nil && refuses(res.Diagnostics) {
					err = &exit{ExitNo, ""}
				}
				return err
			}
			errs := a.diagnostics(args[0], res.Diagnostics)
			looked := lookedSays(&res)
			if upstreams && from == "" {
				looked += "; what stands where hosts get packages was not looked at (--surveys FOLDER)"
			}
			switch {
			case errs > 0:
				return no("%s in %s; nothing would be published", view.Count(errs, "error", "errors"), args[0])
			case refuses(res.Diagnostics):
				return no("what %s would bring to hosts is refused upstream; it could be published, and no host of a rollout would begin there",
					args[0])
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
	cmd.Flags().
		BoolVar(&upstreams, "upstreams", false, "also look from here at what vendors have: Release files that pins match (apt) and, with\n"+
			"--surveys, each place of packages")
	cmd.MarkFlagsMutuallyExclusive("fleet", "surveys")
	return cmd
}

// refuses reports whether a check ends with no: for an error, or since hosts would be brought to what is refused.
func refuses(list []diag.Diagnostic) bool {
	return diag.HasErrors(list) || slices.ContainsFunc(list, func(d diag.Diagnostic) bool { return d.Code == "upstream-refused" })
}

// lookedSays counts what a check has looked at, and what it has not.
func lookedSays(res *api.CheckResult) string {
	l := &res.Looked
	parts := []string{
		view.Count(l.Files, "file", "files"), view.Count(l.Repositories, "repository", "repositories"), view.Count(l.Keys, "key", "keys"),
	}
	if l.Channels+l.Contracts > 0 {
		parts = append(parts, view.Count(l.Channels, "channel", "channels"), view.Count(l.Contracts, "contract", "contracts"))
	}
	parts = append(parts, view.Count(l.Groups, "group", "groups"), view.Count(l.Assignments, "assignment", "assignments"))
	text := strings.Join(parts, ", ") + expectedSays(res.Expectations)
	if l.Hosts > 0 {
		text += ", for " + view.Count(l.Hosts, "host", "hosts")
	}
	if l.Upstreams > 0 {
		text += fmt.Sprintf(", %s asked for", view.Count(l.Upstreams, "Release file", "Release files"))
	}
	if l.Places > 0 {
		text += fmt.Sprintf(", %s seen", view.Count(l.Places, "place of packages", "places of packages"))
	}
	if l.Unseen > 0 {
		text += fmt.Sprintf("; of %s of packages it is not known what stands there", view.Count(l.Unseen, "place", "places"))
	}
	if l.Unknown > 0 {
		text += fmt.Sprintf("; %s sent no survey yet, so it was not looked at for them", view.Count(l.Unknown, "host has", "hosts have"))
	}
	if l.Unsure > 0 {
		text += fmt.Sprintf("; %s not said yet whether what repositories need is there", view.Count(l.Unsure, "host has", "hosts have"))
	}
	return text
}

func (a *app) policyPublish() *cobra.Command {
	var message string
	var believe []string
	var alone bool
	cmd := &cobra.Command{
		Use: "publish FOLDER", Short: "Publish a policy folder as a numbered revision", Args: cobra.ExactArgs(1),
		Long: "Publish a policy folder. A revision is never changed afterwards; no host changes\nuntil a rollout carries it there. " +
			"Where the newest revision wants somebody else's\nconsent, propose it: lantern proposal add FOLDER.",
		Example: "  lantern policy publish ./policy -m 'Gannet from the open channel'\n" +
			"  lantern policy publish ./policy -m 'somebody else agrees before a quarter of the fleet' --format json",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, diags, err := a.sent(args[0])
			if err != nil {
				return err
			}
			if !diag.HasErrors(diags) {
				_, more := policy.Published(f, time.Now()) // what the newest revision says already the service judges
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
			r, err := a.client().Publish(cmd.Context(), api.Publication{Files: f, Message: message, Believe: believe, Alone: alone})
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
			a.out.Printf(
				"%s Next: lantern policy preview, then lantern rollout begin",
				a.out.Paint(view.Bold, fmt.Sprintf("Revision %d published.", r.Number)),
			)
			return nil
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "what changed, for those who come later")
	believeFlag(cmd, &believe)
	aloneFlag(cmd, &alone)
	return cmd
}

func aloneFlag(cmd *cobra.Command, to *bool) {
	cmd.Flags().BoolVar(to, "alone", false, "without the consent that the newest revision wants; say with --message why it cannot wait")
}

func believeFlag(cmd *cobra.Command, to *[]string) {
	cmd.Flags().StringSliceVar(to, "believe", nil, "keys that the newest revision withdraws, and that are to be believed again")
}

// previewed works a preview out: of a revision, or of a folder on the fleet or on saved
// surveys.
func (a *app) previewed(ctx context.Context, args []string, from string, revision int64) (api.Preview, error) {
	if len(args) == 0 && from != "" {
		return api.Preview{}, wrong("--surveys tries a policy folder; name it: lantern policy preview FOLDER --surveys %s", from)
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
	f, diags, err := a.sent(args[0])
	if err != nil {
		return api.Preview{}, err
	}
	if diag.HasErrors(diags) {
		a.diagnostics(args[0], diags)
		return api.Preview{}, no("%s in %s", view.Count(len(diags), "error", "errors"), args[0])
	}
	return a.client().PreviewFolder(ctx, api.Publication{Files: f})
}
