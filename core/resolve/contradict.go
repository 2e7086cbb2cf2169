package resolve

import (
	"fmt"
	"slices"

	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/family/deb"
	"patientlantern.example/lantern/core/source"
)

// contradicting finds repositories that stand in one suite of apt's and say otherwise who signs it: apt refuses all sources then.
func (f *Fleet) contradicting(res *Result) (out []diag.Diagnostic) {
	if res.Sheet.Family != deb.Family {
		return nil
	}
	seen := map[string]*source.SheetSource{}
	for i := range res.Sheet.Sources {
		s := &res.Sheet.Sources[i]
		if !s.Enabled || s.IfThere || s.Family != "" {
			continue
		}
		for _, key := range releases(s) {
			old := seen[key]
			if old == nil {
				seen[key] = s
				continue
			}
			if old.Repository == s.Repository || old.Signatures == s.Signatures && slices.Equal(old.SignedBy, s.SignedBy) {
				continue
			}
			a, b := f.resolver.policy.Repositories[old.Repository], f.resolver.policy.Repositories[s.Repository]
			out = append(out, trouble("contradicting", b.Pos,
				fmt.Sprintf("%s and %s stand in one suite and say otherwise who signs it, so that apt refuses all sources of the host %s",
					old.Repository, s.Repository, res.Example),
				"give both the same keys, in one order, and the same signatures", a.Pos))
			break
		}
	}
	return out
}

// releases are the suites in which a source of apt's stands, each as apt tells them apart.
func releases(s *source.SheetSource) (out []string) {
	for _, u := range s.URLs {
		for _, suite := range s.Suites {
			out = append(out, deb.ReleaseKey(u, suite))
		}
	}
	return out
}
