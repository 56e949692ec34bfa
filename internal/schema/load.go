package schema

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"orenda/internal/xmltree"
)

// Fetch gets a schema document that another one points to. base is the
// resolved location of the document that points.
type Fetch func(location, base string) (src []byte, resolved string, err error)

// Problem is something that could not be read or resolved. The rest works.
type Problem struct {
	What  string
	Where Place
	Why   string
}

func (p Problem) String() string { return p.What + ": " + p.Why }

// Set is a set of schema documents with their components.
type Set struct {
	Problems []Problem

	fetch       Fetch
	seen        map[string]bool
	globals     map[globalKey]*global
	order       []globalKey
	members     map[QName][]*Element // substitution groups, by their head
	resolved    bool
	constrained bool // an identity constraint is declared somewhere
	files       map[string]int

	mu  sync.Mutex      // while content models are prepared
	ids map[QName]int32 // numbers of the names of elements; nil: not prepared
}

type globalKey struct {
	kind string // element, type, group, attribute, attributeGroup
	name QName
}

type global struct {
	node     xmltree.Node
	doc      *document
	value    any
	busy     bool
	original *global // what xs:redefine replaced
}

// document is one xs:schema with what it sets for all that is in it.
type document struct {
	target        string
	chameleon     bool // included without a namespace of its own (part 1 §4.2.1)
	elemQualified bool
	attrQualified bool
	source        string
}

// New makes an empty set. fetch may be nil where nothing is to be fetched.
func New(fetch Fetch) *Set {
	return &Set{fetch: fetch, seen: map[string]bool{}, globals: map[globalKey]*global{}, members: map[QName][]*Element{}, files: map[string]int{}}
}

func (s *Set) problem(d *document, n xmltree.Node, what, why string, args ...any) {
	p := Problem{What: what, Why: fmt.Sprintf(why, args...)}
	if d != nil {
		p.Where.Source = d.source
	}
	if !n.IsZero() {
		p.Where.Offset = n.Span().Start
	}
	if !slices.Contains(s.Problems, p) {
		s.Problems = append(s.Problems, p)
	}
}

// Add takes a schema element, and follows what it includes and imports.
func (s *Set) Add(n xmltree.Node, source string) { s.add(n, source, "", false) }

func (s *Set) add(n xmltree.Node, source, includer string, included bool) {
	if !n.Is(XSD, "schema") {
		s.problem(&document{source: source}, n, source, "it is not an XML Schema document: its root is %s", n.Name().Qualified())
		return
	}
	attr := func(name string) string { v, _ := n.Attr("", name); return v }
	d := &document{target: attr("targetNamespace"), source: source,
		elemQualified: attr("elementFormDefault") == "qualified", attrQualified: attr("attributeFormDefault") == "qualified"}
	if included && d.target == "" && includer != "" {
		d.target, d.chameleon = includer, true
	}
	for c := range n.Children() {
		if c.Name().Space != XSD {
			continue
		}
		switch c.Name().Local {
		case "include":
			s.follow(d, c, true)
		case "import":
			s.follow(d, c, false)
		case "redefine":
			s.follow(d, c, true)
			for r := range c.Children() {
				s.register(d, r, true)
			}
		default:
			s.register(d, c, false)
		}
	}
}

var globalKinds = map[string]string{"element": "element", "simpleType": "type", "complexType": "type", "group": "group", "attribute": "attribute", "attributeGroup": "attributeGroup"}

func (s *Set) register(d *document, n xmltree.Node, redefine bool) {
	kind, ok := globalKinds[n.Name().Local]
	if !ok {
		return
	}
	name, _ := n.Attr("", "name")
	key := globalKey{kind, QName{d.target, strings.TrimSpace(name)}}
	g := &global{node: n, doc: d}
	if old := s.globals[key]; old != nil {
		if !redefine {
			if string(old.node.Bytes()) != string(n.Bytes()) {
				s.problem(d, n, key.name.String(), "the %s is declared a second time, differently", n.Name().Local)
			}
			return
		}
		g.original = old
		old.value = nil
	} else {
		s.order = append(s.order, key)
	}
	s.globals[key] = g
}

