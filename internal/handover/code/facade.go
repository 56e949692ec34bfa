package code

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/template"
)

// Facade writes a façade in Go: a program that gives the operations as JSON over HTTP, without
// Orenda. pages are files that it serves, by their path: /openapi.json and what the page at / needs.
func Facade(w *Wish, pages map[string][]byte) (*Result, error) {
	l := golang()
	of := l.files
	l.files = func(p *Program) (string, [][2]string) {
		unit, files := of(p)
		files[len(files)-1] = [2]string{"main.go", "go.facade"} // in the place of the example
		return unit, append(
			files,
			[2]string{"README.md", "go.facade.readme"},
			[2]string{unit + "/json.go", "go.facade.json"},
		)
	}
	l.build = func(*Program) [][]string {
		return [][]string{{"go", "vet", "./..."}, {"go", "build", "-o", "facade", "."}}
	}
	l.run = func(*Program) []string { return []string{"./facade"} }
	maps.Copy(l.funcs, template.FuncMap{
		"json":      func() bool { return true },
		"jsonTag":   jsonTag,
		"jsonNames": jsonNames,
		"service":   func() string { return w.Service },
		"token":     func(p *page) string { return p.Settings.Prefix + "_TOKEN" },
	})
	out, err := written(l, w)
	if err != nil {
		return nil, err
	}
	out.Name = "facade-" + out.Name
	for _, path := range slices.Sorted(maps.Keys(pages)) {
		name := strings.TrimPrefix(path, "/")
		if name == "" {
			name = "index.html"
		}
		out.Files = append(out.Files, File{"pages/" + name, string(pages[path])})
	}
	return out, nil
}

// jsonTag is the tag of a field: its name as the façade of Orenda has it.
func jsonTag(f *Field) string {
	more := ""
	if f.Optional || f.Many || f.Kind == Struct && !f.Nil {
		more = ",omitempty"
	}
	return fmt.Sprintf("`json:\"%s%s\"`", jsonName(f), more)
}

func jsonName(f *Field) string {
	switch {
	case f.Attr:
		return "@" + f.Local
	case f.Text:
		return "#text"
	}
	return f.Local
}

// jsonNames are the names of the fields that an object must have, as arguments in Go.
func jsonNames(t *Type) (out string) {
	for _, f := range t.Fields {
		if !f.Optional && !f.Many && !f.Nil {
			out += fmt.Sprintf(", %q", jsonName(f))
		}
	}
	return out
}
