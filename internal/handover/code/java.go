package code

import (
	"fmt"
	"strconv"
	"strings"
	"text/template"
)

func java() *Language {
	l := &Language{
		Name: "java", quote: javaQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Pascal(p.Name)
			return u, [][2]string{{u + ".java", "java.client"}, {"Example.java", "java.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{
				{"javac", "-Xlint:all", "-Werror", "-d", "classes", Pascal(p.Name) + ".java", "Example.java"},
			}
		},
		run: func(*Program) []string { return []string{"java", "-cp", "classes", "Example"} },
		reserved: []string{
			"record",
			"map",
			"service fault",
			"function",
			"http client",
			"http request",
			"http response",
			"path",
		},
	}
	l.funcs = template.FuncMap{
		"javaName": javaName,
		"javaType": func(f *Field) string {
			t := map[Kind]string{
				Bool: "Boolean", Int: "Long", Long: "java.math.BigInteger", Decimal: "java.math.BigDecimal",
				Float: "Double",
				Date:  "java.time.LocalDate", Bytes: "byte[]",
			}[f.Kind]
			if f.Of != nil {
				t = Pascal(f.Of.Name)
			}
			if t == "" {
				t = "String"
			}
			if f.Many {
				return "List<" + t + ">"
			}
			plain := map[string]string{"Boolean": "boolean", "Long": "long", "Double": "double"}[t]
			if plain != "" &&
				!f.Optional &&
				!f.Nil {
				return plain
			}
			return t
		},
		"javaText": javaText,
		"javaWrite": func(f *Field, of, tag string) string {
			if f.Kind == Struct {
				return of + `.write("` + tag + `")`
			}
			return fmt.Sprintf(`"<%s>" + escape(%s) + "</%s>"`, tag, javaText(f, of), tag)
		},
		"javaRead": javaRead,
		"literal":  func(p *page, v *Value) string { return javaLiteral(p.Package, v, "        ") },
	}
	l.tidy = func(_, text string) (string, error) { // what is imported is used
		var out []string
		for line := range strings.SplitSeq(text, "\n") {
			if name, ok := strings.CutPrefix(line, "import "); ok {
				name = strings.TrimSuffix(name, ";")
				if strings.Count(text, name[strings.LastIndex(name, ".")+1:]) < 2 {
					continue
				}
			}
			out = append(out, line)
		}
		return strings.Join(out, "\n"), nil
	}
	return l
}

func javaQuote(s string) string {
	q := strconv.QuoteToASCII(s)
	return strings.NewReplacer(`\a`, "\\u0007", `\v`, "\\u000b").Replace(q)
}

func javaName(name string) string {
	out := Camel(name)
	return unlike(out, javaWords)
}

func javaText(f *Field, of string) string {
	switch f.Kind {
	case String, Time, Moment:
		return of
	case Enum:
		return of + ".value()"
	case Decimal:
		return of + ".toPlainString()"
	case Bytes:
		return "Base64.getEncoder().encodeToString(" + of + ")"
	}
	return "String.valueOf(" + of + ")"
}

func javaRead(f *Field) string {
	read := func(text string) string {
		trimmed := text + ".strip()"
		switch f.Kind {
		case Bool:
			return `List.of("true", "1").contains(` + trimmed + ")"
		case Int:
			return "Long.valueOf(" + trimmed + ")"
		case Long:
			return "new java.math.BigInteger(" + trimmed + ")"
		case Decimal:
			return "new java.math.BigDecimal(" + trimmed + ")"
		case Float:
			return "Double.valueOf(" + trimmed + ".replace(\"INF\", \"Infinity\"))"
		case Date:
			return "java.time.LocalDate.parse(" + trimmed + ".substring(0, 10))"
		case Bytes:
			return "Base64.getMimeDecoder().decode(" + trimmed + ")"
		case Enum:
			return Pascal(f.Of.Name) + ".of(" + trimmed + ")"
		case String:
			return text
		}
		return trimmed
	}
	element := func(n string) string {
		if f.Kind == Struct {
			return Pascal(f.Of.Name) + ".read(" + n + ")"
		}
		return read("text(" + n + ")")
	}
	space := "null"
	if f.Space != "" {
		space = javaQuote(f.Space)
	}
	attribute := fmt.Sprintf("n.getAttributeNS(%s, %s)", space, javaQuote(f.Local))
	switch {
	case f.Text:
		return read("n.getTextContent()")
	case f.Attr && f.Optional:
		return fmt.Sprintf("n.hasAttributeNS(%s, %s) ? %s : null", space, javaQuote(f.Local), read(attribute))
	case f.Attr:
		return read(attribute)
	case f.Many:
		return fmt.Sprintf("children(n, %s).stream().map(c -> %s).toList()", javaQuote(f.Local), element("c"))
	case f.Optional || f.Nil:
		return fmt.Sprintf(
			"children(n, %s).stream().map(c -> %s).findFirst().orElse(null)",
			javaQuote(f.Local),
			element("c"),
		)
	}
	return element("required(n, " + javaQuote(f.Local) + ")")
}

func javaLiteral(unit string, v *Value, indent string) string {
	switch v.Kind {
	case Struct:
		var b strings.Builder
		b.WriteString("new " + unit + "." + Pascal(v.Of.Name) + "(")
		for i, f := range v.Of.Fields {
			if i > 0 {
				b.WriteString(",")
			}
			b.WriteString("\n" + indent + "    ")
			g := v.Given(f)
			switch {
			case g == nil && f.Many:
				b.WriteString("List.of()")
			case g == nil:
				b.WriteString("null")
			case f.Many:
				b.WriteString("List.of(")
				for n, one := range g.Values {
					if n > 0 {
						b.WriteString(", ")
					}
					b.WriteString(javaLiteral(unit, one, indent+"    "))
				}
				b.WriteString(")")
			default:
				b.WriteString(javaLiteral(unit, g.Values[0], indent+"    "))
			}
			b.WriteString(" /* " + javaName(f.ID) + " */")
		}
		return b.String() + ")"
	case Enum:
		return enumLiteral(
			v,
			func(value string) string { return unit + "." + Pascal(v.Of.Name) + "." + Upper(value) },
			"null",
		)
	case Bool:
		return fmt.Sprint(v.Text == "true" || v.Text == "1")
	case Int:
		return strings.TrimLeft(v.Text, "+") + "L"
	case Long:
		return "new java.math.BigInteger(" + javaQuote(strings.TrimLeft(v.Text, "+")) + ")"
	case Decimal:
		return "new java.math.BigDecimal(" + javaQuote(v.Text) + ")"
	case Float:
		return "Double.parseDouble(" + javaQuote(v.Text) + ")"
	case Date:
		return "java.time.LocalDate.parse(" + javaQuote(v.Text[:min(len(v.Text), 10)]) + ")"
	case Bytes:
		return "java.util.Base64.getMimeDecoder().decode(" + javaQuote(strings.Join(strings.Fields(v.Text), "")) + ")"
	}
	return javaQuote(v.Text)
}
