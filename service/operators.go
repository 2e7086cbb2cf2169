package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/family/arch"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/family/rpm"
	"patientlantern.example/lantern/core/family/zypp"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/store"
)

// body wraps an answer as huma wants it.
type body[T any] struct{ Body T }

// refuse turns an error into problem details.
func (s *Service) refuse(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, errAmbiguous):
		return huma.Error409Conflict(err.Error())
	}
	if errors.Is(err, context.Canceled) {
		return huma.NewError(499, "the caller has gone")
	}
	s.log.Error("answering an operator", "error", err)
	return huma.Error500InternalServerError("the service could not do it; its log says why")
}

// findHost answers a wrong name with the nearest right one.
func (s *Service) findHost(name string) (*host, error) {
	h, err := s.fleet.find(name)
	if err == nil {
		return h, nil
	}
	if errors.Is(err, errAmbiguous) {
		return nil, huma.Error409Conflict(err.Error())
	}
	msg := fmt.Sprintf("there is no host %q", name)
	if near := names.Nearest(name, s.fleet.names()); near != "" {
		msg += fmt.Sprintf("; did you mean %q?", near)
	} else {
		msg += "; `lantern hosts` lists them"
	}
	return nil, huma.Error404NotFound(msg)
}

// Paging bounds a page.
type Paging struct {
	Page    int `query:"page" minimum:"1" default:"1" doc:"Page, from 1"`
	PerPage int `query:"per_page" minimum:"1" maximum:"1000" default:"50" doc:"Rows on a page"`
}

func (p Paging) cut(total int) (from, to int) {
	from = min((p.Page-1)*p.PerPage, total)
	return from, min(from+p.PerPage, total)
}

type hostQuery struct {
	Paging
	Q      string   `query:"q" doc:"Part of the name, the operating system or a label (key=value)"`
	State  []string `query:"state" doc:"Only hosts in these states"`
	Sort   string   `query:"sort" enum:"name,state,os,revision,findings,last_seen,-name,-state,-os,-revision,-findings,-last_seen" default:"name" doc:"Order; - turns it round"`
	Family string   `query:"family" doc:"Only hosts of this family"`
}

func (s *Service) listHosts(ctx context.Context, in *hostQuery) (*body[api.HostPage], error) {
	now := s.now()
	for _, st := range in.State {
		if !slices.Contains(api.States, st) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no state %q; states are %s", st, strings.Join(api.States, ", ")))
		}
	}
	page := api.HostPage{Hosts: []api.Host{}, States: map[string]int{}}
	for _, st := range api.States {
		page.States[st] = 0
	}
	var counted tally
	// A row carries what it is sorted by; equal ones keep the order of names.
	type row struct {
		h    *host
		text string
		num  int64
		at   int
	}
	order, turned := strings.CutPrefix(in.Sort, "-")
	var rows []row
	q := strings.ToLower(in.Q)
	for _, h := range s.fleet.all() {
		st := h.state(now)
		page.All++
		page.States[st]++
		v := h.row()
		counted.add(v, st)
		if len(in.State) > 0 && !slices.Contains(in.State, st) || in.Family != "" && v.family != in.Family || q != "" && !matches(v, q) {
			continue
		}
		r := row{h: h, at: len(rows)}
		switch order {
		case "state":
			r.num = int64(slices.Index(api.States, st))
		case "os":
			r.text = v.os
		case "revision":
			r.num = v.Revision
		case "findings":
			r.num = int64(len(v.findings))
		case "last_seen":
			r.num = h.lastSeen.Load()
		default:
			r.num = int64(r.at)
		}
		rows = append(rows, r)
	}
	if order != "name" || turned {
		slices.SortFunc(rows, func(a, b row) int {
			n := cmp.Compare(a.num, b.num)
			if n == 0 && order == "os" {
				n = strings.Compare(a.text, b.text)
			}
			switch {
			case n == 0:
				return a.at - b.at
			case turned:
				return -n
			}
			return n
		})
	}
	var err error
	if page.Standing, err = s.invited(ctx, counted.standing(), now); err != nil {
		return nil, s.refuse(err)
	}
	page.Total = len(rows)
	from, to := in.cut(len(rows))
	for _, r := range rows[from:to] {
		page.Hosts = append(page.Hosts, r.h.summary(now))
	}
	return &body[api.HostPage]{page}, nil
}

