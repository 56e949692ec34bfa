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

// Form is how an XML document stands in a value.
type Form uint8

// The forms.
const (
	NoDocument Form = iota
	Escaped         // with references in the place of < and &
	Section         // in CDATA sections
	Base64
)

func (f Form) String() string {
	return [...]string{"", "XML document, escaped", "XML document, CDATA", "XML document, base64"}[f]
}

// Write is a document as it stands in a value of that form.
func (f Form) Write(document string) string {
	switch f {
	case Section:
		return "<![CDATA[" + strings.ReplaceAll(document, "]]>", "]]]]><![CDATA[>") + "]]>"
	case Base64:
		return base64.StdEncoding.EncodeToString([]byte(document))
	}
	return xmltree.EscapeText(document)
}

// Embedded is the XML document that the value of an element is, and how it stands there;
// nil where it is none.
func Embedded(n xmltree.Node) (*xmltree.Document, Form) {
	const least = 4 // <a/>
	if !n.FirstChild().IsZero() {
		return nil, NoDocument
	}
	raw := n.Doc().Src[n.Inner().Start:n.Inner().End]
	form := beginsAs(raw)
	if form == NoDocument || len(raw) > maxFolded {
		return nil, NoDocument
	}
	text := strings.TrimSpace(n.Peek())
	if form == Base64 {
		text = unbase64(text)
	}
	if len(text) < least || text[0] != '<' {
		return nil, NoDocument
	}
	charset := "utf-8" // of text, whatever it declares: programs write the encoding of their memory
	if form == Base64 {
		charset = ""
	}
	inner, err := xmltree.ParseEncoded([]byte(text), charset, xmltree.Limits{Depth: 256})
	if err != nil || inner.Root().IsZero() {
		return nil, NoDocument
	}
	return inner, form
}

// MayEmbed tells in one look over a document whether a value of it can be an XML document:
// by how each value begins, as [Embedded] has it. It is asked of a document once.
func MayEmbed(d *xmltree.Document) bool { return d.Embeds(mayEmbed) }

func mayEmbed(d *xmltree.Document) bool {
	for i := range d.Len() {
		if n := d.NodeAt(i + 1); n.Kind() == xmltree.StartElement && n.FirstChild().IsZero() {
			if begin := d.Src[n.Begin():]; len(begin) > 0 && beginsAs(begin) != NoDocument {
				return true
			}
		}
	}
	return false
}

// beginsAs is the form that a value has by its beginning, if it is a document; its end tag, with
// which an empty one begins, is none.
func beginsAs(raw []byte) Form {
	raw = bytes.TrimLeft(raw, " \t\r\n")
	switch {
	case len(raw) < len("<a/>"):
	case raw[0] == '<' && raw[1] != '/':
		return Section
	case raw[0] == '&':
		return Escaped
	case inBase64(raw):
		return Base64
	}
	return NoDocument
}

// inBase64 tells whether a text begins as base64 does of <, with a letter, ? or ! behind it, perhaps after
// a byte order mark or a line end.
func inBase64(s []byte) bool {
	begins := func(with string) bool { return len(s) >= len(with) && string(s[:len(with)]) == with }
	return begins("77u/P") || begins("Cj") || len(s) > 1 && s[0] == 'P' && 'C' <= s[1] && s[1] <= 'H'
}

// folded is the document element of the XML document that an element's value is, as it can
// stand in the element; nil where it is none.
func folded(n xmltree.Node) []byte {
	inner, form := Embedded(n)
	if form == NoDocument {
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
	const shortest = 8
	if len(s) < shortest {
		return ""
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
