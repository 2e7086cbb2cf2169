package cli

import (
	"context"
	"time"

	"patientlantern.example/lantern/cli/view"
)

// momentOf is a moment that somebody named: a time, a day, of which the end is meant, or how
// long ago.
func momentOf(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	if t, ok := namedTime(text); ok {
		return t, nil
	}
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return t.AddDate(0, 0, 1).Add(-time.Second), nil
	}
	return time.Time{}, wrong("--at is %q; write it as 2026-11-24, 2026-11-24T06:00 or 3h", text)
}

// hostPast shows what a host had at a moment.
func (a *app) hostPast(ctx context.Context, name, at string) error {
	now := time.Now()
	moment, err := momentOf(at, now)
	if err != nil {
		return err
	}
	p, err := a.client().Past(ctx, name, moment)
	if err != nil {
		return err
	}
	if done, err := a.json(p); done {
		return err
	}
	until := "and is so still"
	if p.Until != nil {
		until = "until " + local(*p.Until)
	}
	a.out.Printf("%s as it was on %s: so since %s, %s", a.out.Paint(view.Bold, p.Host), local(p.At), local(p.Since), until)
	if p.Revision > 0 {
		a.out.Printf("%s revision %d", a.out.Paint(view.Dim, "state "), p.Revision)
	}
	if len(p.Drift) > 0 {
		a.out.Printf("\n%s", a.out.Paint(view.Bold, "Findings, as they are judged today"))
		for _, f := range p.Drift {
			a.finding(f, false)
		}
	}
	if p.Survey != nil {
		a.out.Printf("")
		a.out.Configured(p.Survey, p.At)
	}
	return nil
}
