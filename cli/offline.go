package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/client"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/saved"
	"patientlantern.example/lantern/core/source"
)

// surveys reads a folder of saved surveys.
func surveys(dir string) ([]saved.Snapshot, error) {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return nil, wrong("there is no folder %s with saved surveys; make one with lantern survey save", dir)
	}
	list, err := saved.Read(os.DirFS(dir))
	if err != nil {
		return nil, no("%s/%v", strings.TrimSuffix(dir, "/"), err)
	}
	if len(list) == 0 {
		return nil, no("no survey (NAME.json) stands in %s; make them with lantern survey save", dir)
	}
	return list, nil
}

// resolved is a policy folder resolved for saved surveys.
type resolved struct {
	resolver *resolve.Resolver
	hosts    []saved.Snapshot
	results  []*resolve.Result
	fleet    *resolve.Fleet
}

// hostOf is a saved survey as resolving sees it.
func hostOf(h *saved.Snapshot) resolve.Host {
	t := h.Traits
	t.Free = nil
	traits, _ := json.Marshal(t) // a struct of texts and numbers always encodes
	labels, _ := json.Marshal(h.Labels)
	return resolve.Host{Name: h.Host, Class: string(traits) + string(labels), Labels: h.Labels, Traits: &h.Traits}
}

func resolveFor(p *policy.Policy, hosts []saved.Snapshot) *resolved {
	r := &resolved{resolver: resolve.New(p), hosts: hosts}
	r.fleet = resolve.NewFleet(r.resolver)
	for i := range hosts {
		h := hostOf(&hosts[i])
		res := r.resolver.Resolve(h)
		r.results = append(r.results, res)
		r.fleet.Add(h, res)
	}
	return r
}

// loaded reads and checks a policy folder; with errors in it, they are printed.
func (a *app) loaded(dir string) (*policy.Policy, error) {
	f, diags, err := a.sent(dir)
	if err != nil {
		return nil, err
	}
	var p *policy.Policy
	if !diag.HasErrors(diags) {
		var more []diag.Diagnostic
		p, more = policy.Load(f, time.Now())
		diags = append(diags, more...)
	}
	if diag.HasErrors(diags) {
		bad := diag.Errors(diags)
		if a.format != "json" {
			a.diagnostics(dir, bad)
		}
		return nil, no("%s in %s", view.Count(len(bad), "error", "errors"), dir)
	}
	return p, nil
}

// previewOffline works out what a folder would change on the hosts of saved surveys.
func (a *app) previewOffline(dir, from string) (api.Preview, error) {
	out := api.Preview{Unknown: []string{}, Unsure: []string{}, Groups: []api.PreviewGroup{}}
	var goes preview.Goes
	p, err := a.loaded(dir)
	if err != nil {
		return out, err
	}
	hosts, err := surveys(from)
	if err != nil {
		return out, err
	}
	r := resolveFor(p, hosts)
	if list := r.fleet.Diagnostics(); diag.HasErrors(list) {
		if a.format != "json" {
			a.diagnostics(dir, diag.Errors(list))
		}
		return out, no("the policy contradicts itself for some hosts")
	}
	groups := map[string]int{}
	for i := range hosts {
		h, res := &hosts[i], r.results[i]
		g, gone := previewOne(h, res.Sheet)
		if g == nil {
			out.Steady++
			continue
		}
		out.Changing++
		for _, x := range gone {
			goes.Add(x, h.Host, nil, "a saved survey does not say what is installed")
		}
		key := g.Diff + strings.Join(append(slices.Clone(g.Impossible), g.Weakens...), "\n")
		n, ok := groups[key]
		if !ok {
			n = len(out.Groups)
			groups[key] = n
			out.Groups = append(out.Groups, *g)
		}
		out.Groups[n].Hosts = append(out.Groups[n].Hosts, h.Host)
	}
	slices.SortStableFunc(out.Groups, func(a, b api.PreviewGroup) int { return len(b.Hosts) - len(a.Hosts) })
	out.Gone = goes.List()
	return out, nil
}

// previewOne works out one host, and which of its sources go; nil where nothing changes. A survey that was saved
// without texts has no lines to compare, so its differences are told as findings.
func previewOne(h *saved.Snapshot, sheet *source.Sheet) (*api.PreviewGroup, []change.Gone) {
	g := &api.PreviewGroup{Files: []api.PreviewFile{}, Impossible: []string{}, Weakens: preview.Weakens(sheet, &h.Survey)}
	if h.Survey.Files == nil && h.Texts == nil {
		found := drift.Compare(sheet, &h.Survey)
		if len(found) == 0 {
			return nil, nil
		}
		var lines []string
		for _, f := range found {
			lines = append(lines, fmt.Sprintf("%s:%d %s", f.File, f.Line, f.Message))
		}
		g.Impossible = append([]string{"the survey was saved without texts, so the lines cannot be told; these differ:"}, lines...)
		return g, nil
	}
	c := change.Compute(change.Input{Sheet: sheet, Survey: &h.Survey, Texts: h.Bytes(), Masked: true})
	g.Diff = c.Diff()
	if g.Diff == "" && len(c.Impossible) == 0 {
		return nil, nil
	}
	g.Impossible = source.Strings(c.Impossible)
	g.Overrides = preview.Overrides(sheet, c.Edits)
	g.Files = api.PreviewFiles(&c)
	return g, c.Gone
}

