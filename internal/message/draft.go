package message

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"orenda/internal/data"
	"orenda/internal/exchange"
	"orenda/internal/near"
	"orenda/internal/pattern"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Draft is one filled-in message. Its bytes are the only truth: the outline is
// read from them, and an edit replaces a few of them.
type Draft struct {
	Schemas *schema.Set     // of the contract
	Decl    *schema.Element // of the body element; nil where the contract has none

	src   []byte
	doc   *xmltree.Document
	err   error
	rows  func() outlined       // worked out when it is asked for
	valid func() []schema.Error // the same
	clear func() []byte         // the same
	kept  map[string]string     // what stood in the branches of choices that were left
	folds int                   // how many values it lies in, an XML document in a value
}

// Limits are what a draft is read within.
//
//nolint:gochecknoglobals // it is never written to
var Limits = xmltree.Limits{Depth: 512}

// NewDraft takes a draft's bytes: a body element, or a whole envelope.
func NewDraft(set *schema.Set, decl *schema.Element, src []byte) *Draft {
	return NewDraftOf(set, decl, src, nil)
}

// NewDraftOf is NewDraft for bytes that were parsed already, within Limits; doc nil: they were not.
func NewDraftOf(set *schema.Set, decl *schema.Element, src []byte, doc *xmltree.Document) *Draft {
	d := &Draft{Schemas: set, Decl: decl, kept: map[string]string{}}
	if doc == nil {
		d.load(src)
	} else {
		d.read(src, doc, nil)
	}
	return d
}

var arrayCount = pattern.New(`\[[0-9]+\]$`)

// recount makes the size that an array of SOAP encoding says it has the number
// of its members; it is done after a member came or went.
func (d *Draft) recount() {
	if d.err != nil || !bytes.Contains(d.src, []byte(":arrayType=")) {
		return
	}
	src := string(d.src)
	for i := d.doc.Len(); i > 0; i-- { // from the end, so that places before stay
		n := d.doc.NodeAt(i)
		if n.Kind() != xmltree.StartElement {
			continue
		}
		for a := range n.Attrs() {
			if a.Name.Space != schema.SOAPEncoding || a.Name.Local != "arrayType" || !arrayCount.MatchString(a.Value) {
				continue
			}
			members := 0
			for range n.Children() {
				members++
			}
			src = src[:a.Inner.Start] + arrayCount.ReplaceAllString(
				src[a.Inner.Start:a.Inner.End],
				fmt.Sprintf("[%d]", members),
			) + src[a.Inner.End:]
		}
	}
	if src != string(d.src) {
		d.load([]byte(src))
	}
}

func (d *Draft) load(src []byte) {
	doc, err := xmltree.Parse(src, Limits)
	d.read(src, doc, err)
}

// read takes bytes that were parsed.
func (d *Draft) read(src []byte, doc *xmltree.Document, err error) {
	d.src, d.doc, d.err = src, doc, err
	d.rows = func() outlined { return outlined{} }
	d.valid, d.clear = sync.OnceValue(d.validate), sync.OnceValue(d.withoutPlaceholders)
	root := d.Body()
	if d.err != nil || root.IsZero() {
		return
	}
	// What is only sent needs no outline: it is made when it is first asked for.
	d.rows = sync.OnceValue(func() outlined {
		o := &outline{set: d.Schemas, left: maxRows, folds: d.folds}
		if d.folds > 0 {
			return outlined{o.whole(d.Decl, root), o.cut}
		}
		items := o.of(d.Decl, root)
		return outlined{items, o.cut}
	})
}

// outlined is the outline of a draft.
type outlined struct {
	items []Item
	cut   bool // it is the beginning only
}

// Bytes are the draft as it is kept.
func (d *Draft) Bytes() []byte { return d.src }

// Err is what makes the draft unreadable, a *xmltree.SyntaxError, or nil.
func (d *Draft) Err() error { return d.err }

// Doc is the parsed draft.
func (d *Draft) Doc() *xmltree.Document { return d.doc }

// Cut tells whether the draft is so large that its outline has only the beginning.
func (d *Draft) Cut() bool { return d != nil && d.rows().cut }

// Items are the rows of the outline.
func (d *Draft) Items() []Item { return d.rows().items }

// Envelope is the envelope where the draft is one, or nil.
func (d *Draft) Envelope() *soap.Envelope { return soap.Read(d.doc) }

// Body is the body element, also within an envelope.
func (d *Draft) Body() xmltree.Node {
	if d.folds > 0 {
		return d.doc.Root()
	}
	if e := d.Envelope(); e != nil {
		return e.Payload
	}
	return d.doc.Root()
}

