package service

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
)

func (s *Service) dateRoutes(a huma.API) {
	huma.Register(
		a,
		operation("list-dates", http.MethodGet, "/api/dates", "What falls due: contracts, keys, waivers, reviews, freezes"),
		s.listDates,
	)
	huma.Register(a, operation("list-days", http.MethodGet, "/api/days", "How the fleet stood, day by day"), s.listDays)
	op := operation("calendar", http.MethodGet, "/api/calendar", "The same as a calendar (iCalendar, RFC 5545)")
	op.Responses = map[string]*huma.Response{"200": {
		Description: "OK", Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}}
	huma.Register(a, op, s.calendar)
}

type dateQuery struct {
	Paging
	Kind []string `query:"kind" enum:"contract,key,waiver,review,freeze" doc:"Only these kinds"`
}

// dates is what falls due from now on, the next first, on one page.
func (s *Service) dates(ctx context.Context) (out api.DatePage, err error) {
	now := s.now()
	out.Dates, out.Away = []api.Date{}, []string{}
	add := func(due time.Time, kind, name, says, detail string) {
		if due.After(now) {
			out.Dates = append(out.Dates, api.Date{Due: due.UTC(), Kind: kind, Name: name, Says: says, Detail: detail})
		}
	}
	books := s.keeper.current()
	for i := range books.Contracts {
		c := &books.Contracts[i]
		add(c.End, api.DueContract, c.Number, fmt.Sprintf("The contract %s ends (%s)", c.Number, c.Title),
			seatsTaken(books.Used(c.Account, c.Number), c.Account))
	}
	p, revision, err := s.newestPolicy(ctx)
	if err != nil {
		return out, err
	}
	out.Revision = revision
	if p != nil {
		for name, k := range p.Keys {
			if e := k.Describe.Expires; e != nil && p.Withdrawn[name] == nil {
				add(
					*e,
					api.DueKey,
					name,
					"The signing key "+name+" ends",
					"Repositories that are signed with it alone are refused from then on.",
				)
			}
		}
		for _, a := range p.Assignments {
			if d := a.Without; d != nil {
				var to []string
				for _, t := range a.To {
					to = append(to, t.Value)
				}
				group := strings.Join(to, ", ")
				add(
					d.Review,
					api.DueReview,
					group,
					"Review: "+group+" runs without a contract",
					fmt.Sprintf("%s (%s)", d.Because, d.Author),
				)
			}
		}
	}
	for _, w := range s.compute.waivers.all() {
		where := cmp.Or(w.Host, "every host")
		add(w.Ends, api.DueWaiver, strconv.FormatInt(w.ID, 10), "A waiver ends: "+w.Finding.Message,
			fmt.Sprintf("On %s; accepted by %s: %s", where, w.Author, w.Because))
	}
	for _, f := range s.standing() {
		what := "the fleet moves again"
		if f.Scope != "" {
			what = f.Scope + " moves again"
		}
		add(
			f.Until,
			api.DueFreeze,
			strconv.FormatInt(f.ID, 10),
			"A freeze ends: "+what,
			fmt.Sprintf("Frozen by %s: %s", f.Author, f.Because),
		)
	}
	slices.SortFunc(out.Dates, func(a, b api.Date) int {
		return cmp.Or(a.Due.Compare(b.Due), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	for _, n := range s.keeper.names() {
		if a, there := s.accountOf(n); there && a.Trouble != "" {
			out.Away = append(out.Away, n)
		}
	}
	return out, nil
}

func (s *Service) listDates(ctx context.Context, in *dateQuery) (*body[api.DatePage], error) {
	page, err := s.dates(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	if len(in.Kind) > 0 {
		page.Dates = slices.DeleteFunc(page.Dates, func(d api.Date) bool { return !slices.Contains(in.Kind, d.Kind) })
	}
	page.Total = len(page.Dates)
	page.Next = in.next(page.Total)
	from, to := in.cut(page.Total)
	page.Dates = page.Dates[from:to]
	return &body[api.DatePage]{page}, nil
}

// calendarBody is a calendar.
type calendarBody struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *Service) calendar(ctx context.Context, _ *struct{}) (*calendarBody, error) {
	page, err := s.dates(ctx)
	if err != nil {
		return nil, s.refuse(err)
	}
	c := ics.NewCalendarFor("Patient Lantern")
	c.SetProductId("-//Patient Lantern//What falls due//EN")
	c.SetName("Patient Lantern: what falls due")
	if unknown := page.Unknown(); len(unknown) > 0 {
		c.SetXWRCalDesc(strings.Join(unknown, " "))
	}
	named := map[string]int{}
	for _, d := range page.Dates {
		// The same thing keeps its name, so that a calendar that is read again moves it.
		name := d.Kind + "-" + d.Name
		if named[name]++; named[name] > 1 {
			name = fmt.Sprint(name, "-", named[name])
		}
		e := c.AddEvent(name + "@patient-lantern")
		e.SetDtStampTime(s.now())
		e.SetStartAt(d.Due)
		e.SetSummary(d.Says)
		e.SetDescription(d.Detail)
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return &calendarBody{
		"text/calendar; charset=utf-8",
		`attachment; filename="patient-lantern.ics"`,
		[]byte(c.Serialize(ics.WithNewLineWindows)),
	}, nil
}

func seatsTaken(n int, desk string) string {
	if n == 1 {
		return "1 seat of it is taken at the desk " + desk + "."
	}
	return fmt.Sprintf("%d seats of it are taken at the desk %s.", n, desk)
}
