package contract

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Namespaces of WSDL 1.1 and its bindings.
const (
	wsdlNS = "http://schemas.xmlsoap.org/wsdl/"
	soap11 = "http://schemas.xmlsoap.org/wsdl/soap/"
	soap12 = "http://schemas.xmlsoap.org/wsdl/soap12/"
	httpNS = "http://schemas.xmlsoap.org/wsdl/http/"

	env11   = "http://schemas.xmlsoap.org/soap/envelope/"
	env12   = "http://www.w3.org/2003/05/soap-envelope"
	wadlNS  = "http://wadl.dev.java.net/2009/02"
	discoNS = "http://schemas.xmlsoap.org/disco/"
)

// Bounds on what one description may make us read.
const (
	maxFiles = 500
	maxBytes = 256 << 20
)

// Fetch gets a document by its absolute URL or path.
type Fetch func(ctx context.Context, location string) ([]byte, error)

// NotDescription is the error for a document that is no description.
type NotDescription struct {
	HTML bool   // it is a page
	Root string // name of its root element
	Why  string // in plain words, without the place
}

func (e *NotDescription) Error() string { return e.Why }

// Load reads a description that was fetched from location (an absolute URL or
// a path), and fetches what it imports. policies are where policies are that are attached to it from outside;
// see Contract.WithPolicies.
func Load(
	ctx context.Context, location string, src []byte, fetch Fetch, policies ...string,
) (*Contract, error) {
	if LooksLikeHTML(src) {
		return nil, &NotDescription{HTML: true, Root: "html", Why: "it is an HTML page, not a service description"}
	}
	l := &loader{ctx: ctx, fetch: fetch, parts: map[partKey]part{}, seen: map[string]bool{},
		c: &Contract{Source: location, docs: map[string]*xmltree.Document{}, Policies: policies}}
	l.c.Schemas = schema.New(func(loc, base string) ([]byte, string, error) {
		abs, err := Resolve(base, loc)
		if err != nil {
			return nil, "", err
		}
		b, err := l.get(abs)
		return b, abs, err
	})
	l.c.Files = append(l.c.Files, File{location, src})
	if err := l.document(location, src, true); err != nil {
		return nil, err
	}
	l.c.Schemas.Resolve()
	for _, p := range l.c.Schemas.Problems {
		l.unread(p.What, p.Where.Source, p.Why)
	}
	l.services()
	l.demands()
	if len(l.c.Services) == 0 {
		l.unread("services", location, "the description has no service; its bindings are offered without an address")
		l.orphans()
	}
	return l.c, nil
}

// NoPart tells by its first bytes that a document can be no part of a description: it is a page, or no XML.
func NoPart(src []byte) error {
	if LooksLikeHTML(src) {
		return &NotDescription{HTML: true, Root: "html", Why: "it is an HTML page"}
	}
	if r, _, err := xmltree.Recoding(src, ""); err != nil || r != nil ||
		bytes.HasPrefix(bytes.TrimSpace(bytes.TrimPrefix(src, []byte("\ufeff"))), []byte("<")) {
		return nil // if it is wrong, its place is told where it is read
	}
	_, err := xmltree.Parse(src, xmltree.Limits{})
	return err
}

// LooksLikeHTML tells a web page from other XML by its first bytes, behind what may stand before a page.
func LooksLikeHTML(src []byte) bool {
	const most = 1024
	head := strings.TrimSpace(strings.TrimPrefix(string(src[:min(len(src), most)]), "\xEF\xBB\xBF"))
	for _, before := range [][2]string{{"<?xml", "?>"}, {"<!--", "-->"}} {
		for strings.HasPrefix(head, before[0]) {
			_, rest, _ := strings.Cut(head, before[1])
			head = strings.TrimSpace(rest)
		}
	}
	head = strings.ToLower(head)
	return slices.ContainsFunc([]string{"<!doctype html", "<html", "<head"}, func(tag string) bool {
		rest, is := strings.CutPrefix(head, tag)
		return is && (rest == "" || strings.IndexByte(" \t\r\n>/", rest[0]) >= 0)
	})
}