func (s *Set) follow(d *document, n xmltree.Node, include bool) {
	location, ok := n.Attr("", "schemaLocation")
	if !ok || strings.TrimSpace(location) == "" {
		return // an import without a location relies on what else is loaded
	}
	location = strings.TrimSpace(location)
	if s.fetch == nil {
		s.problem(d, n, location, "it was not fetched")
		return
	}
	src, resolved, err := s.fetch(location, d.source)
	if err != nil {
		s.problem(d, n, location, "%v", err)
		return
	}
	key := resolved
	if include {
		key += "\x00" + d.target
	}
	if s.seen[key] {
		return
	}
	s.seen[key] = true
	doc, err := xmltree.Parse(src, xmltree.Limits{Depth: 256})
	if err != nil {
		s.problem(d, n, location, "%v", err)
		return
	}
	s.files[resolved] = len(src)
	includer := ""
	if include {
		includer = d.target
	}
	s.add(doc.Root(), resolved, includer, include)
}

// Resolve resolves every component, so that Problems is complete.
func (s *Set) Resolve() {
	if s.resolved {
		return
	}
	s.resolved = true
	for _, k := range s.order {
		switch k.kind {
		case "element":
			if e := s.Element(k.name); e != nil && e.Head != nil {
				s.members[e.Head.Name] = append(s.members[e.Head.Name], e)
			}
		case "type":
			s.Type(k.name)
		case "attribute":
			s.attribute(k.name)
		}
	}
}

// Counts are the numbers of global elements and of types, named and anonymous
// ones alike being one each where they are global.
func (s *Set) Counts() (elements, types int) {
	for k := range s.globals {
		switch k.kind {
		case "element":
			elements++
		case "type":
			types++
		}
	}
	return elements, types
}

// Elements are the names of all global elements, sorted.
func (s *Set) Elements() []QName {
	var out []QName
	for k := range s.globals {
		if k.kind == "element" {
			out = append(out, k.name)
		}
	}
	slices.SortFunc(out, QName.less)
	return out
}

// Types are the names of all global types, sorted.
func (s *Set) Types() []QName {
	var out []QName
	for k := range s.globals {
		if k.kind == "type" {
			out = append(out, k.name)
		}
	}
	slices.SortFunc(out, QName.less)
	return out
}

// Element is the global element of that name, or nil.
func (s *Set) Element(name QName) *Element {
	g := s.globals[globalKey{"element", name}]
	if g == nil {
		return nil
	}
	if g.value == nil {
		e := &Element{Global: true}
		g.value = e
		s.element(g.doc, g.node, e)
	}
	return g.value.(*Element)
}

// Type is the type of that name, built-in ones included, or nil.
func (s *Set) Type(name QName) Type {
	if g := s.globals[globalKey{"type", name}]; g != nil {
		return s.typeOf(g)
	}
	if name.Space == XSD {
		if name.Local == "anyType" {
			return AnyType()
		}
		if b := Builtin(name.Local); b != nil {
			return b
		}
	}
	if name.Space == SOAPEncoding {
		return encodedType(name.Local)
	}
	return nil
}

func (s *Set) typeOf(g *global) Type {
	if g.value != nil {
		return g.value.(Type)
	}
	name, _ := g.node.Attr("", "name")
	q := QName{g.doc.target, strings.TrimSpace(name)}
	if g.node.Name().Local == "simpleType" {
		t := &Simple{Name: q}
		g.value = t
		s.simple(g.doc, g.node, t, g)
		if contains(t, t, map[*Simple]bool{}) {
			s.problem(g.doc, g.node, q.String(), "the type contains itself")
			t.Variety, t.Primitive, t.Item, t.Members = Atomic, "string", nil, nil
		}
		return t
	}
	t := &Complex{Name: q}
	g.value = t
	s.complex(g.doc, g.node, t, g)
	return t
}

// ref resolves a QName in an attribute of n.
func (s *Set) ref(d *document, n xmltree.Node, value string) (QName, bool) {
	x, ok := n.QName(value)
	if !ok {
		s.problem(d, n, value, "its prefix is not bound to a namespace")
		return QName{}, false
	}
	q := NameOf(x)
	if q.Space == "" && d.chameleon {
		q.Space = d.target
	}
	return q, true
}