func matches(v *hostView, q string) bool {
	if strings.Contains(v.Name, q) || strings.Contains(v.lowerOS, q) { // names are in small letters
		return true
	}
	for k, l := range v.Labels {
		if strings.Contains(strings.ToLower(k+"="+l), q) {
			return true
		}
	}
	return false
}

// HostPath names a host in a path.
type HostPath struct {
	Name string `path:"name" doc:"The host's full name, or its short name where that fits one host only"`
}

func (s *Service) showHost(ctx context.Context, in *HostPath) (*body[api.HostDetail], error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	h.mu.Lock() // what is being stored is shown when it is
	v := h.row()
	h.mu.Unlock()
	d := api.HostDetail{
		Host: h.summary(s.now()), Joined: v.Joined, Agent: v.Agent, Free: v.Free,
		Sources: []source.Source{}, Keys: []source.Key{}, Problems: []source.Problem{}, Drift: []api.Finding{}, Impossible: []string{}, Reasons: []api.Reason{},
	}
	if d.Free == nil {
		d.Free = map[string]int64{}
	}
	if !v.Carried.At.IsZero() {
		d.Carried = &v.Carried.At
	}
	if v.Traits != "" {
		if d.Traits, err = s.compute.traitsOf(ctx, v.Traits); err != nil {
			return nil, s.refuse(err)
		}
	}
	if v.Survey != "" {
		su, err := s.compute.surveyOf(ctx, v.Survey)
		if err != nil {
			return nil, s.refuse(err)
		}
		d.Sources, d.Keys, d.Problems = su.Sources, su.Keys, su.Problems
	}
	if err := s.showStanding(v, &d); err != nil {
		return nil, s.refuse(err)
	}
	if v.Sheet != "" && v.Survey != "" {
		o, err := s.compute.change(ctx, pairOf(v, v.Sheet))
		if err != nil {
			return nil, s.refuse(err)
		}
		d.Drift = s.findings(v, o.located(v.findings))
		slices.SortStableFunc(d.Drift, func(a, b api.Finding) int { return drift.Rank(a.Severity) - drift.Rank(b.Severity) })
		d.Diff = o.diff
		d.Impossible = source.Strings(o.change.Impossible)
	}
	if v.Revision != 0 && v.Traits != "" {
		rs, err := s.compute.revision(ctx, v.Revision, s.now())
		if err != nil {
			return nil, s.refuse(err)
		}
		res, err := s.compute.resolve(ctx, rs, v)
		if err != nil {
			return nil, s.refuse(err)
		}
		for _, r := range res.Reasons() {
			d.Reasons = append(d.Reasons, api.Reason(r))
		}
	}
	switch id, rh, err := s.store.LastReport(ctx, v.Name); {
	case err == nil:
		p := progress(rh)
		if p.Report != nil {
			p.Report.Rollout = id
		}
		d.Report = &p
	case !errors.Is(err, store.ErrNotFound):
		return nil, s.refuse(err)
	}
	return &body[api.HostDetail]{d}, nil
}

func (s *Service) findings(v *hostView, list []drift.Finding) []api.Finding {
	out := make([]api.Finding, 0, len(list))
	for _, f := range list {
		out = append(out, api.Finding{Host: v.Name, Finding: f, Since: v.Since[f.Key()].UTC()})
	}
	return out
}

func progress(rh store.RolloutHost) api.HostProgress {
	p := api.HostProgress{Host: rh.Host, State: rh.State, Updated: rh.Updated}
	if len(rh.Report) > 2 {
		var rep api.Report
		if json.Unmarshal(rh.Report, &rep) == nil {
			p.Report = &rep
		}
	}
	return p
}

type driftQuery struct {
	Paging
	Host     string   `query:"host" doc:"Only findings of this host"`
	Severity []string `query:"severity" doc:"Only these severities: danger, fault, note"`
	Class    []string `query:"class" doc:"Only these classes"`
	Sort     string   `query:"sort" enum:"severity,since,host,-since" default:"severity"`
}