// IsDocument tells whether a root element is that of a description, or of a schema.
func IsDocument(root xmltree.Name) bool {
	return root.Is(wsdlNS, "definitions") || root.Is(wsdl2NS, "description") || root.Is(schema.XSD, "schema")
}

// IsRemote tells whether a location is a URL.
func IsRemote(location string) bool {
	return strings.HasPrefix(location, "http://") || strings.HasPrefix(location, "https://")
}

// Resolve makes a location absolute against the document that names it. A
// remote document may not lead to a local file.
func Resolve(base, location string) (string, error) {
	if IsRemote(base) {
		b, err := url.Parse(base)
		if err != nil {
			return "", err
		}
		u, err := b.Parse(strings.TrimSpace(location))
		if err != nil {
			return "", err
		}
		if u.Scheme != "http" && u.Scheme != "https" {
			return "", fmt.Errorf("a description from %s may not lead to %s", b.Host, location)
		}
		u.Fragment = ""
		return u.String(), nil
	}
	if IsRemote(location) {
		return location, nil
	}
	location = strings.TrimPrefix(location, "file://")
	if filepath.IsAbs(location) {
		return filepath.Clean(location), nil
	}
	return filepath.Join(filepath.Dir(base), filepath.FromSlash(location)), nil
}

type partKey struct {
	kind string // message, portType, binding
	name schema.QName
}

type part struct {
	node xmltree.Node
	doc  *wsdlDoc
}

type wsdlDoc struct {
	target, source string
	root           xmltree.Node
}

type loader struct {
	ctx   context.Context
	fetch Fetch
	c     *Contract
	docs  []*wsdlDoc
	parts map[partKey]part
	order []partKey
	seen  map[string]bool
	bytes int
}

func (l *loader) unread(what, where, why string, args ...any) {
	if len(args) > 0 {
		why = fmt.Sprintf(why, args...)
	}
	l.note(Unread{What: what, Where: where, Why: why})
}

// note takes what was not read, once.
func (l *loader) note(u Unread) {
	for _, o := range l.c.Unread {
		if o == u {
			return
		}
	}
	l.c.Unread = append(l.c.Unread, u)
}

func (l *loader) get(location string) ([]byte, error) {
	for _, f := range l.c.Files {
		if f.Location == location {
			return f.Bytes, nil
		}
	}
	if len(l.c.Files) >= maxFiles || l.bytes > maxBytes {
		return nil, fmt.Errorf(
			"the description leads to more than %d documents or %d MiB; reading stopped here",
			maxFiles,
			maxBytes>>20,
		)
	}
	if l.fetch == nil {
		return nil, errors.New("it was not fetched")
	}
	b, err := l.fetch(l.ctx, location)
	if err != nil {
		return nil, err
	}
	l.bytes += len(b)
	l.c.Files = append(l.c.Files, File{location, b})
	return b, nil
}

// otherRoot says in words what a document is, by its root element, that is no description.
func otherRoot(root xmltree.Node) string {
	name := root.Name()
	switch {
	case name.Is(schema.XSD, "schema"):
		return "it is an XML Schema, which has types and no services"
	case name.Local == "Envelope" && (name.Space == env11 || name.Space == env12):
		return "it is a SOAP envelope, as the service itself answers"
	case name.Is(wadlNS, "application"):
		return "it describes a service of plain HTTP (WADL), not one of SOAP"
	case name.Is(discoNS, "discovery"):
		return "it is a list of descriptions (discovery)"
	case name.Local == "definitions" || name.Local == "description":
		ns := wsdlNS
		if name.Local == "description" {
			ns = wsdl2NS
		}
		return fmt.Sprintf("its root element is %s in the namespace %q, and a description's is in %s",
			name.Qualified(), name.Space, ns)
	}
	return "its root element is " + name.Qualified()
}

