package change_test

import (
	"slices"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// carriesOut holds what a change made of a host, and what was found on it before, against what
// was decided of each of its sources.
func carriesOut(rt *rapid.T, sheet, before *source.Sheet, was, is *source.Survey) {
	found := drift.CompareAfter(sheet, before, was)
	list, gaps := verdict.New(sheet, before, was).Survey()
	require.Len(rt, list, len(was.Sources))
	for i := range list {
		s, v := &was.Sources[i], &list[i]
		require.NotEmpty(rt, v.Kind)
		require.NotEmpty(rt, v.Why())
		if v.Kind == verdict.Ours || !s.Enabled && len(v.Demands) == 0 {
			continue
		}
		after := slices.IndexFunc(is.Sources, func(x source.Source) bool {
			return x.Family == s.Family && x.File == s.File && x.ID == s.ID &&
				(s.ID != "" || source.SameSet(x.EffURLs, s.EffURLs) && source.SameSet(x.EffSuites, s.EffSuites))
		})
		on := after >= 0 && is.Sources[after].Enabled
		told := slices.ContainsFunc(found, func(f drift.Finding) bool {
			return f.File == s.File && f.Line == s.Line && f.Class != drift.ChecksWeakened
		})
		off := v.Act != verdict.Stay || slices.ContainsFunc(v.Demands, func(d verdict.Demand) bool { return d.Off })
		switch {
		case v.Act == verdict.Remove:
			require.Equal(rt, -1, after, "%s:%d %s", s.File, s.Line, v.Why())
		case off:
			require.False(rt, on, "%s:%d %s", s.File, s.Line, v.Why())
		default:
			require.True(rt, on, "%s:%d %s", s.File, s.Line, v.Why())
		}
		// What a change does to a source is found, and what is left alone is no more than a note.
		wanted := off || len(v.Demands) > 0 || v.Kind == verdict.Unlisted || v.Kind == verdict.Licensed
		require.Equal(rt, wanted, told, "%s:%d %s\n%v", s.File, s.Line, v.Why(), found)
		for _, f := range found { // and says what closes it, since healing does not
			if v.Kind == verdict.Unlisted && f.Class == drift.UnlistedSource && f.File == s.File && f.Line == s.Line {
				require.Equal(rt, v.Act == verdict.Stay, f.ClosedBy() != "", "%s:%d %s", s.File, s.Line, v.Why())
			}
		}
	}
	missing := 0
	for _, f := range found {
		if f.Class == drift.MissingSource && f.Line == 0 {
			missing++
		}
	}
	require.Equal(rt, len(gaps), missing)
}
