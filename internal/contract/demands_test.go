package contract

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// twoPorts has one port with a policy and one without, and policies at an operation, at its
// input and at its output.
const twoPorts = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t"
 xmlns:p="http://www.w3.org/ns/ws-policy" xmlns:sp="http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702"
 xmlns:rm="http://docs.oasis-open.org/ws-rx/wsrmp/200702" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:v="urn:vendor" targetNamespace="urn:t">
<types><xs:schema targetNamespace="urn:t"><xs:element name="q" type="xs:string"/></xs:schema></types>
<message name="In"><part name="p" element="t:q"/></message><message name="Out"><part name="p" element="t:q"/></message>
<portType name="P"><operation name="Ask"><input message="t:In"/><output message="t:Out"/></operation>
<operation name="Tell"><input message="t:In"/><output message="t:Out"/></operation></portType>
<binding name="Plain" type="t:P"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Ask"><s:operation soapAction="a"/><input><s:body use="literal"/></input><output><s:body use="literal"/></output></operation>
<operation name="Tell"><s:operation soapAction="b"/><input><s:body use="literal"/></input><output><s:body use="literal"/></output></operation></binding>
<binding name="Safe" type="t:P"><p:Policy><sp:UsernameToken/><rm:RMAssertion><p:Policy><rm:DeliveryAssurance/></p:Policy></rm:RMAssertion>
<sp:Layout><p:Policy><sp:Strict/></p:Policy></sp:Layout><v:Quay/><sp:Unheard/></p:Policy>
<s:binding transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Ask"><p:Policy><sp:IncludeTimestamp/></p:Policy><s:operation soapAction="a"/>
<input><p:Policy><sp:SignedParts><sp:Body/></sp:SignedParts></p:Policy><s:body use="literal"/></input>
<output><p:Policy><sp:EncryptedParts><sp:Body/></sp:EncryptedParts></p:Policy><s:body use="literal"/></output></operation>
<operation name="Tell"><s:operation soapAction="b"/><input><s:body use="literal"/></input><output><s:body use="literal"/></output></operation></binding>
<service name="S"><port name="plain" binding="t:Plain"><s:address location="http://h/p"/></port>
<port name="safe" binding="t:Safe"><s:address location="http://h/s"/></port></service></definitions>`

// A policy speaks of what it is attached to, and of nothing else.
func TestDemandsAreOfTheirPortAndOperation(t *testing.T) {
	c := read(t, twoPorts, nil)
	plain, safe := c.Port("plain"), c.Port("safe")
	require.NotNil(t, safe)
	assert.Empty(t, c.DemandsOf(plain, plain.Operation("Ask")), "another port's policy is not its own")
	ask, tell := c.DemandsOf(safe, safe.Operation("Ask")), c.DemandsOf(safe, safe.Operation("Tell"))
	assert.Equal(t, "text", ask.Token())
	assert.Equal(t, "text", tell.Token())
	assert.True(t, ask.Timestamp())
	assert.False(t, tell.Timestamp(), "it is of another operation")
	assert.False(t, c.DemandsOf(safe, nil).Timestamp(), "of which operation is not known")
	assert.Equal(t, []string{"body"}, ask.Parts("SignedParts"))
	assert.Empty(t, ask.Parts("EncryptedParts"), "it is of the reply")
	assert.Len(t, c.DemandsOf(nil, nil), 5)
	require.Len(t, ask.Protocols(), 1)
	assert.Equal(t, "delivery in sequences (WS-ReliableMessaging)", ask.Protocols()[0].Text)
	assert.Equal(t, "binding Safe", ask.Protocols()[0].At)
	var unread []string
	for _, u := range c.Unread {
		unread = append(unread, u.What+": "+u.Why)
	}
	all := strings.Join(unread, "\n")
	assert.Contains(t, all, "policy assertion v:Quay: it is not known here: {urn:vendor}Quay at the binding Safe")
	assert.Contains(t, all, "policy assertion sp:Unheard: it is not known here")
	assert.NotContains(t, all, "Strict")
	assert.NotContains(t, all, "DeliveryAssurance")
}
