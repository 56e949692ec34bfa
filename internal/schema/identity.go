package schema

import (
	"math"
	"math/big"
	"strconv"
	"strings"

	"orenda/internal/xmltree"
)

// constraint is xs:unique, xs:key or xs:keyref (part 1 §3.11).
type constraint struct {
	kind     string
	name     QName
	selector []xpath
	fields   [][]xpath
	refer    QName
}

// xpath is one alternative of the subset of XPath that constraints use
// (part 1 §3.11.6): .//a/b, a/@k.
type xpath struct {
	deep  bool
	steps []step
}

type step struct {
	attr, any bool   // @name; *
	wild      bool   // p:*, any name of the namespace
	name      QName  // the namespace alone where wild
	self      bool   // .
	text      string // as written
}

func (s *Set) constraints(d *document, n xmltree.Node) (out []*constraint) {
	for c := range n.Children() {
		kind := c.Name().Local
		if c.Name().Space != XSD || kind != "unique" && kind != "key" && kind != "keyref" {
			continue
		}
		name, _ := c.Attr("", "name")
		k := &constraint{kind: kind, name: QName{d.target, name}}
		if r, ok := c.Attr("", "refer"); ok {
			k.refer, _ = s.ref(d, c, r)
		}
		for p := range c.Children() {
			text, _ := p.Attr("", "xpath")
			switch p.Name().Local {
			case "selector":
				k.selector = s.xpaths(d, p, text)
			case "field":
				k.fields = append(k.fields, s.xpaths(d, p, text))
			}
		}
		s.constrained = true
		out = append(out, k)
	}
	return out
}

func (s *Set) xpaths(d *document, n xmltree.Node, text string) (out []xpath) {
	for _, alt := range strings.Split(text, "|") {
		alt = strings.Join(strings.Fields(alt), "")
		var x xpath
		if rest, ok := strings.CutPrefix(alt, ".//"); ok {
			x.deep, alt = true, rest
		}
		for _, part := range strings.Split(alt, "/") {
			st := step{text: part}
			part = strings.TrimPrefix(part, "child::")
			if rest, ok := strings.CutPrefix(part, "attribute::"); ok {
				part = "@" + rest
			}
			if rest, ok := strings.CutPrefix(part, "@"); ok {
				st.attr, part = true, rest
			}
			switch {
			case part == ".":
				st.self = true
			case part == "*":
				st.any = true
			case strings.HasSuffix(part, ":*"):
				st.wild = true
				st.name.Space, _ = n.Lookup(strings.TrimSuffix(part, ":*"))
			default:
				q, ok := n.QName(part)
				if !ok {
					s.problem(d, n, text, "its prefix is not bound to a namespace")
				}
				st.name = NameOf(q)
				if !strings.Contains(part, ":") {
					st.name.Space = "" // no prefix is no namespace in XPath 1.0
				}
			}
			x.steps = append(x.steps, st)
		}
		out = append(out, x)
	}
	return out
}

func (st *step) matches(q QName) bool {
	return st.any || st.wild && q.Space == st.name.Space || q == st.name
}

// elements are those that a selector leads to.
func elements(n xmltree.Node, xs []xpath) (out []xmltree.Node) {
	for _, x := range xs {
		from := []xmltree.Node{n}
		if x.deep {
			from = below(n, from)
		}
		for i := range x.steps {
			st := &x.steps[i]
			if st.self || st.attr {
				continue
			}
			var next []xmltree.Node
			for _, f := range from {
				for c := range f.Children() {
					if st.matches(NameOf(c.Name())) {
						next = append(next, c)
					}
				}
			}
			from = next
		}
		out = append(out, from...)
	}
	return out
}

func below(n xmltree.Node, out []xmltree.Node) []xmltree.Node {
	for c := range n.Children() {
		out = append(below(c, out), c)
	}
	return out
}

// field is the value that a field leads to: its text in a form in which equal
// values are equal, and whether there is one.
func (v *validator) field(n xmltree.Node, xs []xpath) (value string, present bool) {
	for _, x := range xs {
		last := &x.steps[len(x.steps)-1]
		for _, e := range elements(n, []xpath{x}) {
			if !last.attr {
				if nilled, _ := e.Attr(XSI, "nil"); nilled == "true" || nilled == "1" {
					return "", false
				}
				t := v.types[e.Index()]
				return canonical(t, e.Text()), true
			}
			for a := range e.Attrs() {
				if a.Name.Space != xmltree.XMLNSNamespace && last.matches(NameOf(a.Name)) {
					return canonical(v.attrTypes[a.Span.Start], a.Value), true
				}
			}
		}
	}
	return "", false
}

