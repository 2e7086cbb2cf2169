package resolve

import (
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/series"
)

// Follow says which choice of a channel a host follows, and what that needs.
type Follow struct {
	Channel      string
	Choice       string
	Pinned       string   // the version that it stays at; empty: rolling
	Hold         []string // packages that are held at the series
	Series       series.Series
	Repositories []string // what it comes to, variants included
	Others       []string // the other choices': kept off where they stand
	Variants     []string
	Group        string   // the groups of the assignment that says so
	At           diag.Pos // that assignment's line

	// What a licensed choice needs; empty for an open one.
	Contract  string   // the policy's name for it
	Account   string   // whose login the desk wants
	Numbers   []string // only these of the account's contracts; empty: any
	Opens     string   // what the desk calls the choice
	Automatic bool     // seats are taken by themselves

	Licensed bool             // another choice of the channel is licensed
	Decision *policy.Decision // to run without a contract, or nil
}

// channels works out which choice of each channel is followed, adds its
// repositories to on, and notes those of the other choices.
func (r *Resolver) channels(p *plan, h *Host, apply []int, on map[string]bool) {
	names := map[string]bool{}
	for _, i := range apply {
		for name := range r.policy.Assignments[i].Channels {
			names[name] = true
		}
	}
	p.off, p.grants, p.holds = map[string]bool{}, map[string]*Follow{}, map[string]*Follow{}
	for _, name := range sortedKeys(names) {
		says := map[int]string{}
		for _, i := range apply {
			if f, ok := r.policy.Assignments[i].Channels[name]; ok {
				says[i] = f.Choice.Value
				for _, v := range f.Variants {
					says[i] += " with " + v.Value
				}
			}
		}
		i, clash, ok := r.strongest(says)
		if !ok {
			a, b := r.policy.Assignments[clash[0]].Channels[name], r.policy.Assignments[clash[1]].Channels[name]
			p.bad = append(
				p.bad,
				trouble(
					"conflict",
					b.Pos,
					fmt.Sprintf(
						"the channel %s is %q here and %q elsewhere, for the host %s",
						name,
						says[clash[1]],
						says[clash[0]],
						h.Name,
					),
					"say over: in the one that shall win",
					a.Pos,
				),
			)
			continue
		}
		p.follows = append(p.follows, r.follow(name, r.policy.Assignments[i]))
	}
	for i := range p.follows {
		f := &p.follows[i]
		for _, name := range f.Repositories {
			on[name] = true
			if f.Contract != "" {
				p.grants[name] = f
			}
		}
		if len(f.Hold) > 0 {
			p.holds[f.Repositories[0]] = f
		}
		for _, name := range f.Others {
			on[name], p.off[name] = true, true
		}
	}
	r.strangers(p, on)
}

// strangers notes the licensed repositories of channels of which nothing is followed:
// whoever meets one on a host should know what it is.
func (r *Resolver) strangers(p *plan, on map[string]bool) {
	p.strange = map[string]string{}
	for name, c := range r.policy.Channels {
		if slices.ContainsFunc(p.follows, func(f Follow) bool { return f.Channel == name }) {
			continue
		}
		for _, choice := range c.Choices {
			if choice.Contract == nil || on[choice.Repository.Value] {
				continue
			}
			on[choice.Repository.Value] = true
			p.strange[choice.Repository.Value] = choice.Contract.Value
		}
	}
}

// follow says what following a choice comes to.
func (r *Resolver) follow(channel string, a *policy.Assignment) Follow {
	said := a.Channels[channel]
	c := r.policy.Channels[channel]
	choice := c.Choice(said.Choice.Value)
	f := Follow{
		Channel:      channel,
		Choice:       choice.Name,
		Pinned:       choice.Pinned,
		Series:       choice.Series,
		Repositories: []string{choice.Repository.Value},
		Group:        joinTexts(a.To),
		At:           said.Pos,
		Decision:     a.Without,
	}
	for _, t := range choice.Hold {
		f.Hold = append(f.Hold, t.Value)
	}
	for _, v := range said.Variants {
		f.Variants = append(f.Variants, v.Value)
		f.Repositories = append(f.Repositories, choice.Variants[v.Value].Value)
	}
	for _, x := range c.Choices {
		f.Licensed = f.Licensed || x != choice && x.Contract != nil
		list := []string{x.Repository.Value}
		for _, v := range sortedKeys(x.Variants) {
			list = append(list, x.Variants[v].Value)
		}
		for _, name := range list {
			if !slices.Contains(f.Repositories, name) {
				f.Others = append(f.Others, name)
			}
		}
	}
	slices.Sort(f.Others)
	if choice.Contract != nil {
		contract := r.policy.Contracts[choice.Contract.Value]
		f.Contract, f.Account, f.Opens = contract.Name, contract.Account.Value, choice.Opens.Value
		for _, n := range contract.Numbers {
			f.Numbers = append(f.Numbers, n.Value)
		}
		f.Automatic = a.Seats != nil && a.Seats.Value == policy.SeatsAutomatic
	}
	return f
}

// Needs is what a host's sheet needs of one account: everything under the same key is
// opened by one contract.
type Needs struct {
	Contract  string
	Account   string
	Numbers   []string
	Opens     []string
	Group     string
	Automatic bool
}

// needs says which contracts the host's sheet needs, by account. Choices that say
// nothing about the host's family of package managers need none.
func (res *Result) needs() []Needs {
	var out []Needs
	for _, f := range res.plan.follows {
		if f.Contract == "" || !slices.ContainsFunc(f.Repositories, res.has) {
			continue
		}
		i := slices.IndexFunc(out, func(n Needs) bool { return n.Account == f.Account })
		if i < 0 {
			i = len(out)
			out = append(out, Needs{Contract: f.Contract, Account: f.Account, Numbers: f.Numbers, Group: f.Group, Automatic: f.Automatic})
		}
		out[i].Opens = append(out[i].Opens, f.Opens)
		out[i].Automatic = out[i].Automatic || f.Automatic
		if len(f.Numbers) > 0 && len(out[i].Numbers) > 0 {
			out[i].Numbers = slices.DeleteFunc(slices.Clone(out[i].Numbers), func(n string) bool { return !slices.Contains(f.Numbers, n) })
		} else if len(f.Numbers) > 0 {
			out[i].Numbers = f.Numbers
		}
	}
	slices.SortFunc(out, func(a, b Needs) int { return strings.Compare(a.Account, b.Account) })
	return out
}

// has reports whether a repository comes to anything on the host.
func (res *Result) has(repository string) bool {
	i := slices.Index(res.plan.repositories, repository)
	return i >= 0 && !res.parts[i].none
}

// Policy returns the policy that is resolved.
func (r *Resolver) Policy() *policy.Policy { return r.policy }
