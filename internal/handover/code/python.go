package code

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"text/template"
)

func python() *Language {
	l := &Language{
		Name: "python", quote: pyQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Snake(p.Name)
			return u, [][2]string{{u + ".py", "python.client"}, {"example.py", "python.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{{"python3", "-W", "error", "-m", "py_compile", Snake(p.Name) + ".py", "example.py"}}
		},
		run: func(*Program) []string { return []string{"python3", "example.py"} },
	}
	l.funcs = template.FuncMap{
		"pyName": pyName, "pyEnum": pyEnum, "pyType": pyType,
		"pyFields": func(t *Type) []*Field { // those that must be there come first, as a dataclass wants them
			out := slices.Clone(t.Fields)
			slices.SortStableFunc(out, func(a, b *Field) int { return pyRank(a) - pyRank(b) })
			return out
		},
		"pyDefault": func(f *Field) string {
			switch {
			case f.Many:
				return " = field(default_factory=list)"
			case f.Optional || f.Nil:
				return " = None"
			}
			return ""
		},
		"pyText":  pyText,
		"pyWrite": pyWrite,
		"pyRead":  pyRead,
		"pyImports": func(p *page) (out []string) {
			seen := map[string]bool{}
			var look func(v *Value)
			look = func(v *Value) {
				if v.Of != nil && !seen[Pascal(v.Of.Name)] {
					seen[Pascal(v.Of.Name)] = true
					out = append(out, Pascal(v.Of.Name))
				}
				for _, g := range v.Set {
					for _, one := range g.Values {
						look(one)
					}
				}
			}
			look(p.Value)
			slices.Sort(out)
			return out
		},
		"literal": func(_ *page, v *Value) string { return pyLiteral(v, "    ") },
	}
	l.tidy = func(name, text string) (string, error) {
		for strings.Contains(text, "\n\n\n\n") {
			text = strings.ReplaceAll(text, "\n\n\n\n", "\n\n\n")
		}
		for _, unused := range []string{"import datetime\n", "import decimal\n", "import enum\n", "import base64\n"} {
			word := strings.TrimSuffix(strings.TrimPrefix(unused, "import "), "\n")
			if !strings.Contains(text, word+".") {
				text = strings.Replace(text, unused, "", 1)
			}
		}
		if !strings.Contains(text, "field(default_factory") {
			text = strings.Replace(text, "import dataclass, field", "import dataclass", 1)
		}
		return text, nil
	}
	return l
}

func pyRank(f *Field) int {
	if f.Many || f.Optional || f.Nil {
		return 1
	}
	return 0
}

// pyQuote is a text as Python has it.
func pyQuote(s string) string {
	q := strconv.QuoteToASCII(s) // its escapes are Python's too
	return q
}

func pyName(name string) string {
	out := Snake(name)
	return unlike(out, pythonWords)
}

func pyEnum(value string) string {
	out := Upper(value)
	if out == "MRO" || out == "NONE" {
		return out + "_"
	}
	return out
}

func pyType(f *Field) string {
	t := map[Kind]string{
		String: "str", Bool: "bool", Int: "int", Long: "int", Decimal: "decimal.Decimal", Float: "float",
		Date: "datetime.date", Time: "datetime.time", Moment: "datetime.datetime", Bytes: "bytes",
	}[f.Kind]
	if f.Of != nil {
		t = Pascal(f.Of.Name)
	}
	switch {
	case f.Many:
		return "list[" + t + "]"
	case f.Optional || f.Nil:
		return t + " | None"
	}
	return t
}

func pyText(f *Field, of string) string {
	switch f.Kind {
	case Bool:
		return `"true" if ` + of + ` else "false"`
	case Enum:
		return of + ".value"
	case Bytes:
		return "base64.b64encode(" + of + ").decode()"
	case Decimal:
		return "format(" + of + `, "f")`
	case Date:
		return of + ".isoformat()"
	case Time, Moment:
		return of + `.isoformat().replace("+00:00", "Z")`
	case String:
		return of
	}
	return "str(" + of + ")"
}

func pyWrite(f *Field, of, tag string) string {
	if f.Kind == Struct {
		return of + `.write("` + tag + `")`
	}
	return `"<` + tag + `>" + escape(` + pyText(f, of) + `) + "</` + tag + `>"`
}

func pyRead(f *Field) string {
	kind := map[Kind]string{
		String: "str", Bool: "_bool", Int: "int", Long: "int", Decimal: "decimal.Decimal", Float: "float",
		Date: "_date",
		Time: "_time", Moment: "_moment", Bytes: "base64.b64decode",
	}[f.Kind]
	if f.Kind == Enum {
		kind = Pascal(f.Of.Name)
	}
	reader := "_value(" + kind + ")"
	if f.Kind == Struct {
		reader = Pascal(f.Of.Name) + ".read"
	}
	switch {
	case f.Text:
		return reader + "(n)"
	case f.Attr && f.Optional:
		return fmt.Sprintf("%s(n.attrib[%q]) if %q in n.attrib else None", kind, f.attribute(), f.attribute())
	case f.Attr:
		return fmt.Sprintf("%s(n.attrib[%q])", kind, f.attribute())
	case f.Many:
		return fmt.Sprintf("[%s(c) for c in _children(n, %q)]", reader, f.Local)
	}
	optional := "False"
	if f.Optional || f.Nil {
		optional = "True"
	}
	return fmt.Sprintf("_read(n, %q, %s, %s)", f.Local, reader, optional)
}

// attribute is the name of an attribute, its namespace in braces.
func (f *Field) attribute() string {
	if f.Space != "" {
		return "{" + f.Space + "}" + f.Local
	}
	return f.Local
}

func pyLiteral(v *Value, indent string) string {
	switch v.Kind {
	case Struct:
		var b strings.Builder
		b.WriteString(Pascal(v.Of.Name) + "(")
		for _, g := range v.Set {
			b.WriteString("\n" + indent + "    " + pyName(g.Field.ID) + "=")
			if !g.Field.Many {
				b.WriteString(pyLiteral(g.Values[0], indent+"    ") + ",")
				continue
			}
			b.WriteString("[")
			for _, one := range g.Values {
				b.WriteString("\n" + indent + "        " + pyLiteral(one, indent+"        ") + ",")
			}
			b.WriteString("\n" + indent + "    ],")
		}
		if len(v.Set) > 0 {
			b.WriteString("\n" + indent)
		}
		return b.String() + ")"
	case Enum:
		return enumLiteral(
			v,
			func(value string) string { return Pascal(v.Of.Name) + "." + pyEnum(value) },
			pyQuote(v.Text),
		)
	case Bool:
		if v.Text == "true" || v.Text == "1" {
			return "True"
		}
		return "False"
	case Int, Long:
		return strings.TrimLeft(v.Text, "+")
	case Decimal:
		return "decimal.Decimal(" + pyQuote(v.Text) + ")"
	case Float:
		return "float(" + pyQuote(v.Text) + ")"
	case Date:
		return "datetime.date.fromisoformat(" + pyQuote(v.Text[:min(len(v.Text), 10)]) + ")"
	case Time:
		return "datetime.time.fromisoformat(" + pyQuote(strings.ReplaceAll(v.Text, "Z", "+00:00")) + ")"
	case Moment:
		return "datetime.datetime.fromisoformat(" + pyQuote(strings.ReplaceAll(v.Text, "Z", "+00:00")) + ")"
	case Bytes:
		return fmt.Sprintf("base64.b64decode(%q)", strings.Join(strings.Fields(v.Text), ""))
	}
	return pyQuote(v.Text)
}
