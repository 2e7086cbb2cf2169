package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/core/source"
)

// asking is one Release file that a pin depends on.
type asking struct {
	repository string
	at         diag.Pos
	url, suite string
	said       []policy.Release // what the policy says of it
	pin        string           // in apt's words, instead
	lookup     func(string) (string, bool)
}

// upstreamTime bounds one question to a vendor, mostRelease its answer.
const (
	upstreamTime = 20 * time.Second
	mostRelease  = 4 << 20
)

// hasBlocking reports whether there are errors that keep vendors from being asked. That
// nothing is said of a Release file is what they are asked for.
func hasBlocking(list []diag.Diagnostic) bool {
	return slices.ContainsFunc(list, func(d diag.Diagnostic) bool {
		return d.Severity == diag.Error && !(d.Code == "missing" && strings.Contains(d.Message, "what its pin matches"))
	})
}

// askUpstreams asks vendors for the Release files that pins are made from, and holds what
// the policy says against them. What cannot be asked is said: it is not looked at.
func (a *app) askUpstreams(ctx context.Context, p *policy.Policy, from string) (out []diag.Diagnostic, asked int, err error) {
	var facts []func(string) (string, bool)
	if from != "" {
		hosts, err := surveys(from)
		if err != nil {
			return nil, 0, err
		}
		for i := range hosts {
			facts = append(facts, resolve.Facts(hostOf(&hosts[i])))
		}
	}
	list, skipped := askings(p, facts)
	asks := a.counting("asking for Release files", len(list))
	defer asks.stop()
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(8)
	for _, x := range list {
		g.Go(func() error {
			d, ok := x.hold(ctx)
			asks.done.Add(1)
			mu.Lock()
			defer mu.Unlock()
			if ok {
				asked++
			}
			if d != nil && !slices.ContainsFunc(out, func(y diag.Diagnostic) bool { return y.Pos == d.Pos && y.Message == d.Message }) {
				out = append(out, *d)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, 0, err
	}
	out = append(out, skipped...)
	diag.Sort(out)
	return out, asked, nil
}

// askings lists what is to be asked, and says what cannot be asked without a host.
func askings(p *policy.Policy, facts []func(string) (string, bool)) (list []asking, skipped []diag.Diagnostic) {
	seen := map[string]bool{}
	for _, name := range resolve.Names(p.Repositories) {
		r := p.Repositories[name]
		if r.Deb == nil || r.InPlace || p.Levels[name] == 0 && r.Deb.Priority == nil || r.Deb.URL == nil {
			continue
		}
		lookups := facts
		if len(lookups) == 0 {
			lookups = []func(string) (string, bool){func(string) (string, bool) { return "", false }}
		}
		before := len(list)
		for _, facts := range lookups {
			lookup := func(v string) (string, bool) {
				if s, ok := r.Settings[v]; ok {
					return s.Value, true
				}
				return facts(v)
			}
			u, err := policy.Interpolate(r.Deb.URL.Value, lookup)
			if err != nil {
				continue
			}
			for _, s := range r.Deb.Suites {
				suite, err := policy.Interpolate(s.Value, lookup)
				if err != nil || seen[name+" "+u+" "+suite] {
					continue
				}
				seen[name+" "+u+" "+suite] = true
				x := asking{
					repository: name,
					at:         r.Deb.Pos,
					url:        deb.EffectiveURL(u, ""),
					suite:      suite,
					said:       r.Deb.Releases,
					lookup:     lookup,
				}
				if r.Deb.Pin != nil {
					x.pin, x.at = r.Deb.Pin.Value, r.Deb.Pin.Pos
				}
				list = append(list, x)
			}
		}
		if len(list) == before {
			skipped = append(skipped, diag.Diagnostic{Code: "release-unknown", Severity: diag.Warning, Pos: r.Deb.Pos,
				Message: fmt.Sprintf(
					"the Release file of %q was not asked for: its place depends on the host",
					name,
				), Remedy: "give surveys of hosts: --surveys FOLDER (lantern survey save)"})
		}
	}
	return list, skipped
}

// hold asks for one Release file and holds what is said against it. ok is false where it
// could not be had.
func (x asking) hold(ctx context.Context) (d *diag.Diagnostic, ok bool) {
	text, err := fetchRelease(ctx, x.url, x.suite)
	if err != nil {
		return &diag.Diagnostic{Code: "release-unknown", Severity: diag.Warning, Pos: x.at,
			Message: fmt.Sprintf(
				"the Release file of %q (%s %s) could not be had: %s",
				x.repository,
				family.MaskURL(x.url),
				x.suite,
				family.HideWords(err.Error(), nil),
			), Remedy: "try again, or hold what the policy says against it by hand"}, false
	}
	r := deb.ParseRelease(text)
	r.URL, r.Suite = x.url, x.suite
	wrong := func(message string) *diag.Diagnostic {
		return &diag.Diagnostic{Code: "release-differs", Severity: diag.Error, Pos: x.at, Message: message, Remedy: "write: " + written(r)}
	}
	switch {
	case x.pin != "":
		if !deb.PinMatches(x.pin, r) {
			return wrong(fmt.Sprintf("the pin of %q does not match its own suite %s", x.repository, x.suite)), true
		}
	case len(x.said) == 0:
		return wrong(fmt.Sprintf("nothing says what the pin of %q matches; its Release file (%s) says it", x.repository, x.suite)), true
	case !slices.ContainsFunc(x.said, func(s policy.Release) bool { return x.same(s, r) }):
		return wrong(fmt.Sprintf("the Release file of %q (%s) says something else than the policy", x.repository, x.suite)), true
	}
	return nil, true
}

// same reports whether what the policy says is what the file says.
func (x asking) same(s policy.Release, r source.Release) bool {
	for _, f := range []struct {
		want *policy.Text
		have string
	}{{s.Origin, r.Origin}, {s.Label, r.Label}, {s.Suite, r.Archive}, {s.Codename, r.Codename}} {
		if f.want == nil {
			continue
		}
		if v, err := policy.Interpolate(f.want.Value, x.lookup); err != nil || v != f.have {
			return false
		}
	}
	return s.NotAutomatic == r.NotAutomatic && s.ButAutomaticUpgrades == r.ButAutomaticUpgrades
}

// written is what a Release file says as a policy writes it.
func written(r source.Release) string {
	var parts []string
	for _, f := range [][2]string{{"origin", r.Origin}, {"label", r.Label}, {"suite", r.Archive}, {"codename", r.Codename}} {
		if f[1] != "" && !strings.Contains(f[1], ",") {
			parts = append(parts, fmt.Sprintf("%s: %q", f[0], f[1]))
		}
	}
	if r.NotAutomatic {
		parts = append(parts, "not-automatic: true")
	}
	if r.ButAutomaticUpgrades {
		parts = append(parts, "but-automatic-upgrades: true")
	}
	if len(parts) == 0 {
		return "the file names neither origin nor suite, so no pin can match it alone; ask the vendor for an Origin"
	}
	return "release: { " + strings.Join(parts, ", ") + " }"
}

// fetchRelease fetches InRelease, or Release where there is none.
func fetchRelease(ctx context.Context, u, suite string) ([]byte, error) {
	var last error
	for _, name := range []string{"InRelease", "Release"} {
		text, err := fetchBounded(ctx, deb.ReleaseURL(u, suite)+name)
		if err == nil {
			return text, nil
		}
		last = err
	}
	return nil, last
}

func fetchBounded(ctx context.Context, u string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, upstreamTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u, nil)
	if err != nil {
		return nil, err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server answered %s", resp.Status)
	}
	return io.ReadAll(io.LimitReader(resp.Body, mostRelease))
}
