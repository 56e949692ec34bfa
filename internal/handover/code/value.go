package code

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/xmltree"
)

// Value is a value of the message that the example sends.
type Value struct {
	Kind Kind     // of it
	Of   *Type    // of a structure or an enumeration
	Text string   // of a simple value
	Set  []*Given // the fields of a structure that stand
}

// Given is a field with its values; more than one where it is a list.
type Given struct {
	Field  *Field   // the field
	Values []*Value // one at least
}

// Given is the field with what stands in it, nil where it does not stand.
func (v *Value) Given(f *Field) *Given {
	for _, g := range v.Set {
		if g.Field == f {
			return g
		}
	}
	return nil
}

// holds tells whether a value of one of the kinds stands in it.
func (v *Value) holds(kinds ...Kind) bool {
	return slices.Contains(kinds, v.Kind) || slices.ContainsFunc(v.Set, func(g *Given) bool {
		return slices.ContainsFunc(g.Values, func(one *Value) bool { return one.holds(kinds...) })
	})
}

// valueOf is the value of an element of a message.
func valueOf(n xmltree.Node, t *Type) *Value {
	v := &Value{Kind: Struct, Of: t}
	for _, f := range t.Fields {
		var values []*Value
		switch {
		case f.Text:
			values = []*Value{scalar(f, n.Text())}
		case f.Attr:
			if text, ok := n.Attr(f.Space, f.Local); ok {
				values = []*Value{scalar(f, text)}
			}
		default:
			for c := range n.Named(f.Space, f.Local) {
				if nilled, _ := c.Attr("http://www.w3.org/2001/XMLSchema-instance", "nil"); nilled == "true" ||
					nilled == "1" {
					continue
				}
				if f.Kind == Struct {
					values = append(values, valueOf(c, f.Of))
				} else {
					values = append(values, scalar(f, c.Text()))
				}
			}
		}
		if len(values) > 0 {
			v.Set = append(v.Set, &Given{f, values})
		}
	}
	return v
}

func scalar(f *Field, text string) *Value {
	if f.Kind != String {
		text = strings.TrimSpace(text)
	}
	return &Value{Kind: f.Kind, Of: f.Of, Text: text}
}

// decoded are the bytes of a value in base64; the text itself where it is none.
func decoded(text string) string {
	b, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		return text
	}
	return string(b)
}

// enumLiteral names a value of an enumeration; one that it does not list is other.
func enumLiteral(v *Value, name func(id string) string, other string) string {
	if i := slices.IndexFunc(v.Of.Values, func(c Choice) bool { return c.Text == v.Text }); i >= 0 {
		return name(v.Of.Values[i].ID)
	}
	return other
}

// unlisted tells of each value of an enumeration that the enumeration does not list.
func unlisted(v *Value) (out []string) {
	for _, g := range v.Set {
		for _, one := range g.Values {
			if one.Kind == Enum && enumLiteral(one, func(string) string { return "listed" }, "") == "" {
				text := fmt.Sprintf("send “%s” in %s, which the description does not list", one.Text, g.Field.Local)
				out = append(out, oneLine(text))
			}
			out = append(out, unlisted(one)...)
		}
	}
	return out
}
