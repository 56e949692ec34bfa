package message

import (
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// headers is the root of a file of header blocks. It is no part of any message:
// it holds the blocks together, so that they are one document.
const headers = "headers"

// NoHeader is a file of header blocks with none in it.
const NoHeader = "<" + headers + "/>\n"

// NewHeader takes the header blocks of a draft: a document whose root, headers,
// holds them one after another. declared are those of the contract; each may
// stand once, or be left out.
func NewHeader(set *schema.Set, declared []*schema.Element, src []byte) *Draft {
	g := &schema.Group{}
	for _, e := range declared {
		g.Particles = append(g.Particles, &schema.Particle{Min: 0, Max: 1, Element: e})
	}
	t := &schema.Complex{Base: schema.AnyType(), Content: &schema.Particle{Min: 1, Max: 1, Group: g}}
	if len(src) == 0 {
		src = []byte(NoHeader)
	}
	return NewDraft(set, &schema.Element{Name: schema.QName{Local: headers}, Type: t}, src)
}

// Blocks are the header blocks as they leave: each on its own, without
// placeholders, with the namespace declarations that it needs.
func (d *Draft) Blocks() [][]byte {
	if d == nil || d.err != nil || d.Body().FirstChild().IsZero() {
		return nil
	}
	doc := d.doc
	if out := d.Outgoing(); len(out) != len(d.src) {
		doc, _ = xmltree.Parse(out, xmltree.Limits{})
	}
	return blocks(doc)
}

// Samples are the header blocks with their placeholders.
func (d *Draft) Samples() [][]byte { return blocks(d.doc) }

func blocks(doc *xmltree.Document) (out [][]byte) {
	for b := range doc.Root().Children() {
		declare := ""
		for a := range doc.Root().Attrs() {
			if a.Name.Space != xmltree.XMLNSNamespace {
				continue
			}
			if _, ok := b.Attr(a.Name.Space, a.Name.Local); !ok {
				declare += " " + string(doc.Src[a.Span.Start:a.Span.End])
			}
		}
		at := len("<" + b.Name().Qualified())
		text := string(b.Bytes())
		out = append(out, []byte("    "+text[:at]+declare+text[at:]))
	}
	return out
}

// Put puts a declared element that is left out at the top level in, with
// placeholders for its values; false where there is none of that name.
func (d *Draft) Put(name schema.QName) bool {
	for _, it := range d.Items() {
		if it.Depth == 0 && it.decl != nil && it.decl.Name == name {
			return it.Present || d.Include(it) == nil
		}
	}
	return false
}

// LeftOut are the names of the declared elements at the top level that are
// left out.
func (d *Draft) LeftOut() []schema.QName {
	var out []schema.QName
	if d == nil {
		return nil
	}
	for _, it := range d.Items() {
		if it.Depth == 0 && it.decl != nil && !it.Present {
			out = append(out, it.decl.Name)
		}
	}
	return out
}