func (a *app) survey() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "survey",
		Short:   "Save what is configured on the fleet, to work on without a service",
		GroupID: "fleet",
		Example: "  lantern survey save ./surveys\n  lantern survey save ./surveys --match site=reef",
	}
	cmd.AddCommand(a.surveySave())
	return cmd
}

func (a *app) surveySave() *cobra.Command {
	var match string
	var m meant
	cmd := &cobra.Command{
		Use: "save FOLDER", Short: "Save the last survey of each host as FOLDER/HOST.json", Args: cobra.ExactArgs(1),
		Long: "Save the last survey of each host, with its labels and the texts of its source files, passwords\n" +
			"masked, as FOLDER/HOST.json. policy check, preview, explain and learn take such a folder with --surveys.",
		Example: "  lantern survey save ./surveys\n  lantern survey save ./surveys --match site=reef\n  lantern policy preview ./policy " +
			"--surveys ./surveys",
		RunE: func(cmd *cobra.Command, args []string) error {
			l := client.List{Query: match}
			m.into(&l, nil)
			return a.saveSurveys(cmd.Context(), args[0], l)
		},
	}
	cmd.Flags().StringVar(&match, "match", "", "only hosts whose name, system or label (KEY=VALUE) has this")
	m.add(a, cmd)
	return cmd
}

// eachSurvey hands out the last survey of each host of the fleet, and lists the hosts that have sent none, and those of which it is not
// of today.
func (a *app) eachSurvey(ctx context.Context, of client.List, p *progress, take func(saved.Snapshot) error) (not unheard, err error) {
	for of.Page, of.PerPage = 1, 500; ; of.Page++ {
		page, err := a.client().Hosts(ctx, of)
		if err != nil {
			return not, err
		}
		p.all.Store(int64(page.Total))
		for _, h := range page.Hosts {
			p.done.Add(1)
			if h.OS == "" {
				not.Missing = append(not.Missing, h.Name)
				continue
			}
			if h.State == api.StateSilent {
				not.Silent = append(not.Silent, h.Name)
			}
			s, err := a.client().Survey(ctx, h.Name)
			if err == nil {
				err = take(s)
			}
			if err != nil {
				return not, err
			}
		}
		if page.Next == 0 {
			return not, nil
		}
	}
}

// unheard are hosts of which surveys tell nothing, or nothing of today.
type unheard struct{ Missing, Silent []string }

// told says them.
func (n unheard) told(p *view.Out) {
	if len(n.Missing) > 0 {
		p.Printf(
			"%s%s sent none yet: %s",
			p.Paint(view.Yellow, "? "),
			view.Count(len(n.Missing), "host has", "hosts have"),
			someNames(n.Missing, 8),
		)
	}
	if len(n.Silent) > 0 {
		p.Printf(
			"%s%s silent, and had this when heard last: %s",
			p.Paint(view.Yellow, "? "),
			view.Count(len(n.Silent), "host is", "hosts are"),
			someNames(n.Silent, 8),
		)
	}
}

// savedSurveys is what survey save says as JSON.
type savedSurveys struct {
	Folder  string   `json:"folder"`
	Saved   int      `json:"saved"`
	Missing []string `json:"missing" doc:"Hosts that have sent none"`
	Silent  []string `json:"silent"  doc:"Hosts of which it is what they had when they were heard last"`
}

func (a *app) saveSurveys(ctx context.Context, dir string, of client.List) error {
	p := a.counting("saving surveys", 0)
	defer p.stop()
	count := 0
	not, err := a.eachSurvey(ctx, of, p, func(s saved.Snapshot) error {
		text, err := json.MarshalIndent(s, "", "  ")
		if err != nil {
			return err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil { // not before there is something to put there
			return no("%v", err)
		}
		if err := renameio.WriteFile(filepath.Join(dir, saved.FileName(s.Host)), append(text, '\n'), 0o644); err != nil {
			return no("%v", err)
		}
		count++
		return nil
	})
	if err != nil {
		return err
	}
	p.stop()
	if done, err := a.json(savedSurveys{dir, count, append([]string{}, not.Missing...), append([]string{}, not.Silent...)}); done {
		return err
	}
	a.out.Printf("%s saved in %s.", view.Count(count, "survey", "surveys"), dir)
	not.told(a.out)
	return nil
}