// equal tells whether two texts are the same value of a type (part 2 §2.2): 03 is 3, and
// 01:00 in one zone is 00:00 in another.
func equal(t *Simple, a, b string) bool {
	if t.Normalize(a) == t.Normalize(b) || canonical(t, a) == canonical(t, b) {
		return true
	}
	if t.Variety != Atomic || t.Primitive == "string" {
		return false
	}
	o, ok := compare(t.Primitive, t.Normalize(a), t.Normalize(b))
	return ok && o == 0
}

// canonical makes equal values of a type equal texts.
func canonical(t *Simple, value string) string {
	if t == nil {
		return value
	}
	value = t.Normalize(value)
	switch t.Variety {
	case List:
		var items []string
		for _, item := range strings.Fields(value) {
			items = append(items, canonical(t.Item, item))
		}
		return "list " + strings.Join(items, "\x01")
	case Union:
		for _, m := range t.Members {
			if m.Check(value) == nil { // it is a value of the first that takes it (part 2 §2.5.1.3)
				return canonical(m, value)
			}
		}
		return value
	}
	switch t.Primitive {
	case "hexBinary":
		return "hexBinary " + strings.ToUpper(value)
	case "base64Binary":
		return "base64Binary " + strings.ReplaceAll(value, " ", "")
	case "decimal":
		if r, ok := new(big.Rat).SetString(value); ok {
			return "decimal " + r.RatString()
		}
	case "boolean":
		return "boolean " + map[string]string{"1": "true", "0": "false", "true": "true", "false": "false"}[value]
	case "float", "double":
		bits := 64
		if t.Primitive == "float" {
			bits = 32
		}
		if f, bad := parseFloat(value, bits); !bad && !math.IsNaN(f) { // the text NaN is one as it is
			return t.Primitive + " " + strconv.FormatFloat(f+0, 'g', -1, bits)
		}
	}
	if _, is := dateForms[t.Primitive]; is {
		if i, ok := parseInstant(t.Primitive, value); ok {
			zone := ""
			if i.zoned {
				zone = "Z"
			}
			return t.Primitive + " " + i.secs.RatString() + zone
		}
	}
	return t.Primitive + " " + value
}

// keyTable is what a key or unique constraint holds for one element.
type keyTable struct {
	span xmltree.Span
	keys map[string]bool
}

// constrain checks the constraints of an element after its content.
func (v *validator) constrain(n xmltree.Node, decl *Element) {
	for _, k := range decl.keys {
		table := keyTable{n.Span(), map[string]bool{}}
		for _, sel := range elements(n, k.selector) {
			var parts []string
			whole := true
			for _, f := range k.fields {
				value, present := v.field(sel, f)
				whole = whole && present
				parts = append(parts, value)
			}
			key := strings.Join(parts, "\x00")
			switch {
			case !whole && k.kind == "key":
				v.fail(
					sel,
					tag(sel),
					"cvc-identity-constraint.4.2.1",
					nil,
					"the element %s lacks a field of the key %s",
					sel.Name().Local,
					k.name.Local,
				)
			case !whole:
			case k.kind == "keyref":
				if !v.known(k.refer, n.Span(), key) {
					v.fail(
						sel,
						tag(sel),
						"cvc-identity-constraint.4.3",
						nil,
						"the element %s refers to %q, which the key %s does not hold",
						sel.Name().Local,
						shown(parts),
						k.refer.Local,
					)
				}
			case table.keys[key]:
				v.fail(
					sel,
					tag(sel),
					"cvc-identity-constraint.4.1",
					nil,
					"the value %q stands a second time where %s wants it once",
					shown(parts),
					k.name.Local,
				)
			default:
				table.keys[key] = true
			}
		}
		if k.kind != "keyref" {
			v.tables[k.name] = append(v.tables[k.name], table)
		}
	}
}

func shown(parts []string) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		_, value, ok := strings.Cut(p, " ")
		if !ok {
			value = p
		}
		out[i] = value
	}
	return strings.Join(out, ", ")
}

// known tells whether a key is held within an element.
func (v *validator) known(name QName, within xmltree.Span, key string) bool {
	for _, t := range v.tables[name] {
		if t.span.Start >= within.Start && t.span.End <= within.End && t.keys[key] {
			return true
		}
	}
	return false
}