// typeRef resolves a reference to a type; a type that redefines refers to
// what it replaced by its own name.
func (s *Set) typeRef(d *document, n xmltree.Node, value string, within *global) Type {
	q, ok := s.ref(d, n, value)
	if !ok {
		return AnyType()
	}
	if within != nil && within.original != nil {
		if name, _ := within.node.Attr("", "name"); (QName{d.target, name}) == q {
			return s.typeOf(within.original)
		}
	}
	t := s.Type(q)
	if t == nil {
		s.problem(d, n, q.String(), "this type is referred to and not defined anywhere")
		return AnyType()
	}
	return t
}

func (s *Set) simpleRef(d *document, n xmltree.Node, value string, within *global) *Simple {
	t := s.typeRef(d, n, value, within)
	if st := SimpleOf(t); st != nil {
		return st
	}
	if t != AnyType() {
		s.problem(d, n, value, "a simple type is due here")
	}
	return Builtin("anySimpleType")
}

func doc(n xmltree.Node) string {
	var parts []string
	for a := range n.Named(XSD, "annotation") {
		for t := range a.Named(XSD, "documentation") {
			parts = append(parts, Words(t))
		}
	}
	return strings.Join(parts, " ")
}

// Words is all character data below a node, white space folded.
func Words(n xmltree.Node) string {
	var b strings.Builder
	var walk func(xmltree.Node)
	walk = func(n xmltree.Node) {
		b.WriteString(n.Text())
		for c := range n.Children() {
			b.WriteByte(' ')
			walk(c)
		}
	}
	walk(n)
	return strings.Join(strings.Fields(b.String()), " ")
}

func optional(n xmltree.Node, name string) *string {
	if v, ok := n.Attr("", name); ok {
		return &v
	}
	return nil
}

func isTrue(n xmltree.Node, name string) bool {
	v, _ := n.Attr("", name)
	return v == "true" || v == "1"
}

