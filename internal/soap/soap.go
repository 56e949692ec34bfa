// Package soap builds and reads envelopes of SOAP 1.1 and SOAP 1.2: versions,
// media types, actions, headers, bodies and faults.
package soap

import (
	"fmt"
	"mime"
	"strings"

	"orenda/internal/xmltree"
)

// Version is a version of SOAP.
type Version uint8

// The versions; Unset where none is known.
const (
	Unset Version = iota
	V11
	V12
)

// The namespaces of the two envelopes (SOAP 1.1 §3, SOAP 1.2 part 1 §5.1).
const (
	NS11 = "http://schemas.xmlsoap.org/soap/envelope/"
	NS12 = "http://www.w3.org/2003/05/soap-envelope"
)

// ParseVersion reads "1.1" or "1.2".
func ParseVersion(s string) (Version, error) {
	switch s {
	case "1.1":
		return V11, nil
	case "1.2":
		return V12, nil
	}
	return Unset, fmt.Errorf("the SOAP version is 1.1 or 1.2, not %q", s)
}

func (v Version) String() string {
	switch v {
	case V11:
		return "1.1"
	case V12:
		return "1.2"
	}
	return ""
}

// Namespace is that of the version's envelope.
func (v Version) Namespace() string {
	if v == V12 {
		return NS12
	}
	return NS11
}

// MediaType is the version's own (SOAP 1.1 §6, RFC 3902).
func (v Version) MediaType() string {
	if v == V12 {
		return "application/soap+xml"
	}
	return "text/xml"
}

// VersionOf tells which version an envelope's namespace belongs to.
func VersionOf(namespace string) Version {
	switch namespace {
	case NS11:
		return V11
	case NS12:
		return V12
	}
	return Unset
}

// VersionOfMedia tells which version a Content-Type value belongs to.
func VersionOfMedia(contentType string) Version {
	t, params, _ := mime.ParseMediaType(contentType)
	switch t {
	case "text/xml":
		return V11
	case "application/soap+xml":
		return V12
	case "multipart/related", "application/xop+xml": // of the envelope in it
		for _, inner := range []string{params["start-info"], params["type"]} {
			if inner != "" && !strings.HasPrefix(inner, t) && VersionOfMedia(inner) != Unset {
				return VersionOfMedia(inner)
			}
		}
	}
	return Unset
}

// HTTPHeaders are the header fields that carry version and action: SOAPAction
// for 1.1 (§6.1.1, quoted), the action parameter for 1.2 (RFC 3902 §2).
func HTTPHeaders(v Version, charset, action string, hasAction bool) [][2]string {
	ct := v.MediaType() + "; charset=" + charset
	if v == V12 {
		if hasAction && action != "" {
			ct += `; action="` + strings.ReplaceAll(action, `"`, `\"`) + `"`
		}
		return [][2]string{{"Content-Type", ct}}
	}
	out := [][2]string{{"Content-Type", ct}}
	if hasAction {
		out = append(out, [2]string{"SOAPAction", `"` + action + `"`})
	}
	return out
}

// Build writes an envelope around header blocks and a body, both given as XML
// that stands on its own. The offset of the body's content comes with it.
func Build(v Version, headers [][]byte, body []byte) (envelope []byte, bodyAt int) {
	return BuildAfter(0, v, headers, body)
}

