package web

import (
	"encoding/json"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/service/answer"
)

// SurveySchema is the JSON Schema of a survey, from the Go type that defines it.
func SurveySchema() ([]byte, error) {
	answer.Huma() // lists are never null
	r := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	s := r.Schema(reflect.TypeFor[source.Survey](), false, "Survey")
	defs := r.Map()
	delete(defs, "Survey")
	return SchemaText(s, defs, "survey", "What is configured on one host")
}

// SchemaText is a schema with its definitions as JSON, under the name by which it is known.
func SchemaText(s *huma.Schema, defs map[string]*huma.Schema, name, title string) ([]byte, error) {
	text, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var out map[string]any
	if err := json.Unmarshal(text, &out); err != nil {
		return nil, err
	}
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["$id"] = "https://patientlantern.example/schema/" + name + ".json"
	out["title"] = title
	out["$defs"] = defs
	return json.MarshalIndent(out, "", "  ")
}
