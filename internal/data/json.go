package data

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// JSON is the content of an element as a JSON value, laid out by its declaration, which
// may be nil: arrays wherever the schema allows more than one, numbers with the digits as
// they came, null for nil alone, order kept. The whole mapping is in docs/json.md.
func JSON(set *schema.Set, decl *schema.Element, n xmltree.Node) []byte {
	return Slim(set, decl, n, nil)
}

// Slim is JSON of the paths that are selected alone (a, b/c, b/@d); of all where none is.
func Slim(set *schema.Set, decl *schema.Element, n xmltree.Node, paths []string) []byte {
	w := &writer{}
	pick := selected(paths)
	s := rootShape(set, decl, n)
	if s.simple() == nil && n.FirstChild().IsZero() && strings.TrimSpace(n.Text()) == "" && s.array() == nil {
		w.object(n, s, "", pick) // a reply that declares nothing is {}
	} else {
		w.value(n, s, "", pick)
	}
	w.b.WriteByte('\n')
	return w.b.Bytes()
}

func rootShape(set *schema.Set, decl *schema.Element, n xmltree.Node) *shape {
	name := schema.NameOf(n.Name())
	if set != nil && (decl == nil || name != decl.Name) {
		decl = set.Element(name)
	}
	all := &shapes{set: set, known: map[schema.Type]*shape{}}
	var s *shape
	if set != nil && decl != nil {
		s = all.of(decl.TypeOf(), n)
	}
	if s == nil {
		s = &shape{all: all, set: set}
	}
	s.look(n)
	return s
}

type writer struct{ b bytes.Buffer }

// selection are the names that are wanted, and what is wanted below each; nil: all.
type selection map[string]selection

func selected(paths []string) selection {
	if len(paths) == 0 {
		return nil
	}
	all := selection{}
	for _, p := range paths {
		at := all
		parts := strings.Split(strings.Trim(strings.TrimSpace(p), "/"), "/")
		for i, name := range parts {
			below, known := at[name]
			switch {
			case i == len(parts)-1:
				at[name] = nil // all of it
			case known && below == nil: // all of it is wanted already
			case !known:
				at[name] = selection{}
			}
			if at = at[name]; at == nil {
				break
			}
		}
	}
	return all
}

// wants tells whether a name is wanted, and what of it.
func (sel selection) wants(name string) (below selection, yes bool) {
	if sel == nil {
		return nil, true
	}
	below, yes = sel[name]
	return below, yes
}

func (w *writer) str(s string) {
	plain := true
	for i := range len(s) {
		if c := s[i]; c < 0x20 || c == '"' || c == '\\' || c >= 0x80 {
			plain = false
			break
		}
	}
	if plain {
		w.b.WriteByte('"')
		w.b.WriteString(s)
		w.b.WriteByte('"')
		return
	}
	enc := json.NewEncoder(&w.b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s)
	w.b.Truncate(w.b.Len() - 1) // the line break that Encode adds
}

const step = "  "

// value writes an element.
func (w *writer) value(n xmltree.Node, s *shape, indent string, pick selection) {
	switch {
	case isNil(n):
		w.b.WriteString("null")
	case s.array() != nil:
		w.items(children(n), s, indent, pick)
	case s.mixed(n) && !n.FirstChild().IsZero():
		w.str(string(n.Doc().Src[n.Inner().Start:n.Inner().End]))
	case len(attrs(n)) == 0 && n.FirstChild().IsZero() && s.isLeaf():
		w.scalar(n.Text(), s.simple())
	default:
		w.object(n, s, indent, pick)
	}
}

// isLeaf tells whether an element without children is a value of its own: not where its
// type has elements in it.
func (s *shape) isLeaf() bool {
	c, ok := s.t.(*schema.Complex)
	return !ok || c.Simple != nil || c.Mixed
}

func children(n xmltree.Node) (out []xmltree.Node) {
	for c := range n.Children() {
		out = append(out, c)
	}
	return out
}

func (w *writer) items(all []xmltree.Node, s *shape, indent string, pick selection) {
	if len(all) == 0 {
		w.b.WriteString("[]")
		return
	}
	w.b.WriteByte('[')
	for i, c := range all {
		if i > 0 {
			w.b.WriteByte(',')
		}
		w.b.WriteString("\n" + indent + step)
		w.value(c, s.child(c), indent+step, pick)
	}
	w.b.WriteString("\n" + indent + "]")
}

// member is a key of an object with the elements that have it.
type member struct {
	name  schema.QName
	key   string
	nodes []xmltree.Node
	array bool
}

