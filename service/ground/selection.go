package ground

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/names"
	"patientlantern.example/lantern/core/resolve"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/service/refusal"
)

// Selecting picks hosts of a list. All of it must hold; nothing picks all.
type Selecting struct {
	To    []string `query:"to,explode" maxItems:"500" doc:"Only these hosts, ranges of names as gw-{01..04}, or groups of the policy"`
	Where string   `query:"where" maxLength:"4096" doc:"Only hosts for which this condition holds, as in policies: os.major >= 12"`
}

// Some reports whether not every host is meant.
func (in *Selecting) Some() bool { return len(in.To) > 0 || in.Where != "" }

// Words say which hosts are meant.
func (in *Selecting) Words() string {
	words := strings.Join(in.To, ", ")
	switch {
	case in.Where != "" && words != "":
		words += ", where " + in.Where
	case in.Where != "":
		words = "where " + in.Where
	}
	return words
}

// Selected are those of hosts that are meant by the newest revision, and how many it is not known
// of, because they have sent no survey.
func (g *Ground) Selected(ctx context.Context, in Selecting, all []*fleet.Host) (out []*fleet.Host, unknown int, err error) {
	if !in.Some() {
		return all, 0, nil
	}
	rs, _, err := g.Newest(ctx)
	if err != nil {
		return nil, 0, err
	}
	return g.Picked(ctx, rs, in, all)
}

// Picked is selected by the groups of a revision; rs is nil where nothing is published.
func (g *Ground) Picked(ctx context.Context, rs *resolve.Resolver, in Selecting, all []*fleet.Host) (
	out []*fleet.Host, unknown int, err error,
) {
	out = all
	if len(in.To) > 0 {
		named, groups, err := g.Called(rs, in.To)
		if err != nil {
			return nil, 0, err
		}
		if out, unknown, err = g.among(ctx, rs, all, named, groups); err != nil {
			return nil, 0, err
		}
	}
	if in.Where == "" {
		return out, unknown, nil
	}
	met, unsure, err := g.meeting(ctx, rs, out, in.Where)
	return met, unknown + unsure, err
}

// Called are the hosts that names and ranges stand for, and what of them are groups.
func (g *Ground) Called(rs *resolve.Resolver, to []string) (hosts map[*fleet.Host]bool, groups []string, err error) {
	hosts = map[*fleet.Host]bool{}
	for _, name := range to {
		if rs != nil && rs.HasGroup(name) {
			groups = append(groups, name)
			continue
		}
		list, err := names.Expand(name)
		if err != nil {
			return nil, nil, refusal.Wrong(fmt.Sprintf("to: %s", refusal.Short(err.Error())))
		}
		for _, n := range list {
			h, err := g.FindHost(n)
			switch {
			case err != nil && rs == nil:
				return nil, nil, refusal.NotFound(
					fmt.Sprintf("to: there is no host %q, and nothing is published that could name a group", refusal.Short(n)),
				)
			case err != nil:
				return nil, nil, refusal.NotFound(fmt.Sprintf("to: %q is neither a host nor a group of the policy", refusal.Short(n)))
			}
			hosts[h] = true
		}
	}
	return hosts, groups, nil
}

// among are those of hosts that are named or in one of the groups, and how many it is not known
// of: a host that has sent no survey may be in any group.
func (g *Ground) among(ctx context.Context, rs *resolve.Resolver, all []*fleet.Host, named map[*fleet.Host]bool, groups []string) (
	out []*fleet.Host, unknown int, err error,
) {
	for _, h := range all {
		in := named[h]
		if !in && len(groups) > 0 && h.Row().Traits == "" {
			unknown++
			continue
		}
		for i := 0; i < len(groups) && !in; i++ {
			who, err := g.Compute.HostOf(ctx, h.Row())
			if err != nil {
				return nil, 0, err
			}
			in = g.Compute.InGroup(rs, who, groups[i])
		}
		if in {
			out = append(out, h)
		}
	}
	return out, unknown, nil
}

// meeting are those of hosts for which a condition holds, and how many it is not known of.
func (g *Ground) meeting(ctx context.Context, rs *resolve.Resolver, all []*fleet.Host, where string) (
	out []*fleet.Host, unknown int, err error,
) {
	compiler, err := condition.NewCompiler()
	if err != nil {
		return nil, 0, err
	}
	cond, err := compiler.Compile(where)
	if err != nil {
		remedy := "; facts are " + strings.Join(condition.Names(), ", ") + ", label.NAME, tools.NAME"
		if ce := (*condition.Error)(nil); errors.As(err, &ce) && ce.Near != "" {
			remedy = refusal.Meant(ce.Near)
		}
		return nil, 0, refusal.Wrong(fmt.Sprintf("where: %v%s", err, remedy))
	}
	known := map[string]bool{}
	byName := slices.Contains(cond.Reads, "host.name")
	for _, h := range all {
		v := h.Row()
		if v.Traits == "" {
			unknown++
			continue
		}
		key := v.Class
		if byName || rs != nil && rs.Labels(v.Name) {
			key += "\x00" + v.Name
		}
		holds, met := known[key]
		if !met {
			who, err := g.Compute.HostOf(ctx, v)
			if err != nil {
				return nil, 0, err
			}
			if rs != nil {
				who = rs.Labelled(who)
			}
			holds, err = cond.Holds(&condition.Facts{Host: who.Name, Labels: who.Labels, Traits: who.Traits})
			if err != nil {
				return nil, 0, refusal.Wrong(fmt.Sprintf("where: it fails on %s: %v; ask has() first", who.Name, err))
			}
			known[key] = holds
		}
		if holds {
			out = append(out, h)
		}
	}
	return out, unknown, nil
}
