package register

import (
	"context"
	"encoding/json"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service/ground"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// HistoryIn says whose history is asked for.
type HistoryIn struct {
	ground.HostPath
	Before  int64 `query:"before" minimum:"0" doc:"Only what happened before the entry of this number"`
	PerPage int   `query:"per_page" minimum:"1" maximum:"500" default:"50" doc:"Entries on a page"`
}

// History tells what happened to a host: findings that came and went, revisions, who had what
// done, and why.
func (s *Register) History(ctx context.Context, in *HistoryIn) (*api.HistoryPage, error) {
	h, err := s.FindHost(in.Name)
	if err != nil {
		return nil, err
	}
	q := store.JournalQuery{Kind: journal.KindHost, Name: h.Row().Name, Before: in.Before, Limit: in.PerPage + 1}
	entries, err := s.Store.Journal(ctx, q)
	if err != nil {
		return nil, err
	}
	out := api.HistoryPage{Moments: []api.Moment{}}
	if len(entries) > in.PerPage {
		entries = entries[:in.PerPage]
		out.Next = entries[in.PerPage-1].Seq
	}
	for _, e := range entries {
		m := api.Moment{Number: e.Seq, At: e.At, By: e.Actor, What: e.Command, Why: e.Why, Came: []api.MomentItem{}}
		var n ground.News
		if len(e.Detail) > 0 && json.Unmarshal(e.Detail, &n) == nil {
			m.Went, m.Revision = n.Went, n.Revision
			for _, c := range n.Came {
				m.Came = append(m.Came, api.MomentItem(c))
			}
		}
		out.Moments = append(out.Moments, m)
	}
	return &out, nil
}
