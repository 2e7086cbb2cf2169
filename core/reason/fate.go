package reason

import (
	"path"
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/verdict"
)

// Fate is what the policy makes of one source of a host, as the last survey has it.
type Fate struct {
	File         string   `json:"file"`
	Line         int      `json:"line"`
	Text         string   `json:"text"`
	Enabled      bool     `json:"enabled"`
	Kind         string   `json:"stands_as" enum:"ours,ruled,adopted,withdrawn,replaced,elsewhere,doubled,licensed,unlisted,idle,foreign"`
	Then         string   `json:"then" enum:"stay,switch-on,switch-off,comment-out,rewrite,remove" doc:"What a change does to it"`
	Repositories []string `json:"repositories" doc:"Of the policy, that it stands for or that say what must hold of it"`
	Why          string   `json:"why"`
}

// What a change does to a source of the distribution's own.
const (
	switchOn   = "switch-on"
	rewrite    = "rewrite"
	commentOut = "comment-out" // it has the name of one of the policy's
)

// Fates says what becomes of each source of a survey under a sheet. before is the sheet that
// was carried to the host last, or nil.
func Fates(sheet, before *source.Sheet, survey *source.Survey) []Fate {
	verdicts, _ := verdict.New(sheet, before, survey).Survey()
	out := make([]Fate, len(verdicts))
	for i := range verdicts {
		s, v := &survey.Sources[i], &verdicts[i]
		f := Fate{
			File: s.File, Line: s.Line, Enabled: s.Enabled, Kind: string(v.Kind), Then: string(v.Act), Repositories: []string{},
			Why: v.Why(),
		}
		f.Text = strings.Join(slices.DeleteFunc([]string{
			s.ID, strings.Join(s.EffURLs, " "), strings.Join(s.Suites, " "), strings.Join(s.Components, " "),
		}, func(s string) bool { return s == "" }), " ")
		for _, r := range v.Rules {
			if !slices.Contains(f.Repositories, r.Repository) {
				f.Repositories = append(f.Repositories, r.Repository)
			}
		}
		if len(v.Rules) == 0 && v.Repository != "" {
			f.Repositories = append(f.Repositories, v.Repository)
		}
		if v.Hides && v.Act == verdict.SwitchOff {
			f.Then = commentOut
		}
		for _, d := range v.Demands {
			switch {
			case d.Off:
				f.Then = string(verdict.SwitchOff)
			case d.On:
				f.Then = switchOn
			default:
				f.Then = rewrite
			}
		}
		out[i] = f
	}
	return out
}

// In picks what becomes of the sources in one file, by its path or its last part; nil where
// none stands there.
func (e *Explanation) In(file string) *EditedFile {
	out := &EditedFile{Path: file, Fates: []Fate{}}
	for _, f := range e.Fates {
		if f.File == file || path.Base(f.File) == file {
			out.Path = f.File
			out.Fates = append(out.Fates, f)
		}
	}
	if len(out.Fates) == 0 {
		return nil
	}
	return out
}