func (s *Service) listDrift(ctx context.Context, in *driftQuery) (*body[api.FindingPage], error) {
	hosts := s.fleet.all()
	if in.Host != "" {
		h, err := s.findHost(in.Host)
		if err != nil {
			return nil, err
		}
		hosts = []*host{h}
	}
	for _, sev := range in.Severity {
		if drift.Rank(sev) < 0 {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no severity %q; severities are danger, fault, note", sev))
		}
	}
	type row struct {
		v *hostView
		f *drift.Finding
		i int
	}
	var rows []row
	for _, class := range in.Class {
		if !slices.Contains(drift.Classes, class) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no class %.60q; classes are %s", class, strings.Join(drift.Classes, ", ")))
		}
	}
	page := api.FindingPage{Findings: []api.Finding{}}
	now := s.now()
	var counted tally
	for _, h := range hosts {
		counted.add(h.row(), h.state(now))
	}
	page.Standing = counted.standing()
	if in.Host == "" {
		var err error
		if page.Standing, err = s.invited(ctx, page.Standing, now); err != nil {
			return nil, s.refuse(err)
		}
	}
	for _, h := range hosts {
		v := h.row()
		any := false
		for i := range v.findings {
			f := &v.findings[i]
			if len(in.Severity) > 0 && !slices.Contains(in.Severity, f.Severity) || len(in.Class) > 0 && !slices.Contains(in.Class, f.Class) {
				continue
			}
			rows = append(rows, row{v, f, i})
			any = true
		}
		if any {
			page.Hosts++
		}
	}
	slices.SortStableFunc(rows, func(a, b row) int {
		since := a.v.Since[a.f.Key()].Compare(b.v.Since[b.f.Key()])
		switch in.Sort {
		case "since":
			return since
		case "-since":
			return -since
		case "host":
			return strings.Compare(a.v.Name, b.v.Name)
		}
		return drift.Rank(a.f.Severity) - drift.Rank(b.f.Severity)
	})
	page.Total = len(rows)
	from, to := in.cut(len(rows))
	for _, r := range rows[from:to] {
		o, err := s.compute.change(ctx, pairOf(r.v, r.v.Sheet))
		if err != nil {
			return nil, s.refuse(err)
		}
		page.Findings = append(page.Findings, s.findings(r.v, o.located(r.v.findings)[r.i:r.i+1])...)
	}
	return &body[api.FindingPage]{page}, nil
}

// trouble turns diagnostics into problem details, one for each.
func trouble(status int, message string, list []diag.Diagnostic) error {
	var errs []error
	for _, d := range list {
		errs = append(errs, &diagnosed{huma.ErrorDetail{Message: d.String(), Location: d.Pos.String(), Value: d.Code}})
	}
	return huma.NewError(status, message, errs...)
}

// prepare loads a folder and resolves it for every host that has sent a survey.
func (s *Service) prepare(ctx context.Context, folder policy.Folder) (looked api.Looked, diags []diag.Diagnostic, sheets []store.Document, err error) {
	p, diags := policy.Load(folder, s.now())
	looked = Looked(p)
	if diag.HasErrors(diags) {
		return looked, diags, nil, nil
	}
	rs := s.compute.resolver(p)
	judge := resolve.NewFleet(rs)
	for _, h := range s.fleet.all() {
		v := h.row()
		if v.Traits == "" {
			looked.Unknown++
			continue
		}
		res, err := s.compute.resolve(ctx, rs, v)
		if err != nil {
			return looked, diags, nil, err
		}
		t, err := s.compute.traitsOf(ctx, v.Traits)
		if err != nil {
			return looked, diags, nil, err
		}
		judge.Add(resolve.Host{Name: v.Name, Traits: t}, res)
		s.asked.add(res.Sheet.Needs, s.now().Add(askTime))
		missing, unsure := unmet(v, res.Sheet.Needs)
		if len(unsure) > 0 {
			looked.Unsure++
		}
		var releases []source.Release
		if v.Survey != "" {
			su, err := s.compute.surveyOf(ctx, v.Survey)
			if err != nil {
				return looked, diags, nil, err
			}
			releases = su.Releases
		}
		judge.Foresee(v.Name, res, releases, missing)
	}
	looked.Hosts = judge.Hosts()
	for _, d := range judge.Diagnostics() {
		if !slices.ContainsFunc(diags, func(x diag.Diagnostic) bool { return x.Code == d.Code && x.Pos == d.Pos }) {
			diags = append(diags, d)
		}
	}
	for _, res := range rs.Distinct() {
		sheets = append(sheets, store.Document{Digest: res.Digest, Kind: store.KindSheet, Body: res.Text})
	}
	return looked, diags, sheets, nil
}

