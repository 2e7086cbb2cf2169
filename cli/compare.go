package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/lines"
)

// comparison is what policy compare prints as JSON.
type comparison struct {
	Before      string              `json:"before"`
	After       string              `json:"after"`
	Differences []policy.Difference `json:"differences"`
	Hosts       []hostsDiffer       `json:"hosts,omitempty"` // with --surveys
}

// hostsDiffer is hosts whose files come to differ in the same way.
type hostsDiffer struct {
	Hosts []string `json:"hosts"`
	Diff  string   `json:"diff"`
}

func (a *app) policyCompare() *cobra.Command {
	var from string
	cmd := &cobra.Command{
		Use: "compare A B", Short: "Say what two policies say differently: in meaning, not in text", Args: cobra.ExactArgs(2),
		Long: "Compare two policies; each is a folder, or the number of a revision. Comments, order, spelling and\n" +
			"the files in which definitions stand make no difference. With --surveys it is also shown which hosts\n" +
			"get other files. Exit status 1 when they differ.",
		Example: "  lantern policy compare 1 ./policy\n  lantern policy compare 1 2 --format json\n  lantern policy compare " +
			"../main/policy ./policy --surveys ./surveys",
		RunE: func(cmd *cobra.Command, args []string) error {
			out := comparison{Before: args[0], After: args[1], Differences: []policy.Difference{}}
			var both [2]*policy.Policy
			for i, which := range args {
				var err error
				if both[i], err = a.policyOf(cmd.Context(), which); err != nil {
					return err
				}
			}
			out.Differences = append(out.Differences, policy.Compare(both[0], both[1])...)
			if from != "" {
				var err error
				if out.Hosts, err = compareHosts(both[0], both[1], from); err != nil {
					return err
				}
			}
			differ := &exit{ExitNo, ""}
			if len(out.Differences)+len(out.Hosts) == 0 {
				differ = nil
			}
			done, err := a.json(out)
			if !done {
				a.showComparison(out, from != "")
			}
			if err == nil && differ != nil {
				return differ
			}
			return err
		},
	}
	cmd.Flags().StringVar(&from, "surveys", "", "folder of saved surveys: also show which hosts get other files")
	return cmd
}

// policyOf reads a folder, or a revision by its number.
func (a *app) policyOf(ctx context.Context, which string) (*policy.Policy, error) {
	n, err := strconv.ParseInt(which, 10, 64)
	if _, statErr := os.Stat(which); err != nil || statErr == nil {
		return a.loaded(which)
	}
	r, err := a.client().RevisionFiles(ctx, n)
	if err != nil {
		return nil, err
	}
	return readAgain(r.Files, fmt.Sprintf("revision %d", n))
}

// readAgain reads a folder that was checked when it was stored.
func readAgain(files map[string][]byte, of string) (*policy.Policy, error) {
	p, diags := policy.Load(policy.Folder(files), time.Now())
	bad := slices.DeleteFunc(diag.Errors(diags), func(d diag.Diagnostic) bool { return d.Code == "key-unusable" })
	if len(bad) > 0 {
		return nil, no("%s can no longer be read: %s", of, bad[0])
	}
	return p, nil
}

func compareHosts(before, after *policy.Policy, from string) ([]hostsDiffer, error) {
	hosts, err := surveys(from)
	if err != nil {
		return nil, err
	}
	a, b := resolveFor(before, hosts), resolveFor(after, hosts)
	out := []hostsDiffer{}
	groups := map[string]int{}
	for i := range hosts {
		x, y := a.results[i], b.results[i]
		if x.Digest() == y.Digest() && len(x.Trouble) == len(y.Trouble) {
			continue
		}
		diff := sheetsDiff(x.Sheet, y.Sheet)
		for _, d := range y.Trouble {
			diff += "! " + d.String() + "\n"
		}
		n, ok := groups[diff]
		if !ok {
			n = len(out)
			groups[diff] = n
			out = append(out, hostsDiffer{Diff: diff})
		}
		out[n].Hosts = append(out[n].Hosts, hosts[i].Host)
	}
	slices.SortStableFunc(out, func(a, b hostsDiffer) int { return len(b.Hosts) - len(a.Hosts) })
	return out, nil
}