// element fills a declaration that is no reference.
func (s *Set) element(d *document, n xmltree.Node, e *Element) {
	name, _ := n.Attr("", "name")
	e.Name.Local = strings.TrimSpace(name)
	form, _ := n.Attr("", "form")
	if e.Global || form == "qualified" || form == "" && d.elemQualified {
		e.Name.Space = d.target
	}
	e.Nillable, e.Abstract = isTrue(n, "nillable"), isTrue(n, "abstract")
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

func (s *Set) simple(d *document, n xmltree.Node, t *Simple, g *global) {
	defer t.known.Store(nil)
	t.Doc = doc(n)
	for c := range n.Children() {
		switch {
		case c.Is(XSD, "restriction"):
			s.restriction(d, c, t, g)
		case c.Is(XSD, "list"):
			t.Variety, t.Base = List, Builtin("anySimpleType")
			t.Item = s.inner(d, c, "itemType", g)
		case c.Is(XSD, "union"):
			t.Variety, t.Base = Union, Builtin("anySimpleType")
			if v, ok := c.Attr("", "memberTypes"); ok {
				for _, m := range strings.Fields(v) {
					t.Members = append(t.Members, s.simpleRef(d, c, m, g))
				}
			}
			for m := range c.Named(XSD, "simpleType") {
				in := &Simple{}
				s.simple(d, m, in, nil)
				t.Members = append(t.Members, in)
			}
		}
	}
	if t.Base == nil {
		t.Base = Builtin("anySimpleType")
	}
}

// inner is a type named by an attribute or given inline.
func (s *Set) inner(d *document, n xmltree.Node, attr string, g *global) *Simple {
	if v, ok := n.Attr("", attr); ok {
		return s.simpleRef(d, n, v, g)
	}
	if c := n.Child(XSD, "simpleType"); !c.IsZero() {
		t := &Simple{}
		s.simple(d, c, t, nil)
		return t
	}
	return Builtin("anySimpleType")
}

func (s *Set) restriction(d *document, n xmltree.Node, t *Simple, g *global) {
	base := s.inner(d, n, "base", g)
	if circular(base, t) {
		s.problem(d, n, t.Name.String(), "the type is derived from itself")
		base = Builtin("string")
	}
	t.Base, t.Variety, t.Primitive, t.Item, t.Members = base, base.Variety, base.Primitive, base.Item, base.Members
	s.readFacets(d, n, t)
}

func circular(base, t *Simple) bool {
	for b, n := base, 0; b != nil && n < 1000; b, n = b.Base, n+1 {
		if b == t {
			return true
		}
	}
	return false
}

// contains tells whether a list or union holds the type within.
func contains(t, within *Simple, seen map[*Simple]bool) bool {
	if within == nil || seen[within] {
		return false
	}
	seen[within] = true
	for _, part := range append([]*Simple{within.Item}, within.Members...) {
		if part == t || contains(t, part, seen) {
			return true
		}
	}
	return false
}

func (s *Set) readFacets(d *document, n xmltree.Node, t *Simple) {
	defer t.known.Store(nil) // what was told of it before its facets were read
	f := &t.Facets
	var patterns []*Pattern
	for c := range n.Children() {
		if c.Name().Space != XSD {
			continue
		}
		v, has := c.Attr("", "value")
		if !has {
			continue
		}
		number := func() *int {
			var i int
			if _, err := fmt.Sscanf(strings.TrimSpace(v), "%d", &i); err != nil || i < 0 {
				s.problem(d, c, c.Name().Local, "%q is not a length", v)
				return nil
			}
			return &i
		}
		bound := func() *string { b := t.Normalize(v); return &b }
		switch c.Name().Local {
		case "length":
			f.Length = number()
		case "minLength":
			f.MinLength = number()
		case "maxLength":
			f.MaxLength = number()
		case "totalDigits":
			f.TotalDigits = number()
		case "fractionDigits":
			f.FractionDigits = number()
		case "minInclusive":
			f.MinInclusive = bound()
		case "maxInclusive":
			f.MaxInclusive = bound()
		case "minExclusive":
			f.MinExclusive = bound()
		case "maxExclusive":
			f.MaxExclusive = bound()
		case "whiteSpace":
			f.WhiteSpace = v
		case "enumeration":
			v = t.Base.Normalize(v)
			f.Enumeration = append(f.Enumeration, v)
			if words := doc(c); words != "" {
				if f.EnumDocs == nil {
					f.EnumDocs = map[string]string{}
				}
				f.EnumDocs[v] = words
			}
		case "pattern":
			p, err := CompilePattern(v)
			if err != nil {
				s.problem(d, c, v, "%v; it is not applied", err)
				continue
			}
			patterns = append(patterns, p)
		}
	}
	if patterns != nil {
		f.Patterns = [][]*Pattern{patterns}
	}
}

func (s *Set) complex(d *document, n xmltree.Node, t *Complex, g *global) {
	t.Doc, t.At = doc(n), Place{d.source, n.Span().Start}
	t.Abstract, t.Mixed = isTrue(n, "abstract"), isTrue(n, "mixed")
	t.Base = AnyType()
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
			t.Attrs = append(t.Attrs, base.Attrs...)
			t.AnyAttr = base.AnyAttr
		} else {
			t.Attrs = append(t.Attrs, base.Attrs...)
		}
	}
	s.attributes(d, body, t, 0)
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
		t.AnyAttr = base.AnyAttr
	}
	if t.Simple == nil {
		t.Simple = Builtin("string")
	}
	if !t.Extends {
		r := &Simple{Base: t.Simple, Variety: t.Simple.Variety, Primitive: t.Simple.Primitive, Item: t.Simple.Item, Members: t.Simple.Members}
		if in := x.Child(XSD, "simpleType"); !in.IsZero() {
			b := &Simple{}
			s.simple(d, in, b, nil)
			r.Base, r.Variety, r.Primitive, r.Item, r.Members = b, b.Variety, b.Primitive, b.Item, b.Members
		}
		s.readFacets(d, x, r)
		t.Simple = r
	}
	s.attributes(d, x, t, 0)
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
			if p.Max == 0 || p.Group != nil && p.Group.Compositor != Choice && len(p.Group.Particles) == 0 {
				return nil // the content is empty (part 1 §3.4.2)
			}
			return p
		}
	}
	return nil
}

