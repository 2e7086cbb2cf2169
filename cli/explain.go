package cli

import (
	"context"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/saved"
)

func (a *app) explain() *cobra.Command {
	var revision int64
	var dir, from string
	var m meant
	cmd := &cobra.Command{
		Use:     "explain HOST [FILE[:LINE] | REPOSITORY]",
		Short:   "Say why a host has what it should have, line by line, and why not what it has not",
		GroupID: "fleet",
		Args:    cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeExplained,
		Long: "Say why a host has what a revision gives it. With a file, each line of it is led back to the\n" +
			"repository, the assignment, the case and the setting that made it, and to where each stands in the\n" +
			"policy. With a repository that the host does not have it says what would have to hold.\n\n" +
			"With --policy and --surveys a folder is explained for a saved survey, and no service is needed.",
		Example: "  lantern explain gw-05\n  lantern explain gw-05 saltmarsh\n  lantern explain gw-05 saltmarsh.sources:6\n" +
			"  lantern explain gw-05 /etc/apt/sources.list\n  lantern " +
			"explain model-1 saltmarsh\n" +
			"  lantern explain gw-05 --policy ./policy --surveys ./surveys\n  lantern explain --group models fulmar",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case (dir == "") != (from == ""):
				return wrong("--policy and --surveys go together: a folder is explained for a saved survey")
			case dir != "" && m.some():
				return wrong("--group and --where ask the service; with --surveys name the host")
			}
			hosts, what := args[:1], strings.Join(args[1:], "")
			if m.some() && len(args) == 1 && dir == "" {
				hosts, what = nil, args[0]
			}
			if dir != "" { // nobody else knows which hosts there are
				var err error
				if hosts, err = spelled(hosts); err != nil {
					return err
				}
			}
			one := func(host string) (reason.Explanation, error) {
				e, err := a.explanation(cmd.Context(), host, dir, from, revision)
				if err != nil {
					return e, err
				}
				picked, err := pick(e, what)
				if err != nil {
					return edited(e, what, err)
				}
				return picked, nil
			}
			show := func(e *reason.Explanation) { a.explained(*e, what, m.several(hosts)) }
			return every(cmd.Context(), a, &m, hosts, one, show)
		},
	}
	listing(cmd)
	m.add(a, cmd)
	cmd.Flags().Int64Var(&revision, "revision", 0, "the revision; 0 for the newest")
	cmd.Flags().StringVar(&dir, "policy", "", "policy folder to explain instead of a revision")
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys in which the host stands")
	return cmd
}

func (a *app) explanation(ctx context.Context, host, dir, from string, revision int64) (reason.Explanation, error) {
	if dir == "" {
		return a.client().Explain(ctx, host, revision)
	}
	p, err := a.loaded(dir)
	if err != nil {
		return reason.Explanation{}, err
	}
	hosts, err := surveys(from)
	if err != nil {
		return reason.Explanation{}, err
	}
	h, err := surveyOf(hosts, host, from)
	if err != nil {
		return reason.Explanation{}, err
	}
	r := resolveFor(p, []saved.Snapshot{*h})
	e, err := r.resolver.Explain(hostOf(h))
	if err != nil {
		return reason.Explanation{}, err
	}
	if sheet := r.results[0].Sheet; sheet != nil {
		e.Fates = reason.Fates(sheet, sheet, &h.Survey)
	}
	return *e, nil
}

// surveyOf picks the survey of a host, by its full or short name, of those that stand in a
// folder.
func surveyOf(hosts []saved.Snapshot, name, folder string) (*saved.Snapshot, error) {
	var all []string
	for i := range hosts {
		h := &hosts[i]
		if h.Host == name || short(h.Host) == name {
			return h, nil
		}
		all = append(all, h.Host, short(h.Host))
	}
	near := ""
	if n := names.Nearest(name, all); n != "" {
		near = fmt.Sprintf("; did you mean %q?", n)
	}
	return nil, no("there is no survey of %q in %s%s", name, folder, near)
}

