package compute

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/text/lines"
)

// Unlike says in what a cohort differs from the commonest one of its system.
func (c *Computer) Unlike(ctx context.Context, of *api.Cohort) error {
	was, err := c.SurveyOf(ctx, of.Like)
	if err != nil {
		return err
	}
	is, err := c.SurveyOf(ctx, of.Survey)
	if err != nil {
		return err
	}
	before, err := c.TextsOf(ctx, was.Files)
	if err != nil {
		return err
	}
	now, err := c.TextsOf(ctx, is.Files)
	if err != nil {
		return err
	}
	var diff strings.Builder
	shown := map[string]bool{} // files of which the lines are shown
	names := slices.Concat(slices.Collect(maps.Keys(before)), slices.Collect(maps.Keys(now)))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		old, stood := before[name]
		text, stands := now[name]
		if string(old) == string(text) && stood == stands || public(old) || public(text) {
			continue // what a file of keys holds is told as keys
		}
		from, to := name, name
		if !stood {
			from = ""
		}
		if !stands {
			to = ""
		}
		shown[name] = true
		diff.WriteString(lines.Unified(from, to, lines.Shown(string(old)), lines.Shown(string(text))))
	}
	of.Diff, of.More = diff.String(), beside(was, is, shown)
	return nil
}

// public reports whether a text is a key rather than lines that people write.
func public(text []byte) bool {
	return bytes.Contains(text, []byte("-----BEGIN PGP")) && !bytes.Contains(text, []byte("Signed-By:")) || bytes.IndexByte(text, 0) >= 0
}

// beside lists what differs beside the files that are shown.
func beside(was, is *source.Survey, shown map[string]bool) []string {
	out := []string{}
	empty := &source.Sheet{Family: is.Traits.Family, Unlisted: source.UnlistedReport}
	for _, f := range drift.Judge(drift.Input{Sheet: empty, Survey: is, Base: &drift.Base{Survey: was}}) {
		if shown[f.File] {
			continue
		}
		switch f.Class {
		case drift.SettingChanged,
			drift.SettingWeakened,
			drift.PinChanged,
			drift.HoldChanged,
			drift.ServiceChanged,
			drift.KeyAdded,
			drift.KeyWider,
			drift.MissingKey,
			drift.ChangedMode:
			out = append(
				out,
				fmt.Sprintf("%s, %s: %s instead of %s", f.File, f.Field, cmp.Or(f.Have, "nothing"), cmp.Or(f.Want, "nothing")),
			)
		}
	}
	return out
}
