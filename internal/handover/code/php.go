package code

import (
	"fmt"
	"slices"
	"strings"
	"text/template"
)

func php() *Language {
	l := &Language{
		Name: "php", closed: true, signs: true, quote: phpQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Pascal(p.Name)
			return u, [][2]string{{u + ".php", "php.client"}, {"example.php", "php.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{{"php", "-l", Pascal(p.Name) + ".php"}, {"php", "-l", "example.php"}}
		},
		run: func(*Program) []string { return []string{"php", "example.php"} },
	}
	l.funcs = template.FuncMap{
		"phpFields": func(t *Type) []*Field { // those that must be there come first
			out := slices.Clone(t.Fields)
			slices.SortStableFunc(out, func(a, b *Field) int { return pyRank(a) - pyRank(b) })
			return out
		},
		"phpType": func(f *Field) string {
			t := map[Kind]string{Bool: "bool", Int: "int", Float: "float"}[f.Kind]
			if f.Of != nil {
				t = Pascal(f.Of.Name)
			}
			if t == "" {
				t = "string"
			}
			switch {
			case f.Many:
				return "array"
			case f.Optional || f.Nil:
				return "?" + t
			}
			return t
		},
		"phpDefault": func(f *Field) string {
			switch {
			case f.Many:
				return " = []"
			case f.Optional || f.Nil:
				return " = null"
			}
			return ""
		},
		"phpText": phpText,
		"phpWrite": func(f *Field, of, tag string) string {
			if f.Kind == Struct {
				return of + "->write('" + tag + "')"
			}
			return fmt.Sprintf("'<%s>' . escape(%s) . '</%s>'", tag, phpText(f, of), tag)
		},
		"phpRead": phpRead,
		"phpProxy": func(p string) string {
			return "tcp://" + strings.TrimPrefix(strings.TrimPrefix(p, "http://"), "https://")
		},
		"literal": func(_ *page, v *Value) string { return phpLiteral(v, "") },
	}
	l.tidy = func(_, text string) (string, error) {
		text = (&layout{width: phpWidth, indent: "    ", quotes: "\"'", remark: "//"}).fit(text)
		return oneLineDocs.ReplaceAllString(text, "$1/** $2 */"), nil
	}
	return l
}

// phpWidth are the columns that PSR-12 asks lines to stay within.
const phpWidth = 120

func phpQuote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(s) + "'"
}

func phpText(f *Field, of string) string {
	switch f.Kind {
	case Bool:
		return "(" + of + " ? 'true' : 'false')"
	case Int, Float:
		return "(string) " + of
	case Enum:
		return of + "->value"
	case Bytes:
		return "base64_encode(" + of + ")"
	}
	return of
}

func phpRead(f *Field) string {
	read := func(text string) string {
		switch f.Kind {
		case Bool:
			return "in_array(trim(" + text + "), ['true', '1'], true)"
		case Int:
			return "(int) " + text
		case Float:
			return "(float) " + text
		case Bytes:
			return "base64_decode(" + text + ")"
		case Enum:
			return Pascal(f.Of.Name) + "::from(trim(" + text + "))"
		case String:
			return text
		}
		return "trim(" + text + ")"
	}
	element := func(n string) string {
		if f.Kind == Struct {
			return Pascal(f.Of.Name) + "::read(" + n + ")"
		}
		return read("text(" + n + ")")
	}
	attribute := fmt.Sprintf("$n->getAttribute(%s)", phpQuote(f.Local))
	has := fmt.Sprintf("$n->hasAttribute(%s)", phpQuote(f.Local))
	if f.Space != "" {
		attribute = fmt.Sprintf("$n->getAttributeNS(%s, %s)", phpQuote(f.Space), phpQuote(f.Local))
		has = fmt.Sprintf("$n->hasAttributeNS(%s, %s)", phpQuote(f.Space), phpQuote(f.Local))
	}
	switch {
	case f.Text:
		return read("$n->textContent")
	case f.Attr && f.Optional:
		return has + " ? " + read(attribute) + " : null"
	case f.Attr:
		return read(attribute)
	case f.Many:
		return fmt.Sprintf(
			"array_map(static fn (\\DOMElement $c) => %s, children($n, %s))",
			element("$c"),
			phpQuote(f.Local),
		)
	case f.Optional || f.Nil:
		return fmt.Sprintf("array_map(static fn (\\DOMElement $c) => %s, children($n, %s))[0] ?? null", element("$c"),
			phpQuote(f.Local))
	}
	return element("required($n, " + phpQuote(f.Local) + ")")
}

func phpLiteral(v *Value, indent string) string {
	switch v.Kind {
	case Struct:
		var b strings.Builder
		b.WriteString("new " + Pascal(v.Of.Name) + "(")
		for _, g := range v.Set {
			b.WriteString("\n" + indent + "    " + Camel(g.Field.ID) + ": ")
			if !g.Field.Many {
				b.WriteString(phpLiteral(g.Values[0], indent+"    ") + ",")
				continue
			}
			b.WriteString("[")
			for _, one := range g.Values {
				b.WriteString("\n" + indent + "        " + phpLiteral(one, indent+"        ") + ",")
			}
			b.WriteString("\n" + indent + "    ],")
		}
		if len(v.Set) > 0 {
			b.WriteString("\n" + indent)
		}
		return b.String() + ")"
	case Enum:
		return enumLiteral(v, func(value string) string { return Pascal(v.Of.Name) + "::" + Pascal(value) },
			Pascal(v.Of.Name)+"::from("+phpQuote(v.Text)+")")
	case Bool:
		return fmt.Sprint(v.Text == "true" || v.Text == "1")
	case Int:
		return strings.TrimLeft(v.Text, "+")
	case Float:
		return "(float) " + phpQuote(v.Text)
	case Bytes:
		return "base64_decode(" + phpQuote(strings.Join(strings.Fields(v.Text), "")) + ")"
	}
	return phpQuote(v.Text)
}
