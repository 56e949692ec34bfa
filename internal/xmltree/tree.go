package xmltree

import (
	"bytes"
	"cmp"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"golang.org/x/text/encoding"
)

// Document is a tree over the bytes of a document. It keeps one flat record a
// node, in document order; a Node is a handle on one of them. White space
// between tags has no node: it is what the spans leave out.
type Document struct {
	Src      []byte // UTF-8, without a byte order mark; not to be changed
	Encoding string // as detected, in the spelling of the document

	nodes []record
	attrs []Attr
	names []Name
	dec   encoding.Encoding
	skip  int
	size  int // of what came

	embeds atomic.Uint32 // what was answered once: 0 nothing, 1 no, 2 yes
}

// Embeds is what look says of the document, which is asked once: whether a value of it may be
// an XML document itself. Nothing but that is asked so.
func (d *Document) Embeds(look func(*Document) bool) bool {
	if known := d.embeds.Load(); known != 0 {
		return known == 2
	}
	yes := look(d)
	d.embeds.Store(map[bool]uint32{false: 1, true: 2}[yes])
	return yes
}

// record is kept small: a large reply has millions. A first child, if any, is
// the next record; an element's end tag is found again from the end.
type record struct {
	kind         Kind
	refs         bool
	cut          bool // reading ended within the element
	name         NameID
	start, end   uint32 // the whole node
	inner        uint32 // elements: where the start tag ends
	parent, next uint32 // 0: none (node 0 is the document itself)
	attrs        uint32 // index of the first attribute; the last ends where the next node's begin
}

// Node is a handle on a node; the zero Node is none.
type Node struct {
	doc *Document
	i   uint32
}

// After is how many nodes come after n in the document: at least those within it.
func (n Node) After() int { return len(n.doc.nodes) - 1 - int(n.i) }

// alongside is the size from which on a second goroutine is worth its while.
const alongside = 1 << 20

// Parse builds the tree. On an error, which is a *SyntaxError, the tree of
// what was readable comes with it: elements still open end where reading did.
func Parse(src []byte, limits Limits) (*Document, error) {
	return ParseEncoded(src, "", limits)
}

// ParseEncoded is Parse for bytes whose transport names their character
// encoding (RFC 7303 §3); "" where it names none.
func ParseEncoded(src []byte, charset string, limits Limits) (*Document, error) {
	return parseAs(src, charset, false, limits)
}

// ParseAlone is Parse for bytes as they came, of which nothing but themselves tells the encoding:
// what they declare must be what they are. Texts that were decoded already, and what a
// transport names an encoding of, are read by the others, which take such a word for a wrong
// label.
func ParseAlone(src []byte, limits Limits) (*Document, error) { return parseAs(src, "", true, limits) }

// CheckAlone is whether bytes as they came are well-formed, as ParseAlone has it: nothing is built of
// them, so that it takes no more memory than they do.
func CheckAlone(src []byte, limits Limits) error {
	text, name, _, _, err := decode(src, "")
	if err == nil {
		err = contradiction(text, name)
	}
	if err != nil {
		return &SyntaxError{Code: BadEncoding, Line: 1, Column: 1, Msg: err.Error()}
	}
	if len(text) > alongside {
		bad := make(chan int, 1)
		go func() { at, _ := firstBadChar(text); bad <- at }()
		err := throughHalves(text, limits, long, sample)
		if <-bad == len(text) {
			return err
		}
	}
	s := NewScanner(text, limits)
	defer s.done()
	return s.through()
}

func parseAs(src []byte, charset string, alone bool, limits Limits) (*Document, error) {
	text, name, dec, skip, err := decode(src, charset)
	if err == nil && alone {
		err = contradiction(text, name)
	}
	d := &Document{Src: text, Encoding: name, dec: dec, skip: skip, size: len(src)}
	if err != nil {
		d.nodes = make([]record, 1)
		return d, &SyntaxError{Code: BadEncoding, Line: 1, Column: 1, Msg: err.Error()}
	}
	if len(text) >= math.MaxInt32 {
		d.nodes = make([]record, 1)
		return d, &SyntaxError{
			Code:   TextLimit,
			Line:   1,
			Column: 1,
			Msg:    fmt.Sprintf("%d bytes are too many for a tree", len(text)),
		}
	}
	if len(text) > alongside {
		// The characters are looked at while the markup is read, and if one is
		// bad, the reading is done again as far as there.
		bad := make(chan int, 1)
		go func() { at, _ := firstBadChar(text); bad <- at }()
		s := newScanner(text, limits)
		err = d.build(s)
		if <-bad == len(text) {
			d.names = s.names
			return d, err
		}
		d.nodes, d.attrs = nil, nil
	}
	s := NewScanner(text, limits)
	err = d.build(s)
	d.names = s.names
	s.done()
	return d, err
}

