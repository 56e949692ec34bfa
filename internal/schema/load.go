package schema

import (
	"errors"
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
	What  string // what it is
	Where Place  // in what, or at which address
	Why   string // in words
}

func (p Problem) String() string { return p.What + ": " + p.Why }

// Set is a set of schema documents with their components.
type Set struct {
	Problems []Problem // parts that could not be read
	Warnings []Problem // parts that are used, and are not as the standard wants them

	fetch       Fetch
	seen        map[string]bool
	globals     map[globalKey]*global
	order       []globalKey
	members     map[QName][]*Element // substitution groups, by their head
	open        []*global            // groups that are being read, none of them through an element
	filling     map[*Group]bool      // groups whose content is not known yet
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
	original *global // what xs:redefine replaced
}

// document is one xs:schema with what it sets for all that is in it.
type document struct {
	target        string
	chameleon     bool // included without a namespace of its own (part 1 §4.2.1)
	elemQualified bool
	attrQualified bool
	source        string

	block, final string // blockDefault and finalDefault
}

// New makes an empty set. fetch may be nil where nothing is to be fetched.
func New(fetch Fetch) *Set {
	return &Set{
		fetch:   fetch,
		seen:    map[string]bool{},
		globals: map[globalKey]*global{},
		members: map[QName][]*Element{},
		filling: map[*Group]bool{},
		files:   map[string]int{},
	}
}

func (s *Set) problem(d *document, n xmltree.Node, what, why string, args ...any) {
	if p := problemAt(d, n, what, why, args...); !slices.Contains(s.Problems, p) {
		s.Problems = append(s.Problems, p)
	}
}

// warn tells of what is used, and is not as the standard wants it.
func (s *Set) warn(d *document, n xmltree.Node, what, why string, args ...any) {
	if p := problemAt(d, n, what, why, args...); !slices.Contains(s.Warnings, p) {
		s.Warnings = append(s.Warnings, p)
	}
}

func problemAt(d *document, n xmltree.Node, what, why string, args ...any) Problem {
	p := Problem{What: what, Why: fmt.Sprintf(why, args...)}
	if d != nil {
		p.Where.Source = d.source
	}
	if !n.IsZero() {
		p.Where.Offset = n.Span().Start
	}
	return p
}

// Add takes a schema element, and follows what it includes and imports.
func (s *Set) Add(n xmltree.Node, source string) { s.add(n, source, "", false) }

func (s *Set) add(n xmltree.Node, source, includer string, included bool) {
	if !n.Is(XSD, "schema") {
		s.problem(
			&document{source: source},
			n,
			source,
			"it is not an XML Schema document: its root is %s",
			n.Name().Qualified(),
		)
		return
	}
	attr := func(name string) string { return word(n, name) }
	d := &document{
		target: attr("targetNamespace"), source: source, block: attr("blockDefault"), final: attr("finalDefault"),
		elemQualified: attr("elementFormDefault") == "qualified",
		attrQualified: attr("attributeFormDefault") == "qualified",
	}
	if included && d.target == "" && includer != "" {
		d.target, d.chameleon = includer, true
	}
	var parts []*elsewhere
	for c := range n.Children() {
		if c.Name().Space == XSD && (c.Name().Local == "include" || c.Name().Local == "redefine" ||
			c.Name().Local == "import") {
			parts = append(parts, s.fetched(d, c))
		}
	}
	for c := range n.Children() {
		if c.Name().Space != XSD {
			continue
		}
		switch c.Name().Local {
		case "include", "import":
			s.follow(d, parts[0])
			parts = parts[1:]
		case "redefine":
			s.follow(d, parts[0])
			parts = parts[1:]
			for r := range c.Children() {
				s.register(d, r, true)
			}
		default:
			s.register(d, c, false)
		}
	}
}

//nolint:gochecknoglobals // a table: it is never written to
var globalKinds = map[string]string{
	"element":        "element",
	"simpleType":     "type",
	"complexType":    "type",
	"group":          "group",
	"attribute":      "attribute",
	"attributeGroup": "attributeGroup",
}

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

// elsewhere is a schema document that another one includes or imports.
type elsewhere struct {
	node               xmltree.Node // that names it
	include            bool         // or redefine: its names are those of the including one
	location, resolved string       // "": none is named
	size               int          // in bytes
	err                error        // why it could not be had
	doc                func() (*xmltree.Document, error)
}

