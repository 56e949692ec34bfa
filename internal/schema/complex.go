package schema

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/xmltree"
)

// element fills a declaration that is no reference.
func (s *Set) element(d *document, n xmltree.Node, e *Element) {
	name, _ := n.Attr("", "name")
	e.Name.Local = strings.TrimSpace(name)
	form := word(n, "form")
	if e.Global || form == "qualified" || form == "" && d.elemQualified {
		e.Name.Space = d.target
	}
	e.Nillable, e.Abstract = isTrue(n, "nillable"), isTrue(n, "abstract")
	e.Block, e.Final = derivations(n, "block", d.block), derivations(n, "final", d.final)
	open := s.open
	s.open = nil // a group may hold itself through an element (part 1 §3.8.6)
	defer func() { s.open = open }()
	e.Default, e.Fixed = optional(n, "default"), optional(n, "fixed")
	e.Doc, e.At = doc(n), Place{d.source, n.Span().Start}
	e.keys = s.constraints(d, n)
	if head, ok := n.Attr("", "substitutionGroup"); ok {
		if q, ok := s.ref(d, n, head); ok {
			if e.Head = s.Element(q); e.Head == nil {
				s.problem(d, n, q.String(), "the head of this substitution group is not declared")
			}
		}
	}
	if t, ok := n.Attr("", "type"); ok {
		e.Type = s.typeRef(d, n, t, nil)
		return
	}
	for c := range n.Children() {
		switch {
		case c.Is(XSD, "simpleType"):
			t := &Simple{}
			e.Type = t
			s.simple(d, c, t, nil)
		case c.Is(XSD, "complexType"):
			t := &Complex{}
			e.Type = t
			s.complex(d, c, t, nil)
		}
	}
	if e.Type == nil {
		if e.Head != nil {
			e.Type = e.Head.Type
		} else {
			e.Type = AnyType()
		}
	}
}

// TypeOf is the type of a declaration, also where its head was resolved later.
func (e *Element) TypeOf() Type {
	if e.Type == nil {
		return AnyType()
	}
	return e.Type
}

func (s *Set) complex(d *document, n xmltree.Node, t *Complex, g *global) {
	t.Doc, t.At = doc(n), Place{d.source, n.Span().Start}
	t.Abstract, t.Mixed = isTrue(n, "abstract"), isTrue(n, "mixed")
	t.Block, t.Final = derivations(n, "block", d.block), derivations(n, "final", d.final)
	t.Base = AnyType()
	defer s.derives(d, n, t)
	body := n
	for c := range n.Children() {
		switch {
		case c.Is(XSD, "simpleContent"):
			s.simpleContent(d, c, t, g)
			return
		case c.Is(XSD, "complexContent"):
			if _, ok := c.Attr("", "mixed"); ok {
				t.Mixed = isTrue(c, "mixed")
			}
			if r := c.Child(XSD, "restriction"); !r.IsZero() {
				body = r
			} else if x := c.Child(XSD, "extension"); !x.IsZero() {
				body, t.Extends = x, true
			}
		}
	}
	if body != n {
		if b, ok := body.Attr("", "base"); ok {
			t.Base = s.typeRef(d, body, b, g)
		}
	}
	own := s.model(d, body)
	base, _ := t.Base.(*Complex)
	for b, i := base, 0; b != nil; b, i = complexBase(b), i+1 {
		if b == t || i > 500 {
			s.problem(d, n, t.Name.String(), "the type is derived from itself")
			base = nil
			break
		}
	}
	t.Content = own
	if base != nil && base != AnyType() {
		if t.Extends {
			t.Mixed = t.Mixed || base.Mixed
			t.Simple = base.Simple
			switch {
			case own == nil:
				t.Content = base.Content
			case base.Content != nil:
				t.Content = &Particle{Min: 1, Max: 1, Group: &Group{Particles: []*Particle{base.Content, own}}}
			}
		}
		t.Attrs = append(t.Attrs, base.Attrs...)
	}
	s.anyAttribute(d, body, t, s.attributes(d, body, t, 0))
	s.array(d, body, t)
}

func complexBase(c *Complex) *Complex {
	b, _ := c.Base.(*Complex)
	return b
}

func (s *Set) simpleContent(d *document, n xmltree.Node, t *Complex, g *global) {
	x := n.Child(XSD, "extension")
	if x.IsZero() {
		x = n.Child(XSD, "restriction")
	} else {
		t.Extends = true
	}
	if x.IsZero() {
		t.Simple = Builtin("anySimpleType")
		return
	}
	if b, ok := x.Attr("", "base"); ok {
		t.Base = s.typeRef(d, x, b, g)
	}
	t.Simple = SimpleOf(t.Base)
	if base, ok := t.Base.(*Complex); ok && base != AnyType() {
		t.Attrs = append(t.Attrs, base.Attrs...)
	}
	if t.Simple == nil {
		t.Simple = Builtin("string")
	}
	if !t.Extends {
		r := &Simple{
			Base:      t.Simple,
			Variety:   t.Simple.Variety,
			Primitive: t.Simple.Primitive,
			Item:      t.Simple.Item,
			Members:   t.Simple.Members,
		}
		if in := x.Child(XSD, "simpleType"); !in.IsZero() {
			b := &Simple{}
			s.simple(d, in, b, nil)
			r.Base, r.Variety, r.Primitive, r.Item, r.Members = b, b.Variety, b.Primitive, b.Item, b.Members
		}
		s.readFacets(d, x, r)
		t.Simple = r
	}
	s.anyAttribute(d, x, t, s.attributes(d, x, t, 0))
}