//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func (d *Document) build(s *Scanner) error {
	nodes, attrs := estimate(d.Src)
	d.nodes = make([]record, 1, nodes+8)
	d.nodes[0].end = uint32(len(d.Src))
	d.attrs = make([]Attr, 0, attrs)
	// The path from the document to the open element, and the last child of each.
	type level struct{ node, last uint32 }
	stack := make([]level, 1, 32)
	var held Token // text that may prove to be its element's whole content
	holding := false
	usual := Token{Kind: StartElement}
	add := func(t *Token, inner int) uint32 {
		top := &stack[len(stack)-1]
		i := uint32(len(d.nodes))
		if top.last != 0 {
			d.nodes[top.last].next = i
		}
		top.last = i
		d.nodes = append(d.nodes, record{kind: t.Kind, refs: t.Refs, name: t.Name, start: uint32(t.Span.Start),
			end: uint32(t.Span.End), inner: uint32(inner), parent: top.node, attrs: uint32(len(d.attrs))})
		return i
	}
	for n := 0; ; n++ {
		if n&0xffff == 0xffff && s.limits.stopped() {
			return ErrStopped
		}
		if len(stack) > 1 && !s.pending {
			s.skipBlank() // what the spans leave out
			if s.usual(&usual) {
				if holding {
					add(&held, 0)
					holding = false
				}
				add(&usual, usual.Inner.Start)
				continue
			}
		}
		t, err := s.Next()
		if err != nil || t.Kind == EOF {
			for ; len(stack) > 1; stack = stack[:len(stack)-1] {
				n := &d.nodes[stack[len(stack)-1].node]
				n.end, n.cut = uint32(s.pos), true
			}
			return err
		}
		if holding && t.Kind != EndElement {
			add(&held, 0)
		}
		switch t.Kind {
		case StartElement:
			i := add(t, t.Span.End)
			if len(t.Attrs) > 0 {
				d.attrs = append(d.attrs, t.Attrs...)
			}
			if !t.Empty && s.leaf() {
				d.nodes[i].end = uint32(s.pos)
				break
			}
			stack = append(stack, level{node: i})
		case EndElement:
			top := stack[len(stack)-1]
			if holding && (top.last != 0 || held.Refs) {
				add(&held, 0)
			}
			d.nodes[top.node].end = uint32(t.Span.End)
			stack = stack[:len(stack)-1]
		case Text:
			if len(stack) > 1 {
				held, holding = *t, true
				continue
			}
		default:
			add(t, 0)
		}
		holding = false
	}
}

// estimate says how many nodes and attributes a document will have, from its
// beginning; large documents are much the same throughout.
func estimate(src []byte) (nodes, attrs int) {
	const sample = 256 << 10
	part := src[:min(len(src), sample)]
	nodes = bytes.Count(part, []byte{'<'}) / 2
	attrs = min(bytes.Count(part, []byte{'='}), 2*nodes)
	if len(src) > sample {
		scale := float64(len(src)) / sample * 1.03
		nodes, attrs = int(float64(nodes)*scale), int(float64(attrs)*scale)
	}
	return nodes, attrs
}

// Document is the node above the document element.
func (d *Document) Document() Node { return Node{d, 0} }

// Root is the document element, or the zero Node.
func (d *Document) Root() Node {
	for n := range d.Document().Children() {
		return n
	}
	return Node{}
}

// Names are the names that occur in the document, of elements and attributes,
// each once.
func (d *Document) Names() []Name { return d.names }

// Has tells whether an element or attribute of that name occurs.
func (d *Document) Has(space, local string) bool {
	return slices.ContainsFunc(d.names, func(n Name) bool { return n.Is(space, local) })
}

// Len is the number of nodes.
func (d *Document) Len() int { return len(d.nodes) - 1 }

