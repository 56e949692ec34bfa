package contract

import (
	"fmt"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// demands reads the policies that are attached to something, in place or by
// reference, into words (WS-Policy 1.2 and 1.5, WS-PolicyAttachment,
// WS-SecurityPolicy 1.1 to 1.3).
func (l *loader) demands() {
	r := policyReader{l: l, named: map[string]xmltree.Node{}, used: map[string]bool{}}
	for _, doc := range l.docs {
		r.collect(doc.root, doc.source)
	}
	for _, doc := range l.docs {
		r.attached(doc.root, doc.source)
	}
	r.outside(l.c.Policies)
	for _, id := range r.order {
		if !r.used[id] {
			l.unread(
				"policy "+id[strings.LastIndexByte(id, '#')+1:],
				id[:strings.LastIndexByte(id, '#')],
				"nothing in the description refers to it",
			)
		}
	}
}

// policyReader follows policies from where they are attached.
type policyReader struct {
	l     *loader
	named map[string]xmltree.Node // by document and fragment
	order []string
	used  map[string]bool
}

const wsuNS = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"

// policyID is the name by which a policy can be referred to.
func policyID(n xmltree.Node) string {
	for _, a := range [][2]string{{wsuNS, "Id"}, {xmltree.XMLNamespace, "id"}, {"", "Id"}, {"", "Name"}} {
		if v, ok := n.Attr(a[0], a[1]); ok {
			return v
		}
	}
	return ""
}

// collect finds the policies that have a name.
func (r *policyReader) collect(n xmltree.Node, source string) {
	for c := range n.Children() {
		if isPolicyNS(c.Name().Space) && c.Name().Local == "Policy" {
			if id := policyID(c); id != "" {
				key := source + "#" + id
				if _, ok := r.named[key]; !ok {
					r.named[key] = c
					r.order = append(r.order, key)
				}
				if up := c.Parent().Name().Local; up != "definitions" && up != "description" {
					r.used[key] = true // it is attached where it stands
				}
			}
			continue
		}
		r.collect(c, source)
	}
}

// attached walks the description and reads what is attached to its parts.
func (r *policyReader) attached(n xmltree.Node, source string) {
	for a := range n.Attrs() {
		if isPolicyNS(a.Name.Space) && a.Name.Local == "PolicyURIs" {
			for _, uri := range strings.Fields(a.Value) {
				r.follow(uri, source, subjectOf(n), false, 0)
			}
		}
	}
	for c := range n.Children() {
		name := c.Name()
		switch {
		case isPolicyNS(name.Space) && name.Local == "Policy":
			if up := n.Name().Local; up != "definitions" && up != "description" {
				r.l.policy(r, c, subjectOf(n), false, source, 0)
			}
		case isPolicyNS(name.Space) && name.Local == "PolicyReference":
			uri, _ := c.Attr("", "URI")
			r.follow(uri, source, subjectOf(n), false, 0)
		case isPolicyNS(name.Space) && name.Local == "PolicyAttachment":
			r.attachment(c, source)
		case name.Local == "UsingAddressing" && strings.Contains(name.Space, "/addressing"):
			r.l.demand(c, subjectOf(n), false, "WS-Addressing headers")
		default:
			r.attached(c, source)
		}
	}
}

// follow reads a policy that is referred to, in this document or in another.
func (r *policyReader) follow(uri, source string, at subject, optional bool, depth int) {
	file, id, _ := strings.Cut(uri, "#")
	where := source
	if file != "" {
		abs, err := Resolve(source, file)
		if err != nil {
			r.l.unread("policy "+uri, source, "%s", err.Error())
			return
		}
		where = abs
	}
	n, ok := r.named[where+"#"+id]
	if !ok && file != "" {
		if src, err := r.l.get(where); err != nil {
			r.l.unread("policy "+uri, source, "%s", err.Error())
			return
		} else if d, err := xmltree.ParseContract(src, xmltree.Limits{Depth: 256}); err == nil {
			if root := d.Root(); isPolicyNS(root.Name().Space) && (id == "" || policyID(root) == id) {
				n, ok = root, true
			} else {
				r.collect(root, where)
				n, ok = r.named[where+"#"+id]
			}
		}
	}
	if !ok {
		r.l.unread("policy "+uri, source, "there is no such policy")
		return
	}
	r.used[where+"#"+id] = true
	if depth < 20 {
		r.l.policy(r, n, at, optional, where, depth+1)
	}
}

func isPolicyNS(ns string) bool {
	return ns == "http://www.w3.org/ns/ws-policy" ||
		strings.HasPrefix(ns, "http://schemas.xmlsoap.org/ws/2004/09/policy")
}

func isSecurityPolicyNS(ns string) bool {
	return strings.Contains(ns, "/ws-securitypolicy/") || strings.HasSuffix(ns, "/securitypolicy")
}

func (l *loader) demand(n xmltree.Node, at subject, optional bool, format string, args ...any) {
	d := Demand{
		Text: fmt.Sprintf(format, args...), Assertion: schema.NameOf(n.Name()), At: at.String(), Optional: optional,
		of: []subject{at},
	}
	if optional {
		d.Text += ", or not"
	}
	for i, o := range l.c.Demands {
		if o.Text == d.Text {
			l.c.Demands[i].of = append(o.of, at)
			return
		}
	}
	l.c.Demands = append(l.c.Demands, d)
}

// policy reads the assertions of a policy. What stands in one of several
// alternatives, or is marked as optional, is not demanded for certain.
func (l *loader) policy(r *policyReader, n xmltree.Node, at subject, optional bool, source string, depth int) {
	if isPolicyNS(n.Name().Space) && n.Name().Local == "ExactlyOne" {
		count := 0
		for range n.Children() {
			count++
		}
		optional = optional || count > 1
	}
	for c := range n.Children() {
		name, optional := c.Name(), optional
		for a := range c.Attrs() {
			if isPolicyNS(a.Name.Space) && a.Name.Local == "Optional" && (a.Value == "true" || a.Value == "1") {
				optional = true
			}
		}
		if isPolicyNS(name.Space) && name.Local == "PolicyReference" {
			uri, _ := c.Attr("", "URI")
			r.follow(uri, source, at, optional, depth)
			continue
		}
		if l.assertion(c, at, optional, source) {
			l.policy(r, c, at, optional, source, depth)
		}
	}
}

// suiteOf is the name of an algorithm suite (WS-SecurityPolicy 1.2 §6.1).
func suiteOf(n xmltree.Node) string {
	for c := range n.Children() {
		if isPolicyNS(c.Name().Space) {
			if s := suiteOf(c); s != "" {
				return s
			}
			continue
		}
		if isSecurityPolicyNS(c.Name().Space) {
			return c.Name().Local
		}
	}
	return ""
}

func passwordKind(n xmltree.Node) string {
	kind := " with a text password"
	var walk func(xmltree.Node)
	walk = func(n xmltree.Node) {
		for c := range n.Children() {
			switch c.Name().Local {
			case "HashPassword":
				kind = " with a digest password"
			case "NoPassword":
				kind = " without a password"
			}
			walk(c)
		}
	}
	walk(n)
	return kind
}

func partsOf(n xmltree.Node) string {
	var out []string
	for c := range n.Children() {
		part := strings.ToLower(c.Name().Local)
		if name, ok := c.Attr("", "Name"); ok {
			part += " " + name
		}
		out = append(out, part)
	}
	if len(out) == 0 {
		return "body and headers"
	}
	return strings.Join(out, ", ")
}

// addressingAction is the action on an input (WS-Addressing Metadata §4.4.1, and
// the names that came before it).
func addressingAction(n xmltree.Node) string {
	for _, ns := range []string{"http://www.w3.org/2007/05/addressing/metadata",
		"http://www.w3.org/2006/05/addressing/wsdl", "http://schemas.xmlsoap.org/ws/2004/08/addressing"} {
		if a, ok := n.Attr(ns, "Action"); ok {
			return a
		}
	}
	return ""
}