func (s *Set) particle(d *document, n xmltree.Node) *Particle {
	p := &Particle{Min: 1, Max: 1}
	if v, ok := n.Attr("", "minOccurs"); ok {
		if _, err := fmt.Sscanf(strings.TrimSpace(v), "%d", &p.Min); err != nil || p.Min < 0 {
			s.problem(d, n, "minOccurs", "%q is not a number of occurrences", v)
			p.Min = 1
		}
	}
	if v, ok := n.Attr("", "maxOccurs"); ok {
		if strings.TrimSpace(v) == "unbounded" {
			p.Max = Unbounded
		} else if _, err := fmt.Sscanf(strings.TrimSpace(v), "%d", &p.Max); err != nil || p.Max < 0 {
			s.problem(d, n, "maxOccurs", "%q is not a number of occurrences", v)
			p.Max = 1
		}
	}
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
	if g.busy {
		s.problem(d, n, q.String(), "the group contains itself")
		return &Group{}
	}
	if g.value == nil {
		g.busy = true
		group := &Group{}
		if p := s.model(g.doc, g.node); p != nil {
			group = p.Group
		}
		g.busy = false
		g.value = group
	}
	return g.value.(*Group)
}

func (s *Set) wildcard(d *document, n xmltree.Node) *Wildcard {
	w := &Wildcard{Process: "strict"}
	if v, ok := n.Attr("", "processContents"); ok {
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

func (s *Set) attributes(d *document, n xmltree.Node, t *Complex, depth int) {
	if depth > 50 {
		s.problem(d, n, t.Name.String(), "its attribute groups contain each other")
		return
	}
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
			s.attributes(g.doc, g.node, t, depth+1)
		case c.Is(XSD, "anyAttribute"):
			t.AnyAttr = s.wildcard(d, c)
		}
	}
}

func (s *Set) attributeUse(d *document, n xmltree.Node) *Attribute {
	use, _ := n.Attr("", "use")
	a := &Attribute{}
	if r, ok := n.Attr("", "ref"); ok {
		q, _ := s.ref(d, n, r)
		if g := s.attribute(q); g != nil {
			*a = *g
		} else if q.Space == xmltree.XMLNamespace {
			*a = Attribute{Name: q, Type: Builtin("string")}
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

func (s *Set) fillAttribute(d *document, n xmltree.Node, a *Attribute, global bool) {
	name, _ := n.Attr("", "name")
	form, _ := n.Attr("", "form")
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

// Substitutes are the elements that may stand for head (part 1 §3.3.6), head
// itself included where it is not abstract.
func (s *Set) Substitutes(head *Element) []*Element {
	s.Resolve()
	var out []*Element
	seen := map[*Element]bool{}
	var walk func(*Element)
	walk = func(e *Element) {
		if seen[e] {
			return
		}
		seen[e] = true
		if !e.Abstract {
			out = append(out, e)
		}
		for _, m := range s.members[e.Name] {
			walk(m)
		}
	}
	walk(head)
	return out
}

// Substitute is the element of that name that may stand for head, or nil.
func (s *Set) Substitute(head *Element, name QName) *Element {
	if s.Resolve(); len(s.members) == 0 {
		return nil
	}
	for _, e := range s.Substitutes(head) {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// Derived are the named types that may stand for t by xsi:type, t included
// where it is not abstract.
func (s *Set) Derived(t Type) []Type {
	s.Resolve()
	var out []Type
	for _, k := range s.order {
		if k.kind != "type" {
			continue
		}
		c := s.Type(k.name)
		if DerivesFrom(c, t) {
			if x, ok := c.(*Complex); !ok || !x.Abstract {
				out = append(out, c)
			}
		}
	}
	return out
}

// DerivesFrom tells whether t is base or derived from it.
func DerivesFrom(t, base Type) bool {
	if base == AnyType() {
		return true
	}
	for i := 0; t != nil && i < 1000; i++ {
		if t == base {
			return true
		}
		switch x := t.(type) {
		case *Complex:
			if x.Base == t {
				return false
			}
			t = x.Base
		case *Simple:
			if x.Base == nil {
				return false
			}
			t = x.Base
		}
	}
	return false
}
