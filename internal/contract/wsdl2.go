package contract

import (
	"strings"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Namespaces of WSDL 2.0 and of its bindings (WSDL 2.0 part 2 §5, §6).
const (
	wsdl2NS   = "http://www.w3.org/ns/wsdl"
	wsdl2SOAP = "http://www.w3.org/ns/wsdl/soap"
	wsdl2HTTP = "http://www.w3.org/ns/wsdl/http"
)

// description takes what stands in a WSDL 2.0 document (part 1 §2.1), as
// document does for WSDL 1.1. Interfaces and bindings are kept by their names
// until all documents are read.
func (l *loader) description(doc *wsdlDoc) {
	for n := range doc.root.Children() {
		name, _ := n.Attr("", "name")
		switch {
		case n.Is(wsdl2NS, "import"), n.Is(wsdl2NS, "include"):
			l.follow(doc, n)
		case n.Is(wsdl2NS, "types"):
			for s := range n.Children() {
				switch {
				case s.Is(schema.XSD, "schema"):
					l.c.Schemas.Add(s, doc.source)
				case s.Is(schema.XSD, "import"):
					l.importSchema(doc, s)
				default:
					l.unread(s.Name().Qualified(), doc.source, "a type system other than XML Schema")
				}
			}
		case n.Is(wsdl2NS, "interface"), n.Is(wsdl2NS, "binding"):
			k := partKey{n.Name().Local + "2", schema.QName{Space: doc.target, Local: name}}
			if _, ok := l.parts[k]; !ok {
				l.order = append(l.order, k)
				l.parts[k] = part{n, doc}
			}
		default:
			l.extension(doc, n)
		}
	}
}

// importSchema follows an xs:import that stands in types itself (part 1
// §3.1.1): it is put into a schema of its own.
func (l *loader) importSchema(doc *wsdlDoc, n xmltree.Node) {
	text := `<xs:schema xmlns:xs="` + schema.XSD + `"><xs:import`
	for _, name := range []string{"namespace", "schemaLocation"} {
		if v, ok := n.Attr("", name); ok {
			text += " " + name + `="` + xmltree.EscapeAttr(v) + `"`
		}
	}
	d, err := xmltree.Parse([]byte(text+"/></xs:schema>"), xmltree.Limits{})
	if err == nil {
		l.c.Schemas.Add(d.Root(), doc.source)
	}
}

func (l *loader) services2(doc *wsdlDoc) {
	for n := range doc.root.Named(wsdl2NS, "service") {
		name, _ := n.Attr("", "name")
		s := &Service{Name: name, Namespace: doc.target, Documentation: documentation(n)}
		for e := range n.Named(wsdl2NS, "endpoint") {
			l.endpoint(doc, s, n, e)
		}
		l.c.Services = append(l.c.Services, s)
	}
}

// endpoint is the port of a WSDL 2.0 description (part 1 §2.13).
func (l *loader) endpoint(doc *wsdlDoc, s *Service, service, n xmltree.Node) {
	name, _ := n.Attr("", "name")
	p := &Port{
		Name:     name,
		Service:  s,
		Binding:  qnameAttr(n, "binding"),
		PortType: qnameAttr(service, "interface"),
		Style:    "document",
		At:       schema.Place{Source: doc.source, Offset: n.Span().Start},
	}
	address, _ := n.Attr("", "address")
	p.Address = strings.TrimSpace(address)
	b, ok := l.parts[partKey{"binding2", p.Binding}]
	if !ok {
		l.unread("port "+name, doc.source, "its binding %s is not defined anywhere", p.Binding)
		return
	}
	s.Ports = append(s.Ports, p)
	l.binding2(p, b)
}

func qnameAttr(n xmltree.Node, name string) schema.QName {
	ref, _ := n.Attr("", name)
	q, _ := n.QName(ref)
	return schema.NameOf(q)
}

func (l *loader) binding2(p *Port, b part) {
	if i := qnameAttr(b.node, "interface"); i.Local != "" {
		p.PortType = i
	}
	kind, _ := b.node.Attr("", "type")
	switch kind {
	case wsdl2SOAP:
		p.Version = soap.V12 // the default (part 2 §5.10.1)
		if v, ok := b.node.Attr(wsdl2SOAP, "version"); ok && v == "1.1" {
			p.Version = soap.V11
		}
		p.Transport, _ = b.node.Attr(wsdl2SOAP, "protocol")
	case wsdl2HTTP:
		p.Transport = "HTTP"
		l.unread("port "+p.Name, b.doc.source, "a plain HTTP binding; it is listed and cannot be called")
	default:
		l.unread(
			"port "+p.Name,
			b.doc.source,
			"its binding is of no kind that is known here; it is listed and cannot be called",
		)
	}
	bound := map[string]xmltree.Node{}
	for o := range b.node.Named(wsdl2NS, "operation") {
		bound[qnameAttr(o, "ref").Local] = o
	}
	l.interfaceOperations(p, p.PortType, bound, b.doc, map[schema.QName]bool{})
	for name := range bound {
		if p.Operation(name) == nil {
			l.unread("operation "+name, b.doc.source, "the interface %s has no such operation", p.PortType.Local)
		}
	}
}

// interfaceOperations adds the operations of an interface and of those that it
// extends (part 1 §2.2).
func (l *loader) interfaceOperations(
	p *Port,
	name schema.QName,
	bound map[string]xmltree.Node,
	bdoc *wsdlDoc,
	seen map[schema.QName]bool,
) {
	if seen[name] {
		return
	}
	seen[name] = true
	i, ok := l.parts[partKey{"interface2", name}]
	if !ok {
		l.unread("binding "+p.Binding.Local, bdoc.source, "its interface %s is not defined anywhere", name)
		return
	}
	for n := range i.node.Named(wsdl2NS, "operation") {
		if op, _ := n.Attr("", "name"); p.Operation(op) == nil {
			p.Operations = append(p.Operations, l.operation2(p, n, i, bound[op]))
		}
	}
	extends, _ := i.node.Attr("", "extends")
	for _, ref := range strings.Fields(extends) {
		q, _ := i.node.QName(ref)
		l.interfaceOperations(p, schema.NameOf(q), bound, bdoc, seen)
	}
}

func (l *loader) operation2(p *Port, n xmltree.Node, i part, bound xmltree.Node) *Operation {
	name, _ := n.Attr("", "name")
	o := &Operation{
		Name:          name,
		Style:         "document",
		Use:           "literal",
		Port:          p,
		Documentation: documentation(n),
		At:            schema.Place{Source: i.doc.source, Offset: n.Span().Start},
	}
	if !bound.IsZero() {
		o.Action, o.HasAction = bound.Attr(wsdl2SOAP, "action")
		for h := range bound.Child(wsdl2NS, "input").Named(wsdl2SOAP, "header") {
			q := qnameAttr(h, "element")
			if e := l.c.Schemas.Element(q); e != nil {
				o.Headers = append(o.Headers, e)
			} else {
				l.unread("header of "+name, i.doc.source, "its element %s is not declared anywhere", q)
			}
		}
	}
	o.Input = &Message{Name: name}
	if in := n.Child(wsdl2NS, "input"); !in.IsZero() {
		o.Input = l.message2(o, in, i.doc)
	}
	if out := n.Child(wsdl2NS, "output"); !out.IsZero() {
		o.Output = l.message2(o, out, i.doc)
	}
	for f := range n.Named(wsdl2NS, "outfault") {
		q := qnameAttr(f, "ref")
		o.Faults = append(o.Faults, l.fault2(q, i))
	}
	return o
}

// message2 is a message reference (part 1 §2.5): an element, #none, #any or
// #other.
func (l *loader) message2(o *Operation, n xmltree.Node, doc *wsdlDoc) *Message {
	m := &Message{Name: n.Name().Local}
	ref, ok := n.Attr("", "element")
	switch {
	case !ok || strings.HasPrefix(ref, "#"):
		if ref != "#none" {
			l.unread(
				"operation "+o.Name,
				doc.source,
				"its %s is %s: the contract does not say what stands in it",
				n.Name().Local,
				orOther(ref),
			)
		}
		return m
	}
	q := qnameAttr(n, "element")
	if m.Element = l.c.Schemas.Element(q); m.Element == nil {
		l.unread(
			"operation "+o.Name,
			doc.source,
			"the element %s of its %s is not declared anywhere",
			q,
			n.Name().Local,
		)
		m.Element = &schema.Element{Name: q, Type: schema.AnyType()}
	}
	m.Parts = []Part{{Name: "body", Element: m.Element, Type: m.Element.TypeOf()}}
	return m
}

func orOther(ref string) string {
	if ref == "" {
		return "#other"
	}
	return ref
}

// fault2 is a fault of an interface, or of one that it extends.
func (l *loader) fault2(name schema.QName, i part) *Message {
	m := &Message{Name: name.Local}
	for _, k := range l.order {
		if k.kind != "interface2" {
			continue
		}
		for f := range l.parts[k].node.Named(wsdl2NS, "fault") {
			if n, _ := f.Attr("", "name"); n != name.Local {
				continue
			}
			if ref, ok := f.Attr("", "element"); ok && !strings.HasPrefix(ref, "#") {
				m.Element = l.c.Schemas.Element(qnameAttr(f, "element"))
			}
			return m
		}
	}
	l.unread("fault "+name.Local, i.doc.source, "it is not defined anywhere")
	return m
}
