package contract

import (
	"strings"

	"orenda/internal/schema"
)

// Signature is an operation in one line:
// FindBerths(length: decimal, draught?: decimal) → berth*: Berth.
func (o *Operation) Signature() string {
	s := o.Name + "(" + o.Input.Fields() + ")"
	if o.Output != nil {
		if out := o.Output.Fields(); out != "" {
			s += " → " + out
		}
	}
	return s
}

// Fields are the fields of a message in one line.
func (m *Message) Fields() string {
	if m == nil || m.Element == nil {
		return ""
	}
	c, ok := m.Element.TypeOf().(*schema.Complex)
	if !ok || c.Simple != nil {
		return m.Element.Name.Local + ": " + TypeLabel(m.Element.TypeOf())
	}
	var parts []string
	for _, a := range c.Attrs {
		mark := "?"
		if a.Required {
			mark = ""
		}
		parts = append(parts, "@"+a.Name.Local+mark+": "+TypeLabel(a.Type))
	}
	fields(c.Content, 1, 1, &parts)
	return strings.Join(parts, ", ")
}

func fields(p *schema.Particle, least, most int, out *[]string) {
	if p == nil || len(*out) > 200 {
		return
	}
	least, most = min(least, p.Min), times(most, p.Max)
	switch {
	case p.Element != nil:
		*out = append(*out, p.Element.Name.Local+mark(least, most)+": "+TypeLabel(p.Element.TypeOf()))
	case p.Any != nil:
		*out = append(*out, "any"+mark(least, most))
	case p.Group != nil && p.Group.Compositor == schema.Choice:
		var alternatives []string
		for _, q := range p.Group.Particles {
			var one []string
			fields(q, 1, most, &one)
			alternatives = append(alternatives, strings.Join(one, ", "))
		}
		*out = append(*out, "("+strings.Join(alternatives, " | ")+")"+mark(least, 1))
	case p.Group != nil:
		for _, q := range p.Group.Particles {
			fields(q, least, most, out)
		}
	}
}

func times(a, b int) int {
	if a == schema.Unbounded || b == schema.Unbounded {
		return schema.Unbounded
	}
	if a > 1 {
		return a
	}
	return b
}

func mark(least, most int) string {
	switch {
	case most == schema.Unbounded || most > 1:
		if least > 0 {
			return "+"
		}
		return "*"
	case least == 0:
		return "?"
	}
	return ""
}

// TypeLabel is a type in one word: its name, or that of the built-in type
// that it restricts.
func TypeLabel(t schema.Type) string {
	if n := t.TypeName().Local; n != "" {
		return n
	}
	switch t := t.(type) {
	case *schema.Simple:
		return t.BuiltinName()
	case *schema.Complex:
		if t.Simple != nil {
			return t.Simple.BuiltinName()
		}
		var inner []string
		fields(t.Content, 1, 1, &inner)
		if len(inner) == 0 {
			return "{}"
		}
		return "{" + strings.Join(inner, ", ") + "}"
	}
	return "?"
}
