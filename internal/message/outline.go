package message

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/data"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Kind is the kind of a row of an outline.
type Kind uint8

// The kinds of rows.
const (
	Leaf   Kind = iota // an element with a value
	Branch             // an element with elements in it
	Attr               // an attribute
	Fork               // a choice between branches
	Raw                // something the schema leaves open, or does not know
)

// Item is one row of the outline of a message.
type Item struct {
	Kind     Kind              // what it is
	Depth    int               // from 0
	Name     string            // its name
	Path     string            // from below the body element: vessel/name, stay[2]/nights, @unit
	Present  bool              // it is in the draft
	Required bool              // it must be there
	Value    string            // as text
	Unfilled bool              // a placeholder stands in its place
	Nil      bool              // it is nil
	Instance string            // type by xsi:type, where it is another than the declared one
	Type     string            // type and bounds in one line
	Doc      string            // documentation
	Enum     []string          // allowed values
	EnumDocs map[string]string // what each value means

	Nillable bool     // xsi:nil is allowed
	Index    int      // of repeats, from 1; 0 where it does not repeat
	Max      int      // how many may stand; schema.Unbounded for any number
	Branches []string // Fork: the alternatives
	Chosen   int      // Fork: which one stands, or -1

	Node   xmltree.Node // in the draft; zero where it is not there
	Errors []string     // what is invalid in it

	Holds data.Form // the value is an XML document, whose rows follow

	decl     *schema.Element
	attr     *schema.Attribute
	group    *schema.Group
	within   *within // a row of such a document
	at       int     // where it would be inserted
	inherit  string  // default namespace there
	lastNode xmltree.Node
}

// outline reads a message against its declaration.
type outline struct {
	set   *schema.Set
	items []Item
	left  int  // elements that may still become rows
	cut   bool // there were more: of what is absent nothing is known then
	folds int  // how many values this message lies in
	told  map[*schema.Simple]saidOf
}

// saidOf is what a row says of its type: the same for each of many rows.
type saidOf struct {
	bounds  string
	allowed []string
}

// said is made once for each type.
func (o *outline) said(st *schema.Simple) saidOf {
	s, ok := o.told[st]
	if !ok {
		s = saidOf{schema.Bounds(st), slices.Clip(schema.Allowed(st))}
		if o.told == nil {
			o.told = map[*schema.Simple]saidOf{}
		}
		o.told[st] = s
	}
	return s
}

// Outlines are bounded: of one element so many children are rows, and of a message so many
// elements.
const (
	maxChildren = 10000
	maxRows     = 100000
)

// Outline is the message as rows, in document order, with what could be added. cut is true
// where not all of a large message is in it.
func Outline(set *schema.Set, decl *schema.Element, root xmltree.Node) (rows []Item, cut bool) {
	o := &outline{set: set, left: maxRows}
	return o.of(decl, root), o.cut
}

