package code

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"orenda/internal/pattern"
)

func java() *Language {
	l := &Language{
		Name: "java", closed: true, signs: true, quote: javaQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Pascal(p.Name)
			return u, [][2]string{{u + ".java", "java.client"}, {"Example.java", "java.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{
				{"javac", "-Xlint:all", "-Werror", "-d", "classes", Pascal(p.Name) + ".java", "Example.java"},
			}
		},
		run:      func(*Program) []string { return []string{"java", "-cp", "classes", "Example"} },
		reserved: strings.Split(javaTaken, ", "),
	}
	l.funcs = template.FuncMap{
		"javaName": javaName,
		"javaType": func(f *Field) string {
			t := map[Kind]string{
				Bool: "Boolean", Int: "Long", Long: "BigInteger", Decimal: "BigDecimal",
				Float: "Double",
				Date:  "LocalDate", Bytes: "byte[]",
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
		"javaRead": javaRead,
		"javaParam": func(f *Field) string {
			text := "@param " + javaName(f.ID) + " " + cmp.Or(note(f), "must be there")
			return strings.ReplaceAll(comment("   * ", text), "\n   * ", "\n   *     ")
		},
		"javaReplies": func(p *page) bool {
			return slices.ContainsFunc(p.Operations, func(o *Operation) bool { return o.Out != nil })
		},
		"literal": func(p *page, v *Value) string { return javaLiteral(p.Package, v) },
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
		text = strings.Join(out, "\n")
		for strings.Contains(text, "\n\n\n") {
			text = strings.ReplaceAll(text, "\n\n\n", "\n\n")
		}
		text = javaLayout().fit(strings.TrimSpace(text) + "\n")
		text = implements.ReplaceAllString(text, "$1)\n      implements")
		return oneLineDocs.ReplaceAllString(text, "$1/** $2 */"), nil
	}
	return l
}

// javaTaken are names that the program has for its own.
const javaTaken = "record, map, service fault, function, http client, http request, http response, path, " +
	"big decimal, big integer, local date, " +
	"structure, xml, input stream, duration, instant, certificate, files, reference, transform, document, signed info"

// javaLayout is how Google's style has what is too long.
func javaLayout() *layout {
	return &layout{width: javaWidth, indent: "    ", inner: true, hangs: true, quotes: "\"'", remark: "//"}
}

const javaWidth = 100

// implements stands at the end of a head that needs more than a line.
var implements = pattern.New(`(?m)^(      .*)\) implements`)

// oneLineDocs are documents of one line that stand in three.
var oneLineDocs = pattern.New(`(?m)^( *)/\*\*\n +\* (.{1,80})\n +\*/`)

func javaQuote(s string) string {
	q := strconv.QuoteToASCII(s)
	return strings.NewReplacer(`\a`, "\\u0007", `\v`, "\\u000b").Replace(q)
}

func javaName(name string) string {
	out := Camel(name)
	return unlike(out, javaWords)
}

func javaRead(f *Field) string {
	kind := map[Kind]string{
		Bool: "Xml::flag", Int: "Long::valueOf", Long: "BigInteger::new", Decimal: "BigDecimal::new",
		Float: "Xml::number", Date: "Xml::date", Bytes: "Xml::bytes",
	}[f.Kind]
	switch {
	case f.Kind == Enum:
		kind = Pascal(f.Of.Name) + "::of"
	case kind == "":
		kind = "String::valueOf"
	}
	reader := "Xml.value(" + kind + ")"
	switch f.Kind {
	case Struct:
		reader = Pascal(f.Of.Name) + "::read"
	case String:
		reader = "Xml::text"
	}
	space := "null"
	if f.Space != "" {
		space = javaQuote(f.Space)
	}
	name := javaQuote(f.Local)
	attribute := fmt.Sprintf("Xml.attribute(n, %s, %s, %s)", space, name, kind)
	switch {
	case f.Text && f.Kind == String:
		return "Xml.text(n)"
	case f.Text:
		return reader + ".apply(n)"
	case f.Attr && f.Optional:
		return fmt.Sprintf("n.hasAttributeNS(%s, %s) ? %s : null", space, name, attribute)
	case f.Attr:
		return attribute
	}
	return fmt.Sprintf("Xml.%s(n, %s, %s)", f.stands(), name, reader)
}

func javaLiteral(unit string, v *Value) string {
	switch v.Kind {
	case Struct:
		var parts []string
		for _, f := range v.Of.Fields {
			g := v.Given(f)
			switch {
			case g == nil && f.Many:
				parts = append(parts, "List.of()")
			case g == nil:
				parts = append(parts, "null")
			case f.Many:
				var all []string
				for _, one := range g.Values {
					if text := javaLiteral(unit, one); text != "null" { // a list holds no null
						all = append(all, text)
					}
				}
				parts = append(parts, "List.of("+strings.Join(all, ", ")+")")
			default:
				parts = append(parts, javaLiteral(unit, g.Values[0]))
			}
		}
		return "new " + unit + "." + Pascal(v.Of.Name) + "(" + strings.Join(parts, ", ") + ")"
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
		return "new BigInteger(" + javaQuote(strings.TrimLeft(v.Text, "+")) + ")"
	case Decimal:
		return "new BigDecimal(" + javaQuote(v.Text) + ")"
	case Float:
		return "Double.parseDouble(" + javaQuote(v.Text) + ")"
	case Date:
		return "LocalDate.parse(" + javaQuote(v.Text[:min(len(v.Text), 10)]) + ")"
	case Bytes:
		return "Base64.getMimeDecoder().decode(" + javaQuote(strings.Join(strings.Fields(v.Text), "")) + ")"
	}
	return javaQuote(v.Text)
}