// document takes one WSDL document and follows its imports.
func (l *loader) document(location string, src []byte, first bool) error {
	l.seen[location] = true
	plain, err := xmltree.WithoutDoctype(src)
	if err != nil {
		return err
	}
	d, err := xmltree.Parse(plain, xmltree.Limits{Depth: 256})
	if err != nil {
		return err
	}
	l.c.docs[location] = d
	root := d.Root()
	switch {
	case root.Is(wsdlNS, "definitions"):
	case root.Is(schema.XSD, "schema") && !first:
		l.c.Schemas.Add(root, location)
		return nil
	case root.Is(wsdl2NS, "description"):
	default:
		why := "it is not a service description: " + otherRoot(root)
		if !bytes.Equal(plain, src) {
			why += ", after a document type declaration"
		}
		return &NotDescription{Root: root.Name().Qualified(), Why: why}
	}
	target, _ := root.Attr("", "targetNamespace")
	doc := &wsdlDoc{target: target, source: location, root: root}
	l.docs = append(l.docs, doc)
	if first {
		l.c.Target, l.c.Documentation = target, documentation(root)
	}
	if root.Name().Space == wsdl2NS {
		l.description(doc)
		return nil
	}
	for n := range root.Children() {
		name, _ := n.Attr("", "name")
		switch {
		case n.Is(wsdlNS, "import"):
			l.follow(doc, n)
		case n.Is(wsdlNS, "types"):
			for s := range n.Children() {
				if s.Is(schema.XSD, "schema") {
					l.c.Schemas.Add(s, location)
				} else {
					l.unread(s.Name().Qualified(), location, "a type system other than XML Schema")
				}
			}
		case n.Is(wsdlNS, "message"), n.Is(wsdlNS, "portType"), n.Is(wsdlNS, "binding"):
			k := partKey{n.Name().Local, schema.QName{Space: target, Local: name}}
			if _, ok := l.parts[k]; !ok {
				l.order = append(l.order, k)
				l.parts[k] = part{n, doc}
			}
		default:
			l.extension(doc, n)
		}
	}
	return nil
}

// extension names an extension that must be understood, and is not (WSDL 1.1
// §2.1.3, WSDL 2.0 part 1 §6.1.1). The others are passed over.
func (l *loader) extension(doc *wsdlDoc, n xmltree.Node) {
	space := n.Name().Space
	if space == wsdlNS || space == wsdl2NS || isPolicyNS(space) {
		return
	}
	for _, ns := range []string{wsdlNS, wsdl2NS} {
		if r, _ := n.Attr(ns, "required"); r == "true" || r == "1" {
			l.unread(
				n.Name().Qualified(),
				doc.source,
				"an extension that the description says is required, and that is not known here",
			)
		}
	}
}

func (l *loader) follow(doc *wsdlDoc, n xmltree.Node) {
	loc, ok := n.Attr("", "location")
	if !ok {
		return
	}
	abs, err := Resolve(doc.source, loc)
	if err == nil && l.seen[abs] {
		return
	}
	var src []byte
	if err == nil {
		src, err = l.get(abs)
	}
	if err == nil {
		err = l.document(abs, src, false)
	}
	if err != nil {
		l.note(Unread{loc, doc.source, err.Error(), true})
	}
}

func documentation(n xmltree.Node) string {
	d := n.Child(n.Name().Space, "documentation")
	if d.IsZero() {
		return ""
	}
	return schema.Words(d)
}

