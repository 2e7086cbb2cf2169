package deb

import (
	"slices"
	"strings"

	"patientlantern.example/lantern/core/source"
)

// Verdict is what an in-place rule wants of one source.
type Verdict struct {
	Source     int // index into the judged sources
	SwitchOn   bool
	SwitchOff  bool
	Components []string // nil where they are right
}

// Judgement is what an in-place rule comes to.
type Judgement struct {
	Verdicts []Verdict    // sources that must change
	Missing  []string     // suites that no source covers
	Covers   map[int]bool // sources that the rule speaks of
}

// OwnFiles are the files in which a distribution of that id keeps its entries.
func OwnFiles(id string) []string {
	files := []string{MainList}
	if id != "" && !strings.ContainsAny(id, "/ ") {
		files = append(files, PartsDir+"/"+id+".list", PartsDir+"/"+id+".sources")
	}
	return files
}

// Judge holds a rule against the sources of a host. Sources in owned files
// belong to the policy and are not looked at.
func Judge(rule source.InPlace, sources []source.Source, owned map[string]bool) Judgement {
	j := Judgement{Covers: map[int]bool{}}
	covered := map[string]bool{}
	for i := range sources {
		s := &sources[i]
		if owned[s.File] || s.DisabledBy == source.OffByFilename || !Speaks(rule, s) {
			continue
		}
		j.Covers[i] = true
		if s.Enabled && slices.Contains(s.Kinds, "binary") {
			for _, suite := range s.EffSuites {
				covered[suite] = true
			}
		}
	}
	for i := range sources {
		if !j.Covers[i] {
			continue
		}
		s := &sources[i]
		v := Verdict{Source: i}
		use := s.Enabled
		if rule.Enabled && !s.Enabled && slices.Contains(s.Kinds, "binary") && !media(s) {
			for _, suite := range s.EffSuites {
				if slices.Contains(rule.Suites, suite) && !covered[suite] {
					v.SwitchOn, use = true, true
				}
			}
			if v.SwitchOn {
				for _, suite := range s.EffSuites {
					covered[suite] = true
				}
			}
		}
		if !rule.Enabled && s.Enabled {
			v.SwitchOff = true
		}
		if use && rule.Enabled && len(s.Components) > 0 {
			if want := wantComponents(rule, s.Components); !source.SameSet(want, s.Components) {
				v.Components = want
			}
		}
		if v.SwitchOn || v.SwitchOff || v.Components != nil {
			j.Verdicts = append(j.Verdicts, v)
		}
	}
	if rule.Enabled {
		for _, suite := range rule.Suites {
			if !covered[suite] {
				j.Missing = append(j.Missing, suite)
			}
		}
	}
	return j
}

// Speaks reports whether a rule speaks of a source: it is in one of the rule's
// files, comes from one of its URLs where it names any, and has one of its suites.
func Speaks(rule source.InPlace, s *source.Source) bool {
	if len(rule.URLs) > 0 {
		if !slices.ContainsFunc(s.EffURLs, func(u string) bool { return slices.Contains(rule.URLs, u) }) {
			return false
		}
	} else if !slices.Contains(rule.Files, s.File) {
		return false
	}
	return slices.ContainsFunc(s.EffSuites, func(x string) bool { return slices.Contains(rule.Suites, x) })
}

func wantComponents(rule source.InPlace, have []string) []string {
	want := slices.Clone(rule.Components)
	if len(want) == 0 {
		want = slices.Clone(have)
	}
	for _, c := range rule.Add {
		if !slices.Contains(want, c) {
			want = append(want, c)
		}
	}
	return slices.DeleteFunc(want, func(c string) bool { return slices.Contains(rule.Drop, c) })
}

// media reports whether a source is install media. It is never switched on by
// itself: media that is not there makes every refresh fail.
func media(s *source.Source) bool {
	return slices.ContainsFunc(s.URLs, func(u string) bool { return strings.HasPrefix(u, "cdrom:") })
}
