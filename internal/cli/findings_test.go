package cli

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/diagnose"
	"orenda/internal/standin"
)

// tested lists, for each finding, the tests that name it: package and function,
// by what they say of it in their own code.
func tested(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	var ids []string
	for _, e := range diagnose.Catalogue() {
		ids = append(ids, e.ID)
	}
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, "_test.go") || strings.HasSuffix(path, "words_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, decl := range f.Decls {
			fn, ok := decl.(*ast.FuncDecl)
			if !ok || !strings.HasPrefix(fn.Name.Name, "Test") {
				continue
			}
			name := filepath.Base(filepath.Dir(path)) + "." + fn.Name.Name
			ast.Inspect(fn, func(n ast.Node) bool {
				lit, ok := n.(*ast.BasicLit)
				if !ok || lit.Kind != token.STRING {
					return true
				}
				text, err := strconv.Unquote(lit.Value)
				if err != nil {
					return true
				}
				for _, id := range ids {
					if i := strings.Index(text, id); i >= 0 && (len(text) == i+len(id) || !strings.ContainsRune("-abcdefghijklmnopqrstuvwxyz", rune(text[i+len(id)]))) && !slices.Contains(out[id], name) {
						out[id] = append(out[id], name)
					}
				}
				return true
			})
		}
		return nil
	}))
	return out
}

// docs/findings-tested.md says of every finding what provokes it, which test
// asserts it and whether its remedy is tried; it is made here (UPDATE=1).
func TestEveryFindingIsProvokedAndAsserted(t *testing.T) {
	by := tested(t)
	misbehaves := map[string]bool{}
	for _, m := range standin.Misbehaviours() {
		misbehaves[m.ID] = true
	}
	// One test calls into every misbehaviour of the stand-ins.
	const all, remedies = "call.TestMisbehavioursAreFound", "cli.TestRemediesLetTheCallGoFurther"
	var b strings.Builder
	b.WriteString("# What proves each finding\n\nEvery test calls over a real socket, or checks a workspace on disk. Made by `UPDATE=1 go test ./internal/cli -run EveryFinding`.\n\n| finding | provoked by | asserted by | its remedy lets the call go further |\n|---|---|---|---|\n")
	for _, e := range diagnose.Catalogue() {
		tests := slices.DeleteFunc(slices.Clone(by[e.ID]), func(n string) bool { return n == remedies })
		provoked := "the test's own server or workspace"
		if misbehaves[e.ID] {
			provoked = "the stand-ins: `/~" + e.ID + "`"
			if !slices.Contains(tests, all) {
				tests = append([]string{all}, tests...)
			}
		}
		tried := ""
		if slices.Contains(by[e.ID], remedies) {
			tried = remedies
			tests = append(tests, remedies)
		}
		assert.NotEmpty(t, tests, "no test asserts %s", e.ID)
		slices.Sort(tests)
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", e.ID, provoked, strings.Join(slices.Compact(tests)[:min(len(slices.Compact(tests)), 3)], ", "), tried)
	}
	const page = "../../docs/findings-tested.md"
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o600))
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, b.String(), string(have), "UPDATE=1 makes it anew")
}