func (o *outline) of(decl *schema.Element, root xmltree.Node) []Item {
	if !root.IsZero() && decl != nil {
		o.items = slices.Grow(o.items, min(root.After()/2+8, 2*o.left)) // a row for most elements
		o.content(decl.TypeOf(), root, 0, "")
	}
	return o.items
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

func (o *outline) content(t schema.Type, n xmltree.Node, depth int, path string) {
	if c, ok := t.(*schema.Complex); ok {
		if c.Abstract || hasInstanceType(n) {
			if v, ok := n.Attr(schema.XSI, "type"); ok {
				if q, ok := n.QName(v); ok {
					if d, ok := o.set.Type(schema.NameOf(q)).(*schema.Complex); ok {
						c = d
					}
				}
			}
		}
		o.attributes(c, n, depth, path)
		if c.Simple == nil {
			f := &follow{o: o, kids: o.children(n), depth: depth, path: path, parent: n, at: n.Inner().Start}
			f.particle(c.Content, 1, 1)
			f.rest()
		}
	}
}

func hasInstanceType(n xmltree.Node) bool {
	_, ok := n.Attr(schema.XSI, "type")
	return ok
}

// children are the child elements that become rows, as far as rows are left when it is their turn.
func (o *outline) children(n xmltree.Node) (out []xmltree.Node) {
	for c := range n.Children() {
		if len(out) == min(maxChildren, o.left) {
			o.cut = true
			break
		}
		out = append(out, c)
	}
	return out
}

// full tells whether no row is left for an element that is there.
func (o *outline) full() bool {
	o.cut = o.cut || o.left == 0
	return o.left == 0
}

func (o *outline) attributes(c *schema.Complex, n xmltree.Node, depth int, path string) {
	for _, a := range c.Attrs {
		said := o.said(a.Type)
		it := Item{
			Kind:     Attr,
			Depth:    depth,
			Name:     "@" + a.Name.Local,
			Path:     join(path, "@"+a.Name.Local),
			Required: a.Required,
			Type:     said.bounds,
			Doc:      a.Doc,
			Enum:     said.allowed,
			Node:     n,
			attr:     a,
			Max:      1,
		}
		for x := range n.Attrs() {
			if schema.NameOf(x.Name) == a.Name {
				it.Present, it.Value = true, x.Value
			}
		}
		if it.Present {
			if e := a.Type.Check(it.Value); e != nil {
				it.Errors = append(it.Errors, e.Msg)
			}
		}
		o.items = append(o.items, it)
	}
}

// follow walks the children of one element along its content model.
type follow struct {
	o      *outline
	kids   []xmltree.Node
	i      int
	depth  int
	path   string
	parent xmltree.Node
	at     int // end of what was passed: here the next element would go
}

func (f *follow) names(p *schema.Particle) bool {
	if f.i >= len(f.kids) || f.o.full() {
		return false
	}
	return f.o.canStart(p, schema.NameOf(f.kids[f.i].Name()), 0)
}

// canStart tells whether a particle can begin with an element of that name.
func (o *outline) canStart(p *schema.Particle, name schema.QName, depth int) bool {
	if depth > 20 {
		return false
	}
	switch {
	case p.Element != nil && p.Element.Name == name:
		return true
	case p.Element != nil:
		return o.set.Substitute(p.Element, name) != nil
	case p.Any != nil:
		return p.Any.Allows(name.Space)
	}
	for _, q := range p.Group.Particles {
		if o.canStart(q, name, depth+1) {
			return true
		}
		if p.Group.Compositor == schema.Sequence && q.Min > 0 {
			return false
		}
	}
	return false
}

func (f *follow) particle(p *schema.Particle, least, most int) {
	if p == nil || p.Max == 0 {
		return
	}
	switch {
	case p.Element != nil:
		f.element(p, least)
	case p.Any != nil:
		n := 0
		for ; (p.Max < 0 || n < p.Max) && f.names(p); n++ {
			f.raw()
		}
		if n == 0 && !f.o.cut {
			f.o.items = append(
				f.o.items,
				Item{
					Kind:     Raw,
					Depth:    f.depth,
					Name:     "any",
					Path:     join(f.path, "any"),
					Required: p.Min > 0 && least > 0,
					Max:      p.Max,
					Type:     "any element",
					at:       f.at,
				},
			)
		}
	case p.Group.Compositor == schema.Choice:
		f.fork(p, least)
	default:
		// A group that repeats shows once more for each time it begins.
		for n := 0; n == 0 || (p.Max < 0 || n < p.Max) && f.names(p); n++ {
			for _, q := range p.Group.Particles {
				f.particle(q, min(least, p.Min), most)
			}
		}
	}
}

func (f *follow) element(p *schema.Particle, least int) {
	e := p.Element
	n := 0
	for ; (p.Max < 0 || n < p.Max) && f.names(p); n++ {
		f.present(p, n+1, p.Min > n && least > 0)
	}
	if n < max(1, p.Min) && !f.o.cut {
		f.o.items = append(
			f.o.items,
			f.describe(Item{Depth: f.depth, Name: e.Name.Local, Path: join(f.path, e.Name.Local),
				Required: p.Min > 0 && least > 0, Max: p.Max, at: f.at, inherit: inheritAt(f.parent)}, e),
		)
	}
}

func inheritAt(n xmltree.Node) string {
	uri, _ := n.Lookup("")
	return uri
}

func (f *follow) describe(it Item, e *schema.Element) Item {
	it.decl, it.Doc, it.Nillable = e, e.Doc, e.Nillable
	if st := schema.SimpleOf(e.TypeOf()); st != nil {
		said := f.o.said(st)
		it.Kind, it.Type, it.Enum = Leaf, said.bounds, said.allowed
		it.EnumDocs = st.Facets.EnumDocs
	} else {
		it.Kind, it.Type = Branch, e.TypeOf().TypeName().Local
	}
	if it.Doc == "" {
		it.Doc = e.TypeOf().Documentation()
	}
	return it
}

func (f *follow) present(p *schema.Particle, index int, required bool) {
	n := f.kids[f.i]
	e := p.Element
	if name := schema.NameOf(n.Name()); name != e.Name {
		if s := f.o.set.Substitute(e, name); s != nil {
			e = s
		}
	}
	it := Item{
		Depth:    f.depth,
		Name:     e.Name.Local,
		Path:     join(f.path, e.Name.Local),
		Present:  true,
		Required: required,
		Max:      p.Max,
		Node:     n,
	}
	if p.Max != 1 {
		it.Index = index
		if index > 1 {
			it.Path += "[" + strconv.Itoa(index) + "]"
		}
	}
	it = f.describe(it, e)
	if v, ok := n.Attr(schema.XSI, "nil"); ok && (v == "true" || v == "1") {
		it.Nil = true
	}
	if v, ok := n.Attr(schema.XSI, "type"); ok {
		if q, ok := n.QName(v); ok && schema.NameOf(q) != e.TypeOf().TypeName() {
			it.Instance = q.Local
		}
	}
	if it.Kind == Leaf {
		it.Unfilled = IsUnfilled(n)
		it.Value = n.Peek() // a draft's document lives as long as its outline
		if st := schema.SimpleOf(e.TypeOf()); !it.Unfilled && !it.Nil {
			if err := st.Check(it.Value); err != nil {
				it.Errors = append(it.Errors, err.Msg)
			}
		}
	}
	f.at = n.Span().End
	f.i++
	f.o.left--
	f.o.items = append(f.o.items, it)
	f.o.content(e.TypeOf(), n, f.depth+1, it.Path)
	if it.Kind == Leaf {
		f.o.embedded(len(f.o.items)-1, n)
	}
}

// IsUnfilled tells whether an element awaits its value.
func IsUnfilled(n xmltree.Node) bool {
	for k := range n.Nodes() {
		if k.Kind() == xmltree.ProcInst && isPlaceholder(k.Text()) {
			return true
		}
	}
	return false
}

func isPlaceholder(text string) bool {
	target, _, _ := strings.Cut(text, " ")
	return target == Placeholder
}

func (f *follow) fork(p *schema.Particle, least int) {
	it := Item{
		Kind:     Fork,
		Depth:    f.depth,
		Path:     f.path,
		Branches: alternatives(p.Group),
		Chosen:   -1,
		Required: p.Min > 0 && least > 0,
		Max:      p.Max,
		group:    p.Group,
		at:       f.at,
		inherit:  inheritAt(f.parent),
		Type:     "either one",
	}
	if len(it.Branches) > 2 {
		it.Type = fmt.Sprintf("one of %d", len(it.Branches))
	}
	it.Name = strings.Join(it.Branches, " ◇ ")
	for n := 0; n == 0 || (p.Max < 0 || n < p.Max) && f.names(p); n++ {
		one := it
		for k, q := range p.Group.Particles {
			if f.names(q) {
				one.Chosen, one.Present, one.Node = k, true, f.kids[f.i]
				break
			}
		}
		if one.Chosen < 0 && f.o.cut {
			return
		}
		row := len(f.o.items)
		f.o.items = append(f.o.items, one)
		if one.Chosen < 0 {
			return
		}
		from := f.i
		f.depth++
		f.particle(p.Group.Particles[one.Chosen], least, 1)
		f.depth--
		if f.i > from {
			f.o.items[row].lastNode = f.kids[f.i-1]
		} else {
			return
		}
	}
}

func (f *follow) raw() {
	n := f.kids[f.i]
	f.o.items = append(
		f.o.items,
		Item{Kind: Raw, Depth: f.depth, Name: n.Name().Qualified(), Path: join(f.path, n.Name().Local), Present: true,
			Value: string(n.Bytes()), Node: n, Max: 1, Type: "any element"},
	)
	f.at = n.Span().End
	f.i++
	f.o.left--
}

// rest are elements that the model has no place for.
func (f *follow) rest() {
	for f.i < len(f.kids) && !f.o.full() {
		f.raw()
		it := &f.o.items[len(f.o.items)-1]
		it.Type = "not in the contract"
		it.Errors = append(it.Errors, "the element "+it.Name+" cannot stand here")
	}
}

// Simple is the simple type of the row's value, nil where it has none.
func (it *Item) Simple() *schema.Simple {
	switch {
	case it.attr != nil:
		return it.attr.Type
	case it.decl != nil:
		return schema.SimpleOf(it.decl.TypeOf())
	}
	return nil
}
