package data

import (
	"bytes"
	"encoding/base64"
	"strings"

	"orenda/internal/xmltree"
)

// Values that are XML documents themselves, escaped, in CDATA sections or in base64, are
// opened in place, so that paths go on inside them. Bounds: how deep, and how much.
const (
	maxFolds  = 4
	maxFolded = 16 << 20 // bytes of one value
)

// Unfold is the document with the XML documents that stand in values in the place of these
// values; the document itself where there are none. opened is how many there are.
func Unfold(d *xmltree.Document) (out *xmltree.Document, opened int) {
	for range maxFolds {
		src, n := unfoldOnce(d)
		if n == 0 {
			break
		}
		next, err := xmltree.Parse(src, xmltree.Limits{})
		if err != nil {
			break
		}
		d, opened = next, opened+n
	}
	return d, opened
}

func unfoldOnce(d *xmltree.Document) (src []byte, opened int) {
	if d == nil || d.Root().IsZero() {
		return nil, 0
	}
	at := 0
	for i := 1; i <= d.Len(); i++ {
		n := d.NodeAt(i)
		if n.Kind() != xmltree.StartElement || !n.FirstChild().IsZero() || n.Inner().Len() == 0 {
			continue
		}
		inside := folded(n)
		if inside == nil {
			continue
		}
		src = append(append(src, d.Src[at:n.Inner().Start]...), inside...)
		at = n.Inner().End
		opened++
	}
	return append(src, d.Src[at:]...), opened
}

// folded is the document element of the XML document that an element's value is, as it can
// stand in the element; nil where it is none.
func folded(n xmltree.Node) []byte {
	const least = 4 // <a/>
	raw := n.Doc().Src[n.Inner().Start:n.Inner().End]
	if len(raw) < least || len(raw) > maxFolded {
		return nil
	}
	text := strings.TrimSpace(n.Peek())
	if len(text) < least {
		return nil
	}
	if text[0] != '<' {
		if text = unbase64(text); text == "" {
			return nil
		}
	}
	inner, err := xmltree.Parse([]byte(text), xmltree.Limits{Depth: 256})
	if err != nil || inner.Root().IsZero() {
		return nil
	}
	root := inner.Root()
	b := root.Bytes()
	if _, there := root.Attr(xmltree.XMLNSNamespace, "xmlns"); !there && root.Name().Prefix == "" {
		if _, inherited := n.Lookup(""); inherited { // it is in no namespace, and stays there
			name := len("<" + root.Name().Local)
			b = append(append(bytes.Clone(b[:name]), ` xmlns=""`...), b[name:]...)
		}
	}
	return b
}

// unbase64 is the text that a value holds in base64, where it can be an XML document.
func unbase64(s string) string {
	const shortest = 24
	begins := func(with string) bool { return strings.HasPrefix(s, with) }
	if len(s) < shortest || !begins("PD") && !begins("77u/PD") && !begins("Cj") {
		return "" // < with and without a byte order mark, or after a line end
	}
	b, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(s), ""))
	if err != nil {
		return ""
	}
	b = bytes.TrimSpace(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")))
	if len(b) == 0 || b[0] != '<' {
		return ""
	}
	return string(b)
}
