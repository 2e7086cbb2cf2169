package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "patientlantern.example/lantern/"

// outside are packages that core does without: it is handed bytes, times and
// functions, and hands back values.
var outside = []string{
	"net/http", "net", "os", "os/exec", "database/sql", "log", "log/slog", "math/rand", "math/rand/v2", "crypto/rand", "syscall", "embed",
	"github.com/spf13/cobra", "github.com/go-chi/chi/v5", "github.com/danielgtaylor/huma/v2", "modernc.org/sqlite", "github.com/pressly/goose/v3",
}

// clock are calls that ask the machine what time it is.
var clock = []string{"time.Now", "time.Since", "time.Until", "time.Sleep", "time.After", "time.NewTimer", "time.NewTicker"}

func TestCoreStandsOnNothingFromTheOuterRing(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		files++
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			return err
		}
		for _, imp := range f.Imports {
			path, err := strconv.Unquote(imp.Path.Value)
			if err != nil {
				return err
			}
			assert.NotContains(t, outside, path, "%s imports %s", name, path)
			if rest, ours := strings.CutPrefix(path, module); ours {
				assert.True(t, strings.HasPrefix(rest, "core/"), "%s imports %s from the outer ring", name, path)
				if strings.HasPrefix(name, "source/") {
					assert.Fail(t, "source stands on nothing", "%s imports %s", name, path)
				}
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok {
					assert.NotContains(t, clock, x.Name+"."+s.Sel.Name, "%s asks the clock", fset.Position(n.Pos()))
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 20)
}

// imports are what the Go files of a folder import, those of tests aside.
func imports(t *testing.T, dir string) (out []string) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, imp := range f.Imports {
			path, err := strconv.Unquote(imp.Path.Value)
			require.NoError(t, err)
			out = append(out, path)
		}
	}
	return out
}

// rooms are the rooms of the service, each with those that it may stand on.
var rooms = map[string][]string{
	"crew":      {},
	"journal":   {},
	"memo":      {},
	"refusal":   {},
	"events":    {"journal"},
	"seats":     {"journal"},
	"identity":  {"journal", "refusal"},
	"webhooks":  {"hook", "journal", "refusal"},
	"fleet":     {"journal", "refusal"},
	"compute":   {"fleet", "memo", "seats"},
	"ground":    {"compute", "fleet", "journal", "refusal", "seats"},
	"upstreams": {"fleet", "ground", "journal", "memo", "refusal", "seats"},
	"contracts": {"compute", "fleet", "ground", "identity", "journal", "refusal", "seats"},
	"rollouts":  {"compute", "contracts", "fleet", "ground", "identity", "journal", "refusal", "upstreams"},
	"policies":  {"compute", "contracts", "fleet", "ground", "identity", "journal", "memo", "refusal", "rollouts", "upstreams"},
	"register":  {"compute", "contracts", "fleet", "ground", "identity", "journal", "refusal", "rollouts", "upstreams"},
	"agents":    {"compute", "fleet", "ground", "identity", "journal", "memo", "refusal", "rollouts"},
}

// An engine knows those that it stands on, and none that stands on it.
func TestTheRoomsOfTheServiceStandOnThoseBelow(t *testing.T) {
	folders, err := filepath.Glob("../service/*/*.go")
	require.NoError(t, err)
	for _, name := range folders {
		room := filepath.Base(filepath.Dir(name))
		if room == "web" || room == "answer" || room == "hook" { // these speak HTTP
			continue
		}
		assert.Contains(t, rooms, room, "a room of which nobody said what it stands on")
	}
	for room, below := range rooms {
		for _, path := range imports(t, "../service/"+room) {
			if other, ok := strings.CutPrefix(path, module+"service"); ok {
				assert.Contains(t, below, strings.TrimPrefix(other, "/"), "service/%s imports %s", room, path)
			}
		}
	}
}

// What the service decides knows no HTTP, and what speaks HTTP decides nothing.
func TestTheServiceKnowsNoHTTPAndItsHTTPSideDecidesNothing(t *testing.T) {
	dirs := []string{"../service"}
	for room := range rooms {
		dirs = append(dirs, "../service/"+room)
	}
	for _, dir := range dirs {
		for _, path := range imports(t, dir) {
			for _, no := range []string{"net/http", "github.com/go-chi/", "github.com/danielgtaylor/huma", module + "service/web", module + "client"} {
				assert.False(t, path == no || strings.HasPrefix(path, strings.TrimSuffix(no, "/")+"/"), "%s imports %s", dir, path)
			}
		}
	}
	may := []string{"service", "service/answer", "service/refusal", "service/identity", "api", "wire", "shelf", "core/source"}
	for _, path := range imports(t, "../service/web") {
		if rest, ours := strings.CutPrefix(path, module); ours {
			assert.Contains(t, may, rest, "service/web imports %s", path)
		}
	}
}

func TestTheAgentStaysLean(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", module+"cmd/lantern-agent").Output()
	require.NoError(t, err)
	for _, heavy := range []string{"cel.dev/", "modernc.org/", "database/sql", "github.com/danielgtaylor/", "github.com/go-chi/", "github.com/prometheus/", "github.com/goccy/", module + "console", module + "service", module + "store"} {
		for dep := range strings.Lines(string(out)) {
			assert.False(t, strings.HasPrefix(dep, heavy), "the agent is built with %s", strings.TrimSpace(dep))
		}
	}
}

// A survey is a process of a few milliseconds: what it may never meet is compiled when it is met.
func TestTheAgentCompilesNoExpressionBeforeItMeetsOne(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f", "{{.ImportPath}} {{.Dir}}", module+"cmd/lantern-agent").Output()
	require.NoError(t, err)
	read := 0
	for line := range strings.Lines(string(out)) {
		path, dir, _ := strings.Cut(strings.TrimSpace(line), " ")
		if !strings.HasPrefix(path, module) {
			continue
		}
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			fset := token.NewFileSet()
			file, err := parser.ParseFile(fset, name, nil, 0)
			require.NoError(t, err)
			read++
			for _, decl := range file.Decls {
				if vars, is := decl.(*ast.GenDecl); is {
					ast.Inspect(vars, func(n ast.Node) bool {
						if call, is := n.(*ast.SelectorExpr); is {
							assert.NotEqual(t, "MustCompile", call.Sel.Name, "%s: use pattern.Lazy", fset.Position(call.Pos()))
						}
						_, later := n.(*ast.FuncLit)
						return !later
					})
				}
			}
		}
	}
	assert.Greater(t, read, 100)
}