// Looked counts what a policy defines.
func Looked(p *policy.Policy) api.Looked {
	groups := 0
	for _, g := range p.Groups {
		if !g.Bare {
			groups++
		}
	}
	return api.Looked{Files: len(p.Files), Keys: len(p.Keys), Repositories: len(p.Repositories), Channels: len(p.Channels), Contracts: len(p.Contracts), Groups: groups, Assignments: len(p.Assignments)}
}

type folderIn struct {
	Body api.Publication
}

func (s *Service) checkPolicy(ctx context.Context, in *folderIn) (*body[api.CheckResult], error) {
	looked, diags, _, err := s.prepare(ctx, in.Body.Files)
	if err != nil {
		return nil, s.refuse(err)
	}
	if diags == nil {
		diags = []diag.Diagnostic{}
	}
	return &body[api.CheckResult]{api.CheckResult{Diagnostics: diags, Looked: looked}}, nil
}

func (s *Service) publish(ctx context.Context, in *folderIn) (*body[api.Revision], error) {
	_, diags, sheets, err := s.prepare(ctx, in.Body.Files)
	if err != nil {
		return nil, s.refuse(err)
	}
	if diag.HasErrors(diags) {
		return nil, trouble(http.StatusUnprocessableEntity, "the policy has errors; nothing was published", diag.Errors(diags))
	}
	folder, err := source.Canonical(policy.Folder(in.Body.Files))
	if err != nil {
		return nil, s.refuse(err)
	}
	r, fresh, err := s.store.Publish(ctx, store.Revision{Policy: source.Digest(folder), Author: operatorFrom(ctx).Name, Message: in.Body.Message, Created: s.now()}, folder, sheets)
	if err != nil {
		return nil, s.refuse(err)
	}
	if fresh {
		s.log.Info("revision published", "revision", r.Number, "author", r.Author)
		s.events.send(api.Event{Kind: "revision", Name: strconv.FormatInt(r.Number, 10)})
	}
	for _, d := range sheets {
		var sheet source.Sheet
		if json.Unmarshal(d.Body, &sheet) == nil {
			s.asked.add(sheet.Needs, s.now().Add(30*24*time.Hour))
		}
	}
	out := s.revision(r)
	out.Fresh, out.Diagnostics = fresh, diags
	return &body[api.Revision]{out}, nil
}

func (s *Service) revision(r store.Revision) api.Revision {
	out := api.Revision{Number: r.Number, Policy: r.Policy, Author: r.Author, Message: r.Message, Created: r.Created}
	for _, h := range s.fleet.all() {
		if h.row().Revision == r.Number {
			out.Hosts++
		}
	}
	return out
}

