// Package register tells of the hosts: which there are, how they stand and stood, what differs on them,
// and what somebody accepts of that.
package register

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/families"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/contracts"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// Register tells of the hosts: which there are, how they stand and stood, and what somebody accepts of it.
type Register struct {
	*ground.Ground
	contracts *contracts.Contracts
	rollouts  *rollouts.Rollouts
	upstreams *upstreams.Upstreams

	began      time.Time
	sinceCount sinceCount
}

// New is that of a service.
func New(g *ground.Ground, c *contracts.Contracts, r *rollouts.Rollouts, u *upstreams.Upstreams) *Register {
	return &Register{Ground: g, contracts: c, rollouts: r, upstreams: u, began: g.Now()}
}

// HostFilter says which hosts are asked for.
type HostFilter struct {
	ground.Selecting
	Q      string   `query:"q" doc:"Part of the name, the operating system or a label (key=value)"`
	State  []string `query:"state" doc:"Only hosts in these states"`
	Family string   `query:"family" doc:"Only hosts of this family"`
	upstreams.Facets
}

// HostQuery says which hosts are asked for, and in which order.
type HostQuery struct {
	ground.Paging
	HostFilter
	Sort string `query:"sort" enum:"name,state,os,revision,findings,last_seen,-name,-state,-os,-revision,-findings,-last_seen" default:"name" doc:"- turns it round"`
}

// found are the hosts that a filter lets through, in parts and by name, and how many it is not known of
// whether they are meant; so many of each part at most, those that come first.
func (s *Register) found(ctx context.Context, in *HostFilter, order hostOrder, most int, now time.Time) (
	parts []*hostRows, unknown int, err error,
) {
	for _, st := range in.State {
		if !slices.Contains(api.States, st) {
			return nil, 0, refusal.Wrong(
				fmt.Sprintf("there is no state %q; states are %s", st, strings.Join(api.States, ", ")),
			)
		}
	}
	if in.Family != "" && !slices.Contains(families.OfHosts(), in.Family) {
		return nil, 0, refusal.Wrong(
			fmt.Sprintf("there is no family %.40q of hosts; families are %s", in.Family, strings.Join(families.OfHosts(), ", ")),
		)
	}
	every := s.Fleet.All()
	hosts, unknown, err := s.Selected(ctx, in.Selecting, every)
	if err != nil {
		return nil, 0, err
	}
	hosts, unsure, err := s.upstreams.Like(ctx, &in.Facets, hosts)
	if err != nil {
		return nil, 0, err
	}
	var meant map[*fleet.Host]bool
	if in.Selecting.Some() || in.Facets.Some() {
		meant = make(map[*fleet.Host]bool, len(hosts))
		for _, h := range hosts {
			meant[h] = true
		}
	}
	in.Q = strings.ToLower(in.Q)
	return fleet.Across(every, func(part []*fleet.Host) *hostRows { return in.look(part, meant, order, most, now) }), unknown + unsure, nil
}

// HostNames lists the names of all hosts that a filter lets through, for those who do something with
// every one of them.
func (s *Register) HostNames(ctx context.Context, in *HostFilter) (*api.HostNames, error) {
	byName := hostOrder{by: "name"}
	parts, unknown, err := s.found(ctx, in, byName, math.MaxInt, s.Now())
	if err != nil {
		return nil, err
	}
	out := api.HostNames{Names: []string{}, Unknown: unknown}
	for _, r := range joined(parts, byName, math.MaxInt).InOrder() {
		out.Names = append(out.Names, r.h.Row().Name)
	}
	out.Total = len(out.Names)
	return &out, nil
}

// ListHosts lists the fleet, page by page.
func (s *Register) ListHosts(ctx context.Context, in *HostQuery) (*api.HostPage, error) {
	now := s.Now()
	by, turned := strings.CutPrefix(in.Sort, "-")
	order := hostOrder{by, turned}
	parts, unknown, err := s.found(ctx, &in.HostFilter, order, in.Reach(), now)
	if err != nil {
		return nil, err
	}
	page := api.HostPage{Hosts: []api.Host{}, States: map[string]int{}, Unknown: unknown}
	var counted Tally
	for _, p := range parts {
		counted.join(&p.counted)
		for i, st := range api.States {
			page.States[st] += p.states[i]
			page.All += p.states[i]
		}
	}
	rows := joined(parts, order, in.Reach())
	if page.Standing, err = s.invited(ctx, counted.Sums(), now); err != nil {
		return nil, err
	}
	page.Total = rows.Total
	from, to := in.Cut(page.Total)
	page.Next = in.Next(page.Total)
	for _, r := range rows.Between(from, to) {
		page.Hosts = append(page.Hosts, r.h.Summary(now))
	}
	return &page, nil
}

