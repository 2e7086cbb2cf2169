package register

import (
	"context"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/ground"
)

// GroupsQuery picks groups of the policy.
type GroupsQuery struct {
	ground.Paging
	Q string `query:"q" maxLength:"100" doc:"Part of the name"`
}

// ListGroups tells how many hosts are in each group of the newest revision.
func (s *Register) ListGroups(ctx context.Context, in *GroupsQuery) (*api.GroupPage, error) {
	rs, number, err := s.Newest(ctx)
	if err != nil {
		return nil, err
	}
	page := api.GroupPage{Groups: []api.Group{}, Revision: number}
	if rs == nil {
		return &page, nil
	}
	var list []api.Group
	at := map[string]int{}
	for _, g := range rs.Groups() {
		if strings.Contains(strings.ToLower(g.Name), strings.ToLower(in.Q)) {
			at[g.Name] = len(list)
			list = append(list, api.Group{Name: g.Name, Place: g.Pos, Names: []string{}})
		}
	}
	now := s.Now()
	stand := make([]Tally, len(list))
	newest := int64(0)
	for _, h := range s.Fleet.All() {
		v := h.Row()
		if v.Traits == "" {
			page.Unknown++
			continue
		}
		who, err := s.Compute.HostOf(ctx, v)
		if err != nil {
			return nil, err
		}
		newest = max(newest, v.Revision)
		state := h.State(now)
		for _, name := range s.Compute.GroupsOf(rs, who) {
			i, wanted := at[name]
			if !wanted {
				continue
			}
			stand[i].Add(v, state)
			if len(list[i].Names) < ground.MostNames {
				list[i].Names = append(list[i].Names, v.Name)
			}
		}
	}
	for i := range list {
		stand[i].newest = newest // a group may have stayed behind as a whole
		list[i].Standing = stand[i].Sums()
		list[i].Hosts, list[i].Drifted = list[i].Standing.Hosts, list[i].Standing.Drifted
	}
	page.Total, page.Next = len(list), in.Next(len(list))
	from, to := in.Cut(len(list))
	page.Groups = append(page.Groups, list[from:to]...)
	return &page, nil
}
