package contracts

import (
	"context"
	"slices"
	"strings"
	"time"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/core/subscription"
	"patientlantern.example/lantern/service/ground"
)

// ChannelQuery says which channels are asked for.
type ChannelQuery struct {
	ground.Paging
	Q        string `query:"q" doc:"Part of the channel's name or title"`
	Variants bool   `query:"variants" doc:"Debug and source variants as well"`
}

// ListChannels shows the channels of the newest revision.
func (s *Contracts) ListChannels(ctx context.Context, in *ChannelQuery) (*api.ChannelPage, error) {
	out := api.ChannelPage{Channels: []api.Channel{}}
	revs, err := s.Store.Revisions(ctx)
	if err != nil {
		return nil, err
	}
	if len(revs) == 0 {
		return &out, nil
	}
	out.Revision = revs[0].Number
	rs, err := s.Compute.Revision(ctx, out.Revision)
	if err != nil {
		return nil, err
	}
	p := rs.Policy()
	using := map[string]int{}
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if v.Revision == 0 {
			out.Unknown++
		}
		for _, f := range v.Follows {
			using[f.Channel+"\x00"+f.Choice]++
			for _, v := range f.Variants {
				using[f.Channel+"\x00"+f.Choice+"\x00"+v]++
			}
		}
	}
	q := strings.ToLower(in.Q)
	var list []api.Channel
	for _, c := range p.Channels {
		if q == "" || strings.Contains(strings.ToLower(c.Name+" "+c.Title), q) {
			list = append(list, s.channelOf(p, c, using, in.Variants))
		}
	}
	slices.SortFunc(list, func(a, b api.Channel) int { return strings.Compare(a.Name, b.Name) })
	out.Total = len(list)
	from, to := in.Cut(len(list))
	out.Next = in.Next(len(list))
	out.Channels = append(out.Channels, list[from:to]...)
	return &out, nil
}

func (s *Contracts) channelOf(p *policy.Policy, c *policy.Channel, using map[string]int, variants bool) api.Channel {
	books := s.Keeper.Current()
	out := api.Channel{Name: c.Name, Title: c.Title, At: c.Pos, Choices: []api.ChannelChoice{}}
	for _, choice := range c.Choices {
		x := api.ChannelChoice{
			Name: choice.Name, Repository: choice.Repository.Value, Pinned: choice.Pinned, At: choice.Pos, Hosts: using[c.Name+"\x00"+choice.Name],
			Contracts: []string{}, Groups: []string{}, Decision: []api.ChannelDecided{},
		}
		if r := p.Repositories[x.Repository]; r != nil {
			x.Support = r.Support
		}
		if choice.Contract != nil {
			contract := p.Contracts[choice.Contract.Value]
			x.Licensed, x.Contract, x.Opens = true, contract.Name, choice.Opens.Value
			for i := range books.Contracts {
				k := &books.Contracts[i]
				good, _ := k.Good(books.Now)
				opens := slices.ContainsFunc(k.Opens, func(o subscription.Opening) bool { return o.Name == x.Opens })
				named := len(contract.Numbers) == 0 ||
					slices.ContainsFunc(contract.Numbers, func(t policy.Text) bool { return t.Value == k.Number })
				if k.Account == contract.Account.Value && good && opens && named {
					x.Contracts = append(x.Contracts, k.Number)
				}
			}
		}
		for _, a := range p.Assignments {
			if f, ok := a.Channels[c.Name]; ok && f.Choice.Value == choice.Name {
				var to []string
				for _, t := range a.To {
					to = append(to, t.Value)
				}
				x.Groups = append(x.Groups, strings.Join(to, ", "))
				if d := a.Without; d != nil && choice.Contract == nil {
					x.Decision = append(x.Decision, decided(strings.Join(to, ", "), d, s.Now()))
				}
			}
		}
		out.Choices = append(out.Choices, x)
		if !variants {
			continue
		}
		for _, kind := range []string{policy.VariantDebug, policy.VariantSource} {
			t, ok := choice.Variants[kind]
			if !ok {
				continue
			}
			v := x
			v.Variant, v.Repository, v.At, v.Groups, v.Decision = kind, t.Value, t.Pos, []string{}, []api.ChannelDecided{}
			v.Hosts = using[c.Name+"\x00"+choice.Name+"\x00"+kind]
			if r := p.Repositories[t.Value]; r != nil {
				v.Support = r.Support
			}
			for _, a := range p.Assignments {
				if f, ok := a.Channels[c.Name]; ok && f.Choice.Value == choice.Name &&
					slices.ContainsFunc(f.Variants, func(t policy.Text) bool { return t.Value == kind }) {
					for _, t := range a.To {
						v.Groups = append(v.Groups, t.Value)
					}
				}
			}
			out.Choices = append(out.Choices, v)
		}
	}
	return out
}

func decided(group string, d *policy.Decision, now time.Time) api.ChannelDecided {
	return api.ChannelDecided{
		Group:   group,
		Because: d.Because,
		Author:  d.Author,
		Review:  d.Review.Format(time.DateOnly),
		Due:     !now.Before(d.Review),
		At:      d.Pos,
	}
}
