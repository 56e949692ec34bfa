package code

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"orenda/internal/pattern"
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
		"pyRead": pyRead, "pyDoc": pyDoc,
		"pyLists": func(p *Program) bool {
			return p.has(func(*Type) bool { return true }, func(f *Field) bool { return f.Many })
		},
		"pyLiteral": func(p *page, kinds ...Kind) bool { return p.Value.holds(kinds...) },
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
			out = append(out, "Client", "ReplyError", "SoapFault")
			slices.Sort(out)
			return out
		},
		"literal": func(_ *page, v *Value) string { return pyLiteral(v, "        ") },
	}
	l.tidy = func(name, text string) (string, error) {
		if !strings.HasSuffix(name, ".py") {
			return text, nil
		}
		for strings.Contains(text, "\n\n\n\n") {
			text = strings.ReplaceAll(text, "\n\n\n\n", "\n\n\n")
		}
		for _, empty := range emptyLists.FindAllString(text, -1) {
			text = strings.ReplaceAll(text, empty, "()")
		}
		return pyLayout().fit(strings.TrimSpace(text) + "\n"), nil
	}
	return l
}

// pyLayout is how black lays out what is too long.
func pyLayout() *layout {
	return &layout{width: pyWidth, indent: "    ", inner: true, quotes: "\"'", remark: "#"}
}

const pyWidth = 88

var emptyLists = pattern.New(`\(\n\s*\)`)

// pyDoc is a text as a docstring, behind so many columns.
func pyDoc(indent int, text string) string {
	text = strings.TrimSpace(text)
	if indent+len(text)+len(`""""""`) <= pyWidth {
		return `"""` + text + `"""`
	}
	lead := strings.Repeat(" ", indent)
	lines := strings.Split(comment(lead, `"""`+text), "\n")
	if at := strings.LastIndexByte(lines[0], ' '); len(lines) == 1 && at > indent {
		lines = []string{lines[0][:at], lead + lines[0][at+1:]}
	}
	return strings.TrimLeft(strings.Join(lines, "\n"), " ") + "\n" + lead + `"""`
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

func pyRead(f *Field) string {
	kind := map[Kind]string{
		String: "str", Bool: "_bool", Int: "int", Long: "int", Decimal: "decimal.Decimal", Float: "float",
		Date: "_date", Time: "_time", Moment: "_moment", Bytes: "base64.b64decode",
	}[f.Kind]
	reader := "_as(" + kind + ")"
	switch f.Kind {
	case Enum:
		kind = Pascal(f.Of.Name)
		reader = "_as(" + kind + ")"
	case Struct:
		reader = Pascal(f.Of.Name) + ".read"
	case String:
		reader = "_text"
	}
	switch {
	case f.Text:
		return reader + "(node)"
	case f.Attr && f.Optional:
		return fmt.Sprintf("_attribute(node, %q, %s) if %[1]q in node.attrib else None", f.attribute(), kind)
	case f.Attr:
		return fmt.Sprintf("_attribute(node, %q, %s)", f.attribute(), kind)
	}
	return fmt.Sprintf("_%s(node, %q, %s)", f.stands(), f.Local, reader)
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
