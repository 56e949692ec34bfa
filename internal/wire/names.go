package wire

import (
	"crypto/x509/pkix"
	"encoding/asn1"
)

// nameOf is a distinguished name in DER as text.
func nameOf(raw []byte) string {
	var seq pkix.RDNSequence
	if _, err := asn1.Unmarshal(raw, &seq); err != nil {
		return "a name that cannot be read"
	}
	var n pkix.Name
	n.FillFromRDNSequence(&seq)
	return n.String()
}