// edited explains a file that is not the policy's own: what becomes of what stands in it, and
// what the policy says of it. Where the host has no such file the error stays.
func edited(e reason.Explanation, what string, otherwise error) (reason.Explanation, error) {
	file, line := fileAndLine(what)
	x := e.In(file)
	if x == nil {
		return ruled(e, file, otherwise)
	}
	if line > 0 {
		x.Fates = slices.DeleteFunc(x.Fates, func(y reason.Fate) bool { return y.Line != line })
		if len(x.Fates) == 0 {
			return e, no("no entry of %s begins in line %d, in the last survey of %s", x.Path, line, e.Host)
		}
	}
	about := map[string]bool{}
	for _, y := range x.Fates {
		for _, r := range y.Repositories {
			about[r] = true
		}
	}
	e.Edited, e.Files, e.Fates = x, []reason.FileReason{}, nil
	e.Rules = slices.DeleteFunc(e.Rules, func(r reason.RuleReason) bool { return !about[r.Repository] })
	e.Repositories = slices.DeleteFunc(e.Repositories, func(r reason.RepositoryReason) bool { return !about[r.Name] })
	return e, nil
}

// ruled explains a file of which the policy says what has to stand in it beside what others wrote.
func ruled(e reason.Explanation, file string, otherwise error) (reason.Explanation, error) {
	about := map[string]bool{}
	e.Rules = slices.DeleteFunc(e.Rules, func(r reason.RuleReason) bool {
		stands := slices.Contains(r.Stands, file)
		about[r.Repository] = about[r.Repository] || stands
		return !stands
	})
	if len(e.Rules) == 0 {
		return e, otherwise
	}
	e.Files, e.Fates = []reason.FileReason{}, nil
	e.Repositories = slices.DeleteFunc(e.Repositories, func(r reason.RepositoryReason) bool { return !about[r.Name] })
	return e, nil
}

// thens are what a change does to an entry, in words.
var thens = map[string]string{
	"switch-on": "a change switches it on", "switch-off": "a change switches it off", "rewrite": "a change rewrites it",
	"remove": "a change takes it out", "comment-out": "a change makes a comment of it",
}

// showEdited shows the entries of a file that is not the policy's own.
func (a *app) showEdited(x *reason.EditedFile) {
	a.out.Printf("\n%s  %s", a.out.Paint(view.Cyan, x.Path), a.out.Paint(view.Dim, "not the policy's own; its entries as they were last seen"))
	for _, y := range x.Fates {
		state := ""
		if !y.Enabled {
			state = a.out.Paint(view.Dim, "  off")
		}
		a.out.Printf("%s  %s%s", a.out.Paint(view.Dim, fmt.Sprintf("%4d", y.Line)), a.out.Paint(view.Bold, y.Text), state)
		says := y.Why
		if then := thens[y.Then]; then != "" {
			says += ": " + a.out.Paint(view.Yellow, then)
		} else if y.Kind == "unlisted" || y.Kind == "licensed" {
			says += ", and stays (unlisted: report)"
		}
		a.out.Printf("      %s %s", a.out.Paint(view.Cyan, "↳"), says)
	}
}

// pick leaves of an explanation what is asked for.
func pick(e reason.Explanation, what string) (reason.Explanation, error) {
	if what == "" {
		return e, nil
	}
	file, line := what, 0
	if i := strings.LastIndexByte(what, ':'); i >= 0 {
		n, err := strconv.Atoi(what[i+1:])
		if err != nil || n < 1 {
			return e, wrong("%q names no line; write FILE:LINE, as in saltmarsh.sources:6", what)
		}
		file, line = what[:i], n
	}
	var known []string
	for _, r := range e.Repositories {
		if known = append(known, r.Name); r.Name == what {
			e.Repositories = []reason.RepositoryReason{r}
			e.Files = slices.DeleteFunc(e.Files, func(f reason.FileReason) bool { return f.Repository != what })
			e.Rules = slices.DeleteFunc(e.Rules, func(x reason.RuleReason) bool { return x.Repository != what })
			return e, nil
		}
	}
	for _, f := range e.Files {
		known = append(known, path.Base(f.Path))
		if f.Path != file && path.Base(f.Path) != file {
			continue
		}
		e.Repositories = slices.DeleteFunc(e.Repositories, func(r reason.RepositoryReason) bool { return r.Name != f.Repository })
		e.Rules = []reason.RuleReason{}
		if line > len(f.Lines) {
			return e, no("%s has %d lines on this host", f.Path, len(f.Lines))
		}
		if line > 0 {
			f.Lines = f.Lines[line-1 : line]
		}
		e.Files = []reason.FileReason{f}
		return e, nil
	}
	near := ""
	if n := names.Nearest(file, known); n != "" {
		near = fmt.Sprintf("; did you mean %q?", n)
	}
	return e, no("the policy has no repository %q, and gives %s no file of that name%s", file, e.Host, near)
}

