package compute

import (
	"context"
	"crypto/sha256"
	"fmt"

	"patientlantern.example/lantern/core/change"
	"patientlantern.example/lantern/core/preview"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/fleet"
	"patientlantern.example/lantern/store"
)

// Change finds the edits for a pair, and remembers them.
func (c *Computer) Change(ctx context.Context, p Pair) (*Outcome, error) {
	return c.changes.Get(p, func() (*Outcome, error) {
		sheet, err := c.SheetOf(ctx, p.Sheet)
		if err != nil {
			return nil, err
		}
		o, err := c.Work(ctx, p, sheet)
		if err != nil {
			return nil, err
		}
		q := Question{p.Sheet, p.Before, p.Survey, p.base}
		if q.Before == "" {
			q.Before = q.Sheet
		}
		found, _, err := c.judged(ctx, q)
		if err != nil {
			return nil, err
		}
		o.findings = o.Change.Locate(found.Findings)
		return o, nil
	})
}

// Work finds the edits for a pair, whose sheet may be stored nowhere.
func (c *Computer) Work(ctx context.Context, p Pair, sheet *source.Sheet) (*Outcome, error) {
	in := change.Input{Masked: true, Sheet: sheet}
	var err error
	if in.Survey, err = c.SurveyOf(ctx, p.Survey); err != nil {
		return nil, err
	}
	if in.Texts, err = c.TextsOf(ctx, in.Survey.Files); err != nil {
		return nil, err
	}
	if p.Before != "" {
		if in.Before, err = c.SheetOf(ctx, p.Before); err != nil {
			return nil, err
		}
	}
	if p.kept != "" {
		kept, err := c.filesOf(ctx, p.kept)
		if err == nil {
			in.Kept, err = c.TextsOf(ctx, kept)
		}
		if store.Lost(err) {
			in.Kept = nil
		} else if err != nil {
			return nil, err
		}
	}
	if in.Base, err = c.base(ctx, p.base); err == nil && in.Base != nil {
		in.Stood, err = c.TextsOf(ctx, in.Base.Survey.Files)
	}
	if store.Lost(err) { // nothing can be put back as it stood
		in.Base, in.Stood = nil, nil
	} else if err != nil {
		return nil, err
	}
	o := &Outcome{Change: change.Compute(in)}
	o.Diff = o.Change.DiffBy(c.diffOf)
	o.Weakens = preview.Weakens(in.Sheet, in.Survey)
	return o, nil
}

// diffOf writes an edit, which many hosts have alike.
func (c *Computer) diffOf(e *change.FileEdit) string {
	if len(e.Old)+len(e.New) > mostDiffed {
		return e.Diff()
	}
	of := sha256.New()
	fmt.Fprintf(of, "%q %q %q %q %q %d\n", e.Path, e.Action, e.Was, e.Mode, e.From, len(e.Old))
	of.Write(e.Old)
	of.Write(e.New)
	diff, _ := c.diffs.Get(string(of.Sum(nil)), func() (string, error) { return e.Diff(), nil })
	return diff
}

// Healing names the inputs of the change that would put right what has drifted on a host.
func Healing(v *fleet.View) Pair {
	p := PairOf(v, v.Sheet)
	p.base = baseOf(v)
	return p
}

// PairOf names the inputs of the change that would take a host to a sheet.
func PairOf(v *fleet.View, sheet string) Pair {
	return Pair{Sheet: sheet, Survey: v.Survey, Before: v.Carried.Sheet, kept: v.Carried.Survey}
}
