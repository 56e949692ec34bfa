package schema

import (
	"strings"

	"orenda/internal/xmltree"
)

// SOAPEncoding is the namespace of SOAP 1.1 encoding (SOAP 1.1 §5).
const SOAPEncoding = "http://schemas.xmlsoap.org/soap/encoding/"

// soapArray is the type that arrays are derived from (SOAP 1.1 §5.4.2): any
// members, each of any name.
//
//nolint:gochecknoglobals // made once, when it is first asked for
var soapArray = &Complex{
	Name: QName{SOAPEncoding, "Array"}, Base: AnyType(),
	Content: &Particle{Min: 0, Max: Unbounded, Any: &Wildcard{Any: true, Process: "lax"}},
	AnyAttr: &Wildcard{Any: true, Process: "lax"},
}

// encodedType is a type of the namespace of SOAP encoding: Array, or a simple
// type with the name of a built-in one; nil for any other name.
func encodedType(local string) Type {
	if local == "Array" {
		return soapArray
	}
	if b := Builtin(local); b != nil {
		return b
	}
	return nil
}

// array completes a type derived from soapArray: what wsdl:arrayType says its
// members are (WSDL 1.1 §2.2) becomes its content, unless the type says itself.
func (s *Set) array(d *document, body xmltree.Node, t *Complex) {
	if t.Base != soapArray {
		if b, ok := t.Base.(*Complex); ok && b.ArrayOf != nil {
			t.ArrayOf = b.ArrayOf
		}
		return
	}
	t.ArrayOf = AnyType()
	for a := range body.Named(XSD, "attribute") {
		v, ok := a.Attr("http://schemas.xmlsoap.org/wsdl/", "arrayType")
		if !ok {
			continue
		}
		if i := strings.IndexByte(v, '['); i >= 0 {
			v = v[:i]
		}
		t.ArrayOf = s.typeRef(d, a, v, nil)
	}
	if t.Content == nil {
		item := &Element{Name: QName{Local: "item"}, Type: t.ArrayOf, Nillable: true}
		t.Content = &Particle{
			Min:   1,
			Max:   1,
			Group: &Group{Particles: []*Particle{{Min: 0, Max: Unbounded, Element: item}}},
		}
	}
	kept := t.Attrs[:0:0]
	for _, a := range t.Attrs {
		if a.Name.Space != SOAPEncoding {
			kept = append(kept, a)
		}
	}
	t.Attrs, t.AnyAttr = kept, soapArray.AnyAttr
}
