package diag

import (
	"cmp"
	"encoding/json"
	"net/url"
	"slices"
)

// SARIF writes diagnostics in the Static Analysis Results Interchange Format, version
// 2.1.0 (OASIS). codes says what each code stands for; files are relative to base, a
// path with slashes. Equal lists give equal bytes.
func SARIF(version string, codes map[string]string, base string, list []Diagnostic) ([]byte, error) {
	type message struct {
		Text string `json:"text"`
	}
	type rule struct {
		ID               string  `json:"id"`
		ShortDescription message `json:"shortDescription"`
	}
	type region struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
	type artifact struct {
		URI string `json:"uri"`
	}
	type physical struct {
		ArtifactLocation artifact `json:"artifactLocation"`
		Region           *region  `json:"region,omitempty"`
	}
	type location struct {
		ID               int      `json:"id,omitempty"`
		PhysicalLocation physical `json:"physicalLocation"`
	}
	type result struct {
		RuleID           string     `json:"ruleId"`
		RuleIndex        int        `json:"ruleIndex"`
		Level            string     `json:"level"`
		Message          message    `json:"message"`
		Locations        []location `json:"locations"`
		RelatedLocations []location `json:"relatedLocations,omitempty"`
	}
	at := func(p Pos, id int) location {
		uri := url.URL{Path: p.File}
		if base != "" {
			uri.Path = base + "/" + p.File
		}
		l := location{ID: id, PhysicalLocation: physical{ArtifactLocation: artifact{uri.EscapedPath()}}}
		if p.Line > 0 {
			l.PhysicalLocation.Region = &region{p.Line, p.Column}
		}
		return l
	}
	rules := []rule{}
	for code, meaning := range codes {
		rules = append(rules, rule{code, message{meaning}})
	}
	slices.SortFunc(rules, func(a, b rule) int { return cmp.Compare(a.ID, b.ID) })
	results := []result{}
	for _, d := range list {
		r := result{RuleID: d.Code, Level: d.Severity, Message: message{d.Message}, Locations: []location{at(d.Pos, 0)}}
		r.RuleIndex = slices.IndexFunc(rules, func(x rule) bool { return x.ID == d.Code })
		if r.RuleIndex < 0 {
			r.RuleIndex = len(rules)
			rules = append(rules, rule{d.Code, message{d.Code}})
		}
		if d.Remedy != "" {
			r.Message.Text += "; " + d.Remedy
		}
		for i, p := range d.Also {
			r.RelatedLocations = append(r.RelatedLocations, at(p, i+1))
		}
		results = append(results, r)
	}
	return json.MarshalIndent(map[string]any{
		"version": "2.1.0",
		"$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"runs": []any{map[string]any{
			"tool":       map[string]any{"driver": map[string]any{"name": "Patient Lantern", "version": version, "rules": rules}},
			"columnKind": "unicodeCodePoints",
			"results":    results,
		}},
	}, "", "  ")
}