func (s *Service) listRevisions(ctx context.Context, _ *struct{}) (*body[api.RevisionList], error) {
	list, err := s.store.Revisions(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.RevisionList{Revisions: []api.Revision{}}
	for _, r := range list {
		out.Revisions = append(out.Revisions, s.revision(r))
	}
	return &body[api.RevisionList]{out}, nil
}

// pick returns the revision that is asked for, the newest for 0.
func (s *Service) pick(ctx context.Context, number int64) (store.Revision, error) {
	list, err := s.store.Revisions(ctx)
	if err != nil {
		return store.Revision{}, s.refuse(err)
	}
	if len(list) == 0 {
		return store.Revision{}, huma.Error409Conflict("nothing is published yet: lantern policy publish FOLDER")
	}
	if number == 0 {
		return list[0], nil
	}
	for _, r := range list {
		if r.Number == number {
			return r, nil
		}
	}
	return store.Revision{}, huma.Error404NotFound(fmt.Sprintf("there is no revision %d; the newest is %d", number, list[0].Number))
}

type previewQuery struct {
	Revision int64 `query:"revision" minimum:"0" doc:"The revision; 0 for the newest"`
}

func (s *Service) preview(ctx context.Context, in *previewQuery) (*body[api.Preview], error) {
	r, err := s.pick(ctx, in.Revision)
	if err != nil {
		return nil, err
	}
	rs, err := s.compute.revision(ctx, r.Number, s.now())
	if err != nil {
		return nil, s.refuse(err)
	}
	return s.previewOf(ctx, rs, r.Number)
}

// previewFolder shows what a folder would change that is not published.
func (s *Service) previewFolder(ctx context.Context, in *folderIn) (*body[api.Preview], error) {
	p, diags := policy.Load(in.Body.Files, s.now())
	if diag.HasErrors(diags) {
		return nil, trouble(http.StatusUnprocessableEntity, "the policy has errors", diag.Errors(diags))
	}
	return s.previewOf(ctx, s.compute.resolver(p), 0)
}

func (s *Service) previewOf(ctx context.Context, rs *resolve.Resolver, number int64) (*body[api.Preview], error) {
	out := api.Preview{Revision: number, Unknown: []string{}, Unsure: []string{}, Groups: []api.PreviewGroup{}}
	var wanted []wantedSeats
	groups := map[string]int{}
	var broken []diag.Diagnostic
	for _, h := range s.fleet.all() {
		v := h.row()
		if v.Traits == "" || v.Survey == "" {
			out.Unknown = append(out.Unknown, v.Name)
			continue
		}
		if !managed(v.family) {
			out.Unmanaged++
			continue
		}
		res, err := s.compute.resolve(ctx, rs, v)
		if err != nil {
			return nil, s.refuse(err)
		}
		if len(res.Trouble) > 0 {
			broken = append(broken, res.Trouble...)
			continue
		}
		if needs := res.Needs(); len(needs) > 0 {
			wanted = append(wanted, wantedSeats{v, needs})
		}
		s.compute.hold(res)
		o, err := s.compute.change(ctx, pairOf(v, res.Digest))
		if err != nil {
			return nil, s.refuse(err)
		}
		if o.diff == "" && len(o.change.Impossible) == 0 {
			out.Steady++
			continue
		}
		out.Changing++
		s.asked.add(res.Sheet.Needs, s.now().Add(askTime))
		missing, unsure := unmet(v, res.Sheet.Needs)
		if len(unsure) > 0 {
			out.Unsure = append(out.Unsure, v.Name)
		}
		impossible := slices.Concat(o.change.Impossible, missing)
		key := o.diff + strings.Join(slices.Concat(impossible, o.weakens), "\n")
		i, ok := groups[key]
		if !ok {
			i = len(out.Groups)
			groups[key] = i
			g := api.PreviewGroup{Diff: o.diff, Files: []api.PreviewFile{}, Impossible: source.Strings(impossible), Weakens: o.weakens, Overrides: preview.Overrides(res.Sheet, o.change.Edits)}
			for _, e := range o.change.Edits {
				g.Files = append(g.Files, api.PreviewFile{Path: e.Path, Action: e.Action, Why: e.Why})
			}
			out.Groups = append(out.Groups, g)
		}
		out.Groups[i].Hosts = append(out.Groups[i].Hosts, v.Name)
	}
	if len(broken) > 0 {
		return nil, trouble(http.StatusConflict, fmt.Sprintf("revision %d contradicts itself for some hosts", number), broken)
	}
	slices.SortStableFunc(out.Groups, func(a, b api.PreviewGroup) int { return len(b.Hosts) - len(a.Hosts) })
	var err error
	if out.Seats, err = s.seatsAhead(ctx, wanted); err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.Preview]{out}, nil
}

type rolloutIn struct {
	Body api.RolloutOrder
}