// Replace takes other bytes for the whole draft.
func (d *Draft) Replace(src []byte) {
	if string(src) != string(d.src) {
		d.load(src)
	}
}

func (d *Draft) splice(from, to int, with string) {
	d.Replace([]byte(string(d.src[:from]) + with + string(d.src[to:])))
}

// SetValue gives a leaf or an attribute its value. What is not there yet is
// put in.
func (d *Draft) SetValue(it Item, value string) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.SetValue(at, value) })
	}
	switch it.Kind {
	case Attr:
		for a := range it.Node.Attrs() {
			if schema.NameOf(a.Name) == it.attr.Name {
				d.splice(a.Inner.Start, a.Inner.End, attrText(d.src[a.Inner.Start-1], value))
				return nil
			}
		}
		at := it.Node.Span().Start + 1 + len(it.Node.Name().Qualified())
		d.splice(at, at, " "+it.attr.Name.Local+`="`+xmltree.EscapeAttr(value)+`"`)
		return nil
	case Raw:
		if p, err := xmltree.Parse([]byte(value), xmltree.Limits{Depth: 512}); err != nil || p.Root().IsZero() {
			return errors.New("an element is due here, as XML")
		}
		if !it.Present {
			d.insert(it.at, "\n"+indent(it.Depth+d.base()+1)+value, it.Depth)
			return nil
		}
		s := it.Node.Span()
		d.splice(s.Start, s.End, value)
		return nil
	case Leaf:
		if !it.Present {
			if err := d.Include(it); err != nil {
				return err
			}
			fresh, ok := d.Find(it.Path)
			if !ok || !fresh.Present {
				return fmt.Errorf("%s could not be put in", it.Path)
			}
			d.setText(fresh.Node, value)
			return nil
		}
		d.setText(it.Node, value)
		return nil
	}
	return fmt.Errorf("%s holds no value of its own", it.Path)
}

func attrText(quote byte, value string) string {
	s := xmltree.EscapeAttr(value)
	if quote == '\'' {
		s = strings.ReplaceAll(s, "'", "&apos;")
	}
	return s
}

var nilAttr = pattern.New(`\s+[A-Za-z_][\w.-]*:nil\s*=\s*("[^"]*"|'[^']*')`)

func (d *Draft) setText(n xmltree.Node, value string) { d.setRaw(n, xmltree.EscapeText(value)) }

// setRaw gives an element its content, as it is written.
func (d *Draft) setRaw(n xmltree.Node, value string) {
	in, all := n.Inner(), n.Span()
	tag := nilAttr.ReplaceAllString(string(d.src[all.Start:in.Start]), "")
	if in.Len() == 0 && in.Start == all.End { // <a/>
		tag = strings.TrimRight(strings.TrimSuffix(tag, "/>"), " ")
		d.splice(all.Start, all.End, tag+">"+value+"</"+n.Name().Qualified()+">")
		return
	}
	d.splice(all.Start, in.End, tag+value)
}

// SetNil makes an element nil (xsi:nil), or puts a placeholder in its place.
func (d *Draft) SetNil(it Item) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.SetNil(at) })
	}
	if it.Kind != Leaf && it.Kind != Branch || !it.Present || !it.Nillable {
		return fmt.Errorf("%s may not be nil", it.Path)
	}
	s := it.Node.Span()
	if it.Nil {
		d.splice(
			s.Start,
			s.End,
			strings.TrimLeft(SampleAt(d.Schemas, it.decl, inheritAt(it.Node.Parent()), it.Depth+1), " "),
		)
		return nil
	}
	name := it.Node.Name().Qualified()
	ns := ""
	for a := range it.Node.Attrs() {
		if a.Name.Space == xmltree.XMLNSNamespace {
			ns += " " + string(d.src[a.Span.Start:a.Span.End])
		}
	}
	d.splice(s.Start, s.End, "<"+name+ns+` xmlns:xsi="`+schema.XSI+`" xsi:nil="true"/>`)
	return nil
}

// Include puts an element in that is left out.
func (d *Draft) Include(it Item) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.Include(at) })
	}
	switch {
	case it.Kind == Attr:
		return d.SetValue(it, "")
	case it.Present:
		return nil
	case it.Kind == Raw:
		return errors.New("⏎ and then the element, as XML")
	case it.decl == nil:
		return fmt.Errorf("%s cannot be put in", it.Path)
	}
	d.insert(it.at, "\n"+d.sampleAt(it, it.inherit), it.Depth)
	d.recount()
	return nil
}

