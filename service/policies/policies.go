// Package policies checks, proposes and publishes what a team wrote, and foresees what would come of it.
package policies

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/singleflight"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/reason"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/contracts"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/service/upstreams"
	"patientlantern.example/lantern/store"
)

// Policies checks, proposes and publishes what a team wrote, and foresees what would come of it.
type Policies struct {
	*ground.Ground
	contracts *contracts.Contracts
	rollouts  *rollouts.Rollouts
	upstreams *upstreams.Upstreams

	previews singleflight.Group // by what is previewed
	turns    turns
}

// New is that of a service.
func New(g *ground.Ground, c *contracts.Contracts, r *rollouts.Rollouts, u *upstreams.Upstreams) *Policies {
	p := &Policies{Ground: g, contracts: c, rollouts: r, upstreams: u}
	p.turns.kept = memo.New[turn, *turned](keptTurns)
	return p
}

// trouble turns diagnostics into problem details, one for each.
func trouble(kind refusal.Kind, message string, list []diag.Diagnostic) error {
	var errs []error
	for _, d := range list {
		errs = append(errs, &refusal.Detail{Message: d.String(), Location: d.Pos.String(), Value: d.Code, Own: true})
	}
	return refusal.Of(kind, message, errs...)
}

// prepared is a policy folder, resolved for every host that has sent a survey.
type prepared struct {
	looked   api.Looked
	diags    []diag.Diagnostic
	resolver *resolve.Resolver
	expected []reason.Expected
	alike    map[following]int // → hosts
}

// following is what hosts have in common that come from one sheet to another.
type following struct {
	res             *resolve.Result
	carried, traits string
}

// judgedAs is what hosts have in common that a policy gives the same, and that have
// fetched the same.
type judgedAs struct {
	res     *resolve.Result
	survey  string
	carried string // the sheet that was carried last
}

// prepare loads a folder and resolves it for every host that has sent a survey.
func (s *Policies) prepare(ctx context.Context, folder policy.Folder) (out prepared, err error) {
	p, diags, err := s.load(ctx, folder)
	if err != nil {
		return out, err
	}
	out = prepared{looked: Looked(p), diags: diags}
	if diag.HasErrors(diags) {
		return out, nil
	}
	out.resolver = s.Compute.Resolver(p)
	out.alike = map[following]int{}
	judge := resolve.NewFleet(out.resolver)
	alike := map[judgedAs][]string{}
	until := s.Now().Add(ground.AskTime)
	asked := map[*resolve.Result]bool{}
	var takers []taker
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if v.Traits == "" {
			out.looked.Unknown++
			continue
		}
		at, err := s.Compute.HostOf(ctx, v)
		if err != nil {
			return out, err
		}
		res := s.Compute.ResolveHost(out.resolver, at)
		judge.Add(at, res)
		if names := judge.Asks(at, res); len(names) > 0 {
			takers = append(takers, taker{at, res, compute.PairOf(v, res.Digest()), names})
		}
		out.alike[following{res, v.Carried.Sheet, v.Traits}]++
		if !asked[res] {
			asked[res] = true
			s.Asked.Add(res.Sheet.Needs, until)
		}
		missing, unsure := fleet.Unmet(v, res.Sheet.Needs)
		if len(unsure) > 0 {
			out.looked.Unsure++
		}
		judge.Unmet(v.Name, res, missing)
		if slices.ContainsFunc(res.Sheet.Sources, func(x source.SheetSource) bool { return len(x.Pins) > 0 }) {
			k := judgedAs{res, v.Survey, v.Carried.Sheet}
			alike[k] = append(alike[k], v.Name)
		}
	}
	if err := s.foresee(ctx, judge, alike); err != nil {
		return out, err
	}
	if err := s.take(ctx, judge, takers); err != nil {
		return out, err
	}
	out.looked.Hosts, out.expected = judge.Hosts(), judge.Expected()
	for _, d := range judge.Diagnostics() {
		if !slices.ContainsFunc(diags, func(x diag.Diagnostic) bool { return x.Code == d.Code && x.Pos == d.Pos }) {
			out.diags = append(out.diags, d)
		}
	}
	return out, nil
}