// beginRollout carries a revision to all hosts of a family that can be changed.
func (s *Service) beginRollout(ctx context.Context, in *rolloutIn) (*body[api.Rollout], error) {
	s.rolloutMu.Lock()
	defer s.rolloutMu.Unlock()
	r, err := s.pick(ctx, in.Body.Revision)
	if err != nil {
		return nil, err
	}
	if open, err := s.store.OpenRollout(ctx, store.KindRollout); err == nil {
		return nil, huma.Error409Conflict(fmt.Sprintf("rollout %d is still under way; wait for it, or stop it: lantern rollout stop %d", open.ID, open.ID))
	}
	var targets []*host
	for _, h := range s.fleet.all() {
		v := h.settled()
		if v.Task != 0 && !v.behind {
			return nil, huma.Error409Conflict(fmt.Sprintf("%s is being changed by rollout %d; try again when it is done, or stop it: lantern rollout stop %d", v.Name, v.Task, v.Task))
		}
		if r.Number < v.Revision {
			return nil, huma.Error409Conflict(fmt.Sprintf("%s has revision %d already, and a host does not go back to revision %d as it is: publish it again (lantern policy restore %d), then begin", v.Name, v.Revision, r.Number, r.Number))
		}
		if v.Traits != "" && managed(v.family) {
			targets = append(targets, h)
		}
	}
	if len(targets) == 0 {
		return nil, huma.Error409Conflict("no host has sent a survey yet, so there is none to carry it to")
	}
	if err := s.seatsFor(ctx, r.Number, targets); err != nil {
		return nil, err
	}
	return s.begin(ctx, store.Rollout{Kind: store.KindRollout, Revision: r.Number}, targets)
}

// managed reports whether this release can change hosts of a family.
func managed(family string) bool {
	return slices.Contains([]string{deb.Family, rpm.Family, zypp.Family, arch.Family}, family)
}

func (s *Service) begin(ctx context.Context, ro store.Rollout, targets []*host) (*body[api.Rollout], error) {
	ro.Author, ro.Begun = operatorFrom(ctx).Name, s.now()
	rows := make([]*store.Host, len(targets))
	for i, h := range targets {
		h.mu.Lock()
		defer h.mu.Unlock()
		rows[i] = &h.row().Host
	}
	ro, err := s.store.BeginRollout(ctx, ro, rows)
	if err != nil {
		return nil, s.refuse(err)
	}
	for _, h := range targets {
		v := *h.row()
		v.Task, v.working, v.behind = ro.ID, false, false
		h.sign.Store(nil)
		h.put(&v)
		s.events.send(api.Event{Kind: "host", Name: v.Name})
	}
	s.log.Info("rollout begun", "rollout", ro.ID, "kind", ro.Kind, "revision", ro.Revision, "hosts", len(targets), "author", ro.Author)
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(ro.ID, 10)})
	out, err := s.rollout(ctx, ro)
	if err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.Rollout]{out}, nil
}

type healIn struct {
	HostPath
	Body *api.HealOrder `required:"false"`
}

func (s *Service) heal(ctx context.Context, in *healIn) (*body[api.Rollout], error) {
	s.rolloutMu.Lock()
	defer s.rolloutMu.Unlock()
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	v := h.settled()
	switch {
	case v.Revision == 0:
		return nil, huma.Error409Conflict(fmt.Sprintf("no revision was carried to %s yet, so there is nothing to heal it to; begin a rollout", v.Name))
	case v.Task != 0 && !v.behind:
		return nil, huma.Error409Conflict(fmt.Sprintf("%s is being changed by rollout %d", v.Name, v.Task))
	}
	return s.begin(ctx, store.Rollout{Kind: store.KindHeal, Revision: v.Revision, SetAside: in.Body != nil && in.Body.SetAside}, []*host{h})
}

func (s *Service) rollout(ctx context.Context, ro store.Rollout) (api.Rollout, error) {
	out := api.Rollout{ID: ro.ID, Kind: ro.Kind, Revision: ro.Revision, Author: ro.Author, Begun: ro.Begun, Counts: map[string]int{}}
	if !ro.Ended.IsZero() {
		out.Ended = &ro.Ended
	}
	if !ro.Stopped.IsZero() {
		out.Stopped = &ro.Stopped
	}
	for _, st := range []string{store.Waiting, store.Working, store.Done, store.Unchanged, store.Failed, store.Behind} {
		out.Counts[st] = 0
	}
	hosts, err := s.store.RolloutHosts(ctx, ro.ID)
	if err != nil {
		return out, err
	}
	for _, h := range hosts {
		out.Counts[h.State]++
		out.Hosts = append(out.Hosts, s.alive(ro.ID, progress(h)))
	}
	return out, nil
}

