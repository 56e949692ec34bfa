package code

import (
	"fmt"
	"go/format"
	"strconv"
	"strings"
	"text/template"
)

// languages are all, in the order in which they are named.
func languages() []*Language {
	return []*Language{golang(), python(), java(), javascript(), php(), csharp(), shell()}
}

func golang() *Language {
	unit := func(p *Program) string { return strings.ToLower(Pascal(p.Name)) }
	l := &Language{
		Name: "go", quote: strconv.Quote,
		files: func(p *Program) (string, [][2]string) {
			u := unit(p)
			return u, [][2]string{
				{
					"go.mod",
					"go.mod",
				}, {u + "/client.go", "go.client"}, {u + "/types.go", "go.types"}, {"main.go", "go.example"},
			}
		},
		build: func(*Program) [][]string {
			return [][]string{{"go", "vet", "./..."}, {"go", "build", "-o", "example", "."}}
		},
		run: func(*Program) []string { return []string{"./example"} },
		tidy: func(name, text string) (string, error) {
			if !strings.HasSuffix(name, ".go") {
				return text, nil
			}
			b, err := format.Source([]byte(text))
			return string(b), err
		},
	}
	l.funcs = template.FuncMap{
		"goType": goType, "goPointer": goPointer,
		"goStar": func(f *Field, name string) string {
			if goPointer(f) {
				return "*" + name
			}
			return name
		},
		"goText": goText, "goRead": goRead, "jsonTag": jsonTag,
		"json":    func() bool { return false },
		"literal": func(p *page, v *Value) string { return goLiteral(p.Package, v, "\t", true) },
	}
	return l
}

func goPointer(f *Field) bool {
	return (f.Optional || f.Nil) && !f.Many && f.Kind != Struct && f.Kind != Bytes && !f.Text
}

func goLiteral(unit string, v *Value, indent string, pointer bool) string {
	switch v.Kind {
	case Struct:
		var b strings.Builder
		if pointer {
			b.WriteString("&")
		}
		b.WriteString(unit + "." + Pascal(v.Of.Name) + "{")
		for _, g := range v.Set {
			b.WriteString("\n" + indent + "\t" + Pascal(g.Field.ID) + ": ")
			switch {
			case g.Field.Many:
				b.WriteString("[]" + goValue(g.Field, unit+".") + "{")
				for _, one := range g.Values {
					b.WriteString("\n" + indent + "\t\t" + goLiteral(unit, one, indent+"\t\t", true) + ",")
				}
				b.WriteString("\n" + indent + "\t}")
			case goPointer(g.Field):
				b.WriteString(unit + ".To(" + goLiteral(unit, g.Values[0], indent+"\t", true) + ")")
			default:
				b.WriteString(goLiteral(unit, g.Values[0], indent+"\t", true))
			}
			b.WriteString(",")
		}
		if len(v.Set) > 0 {
			b.WriteString("\n" + indent)
		}
		return b.String() + "}"
	case Enum:
		return enumLiteral(v, func(value string) string { return unit + "." + Pascal(v.Of.Name) + Pascal(value) },
			unit+"."+Pascal(v.Of.Name)+"("+strconv.Quote(v.Text)+")")
	case Bool:
		return strconv.FormatBool(v.Text == "true" || v.Text == "1")
	case Int:
		return "int64(" + v.Text + ")"
	case Float:
		return fmt.Sprintf("float64(%s)", v.Text)
	case Bytes:
		return "[]byte(" + strconv.Quote(decoded(v.Text)) + ")"
	case Long, Decimal, Date, Time, Moment:
		return goValue(&Field{Kind: v.Kind}, unit+".") + "(" + strconv.Quote(v.Text) + ")"
	}
	return strconv.Quote(v.Text)
}

func pascalOf(f *Field) string {
	if f.Of == nil {
		return ""
	}
	return Pascal(f.Of.Name)
}

// goValue is the type of one value of a field. unit is where the types of the program are, with a
// point; "" within it.
func goValue(f *Field, unit string) string {
	switch f.Kind {
	case Struct:
		return "*" + unit + Pascal(f.Of.Name)
	case Enum:
		return unit + Pascal(f.Of.Name)
	case Long, Decimal:
		return unit + "Decimal"
	case Date:
		return unit + "Date"
	case Time:
		return unit + "Time"
	case Moment:
		return unit + "DateTime"
	case Bool:
		return "bool"
	case Int:
		return "int64"
	case Float:
		return "float64"
	case Bytes:
		return "[]byte"
	}
	return "string"
}

// goType is the type of a field.
func goType(f *Field) string {
	switch t := goValue(f, ""); {
	case f.Many:
		return "[]" + t
	case goPointer(f):
		return "*" + t
	default:
		return t
	}
}

// goText is a value of a field as text.
func goText(f *Field, of string) string {
	switch f.Kind {
	case Bool:
		return "strconv.FormatBool(" + of + ")"
	case Int:
		return "strconv.FormatInt(" + of + ", 10)"
	case Float:
		return "strconv.FormatFloat(" + of + ", 'g', -1, 64)"
	case Bytes:
		return "base64.StdEncoding.EncodeToString(" + of + ")"
	case String:
		return of
	}
	return "string(" + of + ")"
}

// goRead is a value of a field by its text.
func goRead(f *Field, text string) string {
	switch f.Kind {
	case Bool:
		return "read(r, " + text + ", strconv.ParseBool)"
	case Int:
		return "read(r, " + text + ", isInt)"
	case Float:
		return "read(r, " + text + ", isFloat)"
	case Bytes:
		return "read(r, " + text + ", base64.StdEncoding.DecodeString)"
	case String:
		return text
	}
	return "read(r, " + text + ", is[" + goValue(f, "") + "])"
}