// IsEncoded tells whether the body says that it is in SOAP encoding.
func (d *Draft) IsEncoded() bool { return bytes.Contains(d.src, []byte(":encodingStyle=")) }

// Encoded is the draft in SOAP encoding (SOAP 1.1 §5): the same values, each with
// its type, for a port that is encoded where the draft was made for another.
func (d *Draft) Encoded() (*Draft, error) {
	if d.Decl == nil || d.Envelope() != nil || d.IsEncoded() {
		return d, nil
	}
	out := NewDraft(d.Schemas, d.Decl, Sample(d.Schemas, d.Decl, Want{Encoded: true}))
	for _, it := range d.Items() {
		if it.within != nil || !it.isInput() {
			continue
		}
		if err := out.Set(it.Path, it.Value); err != nil {
			return d, err
		}
	}
	return out, nil
}

// sampleAt is another of what a row declares, as it stands there; encoded where
// the message is.
func (d *Draft) sampleAt(it Item, inherit string) string {
	s := sampler{set: d.Schemas, seen: map[schema.Type]int{}}
	s.want.Encoded = d.IsEncoded()
	s.element(it.decl, inherit, it.Depth+d.base()+1, false)
	return s.b.String()
}

// base is the depth of the body element in the draft.
func (d *Draft) base() int {
	if d.folds > 0 { // its document element has a row
		return -1
	}
	if d.Envelope() != nil {
		return 2
	}
	return 0
}

// insert puts text at an offset; an element that was empty is opened first.
func (d *Draft) insert(at int, text string, depth int) {
	if at >= 2 && string(d.src[at-2:at]) == "/>" {
		parent := d.doc.At(at - 1)
		if !parent.IsZero() && parent.Span().End == at && parent.Inner().Start == at {
			d.splice(at-2, at, ">"+text+"\n"+indent(depth+d.base())+"</"+parent.Name().Qualified()+">")
			return
		}
	}
	end := text
	if strings.HasPrefix(string(d.src[at:]), "</") {
		end += "\n" + indent(depth+d.base())
	}
	d.splice(at, at, end)
}

// LeaveOut takes an element or attribute out; required ones too, as a person
// may want to see how the service answers.
func (d *Draft) LeaveOut(it Item) {
	if !it.Present {
		return
	}
	if it.within != nil {
		_ = d.inside(it, func(in *Draft, at Item) error { in.LeaveOut(at); return nil })
		return
	}
	if it.Kind == Attr {
		for a := range it.Node.Attrs() {
			if schema.NameOf(a.Name) == it.attr.Name {
				d.splice(d.blankBefore(a.Span.Start), a.Span.End, "")
				return
			}
		}
		return
	}
	s := it.Node.Span()
	end := s.End
	if it.Kind == Fork && !it.lastNode.IsZero() {
		end = it.lastNode.Span().End
	}
	d.splice(d.blankBefore(s.Start), end, "")
	d.recount()
}

func (d *Draft) blankBefore(at int) int {
	for at > 0 && strings.IndexByte(" \t\r\n", d.src[at-1]) >= 0 {
		at--
	}
	return at
}

// Repeat adds another of a repeating element after it.
func (d *Draft) Repeat(it Item) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.Repeat(at) })
	}
	if it.Max == 1 || it.decl == nil && (it.Kind == Raw || it.Kind == Fork) {
		return fmt.Errorf("%s does not repeat", it.Path)
	}
	if !it.Present {
		return d.Include(it)
	}
	if it.decl == nil { // nothing declares it: another like it
		s := it.Node.Span()
		d.splice(s.End, s.End, string(d.src[d.blankBefore(s.Start):s.End]))
		return nil
	}
	n := 0
	for _, o := range d.Items() {
		if o.decl == it.decl && o.Present && o.Node.Parent() == it.Node.Parent() {
			n++
		}
	}
	if it.Max > 0 && n >= it.Max {
		return fmt.Errorf("%s may stand %d times at most", it.Name, it.Max)
	}
	at := it.Node.Span().End
	d.splice(at, at, "\n"+d.sampleAt(it, inheritAt(it.Node.Parent())))
	d.recount()
	return nil
}