// anyAttribute settles which other attributes a type allows: own is what stands in it, or in its
// attribute groups; an extension allows what its base does besides (part 1 §3.4.2).
func (s *Set) anyAttribute(d *document, n xmltree.Node, t *Complex, own *Wildcard) {
	t.AnyAttr = own
	base, ok := t.Base.(*Complex)
	if !t.Extends || !ok || base == AnyType() || base.AnyAttr == nil {
		return
	}
	if own == nil {
		t.AnyAttr = base.AnyAttr
		return
	}
	if t.AnyAttr, ok = own.union(base.AnyAttr); !ok {
		s.warn(d, n, typeLabel(t), "its attribute wildcard and that of its base cannot be written as one")
	}
}

// model is the content model that stands in a type, extension or restriction.
func (s *Set) model(d *document, n xmltree.Node) *Particle {
	for c := range n.Children() {
		if c.Name().Space != XSD {
			continue
		}
		switch c.Name().Local {
		case "sequence", "choice", "all", "group":
			p := s.particle(d, c)
			if s.filling[p.Group] {
				return p
			}
			if p.Max == 0 || p.Group != nil && p.Group.Compositor != Choice && len(p.Group.Particles) == 0 {
				return nil // the content is empty (part 1 §3.4.2)
			}
			return p
		}
	}
	return nil
}

//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (s *Set) particle(d *document, n xmltree.Node) *Particle {
	p := &Particle{Min: 1, Max: 1}
	occurs := func(name string, of *int) {
		v, ok := n.Attr("", name)
		if !ok {
			return
		}
		if v = strings.TrimSpace(v); v == "unbounded" && of == &p.Max {
			*of = Unbounded
			return
		}
		count, err := strconv.Atoi(v)
		if err != nil || count < 0 {
			s.problem(d, n, name, "%q is not a number of occurrences", v)
			return
		}
		*of = count
	}
	occurs("minOccurs", &p.Min)
	occurs("maxOccurs", &p.Max)
	switch n.Name().Local {
	case "element":
		if r, ok := n.Attr("", "ref"); ok {
			q, _ := s.ref(d, n, r)
			if p.Element = s.Element(q); p.Element == nil {
				s.problem(d, n, q.String(), "this element is referred to and not declared anywhere")
				p.Element = &Element{Name: q, Type: AnyType()}
			}
			return p
		}
		p.Element = &Element{}
		s.element(d, n, p.Element)
	case "any":
		p.Any = s.wildcard(d, n)
	case "group":
		if r, ok := n.Attr("", "ref"); ok {
			q, _ := s.ref(d, n, r)
			p.Group = s.group(d, n, q)
		}
	default:
		p.Group = &Group{Compositor: map[string]Compositor{"choice": Choice, "all": All}[n.Name().Local]}
		for c := range n.Children() {
			switch c.Name().Local {
			case "element", "any", "group", "sequence", "choice":
				if c.Name().Space == XSD {
					p.Group.Particles = append(p.Group.Particles, s.particle(d, c))
				}
			}
		}
	}
	if p.Element == nil && p.Any == nil && p.Group == nil {
		p.Group = &Group{}
	}
	return p
}

func (s *Set) group(d *document, n xmltree.Node, q QName) *Group {
	g := s.globals[globalKey{"group", q}]
	if g == nil {
		s.problem(d, n, q.String(), "this group is referred to and not defined anywhere")
		return &Group{}
	}
	// Within its own redefinition, the name is that of what it replaced.
	if g.original != nil {
		for up := n; !up.IsZero(); up = up.Parent() {
			if up == g.node {
				g = g.original
				break
			}
		}
	}
	if slices.Contains(s.open, g) {
		s.problem(d, n, q.String(), "the group contains itself")
		return &Group{}
	}
	if g.value == nil {
		group := &Group{}
		g.value, s.filling[group] = group, true
		s.open = append(s.open, g)
		if p := s.model(g.doc, g.node); p != nil && p.Group != nil {
			*group = *p.Group
		}
		s.open = s.open[:len(s.open)-1]
		delete(s.filling, group)
	}
	return g.value.(*Group)
}

