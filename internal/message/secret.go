package message

import (
	"bytes"
	"slices"
	"strings"

	"orenda/internal/data"
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
	if doc == nil {
		return nil
	}
	if data.MayEmbed(doc) {
		out = secretsWithin(doc, body, names)
	}
	if !slices.ContainsFunc(doc.Names(), func(n xmltree.Name) bool { return names.MayBe(n.Local) }) {
		return out
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

// secretsWithin are the values that are XML documents with a secret in them: the whole
// value, as what stands in it can be written in any way.
func secretsWithin(doc *xmltree.Document, body xmltree.Node, names exchange.SecretNames) (out []Secret) {
	for i := range doc.Len() {
		n := doc.NodeAt(i + 1)
		if n.Kind() != xmltree.StartElement {
			continue
		}
		inner, form := data.Embedded(n)
		if form == data.NoDocument {
			continue
		}
		span := n.Inner()
		raw := string(doc.Src[span.Start:span.End])
		inside := names.Below(join(below(n, body), inner.Root().Name().Local))
		for _, s := range SecretsIn(inner, inner.Root(), inside) {
			at := Secret{span, strings.TrimSpace(raw), s.Meant} // all of it, where the place is not plain
			for _, written := range []string{s.Written, xmltree.EscapeText(s.Written)} {
				if form != data.Base64 && strings.Count(raw, written) == 1 {
					k := strings.Index(raw, written)
					at.Span = xmltree.Span{Start: span.Start + k, End: span.Start + k + len(written)}
				}
			}
			at.Written = strings.TrimSpace(string(doc.Src[at.Span.Start:at.Span.End]))
			out = append(out, at)
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