// alive shows of a host at work how far it is now.
func (s *Service) alive(rollout int64, p api.HostProgress) api.HostProgress {
	if p.State != store.Working {
		return p
	}
	h, err := s.fleet.find(p.Host)
	if err != nil {
		return p
	}
	if sign := h.sign.Load(); sign != nil && sign.rollout == rollout && p.Report != nil {
		p.Report.Step, p.Updated = sign.step, sign.at
	}
	return p
}

type rolloutPath struct {
	ID int64 `path:"id"`
}

func (s *Service) showRollout(ctx context.Context, in *rolloutPath) (*body[api.Rollout], error) {
	ro, err := s.store.Rollout(ctx, in.ID)
	if err != nil {
		return nil, s.refuse(fmt.Errorf("there is no rollout %d: %w", in.ID, err))
	}
	out, err := s.rollout(ctx, ro)
	if err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.Rollout]{out}, nil
}

func (s *Service) listRollouts(ctx context.Context, in *Paging) (*body[api.RolloutPage], error) {
	list, total, err := s.store.Rollouts(ctx, in.PerPage, (in.Page-1)*in.PerPage)
	if err != nil {
		return nil, s.refuse(err)
	}
	page := api.RolloutPage{Rollouts: []api.Rollout{}, Total: total}
	for _, ro := range list {
		r, err := s.rollout(ctx, ro)
		if err != nil {
			return nil, s.refuse(err)
		}
		r.Hosts = nil
		page.Rollouts = append(page.Rollouts, r)
	}
	return &body[api.RolloutPage]{page}, nil
}

func (s *Service) stopRollout(ctx context.Context, in *rolloutPath) (*body[api.Rollout], error) {
	ro, err := s.store.Rollout(ctx, in.ID)
	if err != nil {
		return nil, s.refuse(fmt.Errorf("there is no rollout %d: %w", in.ID, err))
	}
	if !ro.Ended.IsZero() {
		return nil, huma.Error409Conflict(fmt.Sprintf("rollout %d has ended already, at %s", ro.ID, ro.Ended.Format(time.RFC3339)))
	}
	now := s.now()
	var gone, left []string
	for _, h := range s.fleet.all() {
		v := h.row()
		switch {
		case v.Task != ro.ID || !v.working || v.behind:
		case h.atWork(now):
			left = append(left, v.Name)
		default:
			gone = append(gone, v.Name)
		}
	}
	list, err := s.store.StopRollout(ctx, ro.ID, gone, now)
	if err != nil {
		return nil, s.refuse(err)
	}
	for _, n := range list {
		s.untask(n, ro.ID)
	}
	s.log.Info("rollout stopped", "rollout", ro.ID, "taken back", len(list), "still at work", len(left), "author", operatorFrom(ctx).Name)
	s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(ro.ID, 10)})
	out, err := s.showRollout(ctx, in)
	if err == nil {
		out.Body.Left = left
	}
	return out, err
}

// untask takes a task off a host.
func (s *Service) untask(name string, rollout int64) {
	h, err := s.fleet.find(name)
	if err != nil {
		return
	}
	h.mu.Lock()
	v := *h.row()
	if v.Task == rollout {
		v.Task, v.working, v.behind = 0, false, false
		h.put(&v)
	}
	h.mu.Unlock()
	s.events.send(api.Event{Kind: "host", Name: name})
}

type inviteIn struct {
	Body api.InviteOrder
}

func (s *Service) invite(ctx context.Context, in *inviteIn) (*body[api.Invite], error) {
	hours := in.Body.Hours
	if hours == 0 {
		hours = 24
	}
	secret, _ := NewToken("plj_")
	token := secret + "." + s.key.thumb
	i := store.Invite{Host: strings.ToLower(in.Body.Host), Author: operatorFrom(ctx).Name, Expires: s.now().Add(time.Duration(hours) * time.Hour)}
	if err := s.store.AddInvite(ctx, hashToken(token), i); err != nil {
		return nil, s.refuse(err)
	}
	s.log.Info("a host was invited", "host", i.Host, "author", i.Author)
	return &body[api.Invite]{api.Invite{Host: i.Host, Token: token, Expires: i.Expires.UTC()}}, nil
}