// members are the children of an element by their keys, in the order in which they
// stand; what may repeat and does not stand at all has its place by the schema.
func members(n xmltree.Node, s *shape) (out []member) {
	collide := false
	last := -1
	for c := range n.Children() {
		name := schema.NameOf(c.Name())
		i := last
		if i < 0 || out[i].name != name {
			i = slices.IndexFunc(out, func(m member) bool { return m.name == name })
		}
		if i < 0 {
			i = len(out)
			m := member{name: name, key: name.Local, array: s.repeats(c)}
			collide = collide || slices.ContainsFunc(out, func(o member) bool { return o.key == m.key })
			out = append(out, m)
		}
		out[i].nodes = append(out[i].nodes, c)
		last = i
	}
	if collide {
		for i := range out {
			m := &out[i]
			p := m.nodes[0].Name().Prefix
			if p != "" &&
				slices.ContainsFunc(
					out,
					func(o member) bool { return o.name != m.name && o.name.Local == m.name.Local },
				) {
				m.key = p + ":" + m.name.Local
			}
		}
	}
	for i, k := range s.kids {
		if !k.repeats || k.chosen {
			continue
		}
		name := k.decl.Name
		if s.stoodFor(k.decl, n) || slices.ContainsFunc(out, func(m member) bool { return m.name == name }) {
			continue
		}
		place := 0
		for j := i - 1; j >= 0 && place == 0; j-- { // after what stands before it in the schema
			for p := range out {
				if out[p].key == s.kids[j].decl.Name.Local {
					place = p + 1
				}
			}
		}
		out = append(out[:place:place], append([]member{{name: name, key: name.Local, array: true}}, out[place:]...)...)
	}
	return out
}

// stoodFor tells whether a child stands in the place of a declaration.
func (s *shape) stoodFor(e *schema.Element, n xmltree.Node) bool {
	for c := range n.Children() {
		if s.set != nil && s.set.Substitute(e, schema.NameOf(c.Name())) != nil {
			return true
		}
	}
	return false
}

func (w *writer) object(n xmltree.Node, s *shape, indent string, pick selection) {
	first := true
	key := func(k string) {
		if !first {
			w.b.WriteByte(',')
		}
		first = false
		w.b.WriteString("\n" + indent + step)
		w.str(k)
		w.b.WriteString(": ")
	}
	w.b.WriteByte('{')
	for _, a := range attrs(n) {
		if _, yes := pick.wants("@" + a.Name.Local); !yes {
			continue
		}
		key("@" + a.Name.Local)
		w.scalar(a.Value, s.attribute(a.Name))
	}
	if n.FirstChild().IsZero() {
		st := s.simple()
		if _, yes := pick.wants("#text"); yes && (st != nil || s.t == nil && n.Text() != "") {
			key("#text")
			w.scalar(n.Text(), st)
		}
	}
	for _, m := range members(n, s) {
		below, yes := pick.wants(m.name.Local)
		if !yes {
			continue
		}
		key(m.key)
		if m.array {
			w.items(m.nodes, s, indent+step, below)
		} else {
			w.value(m.nodes[0], s.child(m.nodes[0]), indent+step, below)
		}
	}
	if !first {
		w.b.WriteString("\n" + indent)
	}
	w.b.WriteByte('}')
}

// scalar writes a value of a simple type; a string where that is not known.
func (w *writer) scalar(text string, t *schema.Simple) {
	if t == nil {
		w.str(text)
		return
	}
	collapsed := strings.Join(strings.Fields(text), " ")
	switch {
	case t.Variety == schema.List:
		w.b.WriteByte('[')
		for i, item := range strings.Fields(text) {
			if i > 0 {
				w.b.WriteString(", ")
			}
			w.scalar(item, t.Item)
		}
		w.b.WriteByte(']')
	case t.Variety == schema.Union:
		for _, m := range t.Members {
			if m.Check(text) == nil {
				w.scalar(text, m)
				return
			}
		}
		w.str(text)
	case t.Primitive == "boolean" && (collapsed == "true" || collapsed == "1"):
		w.b.WriteString("true")
	case t.Primitive == "boolean" && (collapsed == "false" || collapsed == "0"):
		w.b.WriteString("false")
	case IsNumber(t):
		if n, ok := Number(collapsed); ok {
			w.b.WriteString(n)
		} else {
			w.str(text)
		}
	default:
		w.str(text)
	}
}

// IsNumber tells whether values of a type are numbers.
func IsNumber(t *schema.Simple) bool {
	if t == nil || t.Variety != schema.Atomic {
		return false
	}
	switch t.Primitive {
	case "decimal", "float", "double":
		return true
	}
	return false
}

// Number is a number of XML Schema as JSON has it (RFC 8259 §6): with the digits as they
// came, without a plus and leading zeros, and with a digit on both sides of the point.
// False where it is none, or one that JSON does not have.
func Number(s string) (string, bool) {
	sign, rest := "", s
	switch {
	case strings.HasPrefix(s, "-"):
		sign, rest = "-", s[1:]
	case strings.HasPrefix(s, "+"):
		rest = s[1:]
	}
	mantissa, exponent := rest, ""
	if i := strings.IndexAny(rest, "eE"); i >= 0 {
		mantissa, exponent = rest[:i], rest[i:]
		digits := strings.TrimLeft(exponent[1:], "+-")
		if len(exponent[1:])-len(digits) > 1 || !isDigits(digits) || digits == "" {
			return "", false
		}
	}
	whole, fraction, pointed := strings.Cut(mantissa, ".")
	if !isDigits(whole) || !isDigits(fraction) || whole+fraction == "" {
		return "", false
	}
	if whole = strings.TrimLeft(whole, "0"); whole == "" {
		whole = "0"
	}
	if pointed && fraction != "" {
		whole += "." + fraction
	}
	return sign + whole + exponent, true
}

func isDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}
