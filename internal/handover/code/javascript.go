package code

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"text/template"

	"orenda/internal/pattern"
)

func javascript() *Language {
	l := &Language{
		Name: "javascript", quote: jsQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Kebab(p.Name)
			return u, [][2]string{{u + ".mjs", "javascript.client"}, {"example.mjs", "javascript.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{{"node", "--check", Kebab(p.Name) + ".mjs"}, {"node", "--check", "example.mjs"}}
		},
		run: func(*Program) []string { return []string{"node", "example.mjs"} },
	}
	l.funcs = template.FuncMap{
		"jsKey": jsKey, "jsRead": jsRead, "jsProperty": jsProperty,
		"jsWrite": func(f *Field, tag string) string {
			write := "element"
			if f.Nil && !f.Optional {
				write = "nillable"
			}
			how := ""
			if f.Kind == Struct {
				how = ", write" + Pascal(f.Of.Name)
			}
			return fmt.Sprintf("%s(%q, v.%s%s)", write, tag, Camel(f.ID), how)
		},
		"jsReplies": func(p *Program) bool {
			return slices.ContainsFunc(p.Operations, func(o *Operation) bool { return o.Out != nil })
		},
		"jsWords": func(p *Program) bool {
			return p.has(came, func(f *Field) bool { return jsReader(f) == "word" })
		},
		"jsImports": func(p *page) []string {
			var out []string
			for _, v := range enumsIn(p.Value) {
				out = append(out, Pascal(v.Of.Name))
			}
			return out
		},
		"literal": func(_ *page, v *Value) string { return jsLiteral(v, "") },
	}
	l.tidy = func(_, text string) (string, error) {
		for strings.Contains(text, "\n\n\n") {
			text = strings.ReplaceAll(text, "\n\n\n", "\n\n")
		}
		lines := strings.Split(jsLayout().fit(strings.TrimSpace(text)+"\n"), "\n")
		for i, line := range lines { // a text that is too long goes into a line of its own
			if m := alone.FindStringSubmatch(line); m != nil && len([]rune(line)) > jsWidth {
				lines[i] = m[1] + m[2] + "\n" + m[1] + "  " + m[3]
			}
		}
		return strings.Join(lines, "\n"), nil
	}
	return l
}

// jsLayout is how prettier lays out what is too long.
func jsLayout() *layout {
	return &layout{width: jsWidth, indent: "  ", last: true, quotes: "\"'`", remark: "//"}
}

const jsWidth = 80

// alone is a text, and nothing else, behind a name.
var alone = pattern.New(`^( *)([^"'` + "`" + `]*(?: =|:)) (["'].*["'][;,])$`)

func jsType(f *Field) string {
	t := map[Kind]string{Bool: "boolean", Int: "number", Float: "number", Bytes: "Buffer"}[f.Kind]
	if f.Of != nil {
		t = Pascal(f.Of.Name)
	}
	if t == "" {
		t = "string"
	}
	if f.Many {
		t += "[]"
	}
	return t
}

// jsProperty documents a field.
func jsProperty(f *Field) string {
	name := Camel(f.ID)
	if f.Optional || f.Nil {
		name = "[" + name + "]"
	}
	return strings.TrimSpace("@property {" + jsType(f) + "} " + name + " " + note(f))
}

// jsKey is a name of an object's property, in quotes where it needs them.
func jsKey(name string) string {
	if jsName.MatchString(name) {
		return name
	}
	return jsQuote(name)
}

var jsName = pattern.New(`^[A-Za-z_$][A-Za-z0-9_$]*$`)

// enumsIn are the values of enumerations in a value, one for each type.
func enumsIn(v *Value) (out []*Value) {
	for _, g := range v.Set {
		for _, one := range g.Values {
			if one.Kind == Enum && enumLiteral(one, func(string) string { return "listed" }, "") != "" &&
				!slices.ContainsFunc(out, func(o *Value) bool { return o.Of == one.Of }) {
				out = append(out, one)
			}
			for _, below := range enumsIn(one) {
				if !slices.ContainsFunc(out, func(o *Value) bool { return o.Of == below.Of }) {
					out = append(out, below)
				}
			}
		}
	}
	return out
}

// jsQuote is a text between the quotes of which it holds fewer.
func jsQuote(s string) string {
	quote := `"`
	if strings.Count(s, `"`) > strings.Count(s, "'") {
		quote = "'"
	}
	return quote + strings.NewReplacer(`\`, `\\`, quote, `\`+quote, "\n", `\n`, "\r", `\r`, "\u2028", `\u2028`,
		"\u2029", `\u2029`).Replace(s) + quote
}

// jsReader is the function that reads the value of a field.
func jsReader(f *Field) string {
	if f.Kind == Struct {
		return "read" + Pascal(f.Of.Name)
	}
	return cmp.Or(map[Kind]string{
		Bool: "flag", Int: "number", Float: "number", Bytes: "bytes", String: "text",
	}[f.Kind], "word")
}

func jsRead(f *Field) string {
	switch {
	case f.Text:
		return jsReader(f) + "(n)"
	case f.Attr:
		return fmt.Sprintf("attribute(n, %s, %s)", jsQuote(f.Local), jsReader(f))
	}
	return fmt.Sprintf("%s(n, %s, %s)", f.stands(), jsQuote(f.Local), jsReader(f))
}

func jsLiteral(v *Value, indent string) string {
	switch v.Kind {
	case Struct:
		if len(v.Set) == 0 {
			return "{}"
		}
		var b strings.Builder
		b.WriteString("{\n")
		for _, g := range v.Set {
			b.WriteString(indent + "  " + Camel(g.Field.ID) + ": ")
			if !g.Field.Many {
				b.WriteString(jsLiteral(g.Values[0], indent+"  ") + ",\n")
				continue
			}
			b.WriteString("[\n")
			for _, one := range g.Values {
				b.WriteString(indent + "    " + jsLiteral(one, indent+"    ") + ",\n")
			}
			b.WriteString(indent + "  ],\n")
		}
		return b.String() + indent + "}"
	case Enum:
		return enumLiteral(
			v,
			func(value string) string { return Pascal(v.Of.Name) + "." + Pascal(value) },
			jsQuote(v.Text),
		)
	case Bool:
		return fmt.Sprint(v.Text == "true" || v.Text == "1")
	case Int:
		return strings.TrimLeft(v.Text, "+")
	case Float:
		return "Number(" + jsQuote(v.Text) + ")"
	case Bytes:
		return "Buffer.from(" + jsQuote(strings.Join(strings.Fields(v.Text), "")) + ", \"base64\")"
	}
	return jsQuote(v.Text)
}
