package message

import (
	"bytes"
	"slices"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/xmltree"
)

// Secret is a value in a document that is a secret, by its name or by its place.
type Secret struct {
	Span    xmltree.Span // of the value as it is written
	Written string       // as it is written
	Meant   string       // without references and white space around
}

// SecretsIn finds the secrets of a document: elements that hold a value alone, and
// attributes. Paths in names are below body, which may be the zero node.
func SecretsIn(doc *xmltree.Document, body xmltree.Node, names exchange.SecretNames) (out []Secret) {
	if doc == nil || !slices.ContainsFunc(doc.Names(), func(n xmltree.Name) bool { return names.MayBe(n.Local) }) {
		return nil
	}
	add := func(s xmltree.Span, meant string) {
		out = append(out, Secret{s, string(bytes.TrimSpace(doc.Src[s.Start:s.End])), meant})
	}
	for i := range doc.Len() {
		n := doc.NodeAt(i + 1)
		if n.Kind() != xmltree.StartElement {
			continue
		}
		name := n.Name().Local
		if s := n.Inner(); names.MayBe(name) && !isCertificate(n) && !bytes.ContainsRune(doc.Src[s.Start:s.End], '<') &&
			names.Has(name, func() string { return below(n, body) }) {
			add(s, n.Text())
		}
		for a := range n.Attrs() {
			local := a.Name.Local
			if names.MayBe(local) && names.Has(local, func() string { return join(below(n, body), "@"+local) }) {
				add(a.Inner, a.Value)
			}
		}
	}
	return out
}

// isCertificate tells whether a security token is a certificate, which everybody may see
// (WSS X.509 Certificate Token Profile 1.1 §3.1).
func isCertificate(n xmltree.Node) bool {
	kind, _ := n.Attr("", "ValueType")
	return strings.Contains(kind, "x509-token-profile")
}

// below is the path of a node below another, without numbers; "" where it does not
// stand there.
func below(n, top xmltree.Node) string {
	var parts []string
	for ; !n.IsZero() && n != top; n = n.Parent() {
		if n.Kind() != xmltree.StartElement {
			return ""
		}
		parts = append(parts, n.Name().Local)
	}
	if n.IsZero() {
		return ""
	}
	slices.Reverse(parts)
	return strings.Join(parts, "/")
}
