package policy_test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/policy"
	"patientlantern.example/lantern/demo"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := policy.Schema()
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource(policy.SchemaID, doc))
	s, err := c.Compile(policy.SchemaID)
	require.NoError(t, err)
	return s
}

func validate(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var doc any
	require.NoError(t, yaml.Unmarshal([]byte(text), &doc), text)
	return s.Validate(plain(doc))
}

// plain turns what YAML gives into what JSON would.
func plain(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			x[k] = plain(x[k])
		}
	case []any:
		for i := range x {
			x[i] = plain(x[i])
		}
	case uint64:
		return int(x)
	}
	return v
}

func TestTheSchemaIsUpToDate(t *testing.T) {
	text, err := policy.Schema()
	require.NoError(t, err)
	have, err := os.ReadFile("../../docs/policy.schema.json")
	require.NoError(t, err)
	assert.Equal(t, string(text), string(have), "docs/policy.schema.json is out of date: make types")
}

func TestEveryExampleFitsTheSchema(t *testing.T) {
	s := schema(t)
	files, err := demo.Policy(demo.Address, demo.Secure)
	require.NoError(t, err)
	for name, text := range files {
		if strings.HasSuffix(name, ".yaml") {
			assert.NoError(t, validate(t, s, string(text)), name)
		}
	}
	assert.NoError(t, validate(t, s, good))
	assert.NoError(t, validate(t, s, reference(t)))
}

// TestEveryMutationIsRefused changes one thing in a good policy; both the schema and the
// loader must refuse it.
func TestEveryMutationIsRefused(t *testing.T) {
	s := schema(t)
	for _, c := range []struct{ name, old, new string }{
		{"no format", "format: patient-lantern/1\n", ""},
		{"another format", "patient-lantern/1", "patient-lantern/9"},
		{"unknown key at the top", "groups:", "gruops:"},
		{"unknown key of a repository", "    settings:", "    setings:"},
		{"unknown key of a family", "suites:", "suits:"},
		{"keys that are no list", "keys: [saltmarsh]", "keys: saltmarsh"},
		{"a fingerprint that is short", "3BFF 8224 5BEC AD4F 2FA4  8C0D 0019 5878 414C C58E", "414C C58E"},
		{"a key without a file", "    file: keys/saltmarsh-2026.asc\n", ""},
		{"a url without a scheme", `"https://packages`, `"packages`},
		{"kinds that there are not", "components: [main]", "components: [main], kinds: [both]"},
		{"a support level that there is not", "    settings:", "    support: mine\n    settings:"},
		{"signatures that there are not", "    settings:", "    signatures: maybe\n    settings:"},
		{"enabled that is a word", "    settings:", "    enabled: sometimes\n    settings:"},
		{"a case without a condition", "groups:", "    cases: [{ enabled: false }]\ngroups:"},
		{"free space without a unit", "    settings:", "    needs: { free: { /boot: \"200\" } }\n    settings:"},
		{"a witness without a package", "    settings:", "    witness: { at-least: \"2\" }\n    settings:"},
		{"media without a path", "    settings:", "    media: { host: a.brinewick.test }\n    settings:"},
		{"an assignment to nobody", "  - to: gateways\n    repositories", "  - repositories"},
		{"unlisted that there is not", "    repositories: [saltmarsh]", "    repositories: [saltmarsh]\n    unlisted: burn"},
		{"seats that there are not", "    repositories: [saltmarsh]", "    repositories: [saltmarsh]\n    seats: none"},
		{"a decision without an author", "    repositories: [saltmarsh]", "    repositories: [saltmarsh]\n    without-contract: { because: x, review: 2027-01-01 }"},
		{"a notice in weeks", "groups:", "notice: { keys: 3 weeks }\ngroups:"},
		{"a channel's choice without a repository", "groups:", "channels: { gannet: { open: { pinned: \"1\" } } }\ngroups:"},
		{"a choice with a capital", "groups:", "channels: { gannet: { Open: { repository: saltmarsh } } }\ngroups:"},
		{"a priority that is no number", "components: [main]", "components: [main], priority: high"},
		{"sections of apt", "components: [main]", "components: [main], sections: [x]"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, good, c.old, "the test itself")
			text := strings.Replace(good, c.old, c.new, 1)
			assert.Error(t, validate(t, s, text))
			_, diags := policy.Load(folder(t, map[string]string{"p.yaml": text}), now)
			assert.NotEmpty(t, diags)
		})
	}
}