// load reads a folder. What earlier versions took is no error where it stands in the newest revision already: a key is withdrawn,
// and anything else mended, without mending that first.
func (s *Policies) load(ctx context.Context, folder policy.Folder) (p *policy.Policy, diags []diag.Diagnostic, err error) {
	p, diags = policy.Load(folder, s.Now())
	if !slices.ContainsFunc(diags, func(d diag.Diagnostic) bool { return d.Newer }) {
		return p, diags, nil
	}
	newest, err := s.Store.NewestRevision(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return p, diags, nil
	}
	if err != nil {
		return nil, nil, err
	}
	files, err := s.filesOf(ctx, newest.Policy)
	if err != nil {
		return nil, nil, err
	}
	_, stand := policy.Published(files, newest.Created)
	return p, diag.Borne(diags, func(d diag.Diagnostic) bool {
		return slices.ContainsFunc(stand, func(x diag.Diagnostic) bool { return x.Newer && x.Code == d.Code && x.Message == d.Message })
	}), nil
}

// foresee judges pins by what the hosts' package manager has fetched.
func (s *Policies) foresee(ctx context.Context, judge *resolve.Fleet, alike map[judgedAs][]string) error {
	for k, hosts := range alike {
		var releases []source.Release
		if k.survey != "" {
			var err error
			if releases, err = s.Compute.ReleasesOf(ctx, k.survey); err != nil {
				return err
			}
		}
		var before []source.SheetSource
		if k.carried != "" {
			sheet, err := s.Compute.SheetOf(ctx, k.carried)
			if err != nil {
				return err
			}
			before = sheet.Sources
		}
		judge.Foresee(hosts, k.res, before, releases)
	}
	return nil
}

// Looked counts what a policy defines.
func Looked(p *policy.Policy) api.Looked {
	groups := 0
	for _, g := range p.Groups {
		if !g.Bare {
			groups++
		}
	}
	return api.Looked{
		Files:        len(p.Files),
		Keys:         len(p.Keys),
		Repositories: len(p.Repositories),
		Channels:     len(p.Channels),
		Contracts:    len(p.Contracts),
		Groups:       groups,
		Assignments:  len(p.Assignments),
	}
}

// FolderIn is a policy folder as it is sent.
type FolderIn struct {
	Body api.Publication
}

// CheckPolicy checks a policy folder against the fleet.
func (s *Policies) CheckPolicy(ctx context.Context, in *FolderIn) (*api.CheckResult, error) {
	p, err := s.prepare(ctx, in.Body.Files)
	if err != nil {
		return nil, err
	}
	said, err := s.placesSaid(ctx, &p)
	if err != nil {
		return nil, err
	}
	p.diags = append(append([]diag.Diagnostic{}, p.diags...), said...)
	expected := append([]reason.Expected{}, p.expected...)
	return &api.CheckResult{Diagnostics: p.diags, Looked: p.looked, Expectations: expected}, nil
}

// Publish publishes a policy folder as the next revision.
func (s *Policies) Publish(ctx context.Context, in *FolderIn) (*api.Revision, error) {
	by := journal.By(ctx)
	if err := s.mayAlone(ctx, &in.Body); err != nil {
		return nil, err
	}
	wanted := store.Revision{Author: by.Name, Message: in.Body.Message}
	return s.publishAs(ctx, &in.Body, wanted)
}

// mayAlone refuses to publish a folder that nobody else has agreed to, where the newest revision wants that.
func (s *Policies) mayAlone(ctx context.Context, p *api.Publication) error {
	newest, number, err := s.NewestPolicy(ctx)
	switch {
	case err != nil:
		return err
	case newest == nil || !newest.Consent:
		p.Alone = false // nothing is passed over
		return nil
	case !p.Alone:
		return refusal.Conflict(fmt.Sprintf("revision %d wants that somebody else agrees before a folder is published; "+
			"nothing was published. Propose it: lantern proposal add FOLDER. "+
			"Where it cannot wait: lantern policy publish FOLDER --alone --message \"why\"", number))
	case len(strings.TrimSpace(p.Message)) < 3:
		return refusal.Wrong("message: say in a few words why it cannot wait for somebody else's consent")
	}
	return nil
}