// sheetsDiff shows how the files of one sheet differ from those of another.
func sheetsDiff(before, after *source.Sheet) string {
	texts := func(s *source.Sheet) map[string]string {
		out := map[string]string{}
		for _, f := range s.Files {
			if !f.IfThere {
				out[f.Path] = f.Text
			}
		}
		if len(s.Locks) > 0 {
			out[zypp.Locks] = string(zypp.Arrange(nil, s.Locks))
		}
		for _, rule := range s.InPlace {
			var b strings.Builder
			fmt.Fprintf(&b, "enabled %t\n", rule.Enabled)
			for _, x := range [][2]string{
				{"suites", strings.Join(rule.Suites, " ")},
				{"sections", strings.Join(rule.Sections, " ")},
				{"components", strings.Join(rule.Components, " ")},
				{"add", strings.Join(rule.Add, " ")},
				{"drop", strings.Join(rule.Drop, " ")},
			} {
				if x[1] != "" {
					b.WriteString(x[0] + " " + x[1] + "\n")
				}
			}
			out["(in place) "+rule.Repository] = b.String()
		}
		return out
	}
	a, b := texts(before), texts(after)
	all := map[string]bool{}
	for p := range a {
		all[p] = true
	}
	for p := range b {
		all[p] = true
	}
	paths := make([]string, 0, len(all))
	for p := range all {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	var out strings.Builder
	for _, p := range paths {
		if a[p] == b[p] {
			continue
		}
		from, to := p, p
		if _, there := a[p]; !there {
			from = ""
		}
		if _, there := b[p]; !there {
			to = ""
		}
		out.WriteString(lines.Unified(from, to, lines.Shown(a[p]), lines.Shown(b[p])))
	}
	return out.String()
}

func (a *app) showComparison(c comparison, hosts bool) {
	if len(c.Differences) == 0 {
		a.out.Printf("%s: they mean the same.", a.out.Paint(view.Green, "no differences"))
	}
	look := map[string]struct {
		sign  string
		style view.Style
	}{policy.Added: {"+", view.Green}, policy.Removed: {"-", view.Red}, policy.Changed: {"~", view.Yellow}}
	last := ""
	for _, d := range c.Differences {
		l := look[d.Kind]
		if d.What != last {
			place := ""
			if d.At != nil && d.At.Line > 0 {
				place = "  " + a.out.Paint(view.Dim, d.At.String())
			}
			a.out.Printf("%s %s%s", a.out.Paint(l.style, l.sign+" "+d.Kind), a.out.Paint(view.Bold, d.What), place)
			last = d.What
		}
		switch {
		case d.Kind == policy.Added:
			a.out.Printf("%s", a.out.Wrap(4, d.After))
		case d.Kind == policy.Removed:
			a.out.Printf("%s", a.out.Wrap(4, d.Before))
		case d.Before == "":
			a.out.Printf("    %s: %s", d.Part, a.out.Paint(view.Green, "now "+d.After))
		case d.After == "":
			a.out.Printf("    %s: %s", d.Part, a.out.Paint(view.Red, "no longer "+d.Before))
		default:
			a.out.Printf("    %s: %s → %s", d.Part, a.out.Paint(view.Red, d.Before), a.out.Paint(view.Green, d.After))
		}
	}
	if !hosts {
		return
	}
	if len(c.Hosts) == 0 {
		a.out.Printf("\nNo host gets other files.")
	}
	for _, g := range c.Hosts {
		a.out.Printf(
			"\n%s %s",
			a.out.Paint(view.Bold, view.Count(len(g.Hosts), "host gets", "hosts get")+" other files:"),
			someNames(g.Hosts, 8),
		)
		a.out.Diff(2, view.FoldKeys(g.Diff))
	}
}
