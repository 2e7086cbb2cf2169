package fleet

import (
	"encoding/json"
	"slices"
	"strings"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/core/cause"
	"patientlantern.example/lantern/core/drift"
	"patientlantern.example/lantern/service/refusal"
)

// mostBad bounds how many sources of a host are kept that cannot be refreshed.
const mostBad = 50

// KeepLook is what is kept of a look of a host at its sources.
func KeepLook(l *api.SourcesLook) (json.RawMessage, error) {
	kept := *l
	kept.Bad = append([]api.SourceOutcome{}, l.Bad[:min(len(l.Bad), mostBad)]...)
	for i := range kept.Bad {
		o := &kept.Bad[i]
		o.Message, o.URL = refusal.Clip(o.Message, 500), refusal.Clip(o.URL, 500)
		o.Suite, o.File = refusal.Clip(o.Suite, 200), refusal.Clip(o.File, 500)
		o.Cause = nil
	}
	kept.Trouble = refusal.Clip(l.Trouble, 500)
	return json.Marshal(kept)
}

// Unrefreshed are the findings that follow from a host's own look at its sources: the same
// words for the same cause, so that hosts that have it stand together.
func Unrefreshed(v *View) (out []drift.Finding) {
	if len(v.Watched) == 0 || v.Revision == 0 {
		return nil
	}
	var l api.SourcesLook
	if json.Unmarshal(v.Watched, &l) != nil {
		return nil
	}
	for _, o := range l.Bad {
		at := strings.TrimSpace(o.URL + " " + o.Suite)
		f := drift.Finding{Class: drift.RefreshFails, Severity: drift.Fault, Field: "refresh", File: o.File, Line: o.Line, Have: at,
			Message: at + " cannot be refreshed: " + o.Message}
		if c, known := cause.Of(o.Message); known {
			f.Field = string(c.Kind)
			f.Message = at + " cannot be refreshed: " + c.Says + "; " + c.Remedy
		}
		out = append(out, f)
	}
	if l.Trouble != "" {
		out = append(out, drift.Finding{Class: drift.RefreshFails, Severity: drift.Note, Field: "refresh",
			Message: "whether its sources can be refreshed is not known: " + l.Trouble})
	}
	return out
}

// StillBad takes out of a look what has been refreshed since, and what stands there no more: the source at that line is at another
// address, and has been refreshed.
func StillBad(look json.RawMessage, since []api.SourceOutcome) json.RawMessage {
	var l api.SourcesLook
	if len(look) == 0 || json.Unmarshal(look, &l) != nil {
		return nil
	}
	l.Trouble = ""
	l.Bad = slices.DeleteFunc(l.Bad, func(bad api.SourceOutcome) bool {
		same := func(o api.SourceOutcome) bool { return o.URL == bad.URL && o.Suite == bad.Suite }
		if slices.ContainsFunc(since, same) {
			return slices.ContainsFunc(since, func(o api.SourceOutcome) bool { return o.OK && same(o) })
		}
		return bad.File != "" && slices.ContainsFunc(since, func(o api.SourceOutcome) bool {
			return o.OK && o.File == bad.File && o.Line == bad.Line
		})
	})
	left, err := json.Marshal(l)
	if err != nil {
		return nil
	}
	return left
}