// At is the innermost element whose span holds the offset, or the zero Node.
func (d *Document) At(offset int) Node {
	n := d.Root()
	if n.IsZero() || !n.holds(offset) {
		return Node{}
	}
	for {
		deeper := false
		for c := range n.Children() {
			if c.holds(offset) {
				n, deeper = c, true
				break
			}
		}
		if !deeper {
			return n
		}
	}
}

func (n Node) holds(offset int) bool {
	s := n.Span()
	return offset >= s.Start && offset < s.End
}

// IsZero tells whether this is no node at all.
func (n Node) IsZero() bool { return n.doc == nil }

func (n Node) rec() *record {
	if n.doc == nil { // what is not there is nowhere, and holds nothing
		return &nowhere.nodes[0]
	}
	return &n.doc.nodes[n.i]
}

//nolint:gochecknoglobals // the document of what is not there: it is never written to
var nowhere = &Document{nodes: make([]record, 1)}

// Doc is the document that the node is of.
func (n Node) Doc() *Document { return n.doc }

// Index is the node's place in document order, from 1; stable for a document.
func (n Node) Index() int { return int(n.i) }

// NodeAt is the node with that Index.
func (d *Document) NodeAt(i int) Node { return Node{d, uint32(i)} }

// Kind is StartElement, Text, CData, Comment or ProcInst.
func (n Node) Kind() Kind { return n.rec().kind }

// Name is the element's name.
func (n Node) Name() Name {
	if n.IsZero() || n.i == 0 || n.rec().kind != StartElement {
		return Name{}
	}
	return n.doc.names[n.rec().name]
}

// NameID is the place of the element's name in Names.
func (n Node) NameID() int { return int(n.rec().name) }

// Is tells whether the node is the element {space}local.
func (n Node) Is(space, local string) bool {
	return !n.IsZero() && n.i != 0 && n.rec().kind == StartElement && n.Name().Is(space, local)
}

// Span is the whole node, tags included.
func (n Node) Span() Span { r := n.rec(); return Span{int(r.start), int(r.end)} }

// Inner is what stands between an element's tags, or the content of another node.
func (n Node) Inner() Span {
	r := n.rec()
	start, end := int(r.start), int(r.end)
	switch {
	case n.i == 0 || r.kind == Text:
	case r.kind == StartElement && (r.cut || r.inner == r.end): // cut short, or an empty-element tag
		return Span{int(r.inner), end}
	case r.kind == StartElement:
		return Span{int(r.inner), start + bytes.LastIndexByte(n.doc.Src[start:end], '<')}
	case r.kind == CData:
		return Span{start + len("<![CDATA["), end - len("]]>")}
	case r.kind == Comment:
		return Span{start + len("<!--"), end - len("-->")}
	case r.kind == ProcInst:
		return Span{start + len("<?"), end - len("?>")}
	}
	return Span{start, end}
}

// Begin is where what an element holds begins: the start of Inner, which is dearer.
func (n Node) Begin() int { return int(n.rec().inner) }

// first is the index of the first child, or 0: in document order it follows.
func (n Node) first() uint32 {
	if i := n.i + 1; int(i) < len(n.doc.nodes) && n.doc.nodes[i].parent == n.i {
		return i
	}
	return 0
}

// Bytes is the node as it stands in the document.
func (n Node) Bytes() []byte {
	if n.doc == nil {
		return nil
	}
	s := n.Span()
	return n.doc.Src[s.Start:s.End]
}

// Parent is the element above, the document node, or the zero Node.
func (n Node) Parent() Node {
	if n.i == 0 {
		return Node{}
	}
	return Node{n.doc, n.rec().parent}
}

// Nodes are all children: elements, texts that are not only white space,
// comments, processing instructions.
func (n Node) Nodes() iter.Seq[Node] {
	return func(yield func(Node) bool) {
		if n.IsZero() {
			return
		}
		for i := n.first(); i != 0; i = n.doc.nodes[i].next {
			if !yield(Node{n.doc, i}) {
				return
			}
		}
	}
}

// Children are the child elements.
func (n Node) Children() iter.Seq[Node] {
	return func(yield func(Node) bool) {
		if n.IsZero() {
			return
		}
		nodes := n.doc.nodes
		for i := n.first(); i != 0; i = nodes[i].next {
			if nodes[i].kind == StartElement && !yield(Node{n.doc, i}) {
				return
			}
		}
	}
}

