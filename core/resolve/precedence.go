package resolve

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/source"
)

// plan is what a set of assignments says.
type plan struct {
	repositories []string                     // on the sheet, switched on or kept off
	off          map[string]bool              // those of other choices of a channel: kept off where they stand
	follows      []Follow                     // by channel
	grants       map[string]*Follow           // repository → what opens it
	holds        map[string]*Follow           // repository → what of it is held at a series
	strange      map[string]string            // licensed repositories of channels that are not followed → their contract
	apply        []int                        // the assignments
	held         []string                     // of which the host holds the media
	settings     map[string]map[string]string // those that assignments change
	stamp        map[string]string            // the same, as text
	unlisted     string
	logins       bool            // the agent may read who used sudo
	rules        map[string]Rule // class of finding → what is done; nil where nothing is said
	site         *policy.Site    // whose mirrors are used; nil: none
	waves        string          // the plan by which hosts are changed; empty: the built-in one
	bad          []diag.Diagnostic
}

// order works out which assignment stands over which: `over` names groups, and
// so all assignments to them, and what those stand over themselves.
func (r *Resolver) order() {
	list := r.policy.Assignments
	for _, a := range list {
		var to []int
		for _, t := range a.To {
			if t.Value == policy.Everyone {
				to = append(to, -1)
			} else if i, ok := r.groupNumbers[t.Value]; ok {
				to = append(to, i)
			}
		}
		r.to = append(r.to, to)
	}
	to := map[string][]int{} // group → assignments to it
	for i, a := range list {
		for _, t := range a.To {
			to[t.Value] = append(to[t.Value], i)
		}
	}
	words := (len(list) + 63) / 64
	r.above = make([][]uint64, len(list))
	for i := range list {
		r.above[i] = make([]uint64, words)
		next := []int{i}
		for len(next) > 0 { // all that is reached from i
			at := next[len(next)-1]
			next = next[:len(next)-1]
			for _, g := range list[at].Over {
				for _, j := range to[g.Value] {
					if j != at && r.above[i][j/64]&(1<<(j%64)) == 0 {
						r.above[i][j/64] |= 1 << (j % 64)
						next = append(next, j)
					}
				}
			}
		}
	}
}

// stands reports whether assignment i stands over assignment j.
func (r *Resolver) stands(i, j int) bool { return r.above[i][j/64]&(1<<(j%64)) != 0 }

// plan works out what the assignments to a set of groups say.
func (r *Resolver) plan(h *Host, in []bool, held []string) *plan {
	var apply []int
	key := []byte(strings.Join(held, " "))
	for i, to := range r.to {
		if slices.ContainsFunc(to, func(g int) bool { return g < 0 || in[g] }) {
			apply = append(apply, i)
			key = strconv.AppendInt(append(key, ' '), int64(i), 10)
		}
	}
	if p, ok := r.plans[string(key)]; ok {
		return p
	}
	p := &plan{apply: apply, settings: map[string]map[string]string{}, stamp: map[string]string{}, unlisted: source.UnlistedReport}
	on := r.repositories(apply)
	r.channels(p, h, apply, on)
	p.repositories = sortedKeys(on)
	sited := ""
	if t := r.one(p, h, apply, "the site", func(a *policy.Assignment) *policy.Text { return a.Site }); t != nil {
		p.site = r.policy.Sites[t.Value]
		sited = "site " + p.site.Print()
	}
	for _, name := range p.repositories {
		repo := r.policy.Repositories[name]
		if r.assigned[name] == nil {
			// no assignment says anything about its settings
		} else if changed := r.changedSettings(p, h, repo, apply); len(changed) > 0 {
			p.settings[name], p.stamp[name] = changed, pairs(changed)
		}
		if p.off[name] {
			p.stamp[name] += "off"
		}
		if slices.Contains(held, name) {
			p.stamp[name] += "held"
			p.held = append(p.held, name)
		}
		if contract := p.strange[name]; contract != "" {
			p.stamp[name] += fmt.Sprintf("strange %q", contract)
		}
		if sited != "" {
			p.stamp[name] += sited
		}
		if f := p.holds[name]; f != nil {
			p.stamp[name] += fmt.Sprintf("hold %q %q", f.Pinned, f.Hold)
		}
		if g := p.grants[name]; g != nil {
			p.stamp[name] += fmt.Sprintf("%q %q", g.Account, g.Contract)
		}
	}
	r.needed(p, h)
	r.unlisted(p, h, apply)
	r.waves(p, h, apply)
	r.rules(p, h, apply)
	r.plans[string(key)] = p
	return p
}