func (s *Set) wildcard(d *document, n xmltree.Node) *Wildcard {
	w := &Wildcard{Process: "strict"}
	if v := word(n, "processContents"); v != "" {
		w.Process = v
	}
	w.Namespace, _ = n.Attr("", "namespace")
	switch v := strings.TrimSpace(w.Namespace); v {
	case "", "##any":
		w.Any = true
	case "##other":
		w.Not, w.Spaces = true, []string{d.target}
	default:
		for _, f := range strings.Fields(v) {
			switch f {
			case "##targetNamespace":
				f = d.target
			case "##local":
				f = ""
			}
			w.Spaces = append(w.Spaces, f)
		}
	}
	return w
}

// attributes adds the attributes that stand in a type or an attribute group, and gives the
// wildcard of all: what the local one and those of the groups allow together.
func (s *Set) attributes(d *document, n xmltree.Node, t *Complex, depth int) (rest *Wildcard) {
	if depth > 50 {
		s.problem(d, n, t.Name.String(), "its attribute groups contain each other")
		return nil
	}
	var local *Wildcard
	for c := range n.Children() {
		switch {
		case c.Is(XSD, "attribute"):
			if a := s.attributeUse(d, c); a != nil {
				t.Attrs = slices.DeleteFunc(slices.Clone(t.Attrs), func(o *Attribute) bool { return o.Name == a.Name })
				if !a.Prohibited {
					t.Attrs = append(t.Attrs, a)
				}
			}
		case c.Is(XSD, "attributeGroup"):
			r, ok := c.Attr("", "ref")
			if !ok {
				continue
			}
			q, _ := s.ref(d, c, r)
			g := s.globals[globalKey{"attributeGroup", q}]
			if g == nil {
				s.problem(d, c, q.String(), "this attribute group is referred to and not defined anywhere")
				continue
			}
			if g.original != nil && depth > 0 && g.node == n {
				g = g.original
			}
			rest = s.both(d, c, rest, s.attributes(g.doc, g.node, t, depth+1))
		case c.Is(XSD, "anyAttribute"):
			local = s.wildcard(d, c)
		}
	}
	if local == nil {
		return rest
	}
	return s.both(d, n, local, rest)
}

// both is what two attribute wildcards allow together; either may be nil.
func (s *Set) both(d *document, n xmltree.Node, a, b *Wildcard) *Wildcard {
	if a == nil || b == nil {
		return cmp.Or(a, b)
	}
	out, ok := a.intersect(b)
	if !ok {
		s.warn(d, n, "anyAttribute", "what these wildcards allow together cannot be written as one")
	}
	return out
}

func (s *Set) attributeUse(d *document, n xmltree.Node) *Attribute {
	use := word(n, "use")
	a := &Attribute{}
	if r, ok := n.Attr("", "ref"); ok {
		q, _ := s.ref(d, n, r)
		if g := s.attribute(q); g != nil {
			*a = *g
		} else if q.Space == xmltree.XMLNamespace {
			*a = Attribute{Name: q, Type: xmlType(q.Local)}
		} else {
			a.Name, a.Type = q, Builtin("anySimpleType")
			if q.Local != "arrayType" {
				s.problem(d, n, q.String(), "this attribute is referred to and not declared anywhere")
			}
		}
	} else {
		s.fillAttribute(d, n, a, false)
	}
	a.Required, a.Prohibited = use == "required", use == "prohibited"
	if v := optional(n, "default"); v != nil {
		a.Default = v
	}
	if v := optional(n, "fixed"); v != nil {
		a.Fixed = v
	}
	return a
}

// xmlType is the type of an attribute of XML's own (https://www.w3.org/2001/xml.xsd), which every
// schema may refer to, also where that document is not at hand.
func xmlType(local string) *Simple {
	one := func(base string, values ...string) *Simple {
		b := Builtin(base)
		return &Simple{Base: b, Primitive: b.Primitive, Facets: Facets{Enumeration: values}}
	}
	switch local {
	case "lang":
		return &Simple{Variety: Union, Members: []*Simple{Builtin("language"), one("string", "")}}
	case "space":
		return one("NCName", "default", "preserve")
	case "id":
		return Builtin("ID")
	case "base":
		return Builtin("anyURI")
	}
	return Builtin("string")
}

func (s *Set) fillAttribute(d *document, n xmltree.Node, a *Attribute, global bool) {
	name, _ := n.Attr("", "name")
	form := word(n, "form")
	a.Name.Local = strings.TrimSpace(name)
	if global || form == "qualified" || form == "" && d.attrQualified {
		a.Name.Space = d.target
	}
	a.Type = s.inner(d, n, "type", nil)
	a.Default, a.Fixed, a.Doc = optional(n, "default"), optional(n, "fixed"), doc(n)
}

func (s *Set) attribute(name QName) *Attribute {
	g := s.globals[globalKey{"attribute", name}]
	if g == nil {
		return nil
	}
	if g.value == nil {
		a := &Attribute{}
		g.value = a
		s.fillAttribute(g.doc, g.node, a, true)
	}
	return g.value.(*Attribute)
}