// Named are the child elements of one expanded name.
func (n Node) Named(space, local string) iter.Seq[Node] {
	return func(yield func(Node) bool) {
		for c := range n.Children() {
			if n.doc.names[c.rec().name].Is(space, local) && !yield(c) {
				return
			}
		}
	}
}

// Child is the first child element {space}local, or the zero Node.
func (n Node) Child(space, local string) Node {
	for c := range n.Named(space, local) {
		return c
	}
	return Node{}
}

// FirstChild is the first child element, or the zero Node.
func (n Node) FirstChild() Node {
	if n.IsZero() {
		return Node{}
	}
	return n.elementFrom(n.first())
}

// Next is the next element with the same parent, or the zero Node.
func (n Node) Next() Node { return n.elementFrom(n.rec().next) }

func (n Node) elementFrom(i uint32) Node {
	for ; i != 0; i = n.doc.nodes[i].next {
		if n.doc.nodes[i].kind == StartElement {
			return Node{n.doc, i}
		}
	}
	return Node{}
}

// Find is the first descendant element {space}local, or the zero Node.
func (n Node) Find(space, local string) Node {
	for c := range n.Children() {
		if c.Name().Is(space, local) {
			return c
		}
		if f := c.Find(space, local); !f.IsZero() {
			return f
		}
	}
	return Node{}
}

// Text is the character data directly in the node, references resolved.
func (n Node) Text() string {
	if n.IsZero() {
		return ""
	}
	in := n.Inner()
	content := n.doc.Src[in.Start:in.End]
	switch n.rec().kind {
	case Text:
		return textValue(content, n.rec().refs)
	case CData:
		return lineEnds(string(content))
	case Comment, ProcInst:
		return string(content)
	}
	if n.first() == 0 {
		return string(content)
	}
	var b strings.Builder
	for c := range n.Nodes() {
		if k := c.rec().kind; k == Text || k == CData {
			b.WriteString(c.Text())
		}
	}
	return b.String()
}

// Peek is Text for a look only: where it can, it shares the document's bytes,
// and so keeps the whole document alive while it is held.
func (n Node) Peek() string {
	if !n.IsZero() && n.i != 0 && n.rec().kind == StartElement && n.first() == 0 {
		in := n.Inner()
		return share(n.doc.Src[in.Start:in.End])
	}
	return n.Text()
}

// Attribute is an attribute of an element. Its value is for a look, as that of
// Peek is.
type Attribute struct {
	Name  Name   // its name
	Value string // as text
	Span  Span   // from the name to the closing quote
	Inner Span   // between the quotes
}

// Attrs are the attributes, namespace declarations included.
func (n Node) Attrs() iter.Seq[Attribute] {
	return func(yield func(Attribute) bool) {
		for _, a := range n.attrs() {
			if !yield(Attribute{
				Name:  n.doc.names[a.Name],
				Value: attrValue(n.doc.Src[a.Value:a.End], a.Refs),
				Span:  Span{int(a.Start), int(a.End) + 1},
				Inner: Span{int(a.Value), int(a.End)},
			}) {
				return
			}
		}
	}
}

// attrs are the records of the node's attributes. Who looks for one makes no values of the others.
func (n Node) attrs() []Attr {
	if n.IsZero() || n.i == 0 || n.rec().kind != StartElement {
		return nil
	}
	from, to := n.rec().attrs, uint32(len(n.doc.attrs))
	if int(n.i)+1 < len(n.doc.nodes) {
		to = n.doc.nodes[n.i+1].attrs
	}
	return n.doc.attrs[from:to]
}

// Attr is the value of the attribute {space}local; ok tells whether it stands.
func (n Node) Attr(space, local string) (value string, ok bool) {
	for _, a := range n.attrs() {
		if n.doc.names[a.Name].Is(space, local) {
			return attrValue(n.doc.Src[a.Value:a.End], a.Refs), true
		}
	}
	return "", false
}

