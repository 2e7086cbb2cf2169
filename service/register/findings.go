package register

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
)

func (s *Register) findings(v *fleet.View, list []drift.Finding) []api.Finding {
	out := make([]api.Finding, 0, len(list))
	for _, f := range list {
		since, _ := v.Since.Of(f.Key())
		out = append(out, api.Finding{Host: v.Name, Finding: f, Since: since, Trace: v.TraceOf(&f), Closes: f.ClosedBy()})
	}
	return out
}

// DriftQuery says which findings are asked for.
type DriftQuery struct {
	ground.Paging
	ground.Selecting
	Picking
	Host string `query:"host" doc:"Only findings of this host"`
	Sort string `query:"sort" enum:"severity,since,host,-since" default:"severity"`
}

// Picking says which findings are wanted.
type Picking struct {
	Severity   []string `query:"severity" doc:"Only these severities: danger, fault, note"`
	Class      []string `query:"class" doc:"Only these classes"`
	Repository []string `query:"repository" maxItems:"100" doc:"Only findings about these repositories of the policy"`
	Q          string   `query:"q" maxLength:"200" doc:"Part of the message, of the file or of the repository's name"`
}

// wants reports whether a finding is meant; q is in lower case.
func (in *Picking) wants(f *drift.Finding, q string) bool {
	return (len(in.Severity) == 0 || slices.Contains(in.Severity, f.Severity)) &&
		(len(in.Class) == 0 || slices.Contains(in.Class, f.Class)) &&
		(len(in.Repository) == 0 || slices.Contains(in.Repository, f.Repository)) &&
		(q == "" || strings.Contains(strings.ToLower(f.Message), q) || strings.Contains(strings.ToLower(f.File), q) ||
			strings.Contains(strings.ToLower(f.Repository), q))
}

// check refuses words that are none: whoever asks for them would take an empty list for a fleet that is well.
func (s *Register) check(ctx context.Context, in *Picking) error {
	for _, sev := range in.Severity {
		if drift.Rank(sev) < 0 {
			return refusal.Wrong(fmt.Sprintf("there is no severity %q; severities are danger, fault, note", sev))
		}
	}
	for _, class := range in.Class {
		if !slices.Contains(drift.Classes, class) {
			return refusal.Wrong(
				fmt.Sprintf("there is no class %.60q; classes are %s", class, strings.Join(drift.Classes, ", ")),
			)
		}
	}
	for _, name := range in.Repository {
		if err := s.checkRepository(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

// checkRepository refuses a name that neither the newest revision nor a finding has.
func (s *Register) checkRepository(ctx context.Context, name string) error {
	p, _, err := s.NewestPolicy(ctx)
	if err != nil {
		return err
	}
	near := ""
	if p != nil {
		if p.Repositories[name] != nil {
			return nil
		}
		near = names.NearestOf(name, maps.Keys(p.Repositories))
	}
	for _, h := range s.Fleet.All() {
		if slices.ContainsFunc(h.Row().Findings, func(f drift.Finding) bool { return f.Repository == name }) {
			return nil
		}
	}
	msg := fmt.Sprintf("there is no repository %q, neither in the policy nor in a finding", refusal.Short(name))
	return refusal.NotFound(msg + refusal.Meant(near))
}

// findingRow is a finding of a host with what it is sorted by; equal ones keep the order
// of names.
type findingRow struct {
	v   *fleet.View
	i   int32 // which of the host's findings
	num int64
}

// order is that of the findings of a page.
func (in *DriftQuery) order(a, b findingRow) int { return cmp.Compare(a.num, b.num) }

// firsts are the findings of a part of the hosts that come first, and how many of its hosts have one.
type firsts struct {
	rows  *ground.Firsts[findingRow]
	hosts int
}

// first finds those that come first among the findings of a part, so many at most.
func (in *DriftQuery) first(part []*fleet.Host, most int) firsts {
	turned := in.Sort == "-since"
	rows := ground.NewFirsts(most, in.order)
	hit := in.each(part, func(v *fleet.View, i int) {
		r := findingRow{v: v, i: int32(i)}
		switch in.Sort {
		case "since", "-since":
			since, _ := v.Since.Of(v.Keys[i])
			r.num = since.UnixMilli()
		case "host":
		default:
			r.num = int64(drift.Rank(v.Findings[i].Severity))
		}
		if turned {
			r.num = -r.num
		}
		rows.Add(r)
	})
	return firsts{rows, hit}
}

// each does something with each finding of a part of the hosts that is asked for, and returns how many of them have one.
func (in *Picking) each(part []*fleet.Host, do func(v *fleet.View, i int)) (hit int) {
	q := strings.ToLower(in.Q)
	for _, h := range part {
		v := h.Row()
		has := false
		for i := range v.Findings {
			if in.wants(&v.Findings[i], q) {
				has = true
				do(v, i)
			}
		}
		if has {
			hit++
		}
	}
	return hit
}

// ListDrift lists findings over the fleet, page by page.
func (s *Register) ListDrift(ctx context.Context, in *DriftQuery) (*api.FindingPage, error) {
	hosts, unknown, err := s.Selected(ctx, in.Selecting, s.Fleet.All())
	if err != nil {
		return nil, err
	}
	if in.Host != "" {
		h, err := s.FindHost(in.Host)
		if err != nil {
			return nil, err
		}
		hosts = []*fleet.Host{h}
	}
	if err := s.check(ctx, &in.Picking); err != nil {
		return nil, err
	}
	page := api.FindingPage{Findings: []api.Finding{}, Unknown: unknown}
	now := s.Now()
	counted := count(hosts, now)
	page.Standing = counted.Sums()
	if in.Host == "" && !in.Some() {
		if page.Standing, err = s.invited(ctx, page.Standing, now); err != nil {
			return nil, err
		}
	}
	rows := ground.NewFirsts(in.Reach(), in.order)
	for _, p := range fleet.Across(hosts, func(part []*fleet.Host) firsts { return in.first(part, in.Reach()) }) {
		page.Hosts += p.hosts
		rows.Join(p.rows)
	}
	page.Total = rows.Total
	from, to := in.Cut(page.Total)
	page.Next = in.Next(page.Total)
	page.Findings, err = s.located(ctx, rows.Between(from, to))
	return &page, err
}

// located are findings with their exact lines. Those of one host are read by one processor.
func (s *Register) located(ctx context.Context, rows []findingRow) ([]api.Finding, error) {
	var hosts []*fleet.View
	seen := map[*fleet.View]bool{}
	for i := range rows {
		if v := rows[i].v; !seen[v] {
			seen[v] = true
			hosts = append(hosts, v)
		}
	}
	var mu sync.Mutex
	changes := map[*fleet.View]*compute.Outcome{}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, v := range hosts {
		group.Go(func() error {
			o, err := s.Compute.Change(ctx, compute.Healing(v))
			mu.Lock()
			defer mu.Unlock()
			changes[v] = o
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	out := []api.Finding{}
	for _, r := range rows {
		out = append(out, s.findings(r.v, changes[r.v].Located(r.v)[r.i:r.i+1])...)
	}
	return out, nil
}