// wants reports whether a host is asked for.
func (in *HostFilter) wants(v *fleet.View, state string) bool {
	return (len(in.State) == 0 || slices.Contains(in.State, state)) && (in.Family == "" || v.Family == in.Family) &&
		(in.Q == "" || matches(v, in.Q))
}

// ShowHost tells all that is known of one host.
func (s *Register) ShowHost(ctx context.Context, in *ground.HostPath) (*api.HostDetail, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	h.Lock() // what is being stored is shown when it is
	v := h.Row()
	h.Unlock()
	d := api.HostDetail{
		Host: h.Summary(s.Now()), Joined: v.Joined, Agent: v.Agent, Free: v.Free,
		Sources:    []source.Source{},
		Keys:       []source.Key{},
		Problems:   []source.Problem{},
		Drift:      []api.Finding{},
		Waived:     []api.WaivedFinding{},
		Impossible: []string{},
		Reasons:    []api.Reason{},
		Fates:      []reason.Fate{},
		Settings:   []source.Setting{},
		Pins:       []source.Pin{},
		Holds:      []source.Hold{},
		Deciding:   []source.Deciding{},
		Services:   []source.Service{},
	}
	if d.Free == nil {
		d.Free = map[string]int64{}
	}
	if !v.Carried.At.IsZero() {
		d.Carried = &v.Carried.At
		base := v.Carried.Known()
		d.Base = &api.HostBase{At: base.At, By: base.By, Why: base.Why}
	}
	d.TextOnly, d.Document = source.Strings(v.Judged.TextOnly), v.Survey
	if err := s.showSurvey(ctx, v, &d); err != nil {
		return nil, err
	}
	if v.Sheet != "" && v.Survey != "" {
		if err := s.showDrift(ctx, v, &d); err != nil {
			return nil, err
		}
	}
	if v.Revision != 0 && v.Traits != "" {
		rs, err := s.Compute.Revision(ctx, v.Revision)
		if err != nil {
			return nil, err
		}
		res, err := s.Compute.Resolve(ctx, rs, v)
		if err != nil {
			return nil, err
		}
		for _, r := range res.Reasons() {
			d.Reasons = append(d.Reasons, api.Reason(r))
		}
	}
	if err := s.showGroups(ctx, v, &d); err != nil {
		return nil, err
	}
	switch rh, err := s.Store.LastReport(ctx, v.Name); {
	case err == nil:
		p := rollouts.Progress(rh)
		if p.Report != nil {
			p.Report.Rollout = rh.Rollout
		}
		d.Report = &p
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	return &d, nil
}

// showGroups fills in what the newest revision makes of the host: its groups and labels.
func (s *Register) showGroups(ctx context.Context, v *fleet.View, d *api.HostDetail) error {
	d.Groups = []string{}
	rs, _, err := s.Newest(ctx)
	if err != nil {
		return err
	}
	if rs == nil || v.Traits == "" {
		return nil
	}
	who, err := s.Compute.HostOf(ctx, v)
	if err != nil {
		return err
	}
	d.Groups = append(d.Groups, s.Compute.GroupsOf(rs, who)...)
	d.PolicyLabels = map[string]string{}
	for k, label := range rs.Labelled(who).Labels {
		if _, own := v.Labels[k]; !own {
			d.PolicyLabels[k] = label
		}
	}
	return nil
}

// showSurvey fills in what the host's survey tells.
func (s *Register) showSurvey(ctx context.Context, v *fleet.View, d *api.HostDetail) error {
	if v.Traits != "" {
		traits, err := s.Compute.TraitsOf(ctx, v.Traits)
		if err != nil {
			return err
		}
		d.Traits = traits
	}
	if v.Survey != "" {
		su, err := s.Compute.SurveyOf(ctx, v.Survey)
		if err != nil {
			return err
		}
		d.Sources, d.Keys, d.Problems = su.Sources, su.Keys, su.Problems
		d.Settings, d.Pins = append(d.Settings, su.Settings...), append(d.Pins, su.Pins...)
		d.Holds, d.Services = append(d.Holds, su.Holds...), append(d.Services, su.Services...)
		d.Deciding = append(d.Deciding, su.Deciding...)
	}
	return s.contracts.ShowStanding(v, d)
}

// showDrift fills in what becomes of the host's sources, its findings, and what healing would do.
func (s *Register) showDrift(ctx context.Context, v *fleet.View, d *api.HostDetail) error {
	sheet, err := s.Compute.SheetOf(ctx, v.Sheet)
	if err != nil {
		return err
	}
	if d.Fates, err = s.Compute.Fates(ctx, v, sheet); err != nil {
		return err
	}
	o, err := s.Compute.Change(ctx, compute.Healing(v))
	if err != nil {
		return err
	}
	d.Drift = s.findings(v, o.Located(v))
	d.Waived = s.waivedOn(v)
	slices.SortStableFunc(d.Drift, func(a, b api.Finding) int { return drift.Rank(a.Severity) - drift.Rank(b.Severity) })
	d.Diff = o.Diff
	d.Impossible = source.Strings(o.Change.Impossible)
	return nil
}

// InviteIn names the host that is invited.
type InviteIn struct {
	Body api.InviteOrder
}

// Invite makes a one-time token with which a host joins.
func (s *Register) Invite(ctx context.Context, in *InviteIn) (*api.Invite, error) {
	name := strings.ToLower(in.Body.Host)
	if known, err := s.Fleet.Find(name); err == nil && known.Row().Name != name {
		return nil, refusal.Conflict(fmt.Sprintf(
			"%s is a host already, and the short name of it stands for it; give its full name for a new token, or that of another host",
			known.Row().Name,
		))
	}
	hours := in.Body.Hours
	if hours == 0 {
		hours = 24
	}
	secret, _ := identity.NewToken("plj_")
	token := secret + "." + s.Key.Thumb
	i := store.Invite{
		Host:    name,
		Author:  identity.Operator(ctx).Name,
		Expires: s.Now().Add(time.Duration(hours) * time.Hour),
	}
	e := s.Entry(journal.By(ctx), "invite-host", journal.KindHost, i.Host)
	if err := s.Store.AddInvite(ctx, identity.HashToken(token), i, store.Noted(e)); err != nil {
		return nil, err
	}
	s.Log.Info("a host was invited", "host", i.Host, "author", i.Author)
	return &api.Invite{Host: i.Host, Token: token, Expires: i.Expires.UTC()}, nil
}

// LabelsIn are the labels of a host.
type LabelsIn struct {
	ground.HostPath
	Body api.Labels
}

// SetLabels replaces a host's labels.
func (s *Register) SetLabels(ctx context.Context, in *LabelsIn) (*api.Host, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	if err := checkLabels(in.Body.Labels); err != nil {
		return nil, err
	}
	if _, err := s.Change(ctx, h, "label-host", func(v *fleet.View) error { v.Labels = in.Body.Labels; return nil }, nil); err != nil {
		return nil, err
	}
	return new(h.Summary(s.Now())), nil
}

// RetireHost forgets a host.
func (s *Register) RetireHost(ctx context.Context, in *ground.HostPath) error {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return err
	}
	name := h.Row().Name
	for _, seat := range s.Keeper.Of(name) {
		if seat.Leaving {
			continue
		}
		if _, err := s.Keeper.Release(ctx, name, seat.Account, identity.Operator(ctx).Name); err != nil {
			return err
		}
	}
	by := journal.By(ctx)
	h.Lock()
	defer h.Unlock()
	_, err = s.Store.RetireHost(ctx, &h.Row().Host, s.Now(), func(ended []int64) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				entries := []store.Entry{s.Entry(by, "retire-host", journal.KindHost, name)}
				for _, id := range ended {
					entries = append(entries, s.RolloutEntry(by, "retire-host", id, true))
				}
				return entries
			},
			Then: func() { s.Fleet.Remove(name) },
		}
	})
	if err != nil {
		return err
	}
	s.Log.Info("a host was retired", "host", name, "author", by.Name)
	return nil
}