func (l *loader) services() {
	for _, doc := range l.docs {
		l.services2(doc)
		for n := range doc.root.Named(wsdlNS, "service") {
			name, _ := n.Attr("", "name")
			s := &Service{Name: name, Namespace: doc.target, Documentation: documentation(n)}
			for p := range n.Named(wsdlNS, "port") {
				l.port(doc, s, p)
			}
			l.c.Services = append(l.c.Services, s)
		}
	}
	for k := range l.parts {
		if k.kind == "portType" || k.kind == "interface2" {
			l.c.PortTypes++
		}
	}
}

func (l *loader) port(doc *wsdlDoc, s *Service, n xmltree.Node) {
	name, _ := n.Attr("", "name")
	ref, _ := n.Attr("", "binding")
	q, _ := n.QName(ref)
	p := &Port{
		Name:    name,
		Service: s,
		Binding: schema.NameOf(q),
		At:      schema.Place{Source: doc.source, Offset: n.Span().Start},
	}
	for c := range n.Children() {
		if a, ok := c.Attr("", "location"); ok && c.Name().Local == "address" {
			p.Address = strings.TrimSpace(a)
		}
	}
	b, ok := l.parts[partKey{"binding", p.Binding}]
	if !ok {
		l.unread("port "+name, doc.source, "its binding %s is not defined anywhere", p.Binding)
		return
	}
	l.binding(p, b)
	s.Ports = append(s.Ports, p)
}

// orphans makes ports of bindings that no service has.
func (l *loader) orphans() {
	s := &Service{Name: "unnamed", Namespace: l.c.Target}
	for _, k := range l.order {
		if k.kind == "binding2" {
			p := &Port{Name: k.name.Local, Service: s, Binding: k.name, Style: "document"}
			l.binding2(p, l.parts[k])
			s.Ports = append(s.Ports, p)
		}
		if k.kind == "binding" {
			p := &Port{Name: k.name.Local, Service: s, Binding: k.name}
			l.binding(p, l.parts[k])
			s.Ports = append(s.Ports, p)
		}
	}
	if len(s.Ports) > 0 {
		l.c.Services = append(l.c.Services, s)
	}
}

func (l *loader) binding(p *Port, b part) {
	ref, _ := b.node.Attr("", "type")
	q, _ := b.node.QName(ref)
	p.PortType = schema.NameOf(q)
	ns := ""
	for c := range b.node.Children() {
		if c.Name().Local != "binding" {
			continue
		}
		switch ns = c.Name().Space; ns {
		case soap11:
			p.Version = soap.V11
		case soap12:
			p.Version = soap.V12
		case httpNS:
			verb, _ := c.Attr("", "verb")
			p.Transport = "HTTP " + verb
			l.unread("port "+p.Name, b.doc.source, "a plain HTTP binding; it is listed and cannot be called")
			continue
		}
		p.Transport, _ = c.Attr("", "transport")
		p.Style, _ = c.Attr("", "style")
	}
	if p.Style == "" {
		p.Style = "document"
	}
	if ns == "" {
		l.unread(
			"port "+p.Name,
			b.doc.source,
			"its binding is of no kind that is known here; it is listed and cannot be called",
		)
	}
	pt, ok := l.parts[partKey{"portType", p.PortType}]
	if !ok {
		l.unread("binding "+p.Binding.Local, b.doc.source, "its port type %s is not defined anywhere", p.PortType)
		return
	}
	offered := map[string]xmltree.Node{} // the first of each name
	for o := range pt.node.Named(wsdlNS, "operation") {
		if name, _ := o.Attr("", "name"); offered[name].IsZero() {
			offered[name] = o
		}
	}
	for n := range b.node.Named(wsdlNS, "operation") {
		name, _ := n.Attr("", "name")
		abstract := offered[name]
		if abstract.IsZero() {
			l.unread("operation "+name, b.doc.source, "the port type %s has no such operation", p.PortType.Local)
			continue
		}
		p.Operations = append(p.Operations, l.operation(p, ns, n, b.doc, abstract, pt.doc))
	}
}