// Lookup is the namespace that a prefix is bound to at the node.
func (n Node) Lookup(prefix string) (uri string, ok bool) {
	if prefix == "xml" {
		return XMLNamespace, true
	}
	for ; !n.IsZero() && n.i != 0; n = n.Parent() {
		for _, a := range n.attrs() {
			name := &n.doc.names[a.Name]
			if name.Space == XMLNSNamespace &&
				(name.Local == prefix && name.Prefix != "" || prefix == "" && name.Prefix == "") {
				value := attrValue(n.doc.Src[a.Value:a.End], a.Refs)
				return value, value != ""
			}
		}
	}
	return "", prefix == ""
}

// QName resolves a qualified name in content (XML Schema part 2 §3.2.18).
func (n Node) QName(value string) (Name, bool) {
	prefix, local, found := strings.Cut(strings.TrimSpace(value), ":")
	if !found {
		prefix, local = "", prefix
	}
	uri, ok := n.Lookup(prefix)
	return Name{Space: uri, Local: local, Prefix: prefix}, ok && local != ""
}

// Path is a readable path from the document element to the node, with
// positions where siblings share a name: Envelope/Body/Find/berth[2].
func (n Node) Path() string {
	var l Locator
	return l.Path(n)
}

// Locator says of many places of one document where they are. Places that come in the
// order of the document cost one reading together, where each alone costs one; those that
// come in another order are found from the counts on the way.
type Locator struct {
	offset       int                   // up to where was counted
	line, column int                   // there, from 0
	counted      map[sibling][]counted // in the order of the document
}

// sibling tells children of one parent that share a name; counted is how many of them
// stand up to a node, itself included.
type sibling struct {
	parent uint32
	name   Name
}

type counted struct {
	node uint32
	n    int
}

// Position is as the function of that name.
func (l *Locator) Position(src []byte, offset int) (line, column int) {
	offset = min(max(offset, 0), len(src))
	if offset < l.offset {
		l.offset, l.line, l.column = 0, 0, 0
	}
	run := src[l.offset:offset]
	if n := bytes.Count(run, []byte{'\n'}); n > 0 {
		l.line, l.column = l.line+n, 0
		run = run[bytes.LastIndexByte(run, '\n')+1:]
	}
	l.column += utf8.RuneCount(run)
	l.offset = offset
	return l.line + 1, l.column + 1
}

// worthKeeping is from how many siblings on a count is kept, and countEach how many are
// between two that are.
const (
	worthKeeping = 64
	countEach    = 4096
)

// before is how many siblings of its name stand before a node, and whether more follow.
func (l *Locator) before(n Node) (before int, more bool) {
	name, nodes := n.Name(), n.doc.nodes
	key := sibling{nodes[n.i].parent, name}
	next, kept := n.Parent().first(), l.counted[key]
	i, _ := slices.BinarySearchFunc(kept, n.i, func(c counted, node uint32) int { return cmp.Compare(c.node, node) })
	if i > 0 { // the last one before it
		before, next = kept[i-1].n, nodes[kept[i-1].node].next
	}
	for ; next != 0 && !more; next = nodes[next].next {
		if next == n.i || nodes[next].kind != StartElement ||
			!n.doc.names[nodes[next].name].Is(name.Space, name.Local) {
			continue
		}
		if more = next > n.i; more {
			break
		}
		if before++; before%countEach == 0 && i == len(kept) {
			kept = append(kept, counted{next, before})
			i++
		}
	}
	if before < worthKeeping {
		return before, more
	}
	if l.counted == nil {
		l.counted = map[sibling][]counted{}
	}
	if last := len(kept) - 1; i == len(kept) { // the newest takes the place of one that is none of the marks
		if last >= 0 && kept[last].n%countEach != 0 {
			kept = kept[:last]
		}
		kept = append(kept, counted{n.i, before + 1})
	}
	l.counted[key] = kept
	return before, more
}

// Path is as the method of that name.
func (l *Locator) Path(n Node) string {
	var parts []string
	for ; !n.IsZero() && n.i != 0; n = n.Parent() {
		part := n.Name().Local
		before, more := l.before(n)
		if before > 0 || more {
			part = fmt.Sprintf("%s[%d]", part, before+1)
		}
		parts = append(parts, part)
	}
	for i, j := 0, len(parts)-1; i < j; i, j = i+1, j-1 {
		parts[i], parts[j] = parts[j], parts[i]
	}
	return strings.Join(parts, "/")
}
