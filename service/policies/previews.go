package policies

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/contracts"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/store"
)

// PreviewQuery says of which revision what would change.
type PreviewQuery struct {
	Revision int64 `query:"revision" minimum:"0" doc:"The revision; 0 for the newest"`
}

// Preview says what carrying a revision would change, and on which hosts.
func (s *Policies) Preview(ctx context.Context, in *PreviewQuery) (*api.Preview, error) {
	r, err := s.Pick(ctx, in.Revision)
	if err != nil {
		return nil, err
	}
	return s.previewOf(ctx, fmt.Sprintf("revision %d", r.Number), func(ctx context.Context) (api.Preview, error) {
		rs, err := s.Compute.Revision(ctx, r.Number)
		if err != nil {
			return api.Preview{}, err
		}
		return s.foreshow(ctx, rs, r.Number)
	})
}

// PreviewFolder shows what a folder would change that is not published.
func (s *Policies) PreviewFolder(ctx context.Context, in *FolderIn) (*api.Preview, error) {
	canonical, err := source.Canonical(policy.Folder(in.Body.Files))
	if err != nil {
		return nil, err
	}
	return s.previewOf(ctx, source.Digest(canonical), func(ctx context.Context) (api.Preview, error) {
		p, diags, err := s.load(ctx, in.Body.Files)
		if err != nil {
			return api.Preview{}, err
		}
		if diag.HasErrors(diags) {
			return api.Preview{}, trouble(refusal.Invalid, "the policy has errors", diag.Errors(diags))
		}
		return s.foreshow(ctx, s.Compute.Resolver(p), 0)
	})
}

// previewOf works a preview out once for all who ask for it at the same time.
func (s *Policies) previewOf(
	ctx context.Context, of string, work func(ctx context.Context) (api.Preview, error),
) (*api.Preview, error) {
	made, err, _ := s.previews.Do(of, func() (any, error) { return work(context.WithoutCancel(ctx)) })
	if err != nil {
		return nil, err
	}
	return new(made.(api.Preview)), nil
}

// shown is the change of hosts that are alike, and which they are.
type shown struct {
	pair  compute.Pair
	res   *resolve.Result
	hosts []*fleet.View
	group *shownGroup // nil where nothing changes
}

// shownGroup is what a change looks like.
type shownGroup struct {
	api.PreviewGroup
	key  [sha256.Size]byte
	gone []change.Gone

	edits []change.FileEdit
}

// foreshow shows what a policy would change.
func (s *Policies) foreshow(ctx context.Context, rs *resolve.Resolver, number int64) (api.Preview, error) {
	defer s.Opts.Spend()()
	s.turns.leave(nil)
	out := api.Preview{
		Revision: number,
		Unknown:  []string{},
		Unsure:   []string{},
		Groups:   []api.PreviewGroup{},
		Gone:     []preview.Gone{},
		Waves:    []api.RolloutPart{},
		Swaps:    []preview.Swap{},
		Refused:  []api.RefusedPlace{},
	}
	hosts, wanted, err := s.resolveAll(ctx, rs, &out)
	if err != nil {
		return out, err
	}
	start := rollouts.Startable{Rollout: store.Rollout{Kind: store.KindRollout, Revision: number}}
	results := make(map[*fleet.Host]*resolve.Result, len(hosts))
	alike := map[compute.Pair]*shown{}
	var all []*shown
	for _, x := range hosts {
		if !rollouts.HasAlready(x.row, x.res) {
			start.Takers = append(start.Takers, x.host)
			results[x.host] = x.res
		}
		p := compute.PairOf(x.row, x.res.Digest())
		same := alike[p]
		if same == nil {
			same = &shown{pair: p, res: x.res}
			alike[p], all = same, append(all, same)
		}
		same.hosts = append(same.hosts, x.row)
	}
	if err := s.showAll(ctx, all); err != nil {
		return out, err
	}
	s.gather(&out, all)
	if err := s.swaps(ctx, rs.Policy(), all, &out); err != nil {
		return out, err
	}
	if err := s.rollouts.LayOut(ctx, &start, rs, results, false); err != nil {
		return out, err
	}
	tried := s.rollouts.Tried(&start)
	if out.Silent, out.Quiet = tried.Silent, tried.Quiet; tried.Parts != nil {
		out.Waves = tried.Parts
	}
	if out.Seats, err = s.contracts.SeatsAhead(ctx, wanted); err != nil {
		return out, err
	}
	return out, nil
}

// resolvedHost is a host with what a policy comes to for it.
type resolvedHost struct {
	host *fleet.Host
	row  *fleet.View
	res  *resolve.Result
}

// resolveAll resolves the hosts of which enough is known, and says who wants which seats; the others are counted.
func (s *Policies) resolveAll(
	ctx context.Context, rs *resolve.Resolver, out *api.Preview,
) (hosts []resolvedHost, wanted []contracts.WantedSeats, err error) {
	var broken []diag.Diagnostic
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if v.Traits == "" || v.Survey == "" {
			out.Unknown = append(out.Unknown, v.Name)
			continue
		}
		if !rollouts.Managed(v.Family) {
			out.Unmanaged++
			continue
		}
		res, err := s.Compute.Resolve(ctx, rs, v)
		if err != nil {
			return nil, nil, err
		}
		if res.Untold() {
			out.Groups, out.Changing = withoutSheet(out.Groups, res, v.Name), out.Changing+1
			continue
		}
		if len(res.Trouble) > 0 {
			broken = append(broken, res.Trouble...)
			continue
		}
		if needs := res.Given().Needs; len(needs) > 0 {
			wanted = append(wanted, contracts.WantedSeats{Host: v, Needs: needs})
		}
		hosts = append(hosts, resolvedHost{h, v, res})
	}
	if len(broken) > 0 {
		return nil, nil, trouble(refusal.Conflicting, fmt.Sprintf("revision %d contradicts itself for some hosts", out.Revision), broken)
	}
	compute.DigestSheets(func(yield func(*resolve.Result) bool) {
		for i := range hosts {
			if !yield(hosts[i].res) {
				return
			}
		}
	})
	return hosts, wanted, nil
}

