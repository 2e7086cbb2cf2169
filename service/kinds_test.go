package service_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"patientlantern.example/lantern/api"
	"patientlantern.example/lantern/service"
	"patientlantern.example/lantern/service/journal"
	"patientlantern.example/lantern/store"
)

// TestWhatChangesHasOneListOfKinds: whoever filters by kind, or listens, knows every kind that the journal has.
func TestWhatChangesHasOneListOfKinds(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), "journal/journal.go", nil, 0)
	require.NoError(t, err)
	var written, told []string
	ast.Inspect(f, func(n ast.Node) bool {
		v, ok := n.(*ast.ValueSpec)
		if ok && strings.HasPrefix(v.Names[0].Name, "Kind") {
			kind, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			written = append(written, kind)
		}
		return true
	})
	for _, k := range api.AuditKinds {
		if journal.Told(store.Entry{Kind: k}) {
			told = append(told, k)
		}
	}
	assert.ElementsMatch(t, written, api.AuditKinds)
	enum := func(of any, field string) []string {
		x, ok := reflect.TypeOf(of).FieldByName(field)
		require.True(t, ok)
		return strings.Split(x.Tag.Get("enum"), ",")
	}
	assert.Equal(t, api.AuditKinds, enum(service.AuditIn{}, "Kind"), "what may be asked of the audit")
	assert.Equal(t, api.AuditKinds, enum(api.AuditEntry{}, "Kind"), "what the audit answers")
	assert.Equal(t, append(slices.Clone(told), api.EventAll, api.EventBeat), enum(api.Event{}, "Kind"), "what streams tell")
	console, err := os.ReadFile("../console/src/events.ts")
	require.NoError(t, err)
	line := regexp.MustCompile(`kinds = \[(.*)\] as const`).FindSubmatch(console)
	require.NotNil(t, line)
	assert.Equal(t, told, strings.Split(strings.ReplaceAll(string(line[1]), "'", ""), ", "), "what the console listens to")
}