// fetched fetches a document, and has it read beside what comes meanwhile.
func (s *Set) fetched(d *document, n xmltree.Node) *elsewhere {
	e := &elsewhere{node: n, include: n.Name().Local != "import"}
	location, ok := n.Attr("", "schemaLocation")
	if !ok || strings.TrimSpace(location) == "" {
		return e // an import without a location relies on what else is loaded
	}
	e.location = strings.TrimSpace(location)
	if s.fetch == nil {
		e.err = errors.New("it was not fetched")
		return e
	}
	src, resolved, err := s.fetch(e.location, d.source)
	if err != nil {
		e.err = err
		return e
	}
	e.resolved, e.size = resolved, len(src)
	e.doc = sync.OnceValues(func() (*xmltree.Document, error) {
		return xmltree.ParseContract(src, xmltree.Limits{Depth: 256})
	})
	if !s.seen[e.key(d)] {
		go func() { _, _ = e.doc() }()
	}
	return e
}

// key tells a document from others: one that is included has the names of the including one.
func (e *elsewhere) key(d *document) string {
	if e.include {
		return e.resolved + "\x00" + d.target
	}
	return e.resolved
}

// follow takes in a document that was fetched.
func (s *Set) follow(d *document, e *elsewhere) {
	switch {
	case e.location == "" || e.err == nil && s.seen[e.key(d)]:
		return
	case e.err != nil:
		s.problem(d, e.node, e.location, "%v", e.err)
		return
	}
	s.seen[e.key(d)] = true
	doc, err := e.doc()
	if err != nil {
		s.problem(d, e.node, e.location, "%v", err)
		return
	}
	s.files[e.resolved] = e.size
	s.checkTarget(d, e, doc.Root())
	includer := ""
	if e.include {
		includer = d.target
	}
	s.add(doc.Root(), e.resolved, includer, e.include)
}

// checkTarget tells of a document whose namespace is not the one that it is taken in for (part 1 §4.2.1, §4.2.3): what
// is looked for in that namespace is not in it.
func (s *Set) checkTarget(d *document, e *elsewhere, root xmltree.Node) {
	if !root.Is(XSD, "schema") {
		return
	}
	has, want := word(root, "targetNamespace"), word(e.node, "namespace")
	if e.include {
		want = d.target
	}
	if has != want && (has != "" || !e.include) {
		s.problem(d, e.node, e.location, "its namespace is %q, and it is taken in for %q", has, want)
	}
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
			e := s.Element(k.name)
			if e == nil || e.Head == nil {
				continue
			}
			s.members[e.Head.Name] = append(s.members[e.Head.Name], e)
			if !mayStandFor(e.TypeOf(), e.Head.TypeOf(), e.Head.Final) {
				s.warn(nil, xmltree.Node{}, e.Name.String(), "its type is derived as %s forbids (final)",
					e.Head.Name.Local)
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

func doc(n xmltree.Node) (out string) {
	for a := range n.Named(XSD, "annotation") {
		for t := range a.Named(XSD, "documentation") {
			if out != "" {
				out += " "
			}
			out += Words(t)
		}
	}
	return out
}

// Words is all character data below a node, white space folded.
func Words(n xmltree.Node) string {
	if n.FirstChild().IsZero() { // a text, which most often has no white space to fold
		text := n.Text()
		if folded(text) {
			return text
		}
		return strings.Join(strings.Fields(text), " ")
	}
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

// folded tells whether a text has no white space to fold, as far as ASCII goes.
func folded(text string) bool {
	blank := true // what stands before is a blank, or nothing
	for i := range len(text) {
		c := text[i]
		if c < ' ' || c > '~' || c == ' ' && blank {
			return false
		}
		blank = c == ' '
	}
	return !blank
}

func optional(n xmltree.Node, name string) *string {
	if v, ok := n.Attr("", name); ok {
		return &v
	}
	return nil
}

func isTrue(n xmltree.Node, name string) bool {
	v := word(n, name)
	return v == "true" || v == "1"
}

// word is the value of an attribute whose white space is collapsed, as that of all but texts is.
func word(n xmltree.Node, name string) string {
	v, _ := n.Attr("", name)
	return strings.TrimSpace(v)
}

// Substitutes are the elements that may stand for head (part 1 §3.3.6), head
// itself included where it is not abstract.
func (s *Set) Substitutes(head *Element) []*Element {
	if !head.Global { // a local element of the same name is no head
		return []*Element{head}
	}
	s.Resolve()
	var out []*Element
	seen := map[*Element]bool{}
	var walk func(*Element)
	walk = func(e *Element) {
		if seen[e] {
			return
		}
		seen[e] = true
		if !e.Abstract && (e == head || substitutable(e, head)) {
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
