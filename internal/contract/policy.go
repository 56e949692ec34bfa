package contract

import (
	"fmt"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// demands reads the policies of all documents into words (WS-Policy 1.2 and
// 1.5, WS-SecurityPolicy 1.1 to 1.3).
func (l *loader) demands() {
	for _, doc := range l.docs {
		l.findPolicies(doc.root, doc)
	}
}

func isPolicyNS(ns string) bool {
	return ns == "http://www.w3.org/ns/ws-policy" || strings.HasPrefix(ns, "http://schemas.xmlsoap.org/ws/2004/09/policy")
}

func isSecurityPolicyNS(ns string) bool {
	return strings.Contains(ns, "/ws-securitypolicy/") || strings.HasSuffix(ns, "/securitypolicy")
}

func (l *loader) findPolicies(n xmltree.Node, doc *wsdlDoc) {
	for c := range n.Children() {
		name := c.Name()
		switch {
		case isPolicyNS(name.Space) && name.Local == "Policy":
			l.policy(c, policySubject(c))
		case name.Local == "UsingAddressing" && strings.Contains(name.Space, "/addressing"):
			l.demand(c, policySubject(c), "WS-Addressing headers")
		default:
			l.findPolicies(c, doc)
		}
	}
}

// policySubject says in words what a policy is attached to.
func policySubject(n xmltree.Node) string {
	up := n.Parent()
	name, _ := up.Attr("", "name")
	if up.Name().Local == "definitions" {
		id, _ := n.Attr("http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd", "Id")
		return "policy " + id
	}
	return strings.TrimSpace(up.Name().Local + " " + name)
}

func (l *loader) demand(n xmltree.Node, at, format string, args ...any) {
	d := Demand{Text: fmt.Sprintf(format, args...), Assertion: schema.NameOf(n.Name()), At: at}
	for _, o := range l.c.Demands {
		if o.Text == d.Text {
			return
		}
	}
	l.c.Demands = append(l.c.Demands, d)
}

func (l *loader) policy(n xmltree.Node, at string) {
	for c := range n.Children() {
		name := c.Name()
		if isSecurityPolicyNS(name.Space) {
			switch name.Local {
			case "UsernameToken":
				l.demand(c, at, "a user name token%s", passwordKind(c))
				continue
			case "IncludeTimestamp":
				l.demand(c, at, "a timestamp")
			case "TransportBinding":
				l.demand(c, at, "TLS (https)")
			case "X509Token":
				l.demand(c, at, "an X.509 certificate token")
			case "SamlToken", "IssuedToken":
				l.demand(c, at, "a security token issued by another service")
			case "SignedParts":
				l.demand(c, at, "signed: %s", partsOf(c))
				continue
			case "EncryptedParts":
				l.demand(c, at, "encrypted: %s", partsOf(c))
				continue
			case "HttpBasicAuthentication":
				l.demand(c, at, "HTTP basic authentication")
			}
		}
		if (name.Local == "Addressing" || name.Local == "UsingAddressing") && strings.Contains(name.Space, "/addressing") {
			l.demand(c, at, "WS-Addressing headers")
		}
		if name.Local == "OptimizedMimeSerialization" {
			l.demand(c, at, "MTOM attachments")
		}
		l.policy(c, at)
	}
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

// Demand texts that settings can answer.

// DemandsToken tells whether a user name token is demanded, and of which kind:
// "text", "digest" or "none"; "" where none is.
func (c *Contract) DemandsToken() string {
	for _, d := range c.Demands {
		if d.Assertion.Local == "UsernameToken" {
			switch {
			case strings.Contains(d.Text, "digest"):
				return "digest"
			case strings.Contains(d.Text, "without"):
				return "none"
			}
			return "text"
		}
	}
	return ""
}

// DemandsTimestamp tells whether a timestamp is demanded.
func (c *Contract) DemandsTimestamp() bool {
	for _, d := range c.Demands {
		if d.Assertion.Local == "IncludeTimestamp" {
			return true
		}
	}
	return false
}
