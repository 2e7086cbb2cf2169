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
	key     string
	at      *fleet.View // the host that was added last
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
	parts := fleet.Across(hosts, as.grouped)
	for _, more := range parts[1:] {
		parts[0].join(more)
	}
	list := parts[0].list
	page.Findings, page.Hosts, page.Total = parts[0].all, parts[0].hosts, len(list)
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

// groups are findings of hosts, each once, in the order in which they came.
type groups struct {
	byKey map[string]*group
	known map[*drift.Finding]*group // hosts alike share what was found
	list  []*group
	hosts int // that have one
	all   int // findings, each as often as it is there
}

// grouped gathers the findings of a part of the hosts that are asked for.
func (in *Picking) grouped(part []*fleet.Host) *groups {
	gs := &groups{byKey: map[string]*group{}, known: map[*drift.Finding]*group{}}
	gs.hosts = in.each(part, gs.add)
	return gs
}

// add adds a finding of a host. Hosts come by name.
func (gs *groups) add(v *fleet.View, i int) {
	gs.all++
	key := v.Keys[i]
	since, _ := v.Since.Of(key)
	g := gs.known[&v.Findings[i]]
	if g == nil {
		if g = gs.byKey[key]; g == nil {
			g = &group{finding: &v.Findings[i], key: key, first: v, since: since, last: since}
			gs.byKey[key] = g
			gs.list = append(gs.list, g)
		}
		gs.known[&v.Findings[i]] = g
	}
	if g.at == v {
		return // twice on one host
	}
	g.at = v
	g.hosts++
	if len(g.names) < ground.MostNames {
		g.names = append(g.names, v.Name)
	}
	if since.Before(g.since) {
		g.since, g.first = since, v
	}
	if since.After(g.last) {
		g.last = since
	}
}

// join adds the findings of the part that follows.
func (gs *groups) join(more *groups) {
	gs.hosts += more.hosts
	gs.all += more.all
	for _, x := range more.list {
		g := gs.byKey[x.key]
		if g == nil {
			gs.byKey[x.key] = x
			gs.list = append(gs.list, x)
			continue
		}
		g.hosts += x.hosts
		g.names = append(g.names, x.names[:min(len(x.names), ground.MostNames-len(g.names))]...)
		if x.since.Before(g.since) {
			g.since, g.first = x.since, x.first
		}
		if x.last.After(g.last) {
			g.last = x.last
		}
	}
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
