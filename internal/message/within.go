package message

import (
	"fmt"
	"strings"

	"orenda/internal/data"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// A value can be an XML document itself. Its rows follow the row of the value, their paths
// go on from there, and an edit of one writes the document back in the form it had.

// maxFolds is how deep documents in values of documents are opened.
const maxFolds = 4

// within is the place of a row in such a document.
type within struct {
	outer string // path of the value
	form  data.Form
	doc   *Draft
	at    Item // the row there
}

// embedded adds the rows of the document that is the value of a row, where it is one.
func (o *outline) embedded(row int, n xmltree.Node) {
	if o.folds == maxFolds {
		return
	}
	doc, form := data.Embedded(n)
	if form == data.NoDocument {
		return
	}
	outer := &o.items[row]
	outer.Holds = form
	d := &Draft{Schemas: o.set, kept: map[string]string{}, folds: o.folds + 1}
	d.Schemas, d.Decl = Declared(o.set, doc.Root())
	d.read(doc.Src, doc, nil)
	path, depth := outer.Path, outer.Depth+1
	for _, it := range d.Items() {
		if o.full() {
			return
		}
		o.left--
		in := &within{outer: path, form: form, doc: d, at: it}
		it.Depth += depth
		it.Path = join(path, it.Path)
		it.within = in
		o.items = append(o.items, it)
	}
}

// whole are the rows of a document in a value: those of its document element, and it.
func (o *outline) whole(decl *schema.Element, root xmltree.Node) []Item {
	if decl == nil {
		o.plain(root, 0, "", 0)
		return o.items
	}
	f := &follow{o: o, kids: []xmltree.Node{root}, parent: root.Parent()}
	f.present(&schema.Particle{Element: decl, Min: 1, Max: 1}, 1, true)
	return o.items
}

// plain are the rows of an element that nothing declares, as it stands. index is its
// number among those of its name, from 1; 0 where it is alone.
func (o *outline) plain(n xmltree.Node, depth int, path string, index int) {
	if o.full() {
		return
	}
	o.left--
	local := n.Name().Local
	it := Item{Kind: Leaf, Depth: depth, Name: local, Path: join(path, local), Present: true, Required: depth == 0,
		Node: n, Index: index, Max: schema.Unbounded}
	if depth == 0 {
		it.Max = 1
	}
	if index > 1 {
		it.Path = fmt.Sprintf("%s[%d]", it.Path, index)
	}
	if n.FirstChild().IsZero() {
		it.Value, it.Unfilled = n.Peek(), IsUnfilled(n)
	} else {
		it.Kind = Branch
	}
	row := len(o.items)
	o.items = append(o.items, it)
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace {
			o.items = append(o.items, Item{Kind: Attr, Depth: depth + 1, Name: "@" + a.Name.Local,
				Path: join(it.Path, "@"+a.Name.Local), Present: true, Required: true, Value: a.Value, Node: n, Max: 1,
				attr: &schema.Attribute{Name: schema.NameOf(a.Name), Type: schema.Builtin("string")}})
		}
	}
	if it.Kind == Leaf {
		o.embedded(row, n)
		return
	}
	of := map[xmltree.Name]int{}
	for _, c := range o.children(n) {
		of[c.Name()]++
		o.plain(c, depth+1, it.Path, of[c.Name()])
	}
}

// inside edits the document that a row stands in, and writes it back into its value.
func (d *Draft) inside(it Item, edit func(*Draft, Item) error) error {
	in := it.within
	outer, ok := d.Find(in.outer)
	if !ok || !outer.Present {
		return fmt.Errorf("%s is not there", in.outer)
	}
	was := in.doc.Bytes()
	if err := edit(in.doc, in.at); err != nil {
		return err
	}
	now := in.doc.Bytes()
	if string(now) == string(was) {
		return nil
	}
	text := string(now)
	if strings.TrimSpace(text) == "" || in.doc.Err() != nil {
		in.doc.load(was)
		return fmt.Errorf("what is left of %s would be no XML document", in.outer)
	}
	d.setRaw(outer.Node, in.form.Write(text))
	return nil
}

