package code

import (
	"fmt"
	"slices"
	"strings"
	"text/template"

	"orenda/internal/xmltree"
)

func shell() *Language {
	l := &Language{
		Name: "shell", quote: func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" },
		files: func(p *Program) (string, [][2]string) {
			u := Kebab(p.Name)
			return u, [][2]string{{u + ".sh", "shell.client"}, {"example.sh", "shell.example"}}
		},
		build: func(p *Program) [][]string {
			return [][]string{{"sh", "-n", Kebab(p.Name) + ".sh"}, {"sh", "-n", "example.sh"}}
		},
		run: func(*Program) []string { return []string{"sh", "example.sh"} },
	}
	l.funcs = template.FuncMap{
		"shFields": func(t *Type) string {
			var out []string
			for _, f := range t.Fields {
				name := f.Local
				switch {
				case f.Many:
					name += "*"
				case f.Optional || f.Nil:
					name += "?"
				}
				out = append(out, name)
			}
			if len(out) == 0 {
				return "nothing"
			}
			return strings.Join(out, ", ")
		},
		"shAttrs": func(t *Type) string {
			var out []string
			for _, f := range t.Fields {
				if f.Attr {
					out = append(out, f.Local)
				}
			}
			return strings.Join(out, ", ")
		},
		"shRoot": func(p *page, v *Value) string {
			tag := p.funcs()["tag"].(func(space, local string) string)
			return strings.TrimSpace(shAttributes(tag, v))
		},
		"literal": func(p *page, v *Value) string { return strings.TrimRight(shLiteral(p, v, ""), "\n") },
	}
	return l
}

// shLiteral is the content of an element as XML.
func shLiteral(p *page, v *Value, indent string) string {
	tag := p.funcs()["tag"].(func(space, local string) string)
	var b strings.Builder
	for _, g := range v.Set {
		if g.Field.Attr {
			continue
		}
		for _, one := range g.Values {
			name := tag(g.Field.Space, g.Field.Local)
			switch {
			case g.Field.Text:
				b.WriteString(indent + xmltree.EscapeText(one.Text) + "\n")
			case one.Kind == Struct:
				inner := "\n" + shLiteral(p, one, indent+"  ") + indent
				if i := slices.IndexFunc(one.Set, func(g *Given) bool { return g.Field.Text }); i >= 0 {
					inner = xmltree.EscapeText(one.Set[i].Values[0].Text) // white space would be part of it
				}
				b.WriteString(indent + "<" + name + shAttributes(tag, one) + ">" + inner + "</" + name + ">\n")
			default:
				b.WriteString(fmt.Sprintf("%s<%s>%s</%s>\n", indent, name, xmltree.EscapeText(one.Text), name))
			}
		}
	}
	return b.String()
}

func shAttributes(tag func(space, local string) string, v *Value) (out string) {
	for _, g := range v.Set {
		if g.Field.Attr {
			out += fmt.Sprintf(` %s="%s"`, tag(g.Field.Space, g.Field.Local), xmltree.EscapeAttr(g.Values[0].Text))
		}
	}
	return out
}
