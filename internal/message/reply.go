package message

import (
	"fmt"
	"iter"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Field is one row of a message that was read, without any need of a schema.
type Field struct {
	Depth int                 // from 0
	Name  string              // its name
	Value string              // of a leaf
	Leaf  bool                // it has a value of its own
	Count int                 // of a branch: how many elements are in it
	Attrs []xmltree.Attribute // its attributes
	Node  xmltree.Node        // the element
}

// Fields are the rows below an element, in document order, most at the most.
// More tells whether there were others.
func Fields(n xmltree.Node, most int) (fields []Field, more bool) {
	for f := range EachField(n) {
		if len(fields) >= most {
			return fields, true
		}
		fields = append(fields, f)
	}
	return fields, false
}

// EachField gives the rows below an element one after the other, in document order.
func EachField(n xmltree.Node) iter.Seq[Field] {
	return func(yield func(Field) bool) {
		var walk func(n xmltree.Node, depth int) bool
		walk = func(n xmltree.Node, depth int) bool {
			for c := range n.Children() {
				if !yield(fieldOf(c, depth)) || !walk(c, depth+1) {
					return false
				}
			}
			return true
		}
		walk(n, 0)
	}
}

func fieldOf(n xmltree.Node, depth int) Field {
	f := Field{Depth: depth, Name: n.Name().Local, Node: n, Leaf: n.FirstChild().IsZero()}
	for a := range n.Attrs() {
		if a.Name.Space != xmltree.XMLNSNamespace {
			f.Attrs = append(f.Attrs, a)
		}
	}
	if f.Leaf {
		f.Value = n.Text()
		return f
	}
	for range n.Children() {
		f.Count++
	}
	return f
}

// Repeats is how often that which repeats most stands in a reply: 1 where nothing does, and 0
// where there is nothing in it.
func Repeats(payload xmltree.Node) int {
	for n := payload; !n.IsZero(); n = n.FirstChild() { // lists stand within wrappers
		if count, _ := repeats(n); count > 1 || n.FirstChild().IsZero() && n != payload {
			return max(count, 1)
		}
	}
	return 0
}

// repeats is the child that repeats most, and how often.
func repeats(payload xmltree.Node) (count int, most xmltree.Node) {
	counts, last, n := map[int]int{}, -1, 0
	for c := payload.FirstChild(); !c.IsZero(); c = c.Next() {
		if id := c.NameID(); id == last { // what repeats most often stands together
			n++
		} else {
			counts[last] = n
			last, n = id, counts[id]+1
		}
		if n > count {
			count, most = n, c
		}
	}
	return count, most
}

// Summary is what tells one reply from another in a few words: how many of
// what repeats, and the first value.
func Summary(payload xmltree.Node) string {
	if payload.IsZero() {
		return "empty body"
	}
	var parts []string
	count, most := repeats(payload)
	first := payload.FirstChild()
	if first.IsZero() {
		if v := strings.TrimSpace(payload.Text()); v != "" {
			return payload.Name().Local + " " + v
		}
		return "nothing in it"
	}
	if count > 1 {
		parts = append(parts, fmt.Sprintf("%d × %s", count, most.Name().Local))
	}
	leaf := first
	for !leaf.FirstChild().IsZero() {
		leaf = leaf.FirstChild()
	}
	if v := strings.Join(strings.Fields(leaf.Text()), " "); v != "" {
		if r := []rune(v); len(r) > 40 {
			v = string(r[:39]) + "…"
		}
		parts = append(parts, leaf.Name().Local+" "+v)
	}
	if count == 1 && len(parts) < 2 {
		for c := range payload.Children() {
			if c != first && c.FirstChild().IsZero() && c.Text() != "" {
				parts = append(parts, c.Name().Local+" "+c.Text())
				break
			}
		}
	}
	return strings.Join(parts, " · ")
}

// Lookup finds the value at a path below an element: names without prefixes,
// positions in brackets, an attribute as @name. A single name is looked for
// at any depth.
func Lookup(n xmltree.Node, path string) (value string, at xmltree.Node, ok bool) {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	if len(parts) == 1 && !strings.ContainsAny(parts[0], "[@") {
		var find func(xmltree.Node) xmltree.Node
		find = func(n xmltree.Node) xmltree.Node {
			for c := range n.Children() {
				if c.Name().Local == parts[0] {
					return c
				}
				if f := find(c); !f.IsZero() {
					return f
				}
			}
			return xmltree.Node{}
		}
		f := find(n)
		if f.IsZero() {
			return "", f, false
		}
		return f.Text(), f, true
	}
	for _, p := range parts {
		if name, is := strings.CutPrefix(p, "@"); is {
			for a := range n.Attrs() {
				if a.Name.Local == name {
					return a.Value, n, true
				}
			}
			return "", n, false
		}
		name, index := p, 1
		if i := strings.IndexByte(p, '['); i > 0 {
			name = p[:i]
			_, _ = fmt.Sscanf(p[i:], "[%d]", &index)
		}
		found, seen := xmltree.Node{}, 0
		for c := range n.Children() {
			if c.Name().Local == name {
				if seen++; seen == index {
					found = c
					break
				}
			}
		}
		if found.IsZero() {
			return "", n, false
		}
		n = found
	}
	return n.Text(), n, true
}

// Names are the names of all elements below one, each once; for near misses.
func Names(n xmltree.Node) []string {
	seen := map[string]bool{}
	var out []string
	fields, _ := Fields(n, 5000)
	for _, f := range fields {
		if !seen[f.Name] {
			seen[f.Name] = true
			out = append(out, f.Name)
		}
	}
	return out
}

// DetailElement is the declared fault element that a fault's detail holds, or nil.
func DetailElement(detail xmltree.Node, declared []*schema.Element) *schema.Element {
	for c := range detail.Children() {
		for _, e := range declared {
			if e != nil && e.Name == schema.NameOf(c.Name()) {
				return e
			}
		}
	}
	return nil
}
