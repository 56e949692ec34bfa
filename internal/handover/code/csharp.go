package code

import (
	"fmt"
	"strconv"
	"strings"
	"text/template"

	"orenda/internal/xmltree"
)

func csharp() *Language {
	l := &Language{
		Name: "csharp", quote: javaQuote,
		files: func(p *Program) (string, [][2]string) {
			u := Pascal(p.Name)
			return u, [][2]string{{u + ".cs", "csharp.client"}, {"Example.cs", "csharp.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{{"mcs", "-warnaserror+", "-out:example.exe", Pascal(p.Name) + ".cs", "Example.cs"}}
		},
		run: func(*Program) []string { return []string{"mono", "example.exe"} },
		reserved: []string{
			"xml",
			"reply exception",
			"environment",
			"convert",
			"console",
			"func",
			"stream",
			"encoding",
		},
	}
	l.funcs = template.FuncMap{
		"csName": csName,
		"csDoc":  xmltree.EscapeText,
		"csType": func(f *Field) string {
			t := map[Kind]string{
				Bool: "bool", Int: "long", Long: "decimal", Decimal: "decimal", Float: "double", Bytes: "byte[]",
			}[f.Kind]
			if f.Of != nil {
				t = Pascal(f.Of.Name)
			}
			if t == "" {
				t = "string"
			}
			switch {
			case f.Many:
				return "List<" + t + ">"
			case (f.Optional || f.Nil) && strings.Contains("bool long decimal double", t):
				return t + "?"
			}
			return t
		},
		"csText": csText,
		"csWrite": func(f *Field, of, tag string) string {
			if f.Kind == Struct {
				return of + `.Write("` + tag + `")`
			}
			return fmt.Sprintf(`"<%s>" + Xml.Escape(%s) + "</%s>"`, tag, csText(f, of), tag)
		},
		"csRead":  csRead,
		"literal": func(_ *page, v *Value) string { return csLiteral(v, "            ") },
	}
	l.tidy = func(_, text string) (string, error) {
		_, rest, _ := strings.Cut(text, "namespace ")
		name, _, _ := strings.Cut(rest, "\n")
		return strings.ReplaceAll(text, "global::UNIT.", "global::"+strings.TrimSpace(name)+"."), nil
	}
	return l
}

// unit is a type where a property may have its name.
func unit(class string) string { return "global::UNIT." + class }

// csName is a name as properties have it: not that of its class.
func csName(f *Field, class string) string {
	out := Pascal(f.ID)
	if out == class || out == "Read" || out == "Write" || out == "ToString" || out == "GetType" {
		return out + "Value"
	}
	return out
}

func csText(f *Field, of string) string {
	switch f.Kind {
	case String, Date, Time, Moment:
		return of
	case Bool:
		return "(" + of + ` == true ? "true" : "false")`
	case Enum:
		return of + ".Value"
	case Bytes:
		return "Convert.ToBase64String(" + of + ")"
	}
	return "Convert.ToString(" + of + ", CultureInfo.InvariantCulture)"
}

//revive:disable-next-line:cyclomatic one row for each way that a field stands
func csRead(f *Field) string {
	read := func(text string) string {
		trimmed := text + ".Trim()"
		switch f.Kind {
		case Bool:
			return "XmlConvert.ToBoolean(" + trimmed + ")"
		case Int:
			return "XmlConvert.ToInt64(" + trimmed + ")"
		case Long, Decimal:
			return "decimal.Parse(" + trimmed + ", NumberStyles.Number, CultureInfo.InvariantCulture)"
		case Float:
			return "XmlConvert.ToDouble(" + trimmed + ")"
		case Bytes:
			return "Convert.FromBase64String(" + trimmed + ")"
		case Enum:
			return "new " + unit(Pascal(f.Of.Name)) + "(" + trimmed + ")"
		case String:
			return text
		}
		return trimmed
	}
	quoted, space := javaQuote(f.Local), javaQuote(f.Space)
	children := "Xml.Children(n, " + quoted + ")"
	cast := map[Kind]string{
		Bool: "(bool?)", Int: "(long?)", Long: "(decimal?)", Decimal: "(decimal?)", Float: "(double?)",
	}[f.Kind]
	of := pascalOf(f)
	switch {
	case f.Text:
		return read("n.InnerText")
	case f.Attr && f.Optional:
		return fmt.Sprintf("n.HasAttribute(%s, %s) ? %s%s : null", quoted, space, cast,
			read("n.GetAttribute("+quoted+", "+space+")"))
	case f.Attr:
		return read("n.GetAttribute(" + quoted + ", " + space + ")")
	case f.Many && f.Kind == Struct:
		return children + ".Select(c => " + unit(of) + ".Read(c)).ToList()"
	case f.Many:
		return children + ".Select(c => " + read("c.InnerText") + ").ToList()"
	case (f.Optional || f.Nil) && f.Kind == Struct:
		return children + ".Select(c => " + unit(of) + ".Read(c)).FirstOrDefault()"
	case f.Optional || f.Nil:
		return children + ".Select(c => " + cast + read("c.InnerText") + ").FirstOrDefault()"
	case f.Kind == Struct:
		return unit(of) + ".Read(Xml.Required(n, " + quoted + "))"
	}
	return read("Xml.Required(n, " + quoted + ").InnerText")
}

func csLiteral(v *Value, indent string) string {
	switch v.Kind {
	case Struct:
		class := Pascal(v.Of.Name)
		if len(v.Set) == 0 {
			return "new " + class + "()"
		}
		var b strings.Builder
		b.WriteString("new " + class + "\n" + indent + "{")
		for _, g := range v.Set {
			b.WriteString("\n" + indent + "    " + csName(g.Field, class) + " = ")
			if !g.Field.Many {
				b.WriteString(csLiteral(g.Values[0], indent+"    ") + ",")
				continue
			}
			b.WriteString("{ ")
			for _, one := range g.Values {
				b.WriteString(csLiteral(one, indent+"    ") + ", ")
			}
			b.WriteString("},")
		}
		return b.String() + "\n" + indent + "}"
	case Enum:
		class := Pascal(v.Of.Name)
		return enumLiteral(v, func(value string) string { return class + "." + Pascal(value) },
			"new "+class+"("+javaQuote(v.Text)+")")
	case Bool:
		return strconv.FormatBool(v.Text == "true" || v.Text == "1")
	case Int:
		return strings.TrimLeft(v.Text, "+") + "L"
	case Long, Decimal:
		return strings.TrimLeft(v.Text, "+") + "m"
	case Float:
		return "double.Parse(" + javaQuote(v.Text) + ", CultureInfo.InvariantCulture)"
	case Bytes:
		return "Convert.FromBase64String(" + javaQuote(strings.Join(strings.Fields(v.Text), "")) + ")"
	}
	return javaQuote(v.Text)
}
