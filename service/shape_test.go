package service_test

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/internal/rig"
)

// shape is what the description says of an answer.
type shape struct {
	Properties map[string]map[string]any `json:"properties"`
}

// kind is what a value of a property is in JSON.
func kind(property map[string]any) string {
	switch t := property["type"].(type) {
	case string:
		return strings.Replace(t, "integer", "number", 1)
	case []any: // or null
		for _, name := range t {
			if name != "null" {
				return strings.Replace(name.(string), "integer", "number", 1)
			}
		}
	}
	if property["$ref"] != nil {
		return "object"
	}
	return "any"
}

// ofAgents are what agents and the service say to each other; no command prints it.
var ofAgents = []string{
	"Came", "CheckIn", "CheckInAnswer", "Delivery", "HeldFile", "HostAccess", "Login", "Packages", "Report", "SourcesLook", "Step",
	"Touched", "Traced",
}

// ofOthers are names that others decided, the trade or the survey's contract, and that stand
// beside the same word of ours.
var ofOthers = []string{"base", "files", "id", "looked", "number", "os", "sheet", "survey", "to", "traits", "value", "packages", "login"}

func shapes(t *testing.T) map[string]shape {
	t.Helper()
	raw, err := rig.New(t).Service.OpenAPI()
	require.NoError(t, err)
	var described struct {
		Components struct {
			Schemas map[string]shape `json:"schemas"`
		} `json:"components"`
	}
	require.NoError(t, json.Unmarshal(raw, &described))
	require.Greater(t, len(described.Components.Schemas), 80)
	return described.Components.Schemas
}

func TestANameMeansOneTypeEverywhere(t *testing.T) {
	kinds := map[string]map[string][]string{}
	for name, s := range shapes(t) {
		if slices.Contains(ofAgents, name) {
			continue
		}
		for property, what := range s.Properties {
			if kinds[property] == nil {
				kinds[property] = map[string][]string{}
			}
			kinds[property][kind(what)] = append(kinds[property][kind(what)], name)
		}
	}
	for property, of := range kinds {
		assert.Equal(t, strings.ToLower(property), property, "names are lower_snake")
		if !slices.Contains(ofOthers, property) {
			assert.Len(t, of, 1, "%s is %v", property, of)
		}
	}
}

func TestEveryListHasOneEnvelope(t *testing.T) {
	lists := 0
	for name, s := range shapes(t) {
		if strings.HasSuffix(name, "Page") || strings.HasSuffix(name, "List") || s.Properties["items"] != nil {
			lists++
			names := slices.Collect(maps.Keys(s.Properties))
			require.Contains(t, names, "items", name)
			assert.Equal(t, "array", kind(s.Properties["items"]), name)
			assert.True(t, s.Properties["total"] != nil || s.Properties["next"] != nil, "%s counts, or says where it goes on", name)
			for _, counted := range []string{"total", "next"} {
				if s.Properties[counted] != nil {
					assert.Equal(t, "number", kind(s.Properties[counted]), "%s.%s", name, counted)
				}
			}
		}
	}
	assert.Greater(t, lists, 15)
}
