package wssec

import (
	"testing"

	"orenda/internal/xmltree"
)

// FuzzAssertion reads any answer of a token service: assertions, and the keys that prove them.
func FuzzAssertion(f *testing.F) {
	f.Add([]byte(`<Assertion xmlns="`+SAML2+`" ID="a"><Issuer>gate</Issuer><Subject><NameID>n</NameID><SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"/></Subject><Conditions NotBefore="2027-01-01T00:00:00Z" NotOnOrAfter="2027-01-02T00:00:00Z"/></Assertion>`), []byte("ebb"))
	f.Add([]byte(`<t:RequestSecurityTokenResponse xmlns:t="http://docs.oasis-open.org/ws-sx/ws-trust/200512"><t:RequestedProofToken><t:ComputedKey>http://docs.oasis-open.org/ws-sx/ws-trust/200512/CK/PSHA1</t:ComputedKey></t:RequestedProofToken><t:Entropy><t:BinarySecret>YQ==</t:BinarySecret></t:Entropy><t:KeySize>256</t:KeySize></t:RequestSecurityTokenResponse>`), []byte("flow"))
	f.Fuzz(func(t *testing.T, b, entropy []byte) {
		d, err := xmltree.Parse(b, xmltree.Limits{Depth: 50})
		if err != nil {
			return
		}
		if a, err := ReadAssertion(d.Root()); err == nil && a != nil && a.ID == "" {
			t.Fatal("an assertion without a name is one")
		}
		if key, err := ProofKey(d.Root(), entropy); err == nil && len(key) > 1<<16 {
			t.Fatalf("a key of %d bytes", len(key))
		}
	})
}