type labelsIn struct {
	HostPath
	Body api.Labels
}

func (s *Service) setLabels(ctx context.Context, in *labelsIn) (*body[api.Host], error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	for k, v := range in.Body.Labels {
		if !labelForm(k) || len(v) > 200 {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("the label %q cannot be taken; a label's name is letters, digits and _, at most 63, its value at most 200", k))
		}
	}
	if _, err := s.change(ctx, h, func(v *hostView) error { v.Labels = in.Body.Labels; return nil }, nil); err != nil {
		return nil, s.refuse(err)
	}
	return &body[api.Host]{h.summary(s.now())}, nil
}

// labelForm reports whether k can be written as label.k in an expression.
func labelForm(k string) bool {
	if k == "" || len(k) > 63 || k[0] >= '0' && k[0] <= '9' {
		return false
	}
	return strings.IndexFunc(k, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_')
	}) < 0
}

func (s *Service) retireHost(ctx context.Context, in *HostPath) (*struct{}, error) {
	h, err := s.findHost(in.Name)
	if err != nil {
		return nil, err
	}
	v := h.settled()
	for _, seat := range s.keeper.of(v.Name) {
		if seat.Leaving {
			continue
		}
		if _, err := s.keeper.release(ctx, v.Name, seat.Account, operatorFrom(ctx).Name); err != nil {
			return nil, s.refuse(err)
		}
	}
	h.mu.Lock()
	ended, err := s.store.RetireHost(ctx, &h.row().Host, s.now())
	h.retired.Store(err == nil)
	h.mu.Unlock()
	if err != nil {
		return nil, s.refuse(err)
	}
	for _, id := range ended {
		s.events.send(api.Event{Kind: "rollout", Name: strconv.FormatInt(id, 10)})
	}
	s.fleet.remove(v.Name)
	s.log.Info("a host was retired", "host", v.Name, "author", operatorFrom(ctx).Name)
	s.events.send(api.Event{Kind: "host", Name: v.Name})
	return nil, nil
}

func (s *Service) listOperators(ctx context.Context, _ *struct{}) (*body[api.OperatorList], error) {
	list, err := s.store.Operators(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	out := api.OperatorList{Operators: []api.Operator{}}
	for _, o := range list {
		out.Operators = append(out.Operators, api.Operator{Name: o.Name, Role: o.Role, Created: o.Created})
	}
	return &body[api.OperatorList]{out}, nil
}

type operatorIn struct {
	Body api.OperatorOrder
}

func (s *Service) addOperator(ctx context.Context, in *operatorIn) (*body[api.Operator], error) {
	token, hash := NewToken("plo_")
	o := store.Operator{Name: in.Body.Name, Role: in.Body.Role, Created: s.now().UTC()}
	if err := s.store.AddOperator(ctx, o, hash); err != nil {
		return nil, s.refuse(err)
	}
	s.auth.forget()
	s.events.end(o.Name)
	s.log.Info("operator added", "name", o.Name, "role", o.Role, "author", operatorFrom(ctx).Name)
	return &body[api.Operator]{api.Operator{Name: o.Name, Role: o.Role, Created: o.Created, Token: token}}, nil
}

type operatorPath struct {
	Name string `path:"name"`
}

func (s *Service) removeOperator(ctx context.Context, in *operatorPath) (*struct{}, error) {
	if in.Name == operatorFrom(ctx).Name {
		return nil, huma.Error409Conflict("you cannot remove yourself; let another operator do it")
	}
	if err := s.store.RemoveOperator(ctx, in.Name); err != nil {
		return nil, s.refuse(err)
	}
	s.auth.forget()
	s.events.end(in.Name)
	s.log.Info("operator removed", "name", in.Name, "author", operatorFrom(ctx).Name)
	return nil, nil
}
