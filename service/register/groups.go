package register

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
)

// GroupQuery says which groups of findings are asked for.
type GroupQuery struct {
	ground.Paging
	ground.Selecting
	Picking
	Sort string `query:"sort" enum:"severity,hosts,since,-since" default:"severity"`
}

// group is a finding and who has it.
type group struct {
	finding *drift.Finding
	hosts   int
	first   *fleet.View
	since   time.Time
	last    time.Time
	names   []string
}

// GroupDrift tells each finding once, however many hosts have it.
func (s *Register) GroupDrift(ctx context.Context, in *GroupQuery) (*api.FindingGroupPage, error) {
	as := &DriftQuery{Picking: in.Picking}
	if err := s.check(ctx, &as.Picking); err != nil {
		return nil, err
	}
	hosts, unknown, err := s.Selected(ctx, in.Selecting, s.Fleet.All())
	if err != nil {
		return nil, err
	}
	now := s.Now()
	counted := count(hosts, now)
	page := api.FindingGroupPage{Groups: []api.FindingGroup{}, Standing: counted.Sums(), Unknown: unknown}
	if !in.Some() {
		if page.Standing, err = s.invited(ctx, page.Standing, now); err != nil {
			return nil, err
		}
	}
	rows, hit := as.rows(hosts)
	page.Findings, page.Hosts = len(rows), hit
	list := grouped(rows)
	page.Total = len(list)
	slices.SortFunc(list, in.order())
	from, to := in.Cut(len(list))
	page.Next = in.Next(len(list))
	for _, g := range list[from:to] {
		page.Groups = append(
			page.Groups,
			api.FindingGroup{Finding: *g.finding, Hosts: g.hosts, First: g.first.Name, Since: g.since, Last: g.last, Names: g.names,
				Trace: g.first.TraceOf(g.finding), Closes: g.finding.ClosedBy()},
		)
	}
	return &page, nil
}

// grouped gathers rows that are the same finding. Rows come host by host, by name.
func grouped(rows []findingRow) []*group {
	byKey := map[string]*group{}
	known := map[*drift.Finding]*group{} // hosts alike share what was found
	var list []*group
	for i := range rows {
		r := &rows[i]
		key := r.v.Keys[r.i]
		since, _ := r.v.Since.Of(key)
		g := known[&r.v.Findings[r.i]]
		if g == nil {
			if g = byKey[key]; g == nil {
				g = &group{finding: &r.v.Findings[r.i], first: r.v, since: since, last: since}
				byKey[key] = g
				list = append(list, g)
			}
			known[&r.v.Findings[r.i]] = g
		}
		if n := len(g.names); n > 0 && g.names[n-1] == r.v.Name {
			continue // twice on one host
		}
		g.hosts++
		if len(g.names) < ground.MostNames {
			g.names = append(g.names, r.v.Name)
		}
		if since.Before(g.since) {
			g.since, g.first = since, r.v
		}
		if since.After(g.last) {
			g.last = since
		}
	}
	return list
}

func (in *GroupQuery) order() func(a, b *group) int {
	same := func(a, b *group) int {
		return cmp.Or(
			cmp.Compare(b.hosts, a.hosts),
			strings.Compare(a.finding.File, b.finding.File),
			strings.Compare(a.finding.Key(), b.finding.Key()),
		)
	}
	switch in.Sort {
	case "hosts":
		return same
	case "since":
		return func(a, b *group) int { return cmp.Or(a.since.Compare(b.since), same(a, b)) }
	case "-since":
		return func(a, b *group) int { return cmp.Or(b.since.Compare(a.since), same(a, b)) }
	}
	return func(a, b *group) int {
		return cmp.Or(cmp.Compare(drift.Rank(a.finding.Severity), drift.Rank(b.finding.Severity)), same(a, b))
	}
}