// Choose takes another branch of a choice. What stood in the branch that is
// left is kept, and comes back with it.
func (d *Draft) Choose(it Item, branch int) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.Choose(at, branch) })
	}
	if it.Kind != Fork || branch < 0 || branch >= len(it.Branches) {
		return fmt.Errorf("there is no such branch")
	}
	if branch == it.Chosen {
		return nil
	}
	key := func(b int) string { return fmt.Sprintf("%s\x00%s\x00%d", it.Path, it.Name, b) }
	text, ok := d.kept[key(branch)]
	if !ok {
		s := sampler{set: d.Schemas, seen: map[schema.Type]int{}}
		one := *it.group.Particles[branch]
		one.Min = max(1, one.Min)
		s.particle(&one, it.inherit, it.Depth+d.base()+1)
		text = s.b.String()
	}
	if it.Chosen < 0 {
		d.insert(it.at, text, it.Depth)
		return nil
	}
	from, to := d.blankBefore(it.Node.Span().Start), it.lastNode.Span().End
	d.kept[key(it.Chosen)] = string(d.src[from:to])
	d.splice(from, to, text)
	return nil
}

// Find is the row of a path; repeats without a number mean the first.
func (d *Draft) Find(path string) (Item, bool) {
	path = strings.TrimPrefix(strings.ReplaceAll(path, "[1]", ""), "/")
	for _, it := range d.Items() {
		if it.Kind != Fork && it.Path == path {
			return it, true
		}
	}
	return Item{}, false
}

// Paths are the paths of all rows.
func (d *Draft) Paths() []string {
	var out []string
	for _, it := range d.Items() {
		if it.Kind != Fork {
			out = append(out, it.Path)
		}
	}
	return out
}

// PathError is a path that names no field.
type PathError struct {
	Path string   // as written
	Near string   // the one that is meant, likely; "" none is near
	All  []string // paths that there are
}

func (e *PathError) Error() string {
	s := fmt.Sprintf("the message has no field %s", e.Path)
	if e.Near != "" {
		s += fmt.Sprintf("; %s is meant, perhaps", e.Near)
	}
	return s
}

// Set gives the field at a path its value, putting in what is on the way:
// optional elements, repeats, the branch of a choice.
func (d *Draft) Set(path, value string) error {
	for range 60 {
		if it, ok := d.Find(path); ok {
			return d.SetValue(it, value)
		}
		if !d.approach(strings.ReplaceAll(path, "[1]", "")) {
			break
		}
	}
	return &PathError{path, near.Miss(path, d.Paths()), d.Paths()}
}

// approach puts in what brings a path nearer; false where nothing does.
//
//revive:disable-next-line:cyclomatic one switch over the kinds of items
func (d *Draft) approach(path string) bool {
	for _, it := range d.Items() {
		switch {
		case it.Kind == Fork:
			for b, name := range it.Branches {
				for _, part := range strings.Split(name, "+") {
					p := join(it.Path, part)
					if b != it.Chosen &&
						(path == p || strings.HasPrefix(path, p+"/") || strings.HasPrefix(path, p+"[")) {
						return d.Choose(it, b) == nil
					}
				}
			}
		case it.Kind == Branch && !it.Present && strings.HasPrefix(path, it.Path+"/"):
			return d.Include(it) == nil
		case it.Max != 1 && !it.Present && it.decl != nil && strings.HasPrefix(path, it.Path+"["):
			return d.Include(it) == nil
		case it.Max != 1 && it.Present && it.Kind != Fork:
			base := strings.TrimSuffix(it.Path, fmt.Sprintf("[%d]", it.Index))
			next := fmt.Sprintf("%s[%d]", base, it.Index+1)
			if _, there := d.Find(next); !there && strings.HasPrefix(path, base+"[") && it.Path != path &&
				!strings.HasPrefix(path, it.Path+"/") &&
				repeatNumber(path, base) > it.Index {
				return d.Repeat(it) == nil
			}
		}
	}
	return false
}

func repeatNumber(path, base string) (n int) {
	_, _ = fmt.Sscanf(strings.TrimPrefix(path, base), "[%d]", &n)
	return n
}

// Inputs are the values that were filled in, by their paths.
func (d *Draft) Inputs() []exchange.Input { return inputsOf(d.Items()) }

// Of a message of another program the values of so many elements are noted, and of a longer one those
// of the first.
const (
	mostNoted = 100
	mostFirst = 40
)

// outlines are those of which nobody keeps the rows: new ones were a fifth of the memory that a
// relayed exchange took.
//
//nolint:gochecknoglobals // a pool serves all
var outlines = sync.Pool{New: func() any { return &outline{} }}

