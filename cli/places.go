package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/cli/view"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/upstream"
	"patientlantern.example/lantern/fetch"
)

// sought is a place of packages that hosts of saved surveys would use.
type sought struct {
	upstream.Use
	repository string
	through    upstream.Through
	closed     bool // a login opens it
	hosts      int
}

// placeTime bounds one look at a place.
const placeTime = time.Minute

// askPlaces looks at the places of packages that the hosts of saved surveys would use, from this
// machine and with the keys of the policy. What cannot be looked at is said.
func (a *app) askPlaces(ctx context.Context, p *policy.Policy, from string) (out []diag.Diagnostic, asked int, err error) {
	if from == "" {
		return nil, 0, nil
	}
	hosts, err := surveys(from)
	if err != nil {
		return nil, 0, err
	}
	r := resolve.New(p)
	found := map[string]*sought{}
	for i := range hosts {
		h := hostOf(&hosts[i])
		gather(p, r.Resolve(h), h.Traits.Architectures, found)
	}
	looks := a.counting("looking at places of packages", len(found))
	defer looks.stop()
	client := fetch.New()
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(4)
	for _, x := range found {
		g.Go(func() error {
			d := x.look(ctx, client, p)
			looks.done.Add(1)
			mu.Lock()
			defer mu.Unlock()
			if d == nil || d.Code == "upstream-refused" {
				asked++
			}
			if d != nil {
				out = append(out, *d)
			}
			return nil
		})
	}
	_ = g.Wait() // nothing in it returns one
	slices.SortFunc(out, func(x, y diag.Diagnostic) int { return strings.Compare(x.Message, y.Message) })
	diag.Sort(out)
	return out, asked, ctx.Err()
}

// gather adds the places that a host would use; those that are at hand on it alone are none.
func gather(p *policy.Policy, res *resolve.Result, architectures []string, found map[string]*sought) {
	seen := map[string]bool{}
	for _, u := range upstream.Brought(res.Sheet, architectures) {
		if u.Local() || seen[u.Key] {
			continue
		}
		seen[u.Key] = true
		through := u.Through(res.Sheet)
		at := u.Key + " " + through.Proxy + " " + through.Direct
		if found[at] == nil {
			x := &sought{Use: u, through: through}
			x.repository, _ = u.Of(res.Sheet)
			for _, access := range res.Sheet.Access {
				x.closed = x.closed || slices.Contains(access.Repositories, x.repository)
			}
			if r := p.Repositories[x.repository]; r != nil && len(u.Keys) == 0 { // pacman names none
				x.Keys = r.Fingerprints(p)
			}
			found[at] = x
		}
		found[at].hosts++
	}
}

// look looks at a place; nil where all is well there.
func (x *sought) look(ctx context.Context, client *fetch.Client, p *policy.Policy) *diag.Diagnostic {
	at := diag.Pos{}
	var way fetch.Way
	if r := p.Repositories[x.repository]; r != nil {
		at = r.Pos
		if r.Rpm != nil && r.Rpm.Authority != nil {
			way.Roots = x509.NewCertPool()
			way.Roots.AppendCertsFromPEM([]byte(r.Rpm.Authority.Value))
		}
	}
	way, err := way.By(x.through)
	where := strings.Join(append([]string{strings.TrimSpace(family.MaskURL(x.Address()) + " " + x.Suite)}, x.Archs...), " ")
	unseen := func(why string) *diag.Diagnostic {
		return &diag.Diagnostic{
			Code: "upstream-unseen", Severity: diag.Warning, Pos: at,
			Message: fmt.Sprintf("%s was not looked at, for %s: %s", where, view.Count(x.hosts, "host", "hosts"), why),
			Remedy:  "the service looks as the hosts do: lantern repository probe",
		}
	}
	if x.closed {
		return unseen("it opens to who has a login alone")
	}
	if why := x.Away(); why != "" {
		return unseen(why)
	}
	src := x.Source()
	src.Unsigned = x.Checks != source.CheckRequired // no host would want it signed
	src.Keys = p.Certificates(func(f string) bool { return slices.Contains(x.Keys, f) })
	ctx, stop := context.WithTimeout(ctx, placeTime)
	defer stop()
	if err == nil {
		_, err = upstream.Look(src, client.Opener(ctx, way), time.Now())
	}
	var refused *upstream.Refused
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &refused) || refused.Kind.Elsewhere():
		return unseen(family.HideWords(err.Error(), nil))
	}
	m := cause.About(refused.Kind)
	return &diag.Diagnostic{
		Code: "upstream-refused", Severity: diag.Warning, Pos: at, Remedy: m.Remedy,
		Message: fmt.Sprintf("%s would get packages of %q from %s, which is refused: %s", view.Count(x.hosts, "host", "hosts"),
			x.repository, where, m.Says),
	}
}
