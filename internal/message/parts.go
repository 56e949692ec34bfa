package message

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/data"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Move puts a repeating element before the one above it (by -1) or after the
// one below it (by 1). What stands between the two stays where it is.
func (d *Draft) Move(it Item, by int) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.Move(at, by) })
	}
	if !it.Present || it.decl == nil || it.Max == 1 {
		return fmt.Errorf("%s does not repeat", it.Path)
	}
	var kin []Item
	at := -1
	for _, o := range d.Items() {
		if o.decl == it.decl && o.Present && o.Node.Parent() == it.Node.Parent() {
			if o.Node == it.Node {
				at = len(kin)
			}
			kin = append(kin, o)
		}
	}
	to := at + by
	if at < 0 || to < 0 || to >= len(kin) {
		return fmt.Errorf("%s is the %s already", it.Path, map[bool]string{true: "first", false: "last"}[by < 0])
	}
	a, b := kin[min(at, to)].Node.Span(), kin[max(at, to)].Node.Span()
	src := string(d.src)
	d.splice(a.Start, b.End, src[b.Start:b.End]+src[a.End:b.Start]+src[a.Start:a.End])
	return nil
}

// Types are the types that may stand for a row's own by xsi:type (XML Schema
// part 1 §2.6.1), its own included where it is not abstract; none where there
// is no choice.
func (d *Draft) Types(it Item) []schema.QName {
	if it.within != nil {
		return it.within.doc.Types(it.within.at)
	}
	if it.decl == nil || !it.Present || it.Kind != Leaf && it.Kind != Branch {
		return nil
	}
	t := it.decl.TypeOf()
	if t.TypeName().Local == "" || t.TypeName().Space == schema.XSD { // a type of the description's own
		return nil
	}
	var out []schema.QName
	if c, ok := t.(*schema.Complex); !ok || !c.Abstract {
		out = append(out, t.TypeName())
	}
	for _, o := range d.Schemas.Derived(t) {
		if !slices.Contains(out, o.TypeName()) {
			out = append(out, o.TypeName())
		}
	}
	if len(out) < 2 {
		return nil
	}
	return out
}

// TypeNow is the type that a row has: by xsi:type, or its declared one.
func (d *Draft) TypeNow(it Item) schema.QName {
	if v, ok := it.Node.Attr(schema.XSI, "type"); ok {
		if q, ok := it.Node.QName(v); ok {
			return schema.NameOf(q)
		}
	}
	return it.decl.TypeOf().TypeName()
}

// SetType gives a row another of its Types. Values of fields that both types
// have stay.
func (d *Draft) SetType(it Item, name schema.QName) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.SetType(at, name) })
	}
	if !slices.Contains(d.Types(it), name) {
		return fmt.Errorf("%s cannot be of the type %s", it.Path, name.Local)
	}
	was := map[string]string{}
	for _, o := range d.Items() {
		if rest, ok := strings.CutPrefix(o.Path, it.Path+"/"); ok && o.Present && !o.Unfilled &&
			(o.Kind == Leaf || o.Kind == Attr && o.attr.Default == nil) {
			was[rest] = o.Value
		}
	}
	one := *it.decl
	one.Type = d.Schemas.Type(name)
	text := strings.TrimLeft(SampleAt(d.Schemas, &one, inheritAt(it.Node.Parent()), it.Depth+d.base()+1), " ")
	if name != it.decl.TypeOf().TypeName() {
		open := strings.IndexAny(text, " />")
		text = text[:open] + ` xmlns:xsi="` + schema.XSI + `" xmlns:t="` + xmltree.EscapeAttr(
			name.Space,
		) + `" xsi:type="t:` + name.Local + `"` + text[open:]
	}
	s := it.Node.Span()
	d.splice(s.Start, s.End, text)
	for _, o := range slices.Clone(d.Items()) {
		if rest, ok := strings.CutPrefix(o.Path, it.Path+"/"); ok {
			if v, ok := was[rest]; ok && (o.Present || o.Kind == Attr) {
				if again, ok := d.Find(o.Path); ok {
					_ = d.SetValue(again, v)
				}
			}
		}
	}
	return nil
}

