// Package habits holds the code to what no linter looks at: floors, documented
// fields, and nothing at package level that is ever written to.
package habits

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// source is a file of the program, without tests.
type source struct {
	pkg  string // its folder below internal
	file *ast.File
}

func sources(t *testing.T) (*token.FileSet, []source) {
	t.Helper()
	fset := token.NewFileSet()
	var out []source
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(fset, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		pkg := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../"))
		out = append(out, source{pkg, f})
		return nil
	}))
	return fset, out
}

// Every exported field of an exported type says what it is: its unit, its shape, what
// its zero value means. A comment may stand for the fields that follow on its lines.
func TestExportedFieldsAreDocumented(t *testing.T) {
	fset, all := sources(t)
	var bare []string
	for _, s := range all {
		for _, d := range s.file.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok {
				continue
			}
			for _, spec := range g.Specs {
				ts, ok := spec.(*ast.TypeSpec)
				if !ok || !ts.Name.IsExported() {
					continue
				}
				st, ok := ts.Type.(*ast.StructType)
				if !ok || fset.Position(st.Pos()).Line == fset.Position(st.End()).Line { // the type's own comment speaks of it
					continue
				}
				for _, f := range st.Fields.List {
					for _, n := range f.Names {
						if n.IsExported() && f.Doc == nil && f.Comment == nil {
							at := fset.Position(n.Pos())
							bare = append(bare, fmt.Sprintf("%s:%d %s.%s", at.Filename, at.Line, ts.Name.Name, n.Name))
						}
					}
				}
			}
		}
	}
	for _, b := range bare {
		t.Error("no word about " + b)
	}
}

// Nothing at package level is ever written to after it was made: tables are tables.
func TestNothingAtPackageLevelIsWrittenTo(t *testing.T) {
	fset, all := sources(t)
	names := map[string]map[string]bool{}
	for _, s := range all {
		if names[s.pkg] == nil {
			names[s.pkg] = map[string]bool{}
		}
		for _, d := range s.file.Decls {
			if g, ok := d.(*ast.GenDecl); ok && g.Tok == token.VAR {
				for _, spec := range g.Specs {
					for _, n := range spec.(*ast.ValueSpec).Names {
						names[s.pkg][n.Name] = true
					}
				}
			}
			if f, ok := d.(*ast.FuncDecl); ok && f.Recv == nil {
				assert.NotEqual(t, "init", f.Name.Name, "%s", fset.Position(f.Pos()))
			}
		}
	}
	for _, s := range all {
		ast.Inspect(s.file, func(n ast.Node) bool {
			a, ok := n.(*ast.AssignStmt)
			if !ok || a.Tok == token.DEFINE {
				return true
			}
			for _, to := range a.Lhs {
				for {
					if ix, ok := to.(*ast.IndexExpr); ok {
						to = ix.X
						continue
					}
					break
				}
				id, ok := to.(*ast.Ident)
				if ok && id.Obj != nil && id.Obj.Kind == ast.Var && names[s.pkg][id.Name] {
					if _, global := id.Obj.Decl.(*ast.ValueSpec); global && s.file.Scope.Lookup(id.Name) == id.Obj {
						t.Errorf("%s: %s is written to", fset.Position(id.Pos()), id.Name)
					}
				}
			}
			return true
		})
	}
}

// floors are the packages, the lowest first: one imports only from floors below its own.
func floors() [][]string {
	return [][]string{
		{"pattern"},
		{"safe", "marks", "near", "xmltree", "related", "spool", "tomledit", "pac"},
		{"exchange", "soap", "trust", "schema"},
		{"http1", "contract", "wssec", "data", "compare", "learned"},
		{"wire", "message", "identity"},
		{"endpoint"},
		{"user", "expect", "revocation"},
		{"diagnose"},
		{"call"},
		{"journal", "draw", "filter"},
		{"handover", "handover/code", "journal/disk", "journal/journaltest", "relay", "muster", "spans", "capture"},
		{"journal/postgres", "journal/postgres/pgserver"},
		{"workspace"},
		{"standin", "sounding", "facade", "service"},
		{"app/ui", "app/state"},
		{"app/crossed"},
		{
			"app/board", "app/certificates", "app/contracts", "app/differences", "app/draft", "app/endpoints", "app/environments",
			"app/identities", "app/musters", "app/path", "app/relays", "app/reply", "app/soundings", "app/strip", "app/traffic",
		},
		{"app"},
		{"cli"},
	}
}

func TestPackagesImportOnlyFromBelow(t *testing.T) {
	floor := map[string]int{}
	for i, f := range floors() {
		for _, p := range f {
			floor[p] = i + 1
		}
	}
	core := floor["relay"]
	_, all := sources(t)
	for _, s := range all {
		if s.pkg == "habits" || s.pkg == "e2e" {
			continue
		}
		if !assert.NotZero(t, floor[s.pkg], "%s has no floor: give it one in floors()", s.pkg) {
			continue
		}
		for _, imp := range s.file.Imports {
			path, err := strconv.Unquote(imp.Path.Value)
			require.NoError(t, err)
			if own, is := strings.CutPrefix(path, "orenda/internal/"); is {
				assert.Less(t, floor[own], floor[s.pkg], "%s imports %s, which is not below it", s.pkg, own)
			}
			if floor[s.pkg] <= core {
				for _, face := range []string{"charm.land/", "github.com/spf13/cobra"} {
					assert.False(t, strings.HasPrefix(path, face), "%s is of the core, and imports %s", s.pkg, path)
				}
			}
		}
	}
}