// BuildAfter is Build with room before the envelope, in which what goes before it on the
// wire can be written without a copy of the envelope: out[room:] is the envelope.
func BuildAfter(room int, v Version, headers [][]byte, body []byte) (out []byte, bodyAt int) {
	const end = "\n  </soap:Body>\n</soap:Envelope>\n"
	size := room + usualHead + len(body) + len(end)
	for _, h := range headers {
		size += len(h) + 1
	}
	b := make([]byte, room, size)
	b = append(b, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<soap:Envelope xmlns:soap="`...)
	b = append(append(b, v.Namespace()...), `">`...)
	if len(headers) > 0 {
		b = append(b, "\n  <soap:Header>"...)
		for _, h := range headers {
			b = append(append(b, '\n'), h...)
		}
		b = append(b, "\n  </soap:Header>"...)
	}
	b = append(b, "\n  <soap:Body>\n"...)
	bodyAt = len(b) - room
	return append(append(b, body...), end...), bodyAt
}

// usualHead is room for what stands before the body, without header blocks.
const usualHead = 192

// Envelope is an envelope that was read.
type Envelope struct {
	Version Version           // SOAP 1.1 or 1.2
	Doc     *xmltree.Document // as it was read
	Header  xmltree.Node      // zero where there is none
	Body    xmltree.Node      // zero where there is none
	Payload xmltree.Node      // first element of the body, or zero
	Fault   *Fault            // where the payload is a fault
}

// Read finds the parts of an envelope; nil where the document is none.
func Read(d *xmltree.Document) *Envelope {
	root := d.Root()
	if root.IsZero() {
		return nil
	}
	v := VersionOf(root.Name().Space)
	if v == Unset || root.Name().Local != "Envelope" {
		return nil
	}
	ns := v.Namespace()
	e := &Envelope{Version: v, Doc: d, Header: root.Child(ns, "Header"), Body: root.Child(ns, "Body")}
	e.Payload = e.Body.FirstChild()
	if e.Payload.Is(ns, "Fault") {
		e.Fault = ReadFault(v, e.Payload)
	}
	return e
}

// Fault is a fault of either version in the terms of SOAP 1.2 (§5.4).
type Fault struct {
	Node     xmltree.Node   // the fault
	Code     xmltree.Name   // soap:Client and soap:Sender keep their own spelling
	Subcodes []xmltree.Name // 1.2; in 1.1 what follows a dot in the code
	Reason   string         // what the service says
	Actor    string         // 1.1 faultactor, 1.2 Role
	Detail   xmltree.Node   // the detail element, or zero
	CodeAt   xmltree.Span   // where the code stands
	ReasonAt xmltree.Span   // where the reason stands

	OtherShape bool // it is written as the other version writes its faults
}

// ReadFault reads a fault in the shape of its version, and one that has nothing of it in the shape of the other:
// services mix the two. The element may be any.
func ReadFault(v Version, n xmltree.Node) *Fault {
	shapes := []func(xmltree.Node) *Fault{fault11, fault12}
	if v == V12 {
		shapes[0], shapes[1] = shapes[1], shapes[0]
	}
	f := shapes[0](n)
	if f.Code == (xmltree.Name{}) && f.Reason == "" {
		if other := shapes[1](n); other.Code != (xmltree.Name{}) || other.Reason != "" {
			other.OtherShape = true
			return other
		}
	}
	return f
}

// fault11 reads a fault of SOAP 1.1 (§4.4). Its children are unqualified, yet not everyone's are.
func fault11(n xmltree.Node) *Fault {
	f := &Fault{Node: n}
	for c := range n.Children() {
		switch c.Name().Local {
		case "faultcode":
			f.Code, f.CodeAt = code(c), c.Inner()
			if base, sub, ok := strings.Cut(f.Code.Local, "."); ok && f.Code.Space == NS11 {
				f.Code.Local = base
				f.Subcodes = append(f.Subcodes, xmltree.Name{Local: sub})
			}
		case "faultstring":
			f.Reason, f.ReasonAt = strings.TrimSpace(c.Text()), c.Inner()
		case "faultactor":
			f.Actor = strings.TrimSpace(c.Text())
		case "detail":
			f.Detail = c
		}
	}
	return f
}

// fault12 reads a fault of SOAP 1.2 (part 1 §5.4), whose children are in the namespace of the fault.
func fault12(n xmltree.Node) *Fault {
	f, ns := &Fault{Node: n}, n.Name().Space
	c := n.Child(ns, "Code")
	value := c.Child(ns, "Value")
	if !value.IsZero() {
		f.Code, f.CodeAt = code(value), value.Inner()
	}
	for sub := c.Child(ns, "Subcode"); !sub.IsZero(); sub = sub.Child(ns, "Subcode") {
		if v := sub.Child(ns, "Value"); !v.IsZero() {
			f.Subcodes = append(f.Subcodes, code(v))
		}
	}
	for t := range n.Child(ns, "Reason").Named(ns, "Text") {
		lang, _ := t.Attr(xmltree.XMLNamespace, "lang")
		if f.Reason == "" || strings.HasPrefix(lang, "en") {
			f.Reason, f.ReasonAt = strings.TrimSpace(t.Text()), t.Inner()
		}
	}
	f.Actor = strings.TrimSpace(n.Child(ns, "Role").Text())
	f.Detail = n.Child(ns, "Detail")
	return f
}

func code(n xmltree.Node) xmltree.Name {
	q, _ := n.QName(n.Text())
	return q
}

// Codes are all codes of the fault, the general one first.
func (f *Fault) Codes() []xmltree.Name { return append([]xmltree.Name{f.Code}, f.Subcodes...) }

// HasCode tells whether any of the fault's codes has that local name.
func (f *Fault) HasCode(local string) bool {
	for _, c := range f.Codes() {
		if c.Local == local {
			return true
		}
	}
	return false
}

// FromSender tells whether the fault blames the message rather than the service.
func (f *Fault) FromSender() bool { return f.Code.Local == "Client" || f.Code.Local == "Sender" }

// FromReceiver tells whether the fault blames the service rather than the message.
func (f *Fault) FromReceiver() bool { return f.Code.Local == "Server" || f.Code.Local == "Receiver" }

// MakeFault is an envelope with a fault of the receiver (SOAP 1.1 §4.4, SOAP 1.2 §5.4).
func MakeFault(v Version, reason string) []byte {
	text := xmltree.EscapeText(reason)
	body := "<e:Fault><faultcode>e:Server</faultcode><faultstring>" + text + "</faultstring></e:Fault>"
	if v == V12 {
		body = "<e:Fault><e:Code><e:Value>e:Receiver</e:Value></e:Code><e:Reason><e:Text xml:lang=\"en\">" + text +
			"</e:Text></e:Reason></e:Fault>"
	}
	return []byte(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<e:Envelope xmlns:e="` + v.Namespace() +
		`"><e:Body>` + body + "</e:Body></e:Envelope>\n")
}