func (l *loader) operation(
	p *Port,
	ns string,
	bound xmltree.Node,
	bdoc *wsdlDoc,
	abstract xmltree.Node,
	adoc *wsdlDoc,
) *Operation {
	name, _ := bound.Attr("", "name")
	o := &Operation{
		Name:          name,
		Style:         p.Style,
		Use:           "literal",
		Port:          p,
		Documentation: documentation(abstract),
		At:            schema.Place{Source: adoc.source, Offset: abstract.Span().Start},
	}
	if o.Documentation == "" {
		o.Documentation = documentation(bound)
	}
	if so := bound.Child(ns, "operation"); ns != "" && !so.IsZero() {
		o.Action, o.HasAction = so.Attr("", "soapAction")
		if st, ok := so.Attr("", "style"); ok && st != "" {
			o.Style = st
		}
	}
	in, out := abstract.Child(wsdlNS, "input"), abstract.Child(wsdlNS, "output")
	o.Input = l.message(o, ns, in, bound.Child(wsdlNS, "input"), bdoc, o.Name, true)
	o.Input.Action = addressingAction(in)
	if !out.IsZero() {
		o.Output = l.message(o, ns, out, bound.Child(wsdlNS, "output"), bdoc, o.Name+"Response", false)
	}
	for f := range abstract.Named(wsdlNS, "fault") {
		ref, _ := f.Attr("", "message")
		q, _ := f.QName(ref)
		m, ok := l.parts[partKey{"message", schema.NameOf(q)}]
		if !ok {
			continue
		}
		fname, _ := f.Attr("", "name")
		fault := &Message{Name: fname, Parts: l.messageParts(m)}
		for _, pt := range fault.Parts {
			fault.Element = pt.Element
		}
		o.Faults = append(o.Faults, fault)
	}
	return o
}

func (l *loader) messageParts(m part) []Part {
	var out []Part
	for n := range m.node.Named(wsdlNS, "part") {
		name, _ := n.Attr("", "name")
		pt := Part{Name: name}
		if ref, ok := n.Attr("", "element"); ok {
			q, _ := n.QName(ref)
			if pt.Element = l.c.Schemas.Element(schema.NameOf(q)); pt.Element == nil {
				l.unread("part "+name, m.doc.source, "its element %s is not declared anywhere", schema.NameOf(q))
				pt.Element = &schema.Element{Name: schema.NameOf(q), Type: schema.AnyType()}
			}
			pt.Type = pt.Element.TypeOf()
		} else if ref, ok := n.Attr("", "type"); ok {
			q, _ := n.QName(ref)
			if pt.Type = l.c.Schemas.Type(schema.NameOf(q)); pt.Type == nil {
				l.unread("part "+name, m.doc.source, "its type %s is not defined anywhere", schema.NameOf(q))
				pt.Type = schema.AnyType()
			}
		} else {
			pt.Type = schema.AnyType()
		}
		out = append(out, pt)
	}
	return out
}

