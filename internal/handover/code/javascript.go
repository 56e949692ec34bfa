package code

import (
	"fmt"
	"slices"
	"strings"
	"text/template"
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
		"jsType": func(f *Field) string {
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
		},
		"jsText": jsText,
		"jsWrite": func(f *Field, of, tag string) string {
			if f.Kind == Struct {
				return fmt.Sprintf("write%s('%s', %s)", Pascal(f.Of.Name), tag, of)
			}
			return fmt.Sprintf("`<%s>${escape(%s)}</%s>`", tag, jsText(f, of), tag)
		},
		"jsRead": jsRead,
		"jsImports": func(p *page) []string {
			var out []string
			for _, v := range enumsIn(p.Value) {
				out = append(out, Pascal(v.Of.Name))
			}
			return out
		},
		"literal": func(_ *page, v *Value) string { return jsLiteral(v, "") },
	}
	return l
}

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

// jsQuote is a text between single quotes.
func jsQuote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`, "\n", `\n`, "\r", `\r`, "\u2028", `\u2028`,
		"\u2029", `\u2029`).
		Replace(s) +
		"'"
}

func jsText(f *Field, of string) string {
	if f.Kind == Bytes {
		return of + ".toString('base64')"
	}
	return of
}

func jsRead(f *Field) string {
	read := func(text string) string {
		switch f.Kind {
		case Bool:
			return "['true', '1'].includes(" + text + ".trim())"
		case Int, Float:
			return "Number(" + text + ")"
		case Bytes:
			return "Buffer.from(" + text + ", 'base64')"
		case String:
			return text
		}
		return text + ".trim()"
	}
	element := func(n string) string {
		if f.Kind == Struct {
			return "read" + Pascal(f.Of.Name) + "(" + n + ")"
		}
		return read("text(" + n + ")")
	}
	switch {
	case f.Text:
		return read("n.text")
	case f.Attr && f.Optional:
		return fmt.Sprintf("n.attributes[%s] === undefined ? undefined : %s", jsQuote(f.Local),
			read("n.attributes["+jsQuote(f.Local)+"]"))
	case f.Attr:
		return read("(n.attributes[" + jsQuote(f.Local) + "] ?? '')")
	case f.Many:
		return fmt.Sprintf("children(n, %s).map((c) => %s)", jsQuote(f.Local), element("c"))
	case f.Optional || f.Nil:
		return fmt.Sprintf("children(n, %s).map((c) => %s)[0]", jsQuote(f.Local), element("c"))
	}
	return element("required(n, " + jsQuote(f.Local) + ")")
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
		return "Buffer.from(" + jsQuote(strings.Join(strings.Fields(v.Text), "")) + ", 'base64')"
	}
	return jsQuote(v.Text)
}