// publishAs publishes a folder, where it has no errors.
func (s *Policies) publishAs(ctx context.Context, in *api.Publication, wanted store.Revision) (*api.Revision, error) {
	p, err := s.prepare(ctx, in.Files)
	if err != nil {
		return nil, err
	}
	if diag.HasErrors(p.diags) {
		return nil, trouble(refusal.Invalid, "the policy has errors; nothing was published", diag.Errors(p.diags))
	}
	newest, number, err := s.NewestPolicy(ctx)
	if err != nil {
		return nil, err
	}
	if err := keepsWithdrawn(newest, number, p.resolver.Policy(), in.Believe); err != nil {
		return nil, err
	}
	folder, err := source.Canonical(policy.Folder(in.Files))
	if err != nil {
		return nil, err
	}
	until := s.Now().Add(publishedAskTime)
	for _, res := range p.resolver.Distinct() {
		s.Asked.Add(res.Sheet.Needs, until)
	}
	wanted.After = s.Fleet.NewestCarried(number) // hosts take no revision that is older than the one they have
	by := journal.By(ctx)
	wanted.Policy, wanted.Created = source.Digest(folder), s.Now()
	r, fresh, err := s.Store.Publish(ctx, wanted, folder, func(r store.Revision, fresh bool) store.Change {
		if !fresh {
			return store.Change{}
		}
		e := s.Entry(by, "publish-policy", journal.KindRevision, strconv.FormatInt(r.Number, 10))
		e.Why = r.Message
		switch {
		case in.Alone:
			e = journal.Detailed(e, map[string]any{"alone": true})
		case wanted.Proposal != 0:
			e = journal.Detailed(e, map[string]any{"proposal": wanted.Proposal, "author": wanted.Author})
		}
		return store.Noted(e)
	})
	if err != nil {
		return nil, err
	}
	if fresh {
		s.Compute.KeepRevision(r.Number, p.resolver) // it has looked at every host already
		s.Log.Info("revision published", "revision", r.Number, "author", r.Author)
	}
	out := revisionOf(r, s.Fleet.Held())
	out.Fresh, out.Diagnostics = fresh, p.diags
	return &out, nil
}

// keepsWithdrawn refuses a policy that would believe a key again which the newest revision
// withdraws, but for those that somebody names: a folder from before the withdrawal does that
// without a word.
func keepsWithdrawn(newest *policy.Policy, number int64, p *policy.Policy, believe []string) error {
	if newest == nil {
		return nil
	}
	for _, key := range p.BelievesAgain(newest) {
		if slices.Contains(believe, key) {
			continue
		}
		return refusal.Conflict(fmt.Sprintf(
			"revision %d withdraws the key %s, and this folder would have it believed again; "+
				"nothing was published. Add withdrawn: { %s: { because: … } } "+
				"to the folder, or say that it is meant: --believe %s",
			number,
			key,
			key,
			key,
		))
	}
	return nil
}

// publishedAskTime is how long a package is asked for that a published policy needs.
const publishedAskTime = 30 * 24 * time.Hour

// revisionOf describes a revision; held is how many hosts have each.
func revisionOf(r store.Revision, held map[int64]int) api.Revision {
	return api.Revision{
		Number:  r.Number,
		Policy:  r.Policy,
		Author:  r.Author,
		Message: r.Message,
		Created: r.Created,
		Hosts:   held[r.Number],
	}
}

// RevisionsQuery picks revisions.
type RevisionsQuery struct {
	ground.Paging
	Q string `query:"q" maxLength:"100" doc:"Part of the message or of the author"`
}

// ListRevisions lists every revision.
func (s *Policies) ListRevisions(ctx context.Context, in *RevisionsQuery) (*api.RevisionList, error) {
	list, err := s.Store.Revisions(ctx)
	if err != nil {
		return nil, err
	}
	part := strings.ToLower(in.Q)
	list = slices.DeleteFunc(list, func(r store.Revision) bool {
		return part != "" && !strings.Contains(strings.ToLower(r.Message+"\n"+r.Author), part)
	})
	from, to := in.Cut(len(list))
	out := api.RevisionList{Revisions: []api.Revision{}, Total: len(list), Next: in.Next(len(list))}
	held := s.Fleet.Held()
	for _, r := range list[from:to] {
		out.Revisions = append(out.Revisions, revisionOf(r, held))
	}
	return &out, nil
}