// FirstInputs are the values in the first elements, for a message that another program wrote:
// it may be long, and there are many of them. What follows is one value, by which it is told
// from others; secrets, by their names, are not in it.
func (d *Draft) FirstInputs(names exchange.SecretNames) []exchange.Input {
	root := d.Body()
	if d.err != nil || root.IsZero() || root.After() <= 2*mostNoted {
		return d.Inputs()
	}
	o := outlines.Get().(*outline)
	o.set, o.left, o.folds = d.Schemas, mostFirst, d.folds
	items := o.of(d.Decl, root)
	defer func() {
		clear(items)
		*o = outline{items: items[:0]}
		outlines.Put(o)
	}()
	out := inputsOf(items)
	if !o.cut || len(items) == 0 {
		return out
	}
	at := 0
	for i := range items {
		if n := items[i].Node; !n.IsZero() {
			at = max(at, n.Inner().Start)
		}
	}
	h := fnv.New64a()
	secrets := SecretsIn(d.doc, root, names)
	slices.SortFunc(secrets, func(a, b Secret) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
	for _, s := range secrets {
		if s.Span.Start >= at {
			_, _ = h.Write(d.doc.Src[at:s.Span.Start])
		}
		at = max(at, s.Span.End)
	}
	_, _ = h.Write(d.doc.Src[at:max(root.Span().End, at)])
	return append(out, exchange.Input{Path: "what follows", Value: fmt.Sprintf("%016x", h.Sum64())})
}

func inputsOf(items []Item) (out []exchange.Input) {
	for _, it := range items {
		if it.isInput() && it.Holds == data.NoDocument {
			out = append(out, exchange.Input{Path: it.Path, Value: inputValue(it.Value)})
		}
	}
	return out
}

// isInput tells whether a value stands at a row.
func (it *Item) isInput() bool {
	return (it.Kind == Leaf || it.Kind == Attr) && it.Present && !it.Unfilled
}

// maxInput is the longest value in bytes that is noted as what a draft was filled with.
const maxInput = 4 << 10

// inputValue is a value as it is noted: of a long one its beginning, with what tells it
// from others of the same beginning.
func inputValue(v string) string {
	if len(v) <= maxInput {
		return strings.Clone(v)
	}
	h := fnv.New64a()
	_, _ = io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{strings.NewReader(v)}, make([]byte, 64<<10))
	return fmt.Sprintf("%s… (%d bytes, %016x)", strings.ToValidUTF8(v[:maxInput], ""), len(v), h.Sum64())
}

// Secrets are the values of the draft that are secret, by their names and by their places
// below its body element, as they are written and as they are meant.
func (d *Draft) Secrets(names exchange.SecretNames) (out []string) {
	if d == nil || d.doc == nil {
		return nil
	}
	for _, s := range SecretsIn(d.doc, d.Body(), names) {
		out = append(out, s.Written, s.Meant)
	}
	return out
}

// MayHold tells, without an outline, whether a value can be one of some words. What is only
// passed on is looked at so: most of it needs no outline.
func (d *Draft) MayHold(words ...string) bool {
	if d.mayEmbed() {
		return true
	}
	for i := range d.doc.Len() {
		n := d.doc.NodeAt(i + 1)
		if n.Kind() != xmltree.StartElement {
			continue
		}
		if n.FirstChild().IsZero() && slices.Contains(words, strings.TrimSpace(n.Peek())) {
			return true
		}
		for a := range n.Attrs() {
			if slices.Contains(words, strings.TrimSpace(a.Value)) {
				return true
			}
		}
	}
	return false
}

// mayEmbed tells whether a value can be an XML document; of what cannot be read, nobody knows.
func (d *Draft) mayEmbed() bool { return d.doc == nil || data.MayEmbed(d.doc) }

// text are the bytes as they are read: the draft's own may be in another encoding.
func (d *Draft) text() []byte {
	if d.doc != nil {
		return d.doc.Src
	}
	return d.src
}

// MayBeEmpty tells, without an outline, whether a value can be empty.
func (d *Draft) MayBeEmpty() bool {
	if d.mayEmbed() {
		return true
	}
	for i := range d.doc.Len() {
		n := d.doc.NodeAt(i + 1)
		if n.Kind() != xmltree.StartElement || !n.FirstChild().IsZero() {
			continue
		}
		if text := n.Inner(); text.Len() == 0 || d.doc.Src[text.Start] == '<' {
			return true
		}
	}
	return false
}