func (a *app) explained(e reason.Explanation, what string, named bool) {
	look := map[string]struct {
		sign  string
		style view.Style
	}{reason.On: {"✓ on", view.Green}, reason.Off: {"· off", view.Yellow}, reason.Absent: {"✗ not there", view.Red}}
	if what == "" || named {
		a.out.Printf("%s", a.out.Paint(view.Bold, e.Host))
	}
	slices.SortStableFunc(e.Repositories, func(x, y reason.RepositoryReason) int {
		rank := map[string]int{reason.On: 0, reason.Off: 1, reason.Absent: 2}
		return rank[x.State] - rank[y.State]
	})
	for _, r := range e.Repositories {
		l := look[r.State]
		if slices.ContainsFunc(e.Files, func(f reason.FileReason) bool { return f.Repository == r.Name && f.Media == reason.MediaAway }) {
			l.sign, l.style = "· away with its media", view.Yellow
		}
		a.out.Printf("%s  %s", a.out.Paint(view.Bold, r.Name), a.out.Paint(l.style, l.sign))
		a.causes(4, r.Causes)
		if len(r.Above) > 0 {
			a.out.Printf("    %s %s", a.out.Paint(view.Yellow, "stands above"), strings.Join(r.Above, ", "))
		}
	}
	if what == "" {
		a.out.Printf("\n%s", a.out.Paint(view.Dim, "lantern explain "+short(e.Host)+" REPOSITORY, or a file, shows each line:"))
		for _, f := range e.Files {
			a.out.Printf("  %s  %s", a.out.Paint(view.Cyan, f.Path), a.out.Paint(view.Dim, f.Repository))
		}
		return
	}
	if e.Edited != nil {
		a.showEdited(e.Edited)
	}
	for _, x := range e.Rules {
		a.out.Printf("\n%s", x.Text)
		a.causes(6, x.Causes)
	}
	for _, f := range e.Files {
		a.out.Printf("\n%s", a.out.Paint(view.Cyan, f.Path))
		switch f.Media {
		case reason.MediaAway:
			a.out.Printf("      %s", a.out.Paint(view.Yellow, "away: nothing stands in "+f.While+"; it comes back by itself"))
		case reason.MediaUnknown:
			a.out.Printf("      %s", a.out.Paint(view.Dim, "comes and goes with the media in "+f.While+"; nobody has looked for them yet"))
		}
		for i := 0; i < len(f.Lines); i++ {
			l := f.Lines[i]
			a.out.Printf("%s  %s", a.out.Paint(view.Dim, fmt.Sprintf("%4d", l.Number)), a.out.Paint(view.Bold, l.Text))
			n := 0 // lines behind it that follow from the same
			for i+1 < len(f.Lines) && reflect.DeepEqual(f.Lines[i+1].Causes, l.Causes) && len(f.Lines) > 1 {
				n++
				i++
				if n <= 1 && !strings.Contains(f.Lines[i].Text, "-----BEGIN") && !strings.HasPrefix(l.Text, "-----BEGIN") {
					a.out.Printf(
						"%s  %s",
						a.out.Paint(view.Dim, fmt.Sprintf("%4d", f.Lines[i].Number)),
						a.out.Paint(view.Bold, f.Lines[i].Text),
					)
					n--
				}
			}
			if n > 0 {
				a.out.Printf("      %s", a.out.Paint(view.Dim, fmt.Sprintf("… %d more lines, for the same reason", n)))
			}
			a.causes(8, l.Causes)
		}
	}
}

// causes prints reasons with their places, the places in one column.
func (a *app) causes(indent int, list []reason.Cause) {
	for _, c := range list {
		place := ""
		if c.At != nil {
			place = "  " + a.out.Paint(view.Dim, c.At.String())
		}
		a.out.Printf("%s%s %s%s", strings.Repeat(" ", indent-2), a.out.Paint(view.Cyan, "↳"), c.What, place)
	}
}

func short(host string) string {
	s, _, _ := strings.Cut(host, ".")
	return s
}
