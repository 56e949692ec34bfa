package xmltree

import (
	"bytes"
	"sort"
	"strings"
)

// Canonical is the exclusive canonical form of a node and all below it
// (Exclusive XML Canonicalization 1.0). Prefixes in inclusive are treated as
// by the inclusive form; "#default" names the default namespace.
func Canonical(n Node, comments bool, inclusive ...string) []byte {
	c := canon{comments: comments, inclusive: map[string]bool{}}
	for _, p := range inclusive {
		if p == "#default" {
			p = ""
		}
		c.inclusive[p] = true
	}
	if n.i == 0 {
		c.document(n)
	} else {
		c.element(n, map[string]string{})
	}
	return c.out.Bytes()
}

// CanonicalInclusive is the canonical form of a node and all below it in which
// every namespace that is in scope is written, and the xml: attributes of what
// is above come along (Canonical XML 1.0 §2.4).
func CanonicalInclusive(n Node, comments bool) []byte {
	c := canon{comments: comments, all: true, apex: n.i}
	if n.i == 0 {
		c.document(n)
	} else {
		c.element(n, map[string]string{})
	}
	return c.out.Bytes()
}

type canon struct {
	out       bytes.Buffer
	comments  bool
	inclusive map[string]bool
	all       bool   // the inclusive form
	apex      uint32 // of it: where it begins
	without   uint32 // a node that is left out with all below it, or 0
}

// CanonicalWithout is Canonical, or CanonicalInclusive, with one element left out:
// the transform for enveloped signatures (XML Signature §6.6.4).
func CanonicalWithout(n, without Node, comments, inclusiveForm bool, inclusive ...string) []byte {
	c := canon{comments: comments, all: inclusiveForm, apex: n.i, without: without.i, inclusive: map[string]bool{}}
	for _, p := range inclusive {
		c.inclusive[strings.TrimPrefix(p, "#default")] = true
	}
	if n.i == 0 {
		c.document(n)
	} else {
		c.element(n, map[string]string{})
	}
	return c.out.Bytes()
}

// inScope adds the prefixes that the inclusive form writes at an element, and at
// its beginning the xml: attributes of what is above.
func (c *canon) inScope(n Node, used map[string]bool, attrs []Attribute) []Attribute {
	for at := n; !at.IsZero() && at.Kind() == StartElement; at = at.Parent() {
		for a := range at.Attrs() {
			switch {
			case a.Name.Space == XMLNSNamespace && a.Name.Prefix == "":
				used[""] = true
			case a.Name.Space == XMLNSNamespace:
				used[a.Name.Local] = true
			case at != n && a.Name.Space == XMLNamespace:
				has := false
				for _, o := range attrs {
					has = has || o.Name.Space == a.Name.Space && o.Name.Local == a.Name.Local
				}
				if !has {
					attrs = append(attrs, a)
				}
			}
		}
		if n.i != c.apex || at.i == 0 {
			break
		}
	}
	return attrs
}

func (c *canon) document(n Node) {
	seenRoot := false
	for k := range n.Nodes() {
		switch k.Kind() {
		case StartElement:
			seenRoot = true
			c.element(k, map[string]string{})
		case Comment, ProcInst:
			if k.Kind() == Comment && !c.comments ||
				bytes.HasPrefix(k.Bytes(), []byte("<?xml")) && class[k.Bytes()[5]]&space != 0 {
				continue
			}
			if seenRoot {
				c.out.WriteByte('\n')
			}
			c.node(k)
			if !seenRoot {
				c.out.WriteByte('\n')
			}
		}
	}
}

// element writes n; rendered are the declarations that output ancestors made.
//
//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func (c *canon) element(n Node, rendered map[string]string) {
	name := n.Name()
	used := map[string]bool{name.Prefix: true}
	var attrs []Attribute
	for a := range n.Attrs() {
		if a.Name.Space == XMLNSNamespace {
			continue
		}
		attrs = append(attrs, a)
		if a.Name.Prefix != "" {
			used[a.Name.Prefix] = true
		}
	}
	if c.all {
		attrs = c.inScope(n, used, attrs)
	}
	for p := range c.inclusive {
		if _, ok := n.Lookup(p); ok {
			used[p] = true
		}
	}
	var declare []string
	scope := rendered
	for p := range used {
		if p == "xml" {
			continue
		}
		uri, _ := n.Lookup(p)
		if old, ok := rendered[p]; ok && old == uri || !ok && p == "" && uri == "" {
			continue
		}
		declare = append(declare, p)
	}
	if len(declare) > 0 {
		scope = make(map[string]string, len(rendered)+len(declare))
		for k, v := range rendered {
			scope[k] = v
		}
	}
	sort.Strings(declare)
	c.out.WriteByte('<')
	c.out.WriteString(name.Qualified())
	for _, p := range declare {
		uri, _ := n.Lookup(p)
		scope[p] = uri
		c.out.WriteString(" xmlns")
		if p != "" {
			c.out.WriteString(":" + p)
		}
		c.out.WriteString(`="` + attrEscaper.Replace(uri) + `"`)
	}
	sort.Slice(attrs, func(i, j int) bool {
		a, b := attrs[i].Name, attrs[j].Name
		if a.Space != b.Space {
			return a.Space < b.Space
		}
		return a.Local < b.Local
	})
	for _, a := range attrs {
		c.out.WriteString(" " + a.Name.Qualified() + `="` + attrEscaper.Replace(a.Value) + `"`)
	}
	c.out.WriteByte('>')
	at := n.Inner().Start
	if n.first() == 0 && n.Inner().Len() > 0 {
		c.raw(n.Inner(), n.doc.Src)
		at = n.Inner().End
	}
	for k := range n.Nodes() {
		c.raw(Span{at, k.Span().Start}, n.doc.Src)
		at = k.Span().End
		if k.i == c.without && c.without != 0 {
			continue
		}
		if k.Kind() == StartElement {
			c.element(k, scope)
		} else {
			c.node(k)
		}
	}
	c.raw(Span{at, n.Inner().End}, n.doc.Src)
	c.out.WriteString("</" + name.Qualified() + ">")
}

// raw writes white space between nodes, or text without references.
func (c *canon) raw(s Span, src []byte) {
	if s.End > s.Start {
		c.out.WriteString(textEscaper.Replace(string(src[s.Start:s.End])))
	}
}

func (c *canon) node(n Node) {
	switch n.Kind() {
	case Text, CData:
		c.out.WriteString(textEscaper.Replace(n.Text()))
	case Comment:
		if c.comments {
			c.out.WriteString("<!--" + lineEnds(n.Text()) + "-->")
		}
	case ProcInst:
		target, data, _ := strings.Cut(lineEnds(n.Text()), " ")
		c.out.WriteString("<?" + target)
		if data = strings.TrimLeft(data, " \t\n"); data != "" {
			c.out.WriteString(" " + data)
		}
		c.out.WriteString("?>")
	}
}

func lineEnds(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "\r\n", "\n"), "\r", "\n")
}
