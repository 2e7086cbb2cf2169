package web_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/rootfs"
	"patientlantern.example/lantern/core/source"
	"patientlantern.example/lantern/core/survey"
	"patientlantern.example/lantern/service/answer"
	"patientlantern.example/lantern/service/web"
	"patientlantern.example/lantern/standin"
)

func TestTheSchemaOfASurveyIsCurrent(t *testing.T) {
	want, err := web.SurveySchema()
	require.NoError(t, err)
	have, err := os.ReadFile("../../docs/survey.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(want)+"\n", string(have), "docs/survey.schema.json is out of date: make types")
}

func TestSurveysOfAllFamiliesFitTheSchema(t *testing.T) {
	keys, err := standin.Keys()
	require.NoError(t, err)
	answer.Huma()
	r := huma.NewMapRegistry("#/$defs/", huma.DefaultSchemaNamer)
	schema := r.Schema(reflect.TypeFor[source.Survey](), false, "Survey")
	check := func(v any) []error {
		var res huma.ValidateResult
		huma.Validate(r, schema, huma.NewPathBuffer(nil, 0), huma.ModeReadFromServer, v, &res)
		return res.Errors
	}
	read := func(root string) map[string]any {
		dir, err := os.OpenRoot(root)
		require.NoError(t, err)
		defer dir.Close()
		s := survey.Read(rootfs.New(dir.FS()), survey.Machine{}).Survey
		text, err := json.Marshal(&s)
		require.NoError(t, err)
		var v map[string]any
		require.NoError(t, json.Unmarshal(text, &v))
		return v
	}
	var whole map[string]any
	for _, h := range standin.FamilyHosts {
		root := filepath.Join(t.TempDir(), h.Name)
		require.NoError(t, h.Write(root, "http://127.0.0.1:7801", keys))
		whole = read(root)
		assert.Empty(t, check(whole), h.Name)
	}
	assert.Empty(t, check(read(t.TempDir())), "an empty root")
	for name, spoil := range map[string]func(map[string]any){
		"no sources":      func(v map[string]any) { delete(v, "sources") },
		"a number as id":  func(v map[string]any) { v["sources"].([]any)[0].(map[string]any)["id"] = 1.0 },
		"text as enabled": func(v map[string]any) { v["sources"].([]any)[0].(map[string]any)["enabled"] = "yes" },
		"no traits":       func(v map[string]any) { delete(v, "traits") },
		"keys an object":  func(v map[string]any) { v["keys"] = map[string]any{} },
	} {
		text, err := json.Marshal(whole)
		require.NoError(t, err)
		var v map[string]any
		require.NoError(t, json.Unmarshal(text, &v))
		spoil(v)
		assert.NotEmpty(t, check(v), name)
	}
}
