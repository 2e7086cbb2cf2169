package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// foreseen is what would keep a change from hosts, with the hosts.
type foreseen struct {
	d     diag.Diagnostic
	hosts []string
}

// Foresee takes note of what the Release files say that the apt of some hosts has fetched,
// which come to one result; before is what their last sheet says, nil where there is none.
func (f *Fleet) Foresee(hosts []string, res *Result, before []source.SheetSource, releases []source.Release) {
	if len(res.Trouble) > 0 {
		return
	}
	for _, t := range deb.JudgePins(res.Sheet.Sources, deb.StillFetched(releases, before, res.Sheet.Sources)) {
		d := trouble("pin-matches", f.repositoryAt(t.Repository), t.String(), "say what its own Release file says: release: { … }")
		f.foresee("pin:"+t.String(), hosts, d)
	}
}

// Unmet takes note of which needs of its sheet are not met on a host, as sentences that
// begin with the repository's name.
func (f *Fleet) Unmet(host string, res *Result, unmet []string) {
	if len(res.Trouble) > 0 {
		return
	}
	for _, u := range unmet {
		name, _, _ := strings.Cut(u, " ")
		d := warning("needs-unmet", f.repositoryAt(name), u, "install it there first, or say the need for the hosts alone that have it")
		f.foresee("need:"+u, []string{host}, d)
	}
}

func (f *Fleet) foresee(key string, hosts []string, d diag.Diagnostic) {
	if f.ahead == nil {
		f.ahead = map[string]*foreseen{}
	}
	x := f.ahead[key]
	if x == nil {
		x = &foreseen{d: d}
		f.ahead[key] = x
	}
	x.hosts = append(x.hosts, hosts...)
}

// mostForeseen bounds how many hosts such a diagnostic names: one must be able to go there.
const mostForeseen = 20

// foretold are the diagnostics of what was foreseen.
func (f *Fleet) foretold() (out []diag.Diagnostic) {
	for _, key := range sortedKeys(f.ahead) {
		x := f.ahead[key]
		slices.Sort(x.hosts)
		shown := x.hosts[:min(len(x.hosts), mostForeseen)]
		x.d.Message += fmt.Sprintf(", on %d hosts: %s", len(x.hosts), strings.Join(shown, ", "))
		if len(shown) < len(x.hosts) {
			x.d.Message += " …"
		}
		out = append(out, x.d)
	}
	return out
}

// repositoryAt is where a repository is defined.
func (f *Fleet) repositoryAt(name string) diag.Pos {
	if r := f.resolver.policy.Repositories[name]; r != nil {
		return r.Pos
	}
	return diag.Pos{File: "."}
}

// Facts looks facts of a host up, as they are filled in.
func Facts(h Host) func(string) (string, bool) {
	f := &condition.Facts{Host: h.Name, Labels: h.Labels, Traits: h.Traits}
	return f.Get
}

// Names are the keys of a map, sorted.
func Names[T any](m map[string]T) []string { return sortedKeys(m) }
