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

// tested lists, for each finding, the tests that expect it: package and function. A
// test expects what it names in an assertion, or in a table that it goes through.
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
			for _, text := range expected(fn) {
				for _, id := range ids {
					if names(text, id) && !slices.Contains(out[id], name) {
						out[id] = append(out[id], name)
					}
				}
			}
		}
		return nil
	}))
	return out
}

// names tells whether a text names a finding, and not one that begins like it.
func names(text, id string) bool {
	i := strings.Index(text, id)
	return i >= 0 &&
		(len(text) == i+len(id) || !strings.ContainsRune("-abcdefghijklmnopqrstuvwxyz", rune(text[i+len(id)])))
}

// expected are the texts in a test's assertions and in its tables.
func expected(fn *ast.FuncDecl) (texts []string) {
	collect := func(n ast.Node) bool {
		if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
			if text, err := strconv.Unquote(lit.Value); err == nil {
				texts = append(texts, text)
			}
		}
		return true
	}
	ast.Inspect(fn, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CompositeLit:
			ast.Inspect(n, collect)
		case *ast.CallExpr:
			sel, ok := n.Fun.(*ast.SelectorExpr)
			if _, own := n.Fun.(*ast.Ident); own { // a function of the test that asserts
				ast.Inspect(n, collect)
			}
			if !ok {
				return true
			}
			if on, ok := sel.X.(*ast.Ident); ok && (on.Name == "assert" || on.Name == "require") ||
				sel.Sel.Name == "sees" || sel.Sel.Name == "waitFor" {
				ast.Inspect(n, collect)
			}
		}
		return true
	})
	return texts
}

// overASocket are the packages whose tests call over real sockets; the others hold
// rules against facts that are made up.
var overASocket = []string{"call", "relay", "cli", "e2e", "app", "state"}

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
	overWire := func(test string) bool {
		pkg, _, _ := strings.Cut(test, ".")
		return slices.Contains(overASocket, pkg) || pkg == "workspace"
	}
	var b strings.Builder
	b.WriteString(`# What proves each finding

A test stands here for a finding that it names in an assertion, or in a table that it goes through. Tests of the packages call, relay, cli,
e2e, app and state call over real sockets, or check a workspace on disk; those in the fourth column hold the rule against facts that are made up.
Made by ` + "`UPDATE=1 go test ./internal/cli -run EveryFinding`" + `.

| finding | provoked by | expected over a socket or on disk by | held against made-up facts by | its remedy lets the call go further |
|---|---|---|---|---|
`)
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
		slices.Sort(tests)
		tests = slices.Compact(tests)
		made := slices.DeleteFunc(slices.Clone(tests), overWire)
		tests = slices.DeleteFunc(tests, func(n string) bool { return !overWire(n) })
		assert.NotEmpty(t, tests, "no test calls, and expects %s", e.ID)
		few := func(all []string) string { return strings.Join(all[:min(len(all), 3)], ", ") }
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", e.ID, provoked, few(tests), few(made), tried)
	}
	figures, err := os.ReadFile("../truth/figures.md")
	require.NoError(t, err)
	b.WriteString("\n")
	b.Write(figures)
	const page = "../../docs/findings-tested.md"
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(page, []byte(b.String()), 0o600))
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.True(t, b.String() == string(have), "UPDATE=1 makes %s anew", page)
}
