// Package agents hears what hosts say of themselves and how carrying went, and gives them what waits for
// them.
package agents

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/origin"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/compute"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/identity"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/service/memo"
	"patientlantern.example/lantern/service/refusal"
	"patientlantern.example/lantern/service/rollouts"
	"patientlantern.example/lantern/store"
)

// Agents hears what hosts say, and gives them what waits for them.
type Agents struct {
	*ground.Ground
	rollouts *rollouts.Rollouts
	counts   Counters

	auth    *authenticator
	upload  *uploads
	answers *memo.Cache[string, *store.Answer] // by digest
	naming  sync.RWMutex                       // held for writing while documents that nothing names are forgotten
}

// Counters are told what comes from hosts.
type Counters struct {
	CheckIn, Changed func()
	Refused          func(who string)
}

// New is that of a service.
func New(g *ground.Ground, r *rollouts.Rollouts, counts Counters) *Agents {
	return &Agents{Ground: g, rollouts: r, counts: counts, auth: newAuthenticator(g.Fleet, g.Now), upload: newUploads(),
		answers: memo.New[string, *store.Answer](keptAnswers)}
}

// mostZone bounds the name of a time zone, in bytes.
const mostZone = 60

// Join takes a host into the fleet.
func (s *Agents) Join(ctx context.Context, in *api.Join) (*api.Joined, error) {
	var key jose.JSONWebKey
	if err := key.UnmarshalJSON([]byte(in.Key)); err != nil || !key.IsPublic() {
		return nil, refusal.Of(refusal.Unreadable, "the key is not a public JWK")
	}
	pub, ok := key.Key.(ed25519.PublicKey)
	if !ok {
		return nil, refusal.Of(refusal.Unreadable, "the key is not an Ed25519 key")
	}
	row, err := s.Store.Join(ctx, identity.HashToken(in.Token), pub, s.Now(), func(row *store.Host) store.Change {
		return store.Change{
			Note: func() []store.Entry {
				return []store.Entry{s.Entry(journal.Actor{Kind: journal.ActorHost, Name: row.Name}, journal.CommandJoin, journal.KindHost, row.Name)}
			},
			Then: func() { s.Fleet.Enter(row) },
		}
	})
	if errors.Is(err, store.ErrNotFound) {
		s.counts.Refused("join")
		return nil, refusal.Of(
			refusal.Forbidden,
			"the token is not known, was used already, or has expired: ask for a new one (lantern host invite NAME)",
		)
	}
	var same *store.SameKeyError
	if errors.As(err, &same) {
		s.counts.Refused("join")
		return nil, refusal.Conflict(same.Error())
	}
	if err != nil {
		return nil, err
	}
	s.Log.Info("a host joined", "host", row.Name)
	return &api.Joined{Host: row.Name, Service: s.Key.Public}, nil
}

// CheckIn hears by digest how a host stands.
func (s *Agents) CheckIn(ctx context.Context, in *api.CheckIn) (*api.CheckInAnswer, error) {
	h := fleet.Caller(ctx)
	s.counts.CheckIn()
	now := s.Now()
	if h.NoteRun(in.Instance, now) {
		s.Log.Warn("two machines check in with one identity", "host", h.Row().Name)
		s.Note(ctx, s.Entry(journal.By(ctx), journal.CommandTwins, journal.KindHost, h.Row().Name))
	}
	wasSilent := h.State(now) == api.StateSilent
	first := h.SeenMilli() == 0
	v := h.Row()
	h.NoteCarried(in.Revision, s.knownOf(ctx, v, in), now)
	h.Seen(now)
	out := &api.CheckInAnswer{
		Interval: int(s.Opts.Interval.Milliseconds()),
		Watch:    int(s.Opts.Watch.Milliseconds()),
		Access:   s.Keeper.Stamp(v.Name),

		AccessStays: in.Revision > v.Revision, // what it has may be of seats that are not known here
	}
	if base := v.Carried.Known().Survey; base != "" && base == in.Survey && base != in.Base {
		out.Keep = true
	}
	if v.Told == nil || v.Told.Survey != v.Survey {
		out.Trace, out.Logins = fleet.FilesOfFindings(v), v.ReadLogins
	}
	ask := s.Asked.Current()
	if out.Asked = ask.Stamp; ask.Stamp != "" && ask.Stamp != v.Answered {
		out.Packages, out.Sources = ask.Packages, ask.Sources
	}
	if in.Traits == v.Traits && in.Survey == v.Survey && in.Agent == v.Agent && in.Form == v.Form &&
		refusal.Clip(in.Zone, mostZone) == v.Zone &&
		in.Free == nil && in.Access == nil &&
		in.Packages == nil && in.Sources == nil && in.Traced == nil &&
		in.Trouble == v.Trouble {
		h.NoteOwed(false, "", now)
		out.Work = s.rollouts.MayWork(ctx, v)
		if wasSilent || first {
			s.Note(ctx, s.Entry(journal.By(ctx), journal.CommandAppear, journal.KindHost, v.Name))
		}
		return out, nil
	}
	s.naming.RLock()
	defer s.naming.RUnlock()
	if !s.Store.Known(in.Traits, store.KindTraits) {
		out.Want = append(out.Want, in.Traits)
	}
	if !s.Store.Known(in.Survey, store.KindSurvey) {
		out.Want = append(out.Want, in.Survey)
	}
	h.NoteOwed(len(out.Want) > 0, refusal.Short(in.Unsent), now)
	if len(out.Want) > 0 {
		out.Work = s.rollouts.MayWork(ctx, v)
		return out, nil
	}
	row, err := s.Change(ctx, h, journal.CommandCheckIn, func(v *fleet.View) error { return s.said(v, in, now, ask) }, nil)
	if err != nil {
		return nil, err
	}
	s.counts.Changed()
	out.Work = s.rollouts.MayWork(ctx, row)
	return out, nil
}

