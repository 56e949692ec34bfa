package contract

import (
	"context"
	"testing"
)

// FuzzPolicies attaches any file of policies to a description: what does not apply is told.
func FuzzPolicies(f *testing.F) {
	c, err := Load(context.Background(), "http://h/x.wsdl", []byte(twoPorts), nil)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(`<p:Policy xmlns:p="http://www.w3.org/ns/ws-policy"><p:ExactlyOne><p:All><w:Addressing xmlns:w="http://www.w3.org/2007/05/addressing/metadata"/></p:All></p:ExactlyOne></p:Policy>`))
	f.Add([]byte(`<p:PolicyAttachment xmlns:p="http://www.w3.org/ns/ws-policy"><p:AppliesTo><p:URI>urn:t#wsdl11.port(S/plain)</p:URI></p:AppliesTo><p:PolicyReference URI="#late"/></p:PolicyAttachment>`))
	f.Fuzz(func(_ *testing.T, b []byte) {
		with, err := c.WithPolicies(context.Background(), File{"house.xml", b})
		if err != nil {
			return
		}
		for _, s := range with.Services {
			for _, p := range s.Ports {
				for _, o := range p.Operations {
					_ = with.DemandsOf(p, o)
				}
			}
		}
	})
}
