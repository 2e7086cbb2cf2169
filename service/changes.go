package service

import (
	"context"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
)

// change finds the edits for a pair, and remembers them.
func (c *computer) change(ctx context.Context, p pair) (*outcome, error) {
	return c.changes.Get(p, func() (*outcome, error) {
		sheet, err := c.sheetOf(ctx, p.sheet)
		if err != nil {
			return nil, err
		}
		o, err := c.work(ctx, p, sheet)
		if err != nil {
			return nil, err
		}
		q := question{p.sheet, p.before, p.survey, p.base}
		if q.Before == "" {
			q.Before = q.Sheet
		}
		found, err := c.judge(ctx, q)
		if err != nil {
			return nil, err
		}
		o.findings = o.change.Locate(found.Findings)
		return o, nil
	})
}

// work finds the edits for a pair, whose sheet may be stored nowhere.
func (c *computer) work(ctx context.Context, p pair, sheet *source.Sheet) (*outcome, error) {
	in := change.Input{Masked: true, Sheet: sheet}
	var err error
	if in.Survey, err = c.surveyOf(ctx, p.survey); err != nil {
		return nil, err
	}
	if in.Texts, err = c.textsOf(ctx, in.Survey.Files); err != nil {
		return nil, err
	}
	if p.before != "" {
		if in.Before, err = c.sheetOf(ctx, p.before); err != nil {
			return nil, err
		}
	}
	if p.kept != "" {
		kept, err := c.filesOf(ctx, p.kept)
		if err != nil {
			return nil, err
		}
		if in.Kept, err = c.textsOf(ctx, kept); err != nil {
			return nil, err
		}
	}
	if in.Base, err = c.base(ctx, p.base); err != nil {
		return nil, err
	}
	if in.Base != nil {
		if in.Stood, err = c.textsOf(ctx, in.Base.Survey.Files); err != nil {
			return nil, err
		}
	}
	o := &outcome{change: change.Compute(in)}
	o.diff = o.change.Diff()
	o.weakens = preview.Weakens(in.Sheet, in.Survey)
	return o, nil
}

// healing names the inputs of the change that would put right what has drifted on a host.
func healing(v *hostView) pair {
	p := pairOf(v, v.Sheet)
	p.base = baseOf(v)
	return p
}

// pairOf names the inputs of the change that would take a host to a sheet.
func pairOf(v *hostView, sheet string) pair {
	return pair{sheet: sheet, survey: v.Survey, before: v.Carried.Sheet, kept: v.Carried.Survey}
}