// needed wants the repositories that others need.
func (r *Resolver) needed(p *plan, h *Host) {
	for _, name := range p.repositories {
		n := r.policy.Repositories[name].Needs
		if n == nil || p.off[name] || p.strange[name] != "" {
			continue
		}
		for _, t := range n.Repositories {
			if !slices.Contains(p.repositories, t.Value) || p.off[t.Value] || p.strange[t.Value] != "" {
				p.bad = append(
					p.bad,
					trouble(
						"needs",
						t.Pos,
						fmt.Sprintf("%s needs the repository %s, which the host %s does not get", name, t.Value, h.Name),
						"assign it to the same hosts",
						r.because(p, r.policy.Repositories[name]).At...),
				)
			}
		}
	}
}

// repositories gathers the repositories of some assignments.
func (r *Resolver) repositories(apply []int) map[string]bool {
	seen := map[string]bool{}
	for _, i := range apply {
		for _, t := range r.policy.Assignments[i].Repositories {
			if r.policy.Repositories[t.Value] != nil {
				seen[t.Value] = true
			}
		}
	}
	return seen
}

// strongest picks, of the assignments that say something, the one that stands
// over all others that say something else; false where there is none.
func (r *Resolver) strongest(says map[int]string) (int, [2]int, bool) {
	best := -1
	var idx []int
	for i := range says {
		idx = append(idx, i)
	}
	slices.Sort(idx)
	for _, i := range idx {
		wins := true
		for _, j := range idx {
			if i != j && says[i] != says[j] && !r.stands(i, j) {
				wins = false
			}
		}
		if wins && (best < 0 || r.stands(i, best)) {
			best = i
		}
	}
	if best >= 0 {
		return best, [2]int{}, true
	}
	for _, i := range idx {
		for _, j := range idx {
			if i < j && says[i] != says[j] && !r.stands(i, j) && !r.stands(j, i) {
				return 0, [2]int{i, j}, false
			}
		}
	}
	return 0, [2]int{idx[0], idx[len(idx)-1]}, false
}

func (r *Resolver) unlisted(p *plan, h *Host, apply []int) {
	if t := r.one(p, h, apply, "unlisted", func(a *policy.Assignment) *policy.Text { return a.Unlisted }); t != nil {
		p.unlisted = t.Value
	}
}

// waves finds the plan by which the hosts are changed.
func (r *Resolver) waves(p *plan, h *Host, apply []int) {
	if t := r.one(p, h, apply, "read-logins", func(a *policy.Assignment) *policy.Text { return a.ReadLogins }); t != nil {
		p.logins = t.Value == "true"
	}
	if t := r.one(p, h, apply, "plan", func(a *policy.Assignment) *policy.Text { return a.Plan }); t != nil {
		p.waves = t.Value
	}
}

// one finds what assignments say of something of which a host has one; nil where none
// says anything, or where they contradict each other.
func (r *Resolver) one(p *plan, h *Host, apply []int, what string, of func(*policy.Assignment) *policy.Text) *policy.Text {
	says := map[int]string{}
	for _, i := range apply {
		if t := of(r.policy.Assignments[i]); t != nil {
			says[i] = t.Value
		}
	}
	if len(says) == 0 {
		return nil
	}
	i, clash, ok := r.strongest(says)
	if !ok {
		a, b := of(r.policy.Assignments[clash[0]]), of(r.policy.Assignments[clash[1]])
		p.bad = append(
			p.bad,
			trouble(
				"conflict",
				b.Pos,
				fmt.Sprintf("%s is %q here and %q elsewhere, for the host %s", what, b.Value, a.Value, h.Name),
				"say over: in the one that shall win",
				a.Pos,
			),
		)
		return nil
	}
	return of(r.policy.Assignments[i])
}

// changedSettings works out the settings of a repository that assignments change.
func (r *Resolver) changedSettings(p *plan, h *Host, repo *policy.Repository, apply []int) map[string]string {
	out := map[string]string{}
	for _, name := range sortedKeys(r.assigned[repo.Name]) {
		if _, there := repo.Settings[name]; !there {
			continue
		}
		key := repo.Name + "." + name
		says := map[int]string{}
		for _, i := range apply {
			if v, ok := r.policy.Assignments[i].Settings[key]; ok {
				says[i] = v.Value
			}
		}
		if len(says) == 0 {
			continue
		}
		i, clash, ok := r.strongest(says)
		if !ok {
			a, b := r.policy.Assignments[clash[0]].Settings[key], r.policy.Assignments[clash[1]].Settings[key]
			p.bad = append(
				p.bad,
				trouble(
					"conflict",
					b.Pos,
					fmt.Sprintf("%s is %q here and %q elsewhere, for the host %s", key, b.Value, a.Value, h.Name),
					"say over: in the one that shall win",
					a.Pos,
				),
			)
			continue
		}
		out[name] = says[i]
	}
	return out
}
