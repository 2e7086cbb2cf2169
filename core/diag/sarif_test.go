package diag_test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/diag"
)

// TestSARIFFitsItsSchema validates against the schema that OASIS publishes with SARIF
// 2.1.0, errata 01; the copy stands in testdata.
func TestSARIFFitsItsSchema(t *testing.T) {
	text, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	const id = "sarif-schema-2.1.0.json"
	require.NoError(t, c.AddResource(id, doc))
	schema, err := c.Compile(id)
	require.NoError(t, err)
	validate := func(sarif string) error {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(sarif))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	for name, list := range map[string][]diag.Diagnostic{
		"nothing": nil,
		"several": {
			{Code: "unknown-key", Severity: diag.Error, Pos: diag.At("a b/p.yaml", 3, 5), Message: "the group \"x\" has no key \"y\"", Remedy: "did you mean \"z\"?", Also: []diag.Pos{diag.At("q.yaml", 1, 1)}},
			{Code: "unused", Severity: diag.Warning, Pos: diag.Pos{File: "p.yaml"}, Message: "the whole file is\nused nowhere"},
			{Code: "nothing-read", Severity: diag.Error, Pos: diag.Pos{File: "."}, Message: "no policy file"},
		},
	} {
		sarif, err := diag.SARIF("0.1.0", map[string]string{"unknown-key": "a key", "unused": "a definition", "nothing-read": "nothing"}, "policy", list)
		require.NoError(t, err)
		assert.NoError(t, validate(string(sarif)), name)
		assert.Error(t, validate(strings.Replace(string(sarif), `"2.1.0"`, `"2.2.0"`, 1)), "the schema is in force")
	}
}
