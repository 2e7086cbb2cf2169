package policy_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/core/condition"
	"patientlantern.example/lantern/core/diag"
	"patientlantern.example/lantern/core/policy"
)

func TestTheReferenceListsEveryCodeAndFact(t *testing.T) {
	b, err := os.ReadFile("../../docs/policy.md")
	require.NoError(t, err)
	diagnostics, err := os.ReadFile("../../docs/diagnostics.md")
	require.NoError(t, err)
	assert.Equal(t, policy.Reference(), string(diagnostics), "docs/diagnostics.md is out of date: make types")
	for name, c := range policy.Codes {
		assert.NotEmpty(t, c.Meaning, name)
		assert.NotEmpty(t, c.Remedy, name)
		assert.Contains(t, []string{diag.Error, diag.Warning}, c.Severity, name)
	}
	for _, fact := range condition.Names() {
		assert.Contains(t, string(b), "`"+fact+"`")
	}
}

// reference puts the blocks of docs/policy.md together.
func reference(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile("../../docs/policy.md")
	require.NoError(t, err)
	var all strings.Builder
	for _, m := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(b), -1) {
		all.WriteString(m[1])
	}
	return all.String()
}

// TestTheExamplesOfTheReferenceAreTaken puts the blocks of the reference together
// as they stand there; they are one policy.
func TestTheExamplesOfTheReferenceAreTaken(t *testing.T) {
	text := reference(t)
	_, diags := policy.Load(folder(t, map[string]string{"p.yaml": text}), now)
	assert.Empty(t, diags, "%s", text)
}