// message joins a message with what its binding says of it.
//
//revive:disable-next-line:cyclomatic the elements of the standard, in one place
func (l *loader) message(
	o *Operation,
	ns string,
	abstract, bound xmltree.Node,
	doc *wsdlDoc,
	wrapper string,
	input bool,
) *Message {
	ref, _ := abstract.Attr("", "message")
	q, _ := abstract.QName(ref)
	m := &Message{Name: q.Local}
	src, ok := l.parts[partKey{"message", schema.NameOf(q)}]
	if !ok {
		l.unread("operation "+o.Name, doc.source, "its message %s is not defined anywhere", schema.NameOf(q))
		return m
	}
	m.Parts = l.messageParts(src)
	inBody := func(string) bool { return true }
	headers := map[string]bool{}
	namespace := ""
	walkBinding(bound, ns, func(n xmltree.Node) {
		switch n.Name().Local {
		case "body":
			if u, ok := n.Attr("", "use"); ok {
				o.Use = u
			}
			namespace, _ = n.Attr("", "namespace")
			if list, ok := n.Attr("", "parts"); ok {
				only := strings.Fields(list)
				inBody = func(name string) bool {
					for _, p := range only {
						if p == name {
							return true
						}
					}
					return false
				}
			}
		case "header":
			ref, _ := n.Attr("", "message")
			pname, _ := n.Attr("", "part")
			hq, _ := n.QName(ref)
			hm, ok := l.parts[partKey{"message", schema.NameOf(hq)}]
			if !ok {
				l.unread("header of "+o.Name, doc.source, "its message %s is not defined anywhere", schema.NameOf(hq))
				return
			}
			l.headerFaults(o, ns, n)
			for _, p := range l.messageParts(hm) {
				if p.Name == pname && p.Element != nil {
					if schema.NameOf(hq) == schema.NameOf(q) {
						headers[p.Name] = true
					}
					if input {
						o.Headers = append(o.Headers, p.Element)
					}
				}
			}
		}
	})
	var body []Part
	for _, p := range m.Parts {
		if inBody(p.Name) && !headers[p.Name] {
			body = append(body, p)
		}
	}
	if o.Style == "rpc" {
		m.Element = rpcWrapper(schema.QName{Space: namespace, Local: wrapper}, body, o.Documentation)
		return m
	}
	switch {
	case len(body) == 1 && body[0].Element != nil:
		m.Element = body[0].Element
	case len(body) == 1:
		m.Element = &schema.Element{Name: schema.QName{Space: namespace, Local: body[0].Name}, Type: body[0].Type}
	case len(body) > 1:
		l.unread(
			"operation "+o.Name,
			doc.source,
			"its message %s has %d parts in the body, where document style has one; the first is used",
			m.Name,
			len(body),
		)
		m.Element = body[0].Element
	}
	return m
}

// headerFaults are the faults about a header block, which come back in the
// header (WSDL 1.1 §3.7).
func (l *loader) headerFaults(o *Operation, ns string, header xmltree.Node) {
	for f := range header.Named(ns, "headerfault") {
		ref, _ := f.Attr("", "message")
		pname, _ := f.Attr("", "part")
		q, _ := f.QName(ref)
		m, ok := l.parts[partKey{"message", schema.NameOf(q)}]
		if !ok {
			l.unread("header fault of "+o.Name, "", "its message %s is not defined anywhere", schema.NameOf(q))
			continue
		}
		for _, p := range l.messageParts(m) {
			if p.Name == pname {
				o.HeaderFaults = append(o.HeaderFaults, &Message{Name: pname, Element: p.Element, Parts: []Part{p}})
			}
		}
	}
}

// walkBinding visits the SOAP extensions of a binding's input or output, also
// those inside a MIME part (WSDL 1.1 §5).
func walkBinding(n xmltree.Node, ns string, visit func(xmltree.Node)) {
	for c := range n.Children() {
		switch {
		case c.Name().Space == ns:
			visit(c)
		case strings.HasSuffix(c.Name().Space, "/wsdl/mime/"):
			walkBinding(c, ns, visit)
		}
	}
}

// rpcWrapper is the element that rpc style puts around the parts (WSDL 1.1
// §3.5): the operation's name in the binding's namespace, accessors unqualified.
func rpcWrapper(name schema.QName, parts []Part, doc string) *schema.Element {
	g := &schema.Group{}
	for _, p := range parts {
		e := &schema.Element{Name: schema.QName{Local: p.Name}, Type: p.Type, Nillable: true}
		if p.Element != nil {
			e = p.Element
		}
		g.Particles = append(g.Particles, &schema.Particle{Min: 1, Max: 1, Element: e})
	}
	t := &schema.Complex{Base: schema.AnyType(), Content: &schema.Particle{Min: 1, Max: 1, Group: g}}
	return &schema.Element{Name: name, Type: t, Doc: doc}
}