// cleared is the draft with the placeholders taken out of the documents in its values.
func (d *Draft) cleared() *Draft {
	out := d
	if !d.mayEmbed() {
		return d
	}
	done := map[string]bool{}
	for _, it := range d.Items() {
		if it.within == nil || !it.Unfilled || done[it.within.outer] {
			continue
		}
		done[it.within.outer] = true
		out = NewDraft(out.Schemas, out.Decl, out.src)
		if outer, ok := out.Find(it.within.outer); ok {
			out.setRaw(outer.Node, it.within.form.Write(string(it.within.doc.Outgoing())))
		}
	}
	return out
}

// Declared is the declaration of the document element of an XML document in a value, and
// the schemas that it is of: those that the document carries, or those of the contract; a
// nil declaration where there is none.
func Declared(set *schema.Set, root xmltree.Node) (*schema.Set, *schema.Element) {
	if own := carried(root); own != nil {
		if e := own.Element(schema.NameOf(root.Name())); e != nil {
			return own, e
		}
	}
	if set == nil {
		return nil, nil
	}
	return set, set.Element(schema.NameOf(root.Name()))
}

// carried are the schemas that stand in a document beside its rows, as data sets have them.
func carried(root xmltree.Node) (own *schema.Set) {
	for c := range root.Children() {
		if c.Is(schema.XSD, "schema") {
			if own == nil {
				own = schema.New(nil)
			}
			own.Add(c, "the schema in the value")
		}
	}
	return own
}

// ValidateWithin holds the XML documents that are values below an element against their
// declarations. Errors have the places of the values, and say where in them.
func ValidateWithin(set *schema.Set, n xmltree.Node, opts schema.Options) []schema.Error {
	return validateWithin(set, n, opts, 0)
}

func validateWithin(set *schema.Set, n xmltree.Node, opts schema.Options, folds int) (out []schema.Error) {
	if n.IsZero() || folds == maxFolds || !data.MayEmbed(n.Doc()) {
		return nil
	}
	most := opts.Max
	if most == 0 {
		most = schema.MaxErrors
	}
	from, to := n.Span().Start, n.Span().End
	var l xmltree.Locator
	for i := n.Index(); i <= n.Doc().Len() && len(out) < most; i++ {
		e := n.Doc().NodeAt(i)
		if e.Span().Start < from || e.Span().Start >= to {
			break
		}
		if e.Kind() != xmltree.StartElement || opts.Context != nil && opts.Context.Err() != nil {
			continue
		}
		doc, form := data.Embedded(e)
		if form == data.NoDocument {
			continue
		}
		root := doc.Root()
		errs := validateWithin(set, root, opts, folds+1)
		if own, decl := Declared(set, root); decl != nil {
			errs = append(errs, own.Validate(withoutSchemas(root), decl, opts)...)
		}
		for _, x := range errs[:min(len(errs), most-len(out))] {
			x.Message = fmt.Sprintf("in the XML document in %s, at %s: %s", e.Name().Local, x.Path, x.Message)
			x.Offset, x.Span = e.Inner().Start, e.Inner()
			x.Line, x.Column = l.Position(n.Doc().Src, x.Offset)
			x.Path = l.Path(e)
			out = append(out, x)
		}
	}
	return out
}

// withoutSchemas is a document element without the schemas that stand in it.
func withoutSchemas(root xmltree.Node) xmltree.Node {
	src := string(root.Doc().Src)
	gone := 0
	for c := range root.Children() {
		if c.Is(schema.XSD, "schema") {
			s := c.Span()
			src = src[:s.Start-gone] + src[s.End-gone:]
			gone += s.Len()
		}
	}
	if gone == 0 {
		return root
	}
	d, err := xmltree.Parse([]byte(src), xmltree.Limits{Depth: 512})
	if err != nil {
		return root
	}
	return d.Root()
}