// knownOf is the revision up to which nothing is to be said of one that a host has carried out: that of its last report,
// or the newest where there is none.
func (s *Agents) knownOf(ctx context.Context, v *fleet.View, in *api.CheckIn) int64 {
	if v.Revision != 0 || in.Revision == 0 {
		return v.Revision
	}
	newest, err := s.Store.NewestRevision(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return in.Revision // not known, and asked again with the next check-in
	}
	return newest.Number
}

// said notes in a row what a host says with a check-in. ask is what it was asked for.
func (s *Agents) said(v *fleet.View, in *api.CheckIn, now time.Time, ask *ground.AskedList) error {
	v.Traits, v.Survey, v.Agent, v.Form, v.LastSeen = in.Traits, in.Survey, in.Agent, in.Form, now
	v.Zone = compute.Same(refusal.Clip(in.Zone, mostZone))
	if in.Free != nil {
		v.Free = maps.Clone(in.Free)
	}
	v.Trouble = refusal.Short(in.Trouble)
	if in.Sources != nil {
		var err error
		if v.Watched, err = fleet.KeepLook(in.Sources); err != nil {
			return err
		}
	}
	if in.Traced != nil {
		if err := fleet.TakeTraced(v, in.Traced); err != nil {
			return err
		}
	}
	if in.Packages != nil {
		if err := s.takePackages(v, in.Packages, ask); err != nil {
			return err
		}
	}
	if in.Access != nil {
		b, err := source.Canonical(in.Access)
		if err != nil {
			return err
		}
		v.Access = b
	}
	return nil
}

// takePackages notes which packages a host says are installed, and what came from where.
func (s *Agents) takePackages(v *fleet.View, in *api.Packages, ask *ground.AskedList) error {
	if in.Asked != ask.Stamp {
		return nil // of a list that was asked for before
	}
	p := fleet.Packages{Asked: ask.Stamp, Names: ask.Packages, Installed: map[string]string{}, Came: map[string]origin.Came{}}
	for _, n := range ask.Packages {
		if version := in.Installed[n]; version != "" {
			p.Installed[n] = refusal.Short(version)
		}
	}
	const mostNames, mostName = 20, 200
	for _, key := range ask.Sources {
		c, told := in.Came[key]
		if !told {
			continue
		}
		c.Unknown, c.Packages = refusal.Short(c.Unknown), max(c.Packages, 0)
		c.Names = slices.Clone(c.Names[:min(len(c.Names), mostNames)])
		for i := range c.Names {
			c.Names[i] = refusal.Clip(refusal.Short(c.Names[i]), mostName)
		}
		p.Came[key] = c
	}
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	v.Packages = s.oneAnswer(b)
	return nil
}

// keptAnswers bounds how many answers are remembered for hosts that answer alike.
const keptAnswers = 4096

// oneAnswer is the one answer of a text that all share who gave it lately.
func (s *Agents) oneAnswer(text []byte) *store.Answer {
	a := store.NewAnswer(text)
	a, _ = s.answers.Get(a.Digest, func() (*store.Answer, error) { return a, nil }) // it never fails
	return a
}
