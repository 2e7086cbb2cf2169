// Package house holds the tree to what CONTRIBUTING.md says of its files.
package house

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	root         = "../.."
	mostColumns  = 140
	mostLines    = 500 // of a file
	mostFunction = 80  // lines of a function
)

// longFunctions are those that were longer when the rule came. They may become shorter;
// none comes to them.
var longFunctions = map[string]int{
	"agent/access.go applyAccess": 96, "bench/checkins.go checkIns": 140, "bench/fleet.go fleet": 135, "bench/population.go populate": 99,
	"bench/scale.go scale": 97, "cli/change.go policyCheck": 129, "cli/contracts.go contractList": 137,
	"cli/seats.go seatList": 96, "cmd/lantern-agent/main.go command": 109,
	"core/policy/channels.go channelReferences": 121,
	"core/policy/keys.go key":                   90, "core/resolve/explain.go causes": 102, "core/resolve/parts.go work": 97, "core/text/deb822/deb822.go scan": 83,
	"demo/demo.go Run": 168, "standin/apt.go Suites": 105,
	"standin/rpmmd.go Build": 93,
}

// sources yields the Go files that people write, tests apart.
func sources(t *testing.T, each func(name string)) {
	t.Helper()
	n := 0
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "testdata" || strings.HasPrefix(d.Name(), "demo-")):
			return fs.SkipDir
		case strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, "_test.go"):
			n++
			each(name)
		}
		return nil
	}))
	require.Greater(t, n, 100, "the tree is looked at")
}

func TestFilesAndLinesAreShort(t *testing.T) {
	sources(t, func(name string) {
		f, err := os.Open(name)
		require.NoError(t, err)
		defer f.Close()
		text := bufio.NewScanner(f)
		text.Buffer(nil, 1<<20)
		lines := 0
		for text.Scan() {
			lines++
			// What stands between back quotes, struct tags above all, cannot be broken.
			if line := text.Text(); len([]rune(line)) > mostColumns && !strings.Contains(line, "`") {
				t.Errorf("%s:%d: %d columns; at most %d", name, lines, len([]rune(line)), mostColumns)
			}
		}
		require.NoError(t, text.Err())
		assert.LessOrEqual(t, lines, mostLines, "%s is too long; part it by what it is about", name)
	})
}

func TestFunctionsAreShort(t *testing.T) {
	seen := map[string]bool{}
	sources(t, func(name string) {
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, d := range file.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			rel, err := filepath.Rel(root, name)
			require.NoError(t, err)
			key := fmt.Sprintf("%s %s", rel, fn.Name.Name)
			lines := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
			most := max(mostFunction, longFunctions[key])
			assert.LessOrEqual(t, lines, most, "%s:%d: %s is too long", name, set.Position(fn.Pos()).Line, fn.Name.Name)
			if longFunctions[key] > 0 && lines > mostFunction {
				seen[key] = true
			}
		}
	})
	for key := range longFunctions {
		assert.True(t, seen[key], "%s is short now, or gone: take it out of the list", key)
	}
}