// holdsPlaceholder looks for the sign that is rarer than the bracket before it.
func holdsPlaceholder(src []byte) bool {
	for rest := src; ; {
		i := bytes.Index(rest, []byte("?"+Placeholder))
		if i < 0 {
			return false
		}
		if i > 0 && rest[i-1] == '<' {
			return true
		}
		rest = rest[i+1:]
	}
}

// Unfilled are the rows that still hold a placeholder.
func (d *Draft) Unfilled() []Item {
	if d == nil || !holdsPlaceholder(d.text()) && !d.mayEmbed() {
		return nil
	}
	var out []Item
	for _, it := range d.Items() {
		if it.Unfilled {
			out = append(out, it)
		}
	}
	if d.rows().cut {
		out = d.unfilledBeyond(out)
	}
	return out
}

// unfilledBeyond adds the first placeholder that is not among the rows of an outline that
// is cut.
func (d *Draft) unfilledBeyond(known []Item) []Item {
	if !holdsPlaceholder(d.src) {
		return known
	}
	there := map[int]bool{}
	for _, it := range known {
		there[it.Node.Index()] = true
	}
	for i := 1; i <= d.doc.Len(); i++ {
		n := d.doc.NodeAt(i)
		if up := n.Parent(); n.Kind() == xmltree.ProcInst && isPlaceholder(n.Text()) && !there[up.Index()] {
			return append(known, Item{Kind: Leaf, Depth: 1, Name: up.Name().Local, Path: up.Path(), Present: true,
				Required: true, Unfilled: true, Node: up, Max: 1})
		}
	}
	return known
}

// WithExamples is the draft with example values where none was filled in yet; dates are about a day.
func (d *Draft) WithExamples(day time.Time) *Draft {
	out := NewDraft(d.Schemas, d.Decl, d.Bytes())
	e := &schema.Examples{Day: day}
	for _, it := range d.Unfilled() {
		if st := it.Simple(); st != nil {
			_ = out.Set(it.Path, e.Value(st, 0))
		}
	}
	return out
}

// Demanded are the rows still to be filled in that must be: required ones, choices that
// were not made, and header blocks that were put in.
func (d *Draft) Demanded() []Item {
	return slices.DeleteFunc(d.Unfilled(), d.leavesOut)
}

// leavesOut tells whether an unfilled row is left out when the draft is sent: an optional
// element.
func (d *Draft) leavesOut(it Item) bool {
	block := it.Depth == 0 && d.Decl != nil && d.Decl.Name.Local == headers
	return it.Kind == Leaf && !it.Required && !block
}

// Outgoing is the draft without its placeholders, which are never sent: what is required
// goes out empty, an optional element is left out.
func (d *Draft) Outgoing() []byte { return d.clear() }

func (d *Draft) withoutPlaceholders() []byte {
	d = d.cleared()
	if !holdsPlaceholder(d.src) {
		return d.src
	}
	var out []byte
	at := 0
	gone := map[int]int{} // where elements that are left out begin, and where they end
	for _, it := range d.Items() {
		if it.Unfilled && it.within == nil && d.leavesOut(it) {
			gone[it.Node.Span().Start] = it.Node.Span().End
		}
	}
	for i := 1; i <= d.doc.Len(); i++ {
		n := d.doc.NodeAt(i)
		if end, ok := gone[n.Span().Start]; ok && n.Span().End == end {
			out, at = append(out, d.src[at:n.Span().Start]...), end
		}
		if n.Span().Start >= at && n.Kind() == xmltree.ProcInst && isPlaceholder(n.Text()) {
			out = append(out, d.src[at:n.Span().Start]...)
			at = n.Span().End
		}
	}
	return append(out, d.src[at:]...)
}

// Validate checks the body element against its declaration; what awaits a
// value is passed over.
func (d *Draft) Validate() []schema.Error { return d.valid() }

func (d *Draft) validate() []schema.Error {
	if d.Decl == nil || d.err != nil || d.Body().IsZero() {
		return nil
	}
	opts := schema.Options{Unfilled: IsUnfilled}
	return append(d.Schemas.Validate(d.Body(), d.Decl, opts), ValidateWithin(d.Schemas, d.Body(), opts)...)
}

// Wrong says why a value would not do for a row, in plain words; "" where it
// would.
func (it Item) Wrong(value string) string {
	var t *schema.Simple
	switch {
	case it.attr != nil:
		t = it.attr.Type
	case it.decl != nil:
		t = schema.SimpleOf(it.decl.TypeOf())
	}
	if t == nil {
		return ""
	}
	if e := t.Check(value); e != nil {
		return e.Msg
	}
	return ""
}
