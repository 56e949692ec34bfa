package code

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/template"

	"orenda/internal/pattern"
)

// Deliveries are the parts of a batch client, in their order.
//
//nolint:gochecknoglobals // a table: it is never written to
var Deliveries = []string{"client", "program", "tests", "readme", "container", "ci"}

// Batch writes a program that calls for each row of a table, in Python. deliver are the parts of it
// that are wanted, none: all; client and program are always among them. recorded is a reply for
// its tests. safe are operations that may be sent twice.
func Batch(w *Wish, deliver []string, recorded []byte, safe func(operation string) bool) (*Result, error) {
	for _, d := range deliver {
		if !slices.Contains(Deliveries, d) {
			return nil, fmt.Errorf("%q is no part of a batch client; they are %s", d, strings.Join(Deliveries, ", "))
		}
	}
	wants := func(part string) bool { return len(deliver) == 0 || slices.Contains(deliver, part) }
	l := python()
	l.reserved = append(l.reserved, batchTaken...) // it may be put into one file
	of := l.files
	l.files = func(p *Program) (string, [][2]string) {
		unit, files := of(p)
		files = [][2]string{files[0], {"batch.py", "batch.program"}, {"defaults.json", "batch.defaults"}}
		for _, part := range []struct{ name, file, from string }{
			{"tests", "test_batch.py", "batch.test"}, {"readme", "README.md", "batch.readme"},
			{"container", "Containerfile", "batch.container"}, {"ci", "ci.sh", "batch.ci"},
		} {
			if wants(part.name) {
				files = append(files, [2]string{part.file, part.from})
			}
		}
		return unit, files
	}
	l.build = func(p *Program) [][]string {
		return [][]string{{"python3", "-W", "error", "-m", "py_compile", Snake(p.Name) + ".py", "batch.py"}}
	}
	l.run = func(p *Program) []string { return []string{"python3", "batch.py", pyName(p.Call.Name)} }
	maps.Copy(l.funcs, template.FuncMap{
		"safe":      safe,
		"jsonValue": func(v *Value) (string, error) { return jsonOf(v) },
		"batchColumns": func(t *Type) string {
			return "`" + strings.Join(columnsOf(t, "", 0), "`, `") + "`"
		},
	})
	out, err := written(l, w)
	if err != nil {
		return nil, err
	}
	out.Name = "batch-" + out.Name
	if wants("tests") {
		out.Files = append(out.Files, File{"recorded.xml", string(recorded)})
	}
	return out, nil
}

// batchTaken are names that the program has for its own.
//
//nolint:gochecknoglobals // a table: it is never written to
var batchTaken = []string{"run", "sheet", "input error", "not reached error", "waiting", "path"}

// OneFile is a batch client of which client and program are one file of that name; what lies beside it
// is left out.
func OneFile(r *Result, name string) *Result {
	var client, program string
	for _, f := range r.Files {
		switch {
		case f.Name == "batch.py":
			program = f.Text
		case strings.HasSuffix(f.Name, ".py") && f.Name != "test_batch.py":
			client = f.Text
		}
	}
	head, imports, body := pyParts(program)
	_, more, below := pyParts(client)
	body = strings.ReplaceAll(strings.ReplaceAll(body, "vars(service)", "globals()"), "batch.py", name)
	body = ofService.ReplaceAllString(body, "$1")
	imports = slices.DeleteFunc(append(imports, more...), func(line string) bool {
		return strings.HasSuffix(line, " as service")
	})
	slices.SortFunc(imports, func(a, b string) int {
		return cmp.Or(cmp.Compare(a[:1], b[:1])*-1, cmp.Compare(strings.ToLower(a), strings.ToLower(b)))
	})
	text := strings.ReplaceAll(head, "batch.py", name) + "\n\nfrom __future__ import annotations\n\n" +
		strings.Join(slices.Compact(imports), "\n") + "\n\n" + below + "\n\n\n" + body + "\n"
	out := *r
	out.Name += "-" + Kebab(name)
	out.Files = []File{{name, pyLayout().fit(text)}}
	out.Build = [][]string{{"python3", "-W", "error", "-m", "py_compile", name}}
	out.Run = append([]string{"python3", name}, r.Run[2:]...)
	return &out
}

var ofService = pattern.New(`\bservice\.([A-Z])`)

// pyParts are the docstring of a module, its imports, and what follows them.
func pyParts(text string) (doc string, imports []string, body string) {
	end := strings.Index(text[3:], `"""`) + 6
	doc, text = text[:end], text[end:]
	lines := strings.Split(text, "\n")
	at := 0
	for ; at < len(lines); at++ {
		switch line := lines[at]; {
		case strings.HasPrefix(line, "from __future__"), line == "":
		case strings.HasPrefix(line, "import "), strings.HasPrefix(line, "from "):
			imports = append(imports, line)
		default:
			return doc, imports, strings.TrimSpace(strings.Join(lines[at:], "\n"))
		}
	}
	return doc, imports, ""
}

// columnsOf are the columns of a request.
func columnsOf(t *Type, prefix string, depth int) (out []string) {
	const deepest = 6
	for _, f := range t.Fields {
		name := prefix + pyName(f.ID)
		switch {
		case f.Kind == Struct && depth < deepest && f.Many:
			out = append(out, columnsOf(f.Of, name+".0.", depth+1)...)
		case f.Kind == Struct && depth < deepest:
			out = append(out, columnsOf(f.Of, name+".", depth+1)...)
		default:
			out = append(out, name)
		}
	}
	return out
}

// jsonOf is a value as JSON, by the names that its fields have in Python; scalars are texts.
func jsonOf(v *Value) (string, error) {
	var plain func(v *Value) any
	plain = func(v *Value) any {
		if v.Kind != Struct {
			return v.Text
		}
		out := map[string]any{}
		for _, g := range v.Set {
			var all []any
			for _, one := range g.Values {
				all = append(all, plain(one))
			}
			if out[pyName(g.Field.ID)] = all[0]; g.Field.Many {
				out[pyName(g.Field.ID)] = all
			}
		}
		return out
	}
	b, err := json.MarshalIndent(plain(v), "  ", "  ")
	return string(b), err
}
