package policy

import (
	"encoding/json"
	"reflect"
	"strings"
)

// SchemaID names the schema; nothing is fetched from there.
const SchemaID = "https://patientlantern.example/schema/policy-1.json"

var patterns = map[string]string{
	"name":        nameForm.String(),
	"fingerprint": `^\s*([0-9A-Fa-f]\s*){40}(([0-9A-Fa-f]\s*){24})?$`,
	"url":         `^(\$\{|[^:]*:)`,
	"path":        `^/`,
	"days":        daysForm.String(),
	"day":         `^[0-9]{4}-[0-9]{2}-[0-9]{2}$`,
	"size":        sizeForm.String(),
	"while":       whileForm.String(),
	"share":       shareForm.String(),
	"clock":       clockForm.String(),
	"limit":       `^([0-9]{1,7}( ?%)?|none)$`,
}

// Schema is the JSON Schema (2020-12) of a policy file, for editors, made from the
// types that the loader takes its keys from.
func Schema() ([]byte, error) {
	s := schemer{defs: map[string]any{}}
	root := s.object(reflect.TypeFor[fileForm]())
	root["$schema"], root["$id"], root["title"] = "https://json-schema.org/draft/2020-12/schema", SchemaID, "A file of a Patient "+
		"Lantern policy"
	root["$defs"] = s.defs
	out, err := json.MarshalIndent(root, "", "  ")
	return append(out, '\n'), err
}

type schemer struct{ defs map[string]any }

// object describes a struct.
func (s *schemer) object(t reflect.Type) map[string]any {
	properties, need := map[string]any{}, []string{}
	out := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for i := range t.NumField() {
			f := t.Field(i)
			if f.Anonymous {
				walk(f.Type)
				continue
			}
			key := f.Tag.Get("yaml")
			if key == "*" {
				out["additionalProperties"] = s.value(f.Type.Elem(), "")
				out["propertyNames"] = map[string]any{"pattern": choiceName.String()}
				continue
			}
			v := s.value(f.Type, f.Tag)
			v["description"] = f.Tag.Get("doc")
			properties[key] = v
			if f.Tag.Get("need") != "" {
				need = append(need, key)
			}
		}
	}
	walk(t)
	if len(need) > 0 {
		out["required"] = need
	}
	return out
}

// scalar is a text; YAML reads some of them as numbers and switches.
func scalar(tag reflect.StructTag) map[string]any {
	if e := tag.Get("enum"); e != "" {
		return map[string]any{"enum": strings.Split(e, ",")}
	}
	if f := tag.Get("form"); f == "limit" {
		return map[string]any{
			"anyOf": []any{map[string]any{"type": "string", "pattern": patterns[f]}, map[string]any{"type": "integer", "minimum": 0}},
		}
	} else if f != "" {
		return map[string]any{"type": "string", "pattern": patterns[f]}
	}
	return map[string]any{"type": []string{"string", "number", "boolean"}}
}

func (s *schemer) value(t reflect.Type, tag reflect.StructTag) map[string]any {
	switch {
	case t == reflect.TypeFor[oneOrMany]():
		return map[string]any{"anyOf": []any{scalar(""), map[string]any{"type": "array", "items": scalar("")}}}
	case t == reflect.TypeFor[ruleForm]():
		return map[string]any{"anyOf": []any{map[string]any{"enum": enumOf[ruleForm]("do")}, s.ref(t)}}
	case t == reflect.TypeFor[followForm]():
		return map[string]any{"anyOf": []any{scalar(""), s.ref(t)}}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return s.value(t.Elem(), tag)
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": s.value(t.Elem(), tag)}
	case reflect.Map:
		return map[string]any{"type": []string{"object", "null"}, "additionalProperties": s.value(t.Elem(), tag)}
	case reflect.Struct:
		return s.ref(t)
	}
	return scalar(tag)
}

func (s *schemer) ref(t reflect.Type) map[string]any {
	name := strings.TrimSuffix(t.Name(), "Form")
	if _, done := s.defs[name]; !done {
		s.defs[name] = nil // it may name itself
		s.defs[name] = s.object(t)
	}
	return map[string]any{"$ref": "#/$defs/" + name}
}