// Part is the XML of a row as it stands, with the namespace declarations that
// it needs to stand alone; "" where nothing stands.
func (d *Draft) Part(it Item) string {
	if !it.Present || it.Node.IsZero() || it.Kind == Attr || it.Kind == Fork {
		return ""
	}
	return Alone(it.Node)
}

// Alone is an element with the namespace declarations in force that it uses
// from above, so that it can stand somewhere else.
func Alone(n xmltree.Node) string {
	text := string(n.Bytes())
	at := len("<" + n.Name().Qualified())
	seen := map[string]bool{}
	declare := ""
	for up := n; !up.IsZero() && !up.Name().Is("", ""); up = up.Parent() {
		for a := range up.Attrs() {
			if a.Name.Space != xmltree.XMLNSNamespace || seen[a.Name.Qualified()] {
				continue
			}
			seen[a.Name.Qualified()] = true
			if up != n && used(text, a.Name) {
				declare += " " + string(n.Doc().Src[a.Span.Start:a.Span.End])
			}
		}
	}
	return text[:at] + declare + text[at:]
}

// used tells whether a declaration may matter to a piece of XML.
func used(text string, declaration xmltree.Name) bool {
	if declaration.Prefix == "" {
		return true
	}
	return strings.Contains(text, declaration.Local+":")
}

// PutPart replaces what stands at a row by a part that was copied: an element of
// the same name whole, else its text as a value.
func (d *Draft) PutPart(it Item, part string) error {
	if it.within != nil {
		return d.inside(it, func(in *Draft, at Item) error { return in.PutPart(at, part) })
	}
	p, err := xmltree.Parse([]byte(part), xmltree.Limits{Depth: 512})
	isElement := err == nil && strings.HasPrefix(strings.TrimSpace(part), "<")
	if !isElement || it.Kind == Attr {
		if isElement {
			part = p.Root().Text()
		}
		return d.SetValue(it, part)
	}
	root := p.Root()
	switch {
	case it.decl != nil && root.Name().Is(it.decl.Name.Space, it.decl.Name.Local):
	case it.Kind == Raw:
	case it.Kind == Leaf && root.FirstChild().IsZero():
		return d.SetValue(it, root.Text())
	default:
		return fmt.Errorf("%s does not fit in the place of %s", root.Name().Local, it.Name)
	}
	if !it.Present {
		if err := d.Include(it); err != nil {
			return err
		}
		var ok bool
		if it, ok = d.Find(it.Path); !ok {
			return fmt.Errorf("%s could not be put in", it.Path)
		}
	}
	s := it.Node.Span()
	d.splice(s.Start, s.End, strings.TrimSpace(part))
	return nil
}

// Difference is a field in which two drafts differ.
type Difference struct {
	Path       string // where: its path
	A, B       string // values; "" with Has false where the field is not there
	HasA, HasB bool   // A has it; B has it
}

// Differences are the fields in which two drafts of one operation differ, in
// the order of the first and then of what only the second has.
func Differences(a, b *Draft) []Difference {
	values := func(d *Draft) (map[string]string, []string) {
		m, order := map[string]string{}, []string{}
		for _, it := range d.Items() {
			if !it.Present || it.Holds != data.NoDocument || it.Kind != Leaf && it.Kind != Attr && it.Kind != Raw {
				continue
			}
			v := it.Value
			switch {
			case it.Nil:
				v = "nil"
			case it.Unfilled:
				v = "to fill in"
			}
			m[it.Path] = v
			order = append(order, it.Path)
		}
		return m, order
	}
	va, pa := values(a)
	vb, pb := values(b)
	var out []Difference
	for _, p := range pa {
		if v, ok := vb[p]; !ok || v != va[p] {
			out = append(out, Difference{p, va[p], v, true, ok})
		}
	}
	for _, p := range pb {
		if _, ok := va[p]; !ok {
			out = append(out, Difference{Path: p, B: vb[p], HasB: true})
		}
	}
	return out
}
