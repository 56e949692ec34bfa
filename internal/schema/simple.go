package schema

import (
	"fmt"
	"strings"

	"orenda/internal/xmltree"
)

func (s *Set) simple(d *document, n xmltree.Node, t *Simple, g *global) {
	defer t.known.Store(nil)
	t.Doc = doc(n)
	for c := range n.Children() {
		switch {
		case c.Is(XSD, "restriction"):
			s.restriction(d, c, t, g)
		case c.Is(XSD, "list"):
			t.Variety, t.Base = List, Builtin("anySimpleType")
			t.Item = s.inner(d, c, "itemType", g)
		case c.Is(XSD, "union"):
			t.Variety, t.Base = Union, Builtin("anySimpleType")
			if v, ok := c.Attr("", "memberTypes"); ok {
				for _, m := range strings.Fields(v) {
					t.Members = append(t.Members, s.simpleRef(d, c, m, g))
				}
			}
			for m := range c.Named(XSD, "simpleType") {
				in := &Simple{}
				s.simple(d, m, in, nil)
				t.Members = append(t.Members, in)
			}
		}
	}
	if t.Base == nil {
		t.Base = Builtin("anySimpleType")
	}
}

// inner is a type named by an attribute or given inline.
func (s *Set) inner(d *document, n xmltree.Node, attr string, g *global) *Simple {
	if v, ok := n.Attr("", attr); ok {
		return s.simpleRef(d, n, v, g)
	}
	if c := n.Child(XSD, "simpleType"); !c.IsZero() {
		t := &Simple{}
		s.simple(d, c, t, nil)
		return t
	}
	return Builtin("anySimpleType")
}

func (s *Set) restriction(d *document, n xmltree.Node, t *Simple, g *global) {
	base := s.inner(d, n, "base", g)
	if circular(base, t) {
		s.problem(d, n, t.Name.String(), "the type is derived from itself")
		base = Builtin("string")
	}
	t.Base, t.Variety, t.Primitive, t.Item, t.Members = base, base.Variety, base.Primitive, base.Item, base.Members
	s.readFacets(d, n, t)
}

func circular(base, t *Simple) bool {
	for b, n := base, 0; b != nil && n < 1000; b, n = b.Base, n+1 {
		if b == t {
			return true
		}
	}
	return false
}

// contains tells whether a list or union holds the type within.
func contains(t, within *Simple, seen map[*Simple]bool) bool {
	if within == nil || seen[within] {
		return false
	}
	seen[within] = true
	for _, part := range append([]*Simple{within.Item}, within.Members...) {
		if part == t || contains(t, part, seen) {
			return true
		}
	}
	return false
}

//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (s *Set) readFacets(d *document, n xmltree.Node, t *Simple) {
	defer t.known.Store(nil) // what was told of it before its facets were read
	f := &t.Facets
	var patterns []*Pattern
	for c := range n.Children() {
		if c.Name().Space != XSD {
			continue
		}
		v, has := c.Attr("", "value")
		if !has {
			continue
		}
		number := func() *int {
			var i int
			if _, err := fmt.Sscanf(strings.TrimSpace(v), "%d", &i); err != nil || i < 0 {
				s.problem(d, c, c.Name().Local, "%q is not a length", v)
				return nil
			}
			return &i
		}
		bound := func() *string { b := t.Normalize(v); return &b }
		switch c.Name().Local {
		case "length":
			f.Length = number()
		case "minLength":
			f.MinLength = number()
		case "maxLength":
			f.MaxLength = number()
		case "totalDigits":
			f.TotalDigits = number()
		case "fractionDigits":
			f.FractionDigits = number()
		case "minInclusive":
			f.MinInclusive = bound()
		case "maxInclusive":
			f.MaxInclusive = bound()
		case "minExclusive":
			f.MinExclusive = bound()
		case "maxExclusive":
			f.MaxExclusive = bound()
		case "whiteSpace":
			f.WhiteSpace = v
		case "enumeration":
			v = t.Base.Normalize(v)
			f.Enumeration = append(f.Enumeration, v)
			if t.qualified() {
				x, _ := c.QName(v)
				f.names = append(f.names, NameOf(x))
			}
			if words := doc(c); words != "" {
				if f.EnumDocs == nil {
					f.EnumDocs = map[string]string{}
				}
				f.EnumDocs[v] = words
			}
		case "pattern":
			p, err := CompilePattern(v)
			if err != nil {
				s.problem(d, c, v, "%v; it is not applied", err)
				continue
			}
			patterns = append(patterns, p)
		}
	}
	if patterns != nil {
		f.Patterns = [][]*Pattern{patterns}
	}
}
