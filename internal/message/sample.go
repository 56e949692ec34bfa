// Package message makes and edits the messages of operations: samples with
// every field that a schema allows, drafts that are filled in, and the outline
// in which both are shown. A draft is its bytes: every edit changes as few of
// them as it must, and the outline is read from them.
package message

import (
	"bytes"
	"fmt"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Placeholder is the target of the processing instruction that stands for a
// value still to be filled in: <?fill date?>.
const Placeholder = "fill"

// Want says what a sample holds.
type Want struct {
	All      bool // optional parts too
	Comments bool // the type and bounds beside each field
	Encoded  bool // SOAP encoding: each value says its type (SOAP 1.1 §5)
	// Example makes values that fill what would be left to be filled in; nil: none.
	Example *schema.Examples
}

// Sample is the body element e, ready to be filled in.
func Sample(set *schema.Set, e *schema.Element, w Want) []byte {
	s := sampler{set: set, want: w, seen: map[schema.Type]int{}}
	s.element(e, "", 0, true)
	return s.b.Bytes()
}

// SampleAt is one element as it stands in a document at a depth, where inherit
// is the default namespace in force.
func SampleAt(set *schema.Set, e *schema.Element, inherit string, depth int) string {
	s := sampler{set: set, seen: map[schema.Type]int{}}
	s.element(e, inherit, depth, false)
	return s.b.String()
}

type sampler struct {
	set  *schema.Set
	want Want
	b    bytes.Buffer
	seen map[schema.Type]int
	made int                  // elements written
	uses map[schema.QName]int // how often a value was made for an element of that name
}

// maxDepth and maxElements end samples of types that contain themselves, or that branch
// widely on many levels. What is left out stands as an empty element, which the outline
// can fill further (Draft.Add).
const (
	maxDepth    = 24
	maxElements = 2000
)

func indent(depth int) string { return strings.Repeat("  ", depth) }

func hint(t *schema.Simple) string {
	name := t.Name.Local
	if name == "" {
		name = t.BuiltinName()
	}
	return name
}

func fill(t *schema.Simple) string { return "<?" + Placeholder + " " + hint(t) + "?>" }

// concrete is the element that is written for a declaration: the first that
// may stand for it where it is abstract.
func (s *sampler) concrete(e *schema.Element) *schema.Element {
	if !e.Abstract {
		return e
	}
	if subs := s.set.Substitutes(e); len(subs) > 0 {
		return subs[0]
	}
	return e
}

//revive:disable-next-line:cyclomatic one switch over the kinds of items
func (s *sampler) element(e *schema.Element, inherit string, depth int, root bool) {
	s.made++
	e = s.concrete(e)
	t := e.TypeOf()
	name, attrs, inner := e.Name.Local, "", inherit
	c, _ := t.(*schema.Complex)
	if s.want.Encoded {
		if root {
			attrs = ` xmlns:xsi="` + schema.XSI + `" xmlns:xs="` + schema.XSD +
				//revive:disable-next-line:line-length-limit one literal
				`" xmlns:env="http://schemas.xmlsoap.org/soap/envelope/" env:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"`
		} else {
			attrs = encodedType(t)
		}
	}
	if e.Name.Space != inherit {
		if c != nil && e.Name.Space != "" && hasUnqualified(c.Content, 0) && inherit == "" {
			name, attrs = "m:"+name, ` xmlns:m="`+xmltree.EscapeAttr(e.Name.Space)+`"`+attrs
		} else {
			attrs, inner = ` xmlns="`+xmltree.EscapeAttr(e.Name.Space)+`"`+attrs, e.Name.Space
		}
	}
	if c != nil && c.Abstract {
		if d := s.set.Derived(c); len(d) > 0 {
			if dc, ok := d[0].(*schema.Complex); ok {
				attrs += ` xmlns:xsi="` + schema.XSI + `" xsi:type="d:` + dc.Name.Local + `" xmlns:d="` +
					xmltree.EscapeAttr(dc.Name.Space) + `"`
				c, t = dc, dc
			}
		}
	}
	s.b.WriteString(indent(depth) + "<" + name + attrs)
	if c != nil {
		s.attributes(c)
	}
	if c != nil && c.ArrayOf != nil && s.want.Encoded {
		s.b.WriteString(arrayType(c.ArrayOf, b2i(s.want.All)))
	}
	value := ""
	switch {
	case e.Fixed != nil:
		value = xmltree.EscapeText(*e.Fixed)
	case e.Default != nil:
		value = xmltree.EscapeText(*e.Default)
	default:
		if st := schema.SimpleOf(t); st != nil {
			value = s.value(e.Name, st)
		}
	}
	if schema.SimpleOf(t) != nil {
		s.b.WriteString(">" + value + "</" + name + ">")
		if s.want.Comments {
			s.b.WriteString(" <!-- " + strings.ReplaceAll(schema.Bounds(schema.SimpleOf(t)), "--", "- -") + " -->")
		}
		return
	}
	at := s.b.Len()
	s.b.WriteString(">")
	before := s.b.Len()
	if s.seen[t] < 2 && depth < maxDepth && s.made < maxElements {
		s.seen[t]++
		s.particle(c.Content, inner, depth+1)
		s.seen[t]--
	}
	if s.b.Len() == before {
		s.b.Truncate(at)
		s.b.WriteString("/>")
		return
	}
	s.b.WriteString("\n" + indent(depth) + "</" + name + ">")
}

// value is what stands in an element: a placeholder, or an example.
func (s *sampler) value(name schema.QName, t *schema.Simple) string {
	if s.want.Example == nil {
		return fill(t)
	}
	if s.uses == nil {
		s.uses = map[schema.QName]int{}
	}
	n := s.uses[name]
	s.uses[name]++
	return xmltree.EscapeText(s.want.Example.Value(t, n))
}

// encodedType is the xsi:type of a value under SOAP encoding.
func encodedType(t schema.Type) string {
	q := t.TypeName()
	for b, ok := t.(*schema.Simple); ok && q.Local == "" && b != nil; b = b.Base {
		q = b.Name
	}
	switch {
	case q.Local == "":
		return ""
	case q.Space == schema.XSD:
		return ` xsi:type="xs:` + q.Local + `"`
	}
	return ` xmlns:t="` + xmltree.EscapeAttr(q.Space) + `" xsi:type="t:` + q.Local + `"`
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// arrayType is the attribute that says what an array holds, and how many
// (SOAP 1.1 §5.4.2).
func arrayType(of schema.Type, count int) string {
	q := of.TypeName()
	space := ` xmlns:at="` + xmltree.EscapeAttr(q.Space) + `"`
	return fmt.Sprintf(`%s xmlns:enc="%s" enc:arrayType="at:%s[%d]"`, space, schema.SOAPEncoding, q.Local, count)
}

func hasUnqualified(p *schema.Particle, depth int) bool {
	if p == nil || depth > 10 {
		return false
	}
	if p.Element != nil {
		return p.Element.Name.Space == ""
	}
	if p.Group != nil {
		for _, q := range p.Group.Particles {
			if hasUnqualified(q, depth+1) {
				return true
			}
		}
	}
	return false
}

func (s *sampler) attributes(c *schema.Complex) {
	for _, a := range c.Attrs {
		if !a.Required && !s.want.All {
			continue
		}
		value := ""
		switch {
		case a.Fixed != nil:
			value = *a.Fixed
		case a.Default != nil:
			value = *a.Default
		case len(schema.Allowed(a.Type)) > 0:
			value = schema.Allowed(a.Type)[0]
		case s.want.Example != nil:
			value = s.want.Example.Value(a.Type, s.uses[a.Name])
			if s.uses == nil {
				s.uses = map[schema.QName]int{}
			}
			s.uses[a.Name]++
		}
		name := a.Name.Local
		if a.Name.Space == xmltree.XMLNamespace {
			name = "xml:" + name
		} else if a.Name.Space != "" {
			s.b.WriteString(` xmlns:q="` + xmltree.EscapeAttr(a.Name.Space) + `"`)
			name = "q:" + name
		}
		s.b.WriteString(" " + name + `="` + xmltree.EscapeAttr(value) + `"`)
	}
}

func (s *sampler) particle(p *schema.Particle, inherit string, depth int) {
	if p == nil || p.Max == 0 || p.Min == 0 && (!s.want.All || s.made >= maxElements/2) {
		return // the second half is for what is required in what stands already
	}
	if p.Element != nil && p.Min == 0 && s.seen[p.Element.TypeOf()] >= 2 {
		return // a type that contains itself ends where it may
	}
	for range max(1, min(p.Min, 20)) {
		switch {
		case p.Element != nil:
			s.b.WriteByte('\n')
			s.element(p.Element, inherit, depth, false)
		case p.Any != nil:
			s.wildcard(p.Any, depth)
		case p.Group.Compositor == schema.Choice:
			if len(p.Group.Particles) == 0 {
				return
			}
			one := *p.Group.Particles[0]
			one.Min = max(1, one.Min)
			s.particle(&one, inherit, depth)
			if names := alternatives(p.Group); s.want.Comments && len(names) > 1 {
				s.b.WriteString("\n" + indent(depth) + "<!-- or: " + strings.Join(names[1:], ", ") + " -->")
			}
		default:
			for _, q := range p.Group.Particles {
				s.particle(q, inherit, depth)
			}
		}
	}
}

// wildcard writes an element where any may stand, and one is demanded: one that is
// declared, else one of an example's own namespace.
func (s *sampler) wildcard(w *schema.Wildcard, depth int) {
	if s.want.Example == nil {
		return
	}
	if w.Process != "strict" && w.Allows("urn:example") {
		s.b.WriteString("\n" + indent(depth) + `<example xmlns="urn:example"/>`)
		return
	}
	for _, name := range s.set.Elements() {
		if e := s.set.Element(name); e != nil && !e.Abstract && w.Allows(name.Space) && s.seen[e.TypeOf()] == 0 {
			s.b.WriteByte('\n')
			s.element(e, "", depth, false)
			return
		}
	}
}

// alternatives names the branches of a choice.
func alternatives(g *schema.Group) []string {
	var out []string
	for _, q := range g.Particles {
		out = append(out, branchName(q, 0))
	}
	return out
}

func branchName(p *schema.Particle, depth int) string {
	switch {
	case p.Element != nil:
		return p.Element.Name.Local
	case p.Any != nil || depth > 5:
		return "any"
	}
	var parts []string
	for _, q := range p.Group.Particles {
		parts = append(parts, branchName(q, depth+1))
	}
	if len(parts) > 3 {
		parts = append(parts[:3], "…")
	}
	return strings.Join(parts, "+")
}
