package fleet

import (
	"encoding/json"
	"path"
	"slices"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/core/trace"
	"patientlantern.example/lantern/service/refusal"
)

// mostTraced bounds of how many files a host is asked at once.
const mostTraced = 50

// ofTime are classes of findings that come of time, of the net and of seats: when a file was
// written says nothing about them.
var ofTime = []string{
	drift.RefreshFails, drift.KeyEnded, drift.NoSeat, drift.SeatEnds, drift.AccessExpired, drift.DecisionMissing, drift.DecisionDue,
	drift.MediaGone, drift.SystemChanged,
}

// FilesOfFindings are the files of which it is asked when they were written.
func FilesOfFindings(v *View) (out []string) {
	if len(v.Findings) == 0 { // of most hosts, at each check-in
		return nil
	}
	seen := map[string]bool{}
	for i := range v.Findings {
		f := v.Findings[i].File
		if slices.Contains(ofTime, v.Findings[i].Class) || !path.IsAbs(f) || path.Clean(f) != f || seen[f] || len(out) == mostTraced {
			continue
		}
		seen[f] = true
		out = append(out, f)
	}
	return out
}

// TakeTraced notes what a host says of files. It is a host that says so: texts are cut, and
// what was not asked for is left out.
func TakeTraced(v *View, in *api.Traced) error {
	kept := api.Traced{Survey: in.Survey, Files: map[string]trace.Touched{}}
	for _, name := range FilesOfFindings(v) {
		t, told := in.Files[name]
		if !told {
			continue
		}
		t.Unknown, t.Logins = refusal.Clip(refusal.Short(t.Unknown), 200), refusal.Clip(t.Logins, 20)
		if t.Step != nil {
			s := *t.Step
			s.Package = refusal.Clip(refusal.Short(s.Package), 200)
			s.From, s.To = refusal.Clip(refusal.Short(s.From), 100), refusal.Clip(refusal.Short(s.To), 100)
			t.Step = &s
		}
		if t.Login != nil {
			l := *t.Login
			l.Who, l.Program = refusal.Clip(refusal.Short(l.Who), 100), refusal.Clip(refusal.Short(l.Program), 200)
			t.Login = &l
		}
		kept.Files[name] = t
	}
	b, err := json.Marshal(kept)
	v.Traced = b
	return err
}

// TracedOf is what a host has said; nil where it has said nothing.
func TracedOf(v *View) *api.Traced {
	if len(v.Traced) == 0 {
		return nil
	}
	out := &api.Traced{}
	if json.Unmarshal(v.Traced, out) != nil {
		return nil
	}
	return out
}

// TraceOf says when a file of a host was written and by whom, as far as the host knows; empty
// where it has not been asked yet.
func (v *View) TraceOf(f *drift.Finding) string {
	if v.Told == nil || slices.Contains(ofTime, f.Class) {
		return ""
	}
	t, told := v.Told.Files[f.File]
	if !told {
		return ""
	}
	return t.Says(Zone(v.Zone))
}