// withoutSheet adds a host to those for which nothing can be worked out, because of what it tells of itself.
func withoutSheet(groups []api.PreviewGroup, res *resolve.Result, host string) []api.PreviewGroup {
	why := []string{res.Why()}
	at := slices.IndexFunc(groups, func(g api.PreviewGroup) bool { return slices.Equal(g.Impossible, why) })
	if at < 0 {
		at = len(groups)
		groups = append(groups, api.PreviewGroup{Files: []api.PreviewFile{}, Impossible: why, Weakens: []string{}, Hosts: []string{}})
	}
	groups[at].Hosts = append(groups[at].Hosts, host)
	return groups
}

// showAll works the changes out, by all processors, those side by side that look at one
// document.
func (s *Policies) showAll(ctx context.Context, all []*shown) error {
	return fleet.ByBlocks(sideBySide(all), func(x *shown) error {
		o, err := s.Compute.Work(ctx, x.pair, x.res.Sheet)
		if err == nil && (o.Diff != "" || len(o.Change.Impossible) > 0) {
			x.group = groupOf(x.res, o)
		}
		if store.Lost(err) { // keeps nobody else waiting
			x.group = groupOf(x.res, &compute.Outcome{Change: change.Change{Impossible: []string{"what would change is not known: " + err.Error()}}})
			return nil
		}
		return err
	})
}

// sideBySide is an order in which those of one survey follow each other, and those surveys that
// stand under one sheet: a document is read once.
func sideBySide(all []*shown) []*shown {
	under := map[string]string{}
	for _, x := range all {
		if before, ok := under[x.pair.Survey]; !ok || x.pair.Before < before {
			under[x.pair.Survey] = x.pair.Before
		}
	}
	return slices.SortedStableFunc(slices.Values(all), func(a, b *shown) int {
		return cmp.Or(
			strings.Compare(under[a.pair.Survey], under[b.pair.Survey]),
			strings.Compare(a.pair.Survey, b.pair.Survey),
			strings.Compare(a.pair.Before, b.pair.Before),
		)
	})
}

func groupOf(res *resolve.Result, o *compute.Outcome) *shownGroup {
	g := &shownGroup{gone: o.Change.Gone, edits: o.Change.Edits, PreviewGroup: api.PreviewGroup{
		Diff: o.Diff, Files: api.PreviewFiles(&o.Change), Impossible: source.Strings(o.Change.Impossible), Weakens: o.Weakens,
		Overrides: preview.Overrides(res.Sheet, o.Change.Edits),
	}}
	g.key = sha256.Sum256([]byte(o.Diff + "\x00" + strings.Join(
		slices.Concat(o.Change.Impossible, []string{""}, o.Weakens, []string{""}, keysOfGone(o.Change.Gone)), "\n")))
	return g
}

// gather puts hosts whose changes look alike together, the largest group first.
func (s *Policies) gather(out *api.Preview, all []*shown) {
	type key struct {
		change  [sha256.Size]byte
		missing string
	}
	groups := map[key]int{}
	var goes preview.Goes
	until := s.Now().Add(ground.AskTime)
	for _, x := range all {
		if x.group == nil {
			out.Steady += len(x.hosts)
			for _, v := range x.hosts {
				if v.Worst == drift.Danger || v.Worst == drift.Fault {
					out.Drifted++
				}
			}
			continue
		}
		out.Changing += len(x.hosts)
		s.Asked.Add(x.res.Sheet.Needs, until)
		s.Asked.AddSources(keysOfGone(x.group.gone), until)
		for _, v := range x.hosts {
			missing, unsure := fleet.Unmet(v, x.res.Sheet.Needs)
			if len(unsure) > 0 {
				out.Unsure = append(out.Unsure, v.Name)
			}
			k := key{x.group.key, strings.Join(missing, "\n")}
			i, ok := groups[k]
			if !ok {
				i = len(out.Groups)
				groups[k] = i
				g := x.group.PreviewGroup
				g.Impossible = source.Strings(slices.Concat(g.Impossible, missing))
				out.Groups = append(out.Groups, g)
			}
			lost(&goes, x.group.gone, v)
			out.Groups[i].Hosts = append(out.Groups[i].Hosts, v.Name)
		}
	}
	out.Gone = goes.List()
	slices.Sort(out.Unsure)
	for i := range out.Groups {
		slices.Sort(out.Groups[i].Hosts)
	}
	slices.SortStableFunc(out.Groups, func(a, b api.PreviewGroup) int { return len(b.Hosts) - len(a.Hosts) })
}

func keysOfGone(list []change.Gone) (out []string) {
	for _, g := range list {
		out = append(out, g.Key)
	}
	return out
}

// lost notes what a host has installed from the sources that go.
func lost(goes *preview.Goes, list []change.Gone, v *fleet.View) {
	if len(list) == 0 {
		return
	}
	have := fleet.PackagesOf(v)
	for _, g := range list {
		var came *origin.Came
		if c, told := have.Came[g.Key]; told {
			came = &c
		}
		goes.Add(g, v.Name, came, preview.NotAnswered)
	}
}
