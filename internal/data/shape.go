// Package data gives messages as data: as JSON by the schema, and as tables of what
// repeats. Nothing is overwritten, dropped or joined across siblings; where no schema is
// known, what was seen decides.
package data

import (
	"slices"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// shape is what is known of an element's content: its type, and of each child whether it
// may repeat.
type shape struct {
	all  *shapes
	set  *schema.Set
	t    schema.Type // nil: not known
	kids []kid       // in the order of the schema; of complex content
	open bool        // other children may stand: a wildcard

	seen map[schema.QName]*shape // of children that nothing declares
	many map[schema.QName]bool   // those of them that repeat somewhere
}

// kid is a child as its type declares it.
type kid struct {
	decl    *schema.Element
	repeats bool
	chosen  bool // it is one of several that may stand in its place
}

// shapes are those of a schema, each made once.
type shapes struct {
	set   *schema.Set // nil: none is known
	known map[schema.Type]*shape
}

// of is the shape of an element of a declared type, or of that which it says of itself
// (xsi:type, part 1 §2.6.1); nil where nothing is declared.
func (all *shapes) of(t schema.Type, n xmltree.Node) *shape {
	if all.set != nil && !n.IsZero() {
		if v, ok := n.Attr(schema.XSI, "type"); ok {
			if q, ok := n.QName(v); ok {
				if own := all.set.Type(schema.NameOf(q)); own != nil {
					t = own
				}
			}
		}
	}
	if t == nil || t == schema.Type(schema.AnyType()) {
		return nil
	}
	if _, simple := t.(*schema.Simple); simple && !n.IsZero() && !n.FirstChild().IsZero() {
		return nil // a document that was unfolded
	}
	if s := all.known[t]; s != nil {
		return s
	}
	s := &shape{all: all, set: all.set, t: t}
	if c, ok := t.(*schema.Complex); ok {
		s.particle(c.Content, false, false, 0)
	}
	all.known[t] = s
	return s
}

// maxGroups bounds how deeply groups may stand in groups.
const maxGroups = 64

func (s *shape) particle(p *schema.Particle, repeats, chosen bool, depth int) {
	if p == nil || p.Max == 0 || depth > maxGroups {
		return
	}
	repeats = repeats || p.Max > 1 || p.Max == schema.Unbounded
	switch {
	case p.Element != nil:
		for i := range s.kids {
			if s.kids[i].decl.Name == p.Element.Name { // it stands in two places
				s.kids[i].repeats = true
				return
			}
		}
		s.kids = append(s.kids, kid{p.Element, repeats, chosen})
	case p.Any != nil:
		s.open = true
	case p.Group != nil:
		chosen = chosen || p.Group.Compositor == schema.Choice && len(p.Group.Particles) > 1
		for _, q := range p.Group.Particles {
			s.particle(q, repeats, chosen, depth+1)
		}
	}
}

// kid is what is declared for a child; nil where nothing is.
func (s *shape) kid(n xmltree.Node) *kid {
	name := schema.NameOf(n.Name())
	for i := range s.kids {
		k := &s.kids[i]
		if k.decl.Name == name {
			return k
		}
		if s.set != nil {
			if sub := s.set.Substitute(k.decl, name); sub != nil {
				return &kid{sub, k.repeats, k.chosen}
			}
		}
	}
	if s.set != nil {
		if e := s.set.Element(name); e != nil && (s.open || s.t == nil) {
			return &kid{decl: e}
		}
	}
	return nil
}

// child is the shape of a child.
func (s *shape) child(n xmltree.Node) *shape {
	var t schema.Type
	if a := s.array(); a != nil {
		t = a
	} else if k := s.kid(n); k != nil {
		t = k.decl.TypeOf()
	}
	if c := s.all.of(t, n); c != nil {
		return c
	}
	name := schema.NameOf(n.Name())
	c := s.seen[name]
	if c == nil {
		if s.seen == nil {
			s.seen = map[schema.QName]*shape{}
		}
		c = &shape{all: s.all, set: s.set}
		s.seen[name] = c
	}
	return c
}

// repeats tells whether a child may stand more than once: by its declaration, else by
// what was seen anywhere.
func (s *shape) repeats(n xmltree.Node) bool {
	if k := s.kid(n); k != nil && k.repeats {
		return true
	}
	return s.many[schema.NameOf(n.Name())]
}

// look notes what repeats below an element without being declared to: it then is a list
// wherever it stands.
func (s *shape) look(n xmltree.Node) {
	var once []schema.QName
	for c := range n.Children() {
		name := schema.NameOf(c.Name())
		switch {
		case s.array() != nil || s.many[name]:
		case slices.Contains(once, name):
			if s.many == nil {
				s.many = map[schema.QName]bool{}
			}
			s.many[name] = true
		default:
			once = append(once, name)
		}
		s.child(c).look(c)
	}
}

// array is the type of an encoded array's members (SOAP 1.1 §5.4.2), else nil.
func (s *shape) array() schema.Type {
	if c, ok := s.t.(*schema.Complex); ok {
		return c.ArrayOf
	}
	return nil
}

// simple is the type of the element's own value, else nil.
func (s *shape) simple() *schema.Simple {
	if s.t == nil {
		return nil
	}
	return schema.SimpleOf(s.t)
}

// attribute is the type of an attribute, else nil.
func (s *shape) attribute(name xmltree.Name) *schema.Simple {
	if c, ok := s.t.(*schema.Complex); ok {
		for _, a := range c.Attrs {
			if a.Name == schema.NameOf(name) {
				return a.Type
			}
		}
	}
	return nil
}

// mixed tells whether text stands between the element's children.
func (s *shape) mixed(n xmltree.Node) bool {
	if c, ok := s.t.(*schema.Complex); ok {
		return c.Mixed
	}
	if s.t != nil || n.FirstChild().IsZero() {
		return false
	}
	for c := range n.Nodes() {
		if k := c.Kind(); (k == xmltree.Text || k == xmltree.CData) && strings.TrimSpace(c.Text()) != "" {
			return true
		}
	}
	return false
}

// isNil tells whether an element is nil (part 1 §2.6.2).
func isNil(n xmltree.Node) bool {
	v, ok := n.Attr(schema.XSI, "nil")
	return ok && (v == "true" || v == "1")
}

// counts tells whether an attribute is data: not a namespace, and none of those by which
// schema instances and SOAP encoding say how they are made.
func counts(name xmltree.Name) bool {
	switch name.Space {
	case xmltree.XMLNSNamespace, schema.XSI, schema.SOAPEncoding,
		"http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope",
		"http://www.w3.org/2003/05/soap-encoding":
		return false
	}
	return true
}

// attrs are the attributes of an element that are data.
func attrs(n xmltree.Node) (out []xmltree.Attribute) {
	for a := range n.Attrs() {
		if counts(a.Name) {
			out = append(out, a)
		}
	}
	return out
}

// TypesOf gives the types of values below an element: of an element's own, or of its
// attribute of that name. The type is nil where none is known.
func TypesOf(
	set *schema.Set,
	decl *schema.Element,
	root xmltree.Node,
) func(n xmltree.Node, attr string) *schema.Simple {
	if set == nil || root.IsZero() {
		return func(xmltree.Node, string) *schema.Simple { return nil }
	}
	top := rootShape(set, decl, root)
	return func(n xmltree.Node, attr string) *schema.Simple {
		var chain []xmltree.Node
		for at := n; !at.IsZero() && at != root; at = at.Parent() {
			chain = append(chain, at)
		}
		s := top
		for _, c := range slices.Backward(chain) {
			s = s.child(c)
		}
		if attr == "" {
			return s.simple()
		}
		c, ok := s.t.(*schema.Complex)
		if !ok {
			return nil
		}
		for _, a := range c.Attrs {
			if a.Name.Local == attr {
				return a.Type
			}
		}
		return nil
	}
}

// Kid is what a complex type has as a child; Element is nil where any may stand.
type Kid struct {
	Element  *schema.Element // its declaration
	Repeats  bool            // it may stand more than once: a list
	Required bool            // it must stand, whatever else does
	Min, Max int             // of a list: how many; Max 0: any number
}

// Kids are the children of a complex type, in the order of the schema.
//
//revive:disable-next-line:cyclomatic one walk over the kinds of particles
func Kids(set *schema.Set, c *schema.Complex) (out []Kid) {
	var walk func(p *schema.Particle, repeats, optional bool, depth int)
	walk = func(p *schema.Particle, repeats, optional bool, depth int) {
		if p == nil || p.Max == 0 || depth > maxGroups {
			return
		}
		many := p.Max > 1 || p.Max == schema.Unbounded
		switch {
		case p.Any != nil:
			out = append(out, Kid{})
		case p.Group != nil:
			opt := optional || p.Min == 0 || p.Group.Compositor == schema.Choice && len(p.Group.Particles) > 1
			for _, q := range p.Group.Particles {
				walk(q, repeats || many, opt, depth+1)
			}
		case p.Element != nil:
			subs := []*schema.Element{p.Element}
			if set != nil {
				subs = set.Substitutes(p.Element)
			}
			for _, e := range subs {
				k := Kid{
					Element:  e,
					Repeats:  repeats || many,
					Required: !optional && p.Min > 0 && len(subs) == 1,
				}
				if many && !repeats && !optional {
					k.Min, k.Max = p.Min, max(p.Max, 0)
				}
				out = append(out, k)
			}
		}
	}
	walk(c.Content, false, false, 0)
	return out
}

// Plain is a field with a single simple value.
type Plain struct {
	Name     string         // of the element
	Required bool           // it must be there
	Type     *schema.Simple // of its value
}

// Fields are the fields of an element, where all of them are plain; nil where one is not.
func Fields(set *schema.Set, e *schema.Element) (out []Plain) {
	if e == nil {
		return nil
	}
	c, ok := e.TypeOf().(*schema.Complex)
	if !ok || len(c.Attrs) > 0 || c.Simple != nil || c.Mixed {
		return nil
	}
	out = []Plain{}
	for _, k := range Kids(set, c) {
		if k.Element == nil || k.Repeats {
			return nil
		}
		st, simple := k.Element.TypeOf().(*schema.Simple)
		if !simple {
			return nil
		}
		out = append(out, Plain{k.Element.Name.Local, k.Required, st})
	}
	return out
}
