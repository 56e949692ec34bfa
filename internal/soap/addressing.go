package soap

import (
	"fmt"

	"orenda/internal/xmltree"
)

// The versions of WS-Addressing that can be sent, by the names that settings
// use: the member submission of August 2004 and the recommendation 1.0.
const (
	Addressing2004 = "2004/08"
	Addressing10   = "1.0"
)

// IsAddressing tells whether a namespace is one of WS-Addressing.
func IsAddressing(space string) bool {
	for _, ns := range AddressingNS {
		if ns == space {
			return true
		}
	}
	return false
}

// AddressingNS are the namespaces of those versions.
//
//nolint:gochecknoglobals // a table: it is never written to
var AddressingNS = map[string]string{
	Addressing2004: "http://schemas.xmlsoap.org/ws/2004/08/addressing",
	Addressing10:   "http://www.w3.org/2005/08/addressing",
}

// anonymous is the address of the one who asked, over the connection on which
// they asked (1.0 Core §2.1; 2004/08 §2.3).
func anonymous(version string) string {
	if version == Addressing2004 {
		return AddressingNS[version] + "/role/anonymous"
	}
	return AddressingNS[version] + "/anonymous"
}

// Addressing are the message addressing properties of a request.
type Addressing struct {
	Version   string // Addressing10 or Addressing2004
	To        string // address of the service
	Action    string // SOAP action, "" none
	MessageID string // urn:uuid:…
	OneWay    bool   // no reply is due, so that none is asked for
	ReplyTo   string // address to which the answer and a fault are to go; "" over the same connection
}

// Blocks are the header blocks that carry the properties (1.0 Core §3.2).
func (a Addressing) Blocks() [][]byte {
	ns := AddressingNS[a.Version]
	block := func(name, content string) []byte {
		return fmt.Appendf(nil, `    <wsa:%s xmlns:wsa="%s">%s</wsa:%s>`, name, ns, content, name)
	}
	out := [][]byte{
		block("To", xmltree.EscapeText(a.To)),
		block("Action", xmltree.EscapeText(a.Action)),
		block("MessageID", xmltree.EscapeText(a.MessageID)),
	}
	switch {
	case a.ReplyTo != "":
		to := "<wsa:Address>" + xmltree.EscapeText(a.ReplyTo) + "</wsa:Address>"
		out = append(out, block("ReplyTo", to), block("FaultTo", to))
	case !a.OneWay:
		out = append(out, block("ReplyTo", "<wsa:Address>"+anonymous(a.Version)+"</wsa:Address>"))
	}
	return out
}

// DefaultAction is the action of a request that a description gives none for
// (WS-Addressing Metadata §4.4.4).
func DefaultAction(namespace, portType, operation, input string) string {
	delimiter := "/"
	if len(namespace) > 4 && namespace[:4] == "urn:" {
		delimiter = ":"
	}
	for len(namespace) > 0 && namespace[len(namespace)-1:] == delimiter {
		namespace = namespace[:len(namespace)-1]
	}
	if input == "" {
		input = operation + "Request"
	}
	return namespace + delimiter + portType + delimiter + input
}
