package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// The agent goes on machines of other word lengths and byte orders: what it is made of is well typed there too. Of other
// modules the declarations alone are looked at.
func TestTheAgentIsWellTypedOnOtherMachines(t *testing.T) {
	for _, arch := range []string{"386", "s390x"} {
		t.Run(arch, func(t *testing.T) {
			list, err := packages.Load(&packages.Config{
				Mode: packages.NeedName | packages.NeedFiles | packages.NeedImports | packages.NeedDeps | packages.NeedSyntax | packages.NeedTypes |
					packages.NeedTypesInfo,
				Dir: "../..",
				Env: append(os.Environ(), "GOOS=linux", "GOARCH="+arch, "CGO_ENABLED=0"),
				ParseFile: func(set *token.FileSet, name string, text []byte) (*ast.File, error) {
					file, err := parser.ParseFile(set, name, text, parser.SkipObjectResolution)
					if file == nil || strings.Contains(name, "/agent/") || strings.Contains(name, "/core/") || strings.Contains(name, "/cli/") {
						return file, err
					}
					for _, d := range file.Decls {
						if f, ok := d.(*ast.FuncDecl); ok && f.Body != nil {
							f.Body = nil
						}
					}
					return file, err
				},
			}, "./cmd/lantern-agent")
			require.NoError(t, err)
			packages.Visit(list, nil, func(p *packages.Package) {
				if strings.HasPrefix(p.PkgPath, "patientlantern.example/") {
					for _, e := range p.Errors {
						if !strings.Contains(e.Msg, "imported and not used") { // by what was left out
							assert.NoError(t, e)
						}
					}
				}
			})
		})
	}
}
