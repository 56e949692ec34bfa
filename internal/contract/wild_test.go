package contract

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/soap"
)

// wsdl puts a description together: types, messages, port type operations and
// binding operations, in document style over SOAP 1.1.
func wsdl(types, messages, operations, bound string) string {
	return `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:mime="http://schemas.xmlsoap.org/wsdl/mime/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t">
<types>` + types + `</types>` + messages + `<portType name="P">` + operations + `</portType><binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>` + bound + `</binding>
<service name="QuayService"><port name="Quay" binding="t:B"><soap:address location="http://quay.skerry.test/q"/></port></service></definitions>`
}

const (
	elements = `<xs:schema targetNamespace="urn:t" elementFormDefault="qualified"><xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="q" type="xs:string"/></xs:sequence></xs:complexType></xs:element><xs:element name="Answer" type="xs:int"/><xs:element name="Session" type="xs:token"/><xs:element name="Wreck"><xs:complexType><xs:sequence><xs:element name="why" type="xs:string"/></xs:sequence></xs:complexType></xs:element></xs:schema>`
	messages = `<message name="In"><part name="body" element="t:Ask"/><part name="session" element="t:Session"/></message><message name="Out"><part name="body" element="t:Answer"/></message><message name="Bad"><part name="f" element="t:Wreck"/></message>`
	ask      = `<operation name="Ask"><input message="t:In"/><output message="t:Out"/><fault name="Wreck" message="t:Bad"/></operation>`
	askBound = `<operation name="Ask"><soap:operation soapAction="urn:ask"/><input><soap:body use="literal" parts="body"/><soap:header message="t:In" part="session" use="literal"/></input><output><soap:body use="literal"/></output><fault name="Wreck"><soap:fault name="Wreck" use="literal"/></fault></operation>`
)

func read(t testing.TB, src string, files map[string]string) *Contract {
	t.Helper()
	c, err := Load(
		context.Background(),
		"http://quay.skerry.test/desc/q.wsdl",
		[]byte(src),
		func(_ context.Context, loc string) ([]byte, error) {
			if f, ok := files[loc]; ok {
				return []byte(f), nil
			}
			return nil, fmt.Errorf("nothing stands at %s", loc)
		},
	)
	require.NoError(t, err)
	return c
}

func TestHeadersPartsAndFaults(t *testing.T) {
	c := read(t, wsdl(elements, messages, ask, askBound), nil)
	assert.Empty(t, c.Unread)
	o := c.Port("Quay").Operation("Ask")
	assert.Equal(t, "Ask(q: string) → Answer: int", o.Signature())
	require.Len(t, o.Headers, 1)
	assert.Equal(t, "Session", o.Headers[0].Name.Local)
	require.Len(t, o.Faults, 1)
	assert.Equal(t, "Wreck", o.Faults[0].Name)
	assert.Equal(t, "why: string", o.Faults[0].Fields())
	assert.Same(t, o, c.Port("Quay").ByBody(schema.QName{Space: "urn:t", Local: "Ask"}))
	assert.Nil(t, c.Port("Quay").ByBody(schema.QName{Local: "Ask"}))
	assert.Equal(t, "quay", c.ShortName())
}

func TestBodiesInsideMIMEParts(t *testing.T) {
	bound := strings.Replace(
		askBound,
		`<soap:body use="literal" parts="body"/>`,
		`<mime:multipartRelated><mime:part><soap:body use="literal" parts="body"/></mime:part><mime:part><mime:content part="scan" type="image/png"/></mime:part></mime:multipartRelated>`,
		1,
	)
	o := read(t, wsdl(elements, messages, ask, bound), nil).Port("Quay").Operation("Ask")
	require.NotNil(t, o.Input.Element)
	assert.Equal(t, "Ask", o.Input.Element.Name.Local)
}

func TestEncodingsOfDescriptions(t *testing.T) {
	plain := wsdl(elements, messages, ask, askBound)
	plain = strings.Replace(
		plain,
		`<operation name="Ask"><input`,
		`<operation name="Ask"><documentation>Frägt den Kai.</documentation><input`,
		1,
	)
	utf16 := []byte{0xff, 0xfe}
	latin := []byte(`<?xml version="1.0" encoding="ISO-8859-1"?>`)
	for _, r := range plain {
		utf16 = append(utf16, byte(r), byte(r>>8))
		if r < 0x100 {
			latin = append(latin, byte(r))
		}
	}
	for name, src := range map[string]string{"no declaration": plain, "byte order mark": "\xEF\xBB\xBF" + plain,
		"UTF-16": string(utf16), "ISO-8859-1": string(latin), "comment first": "<!-- made by hand -->\n" + plain} {
		c := read(t, src, nil)
		o := c.Port("Quay").Operation("Ask")
		require.NotNil(t, o, name)
		assert.Equal(t, "Frägt den Kai.", o.Documentation, name)
	}
}

func TestImportsOfEveryKind(t *testing.T) {
	base := "http://quay.skerry.test/"
	main := `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t" targetNamespace="urn:main">
<import namespace="urn:t" location="../abstract.wsdl"/><import namespace="urn:x" location="/types/x.xsd"/>
<service name="S"><port name="Quay" binding="t:B"><soap:address location="http://q/"/></port></service></definitions>`
	abstract := strings.Replace(
		wsdl(
			`<xs:schema><xs:import namespace="urn:t" schemaLocation="types/t.xsd"/></xs:schema><xs:schema targetNamespace="urn:u"><xs:element name="u" type="q:Q" xmlns:q="urn:x"/></xs:schema>`,
			messages,
			ask,
			askBound,
		),
		`<service name="QuayService">`,
		`<service name="Other">`,
		1,
	)
	files := map[string]string{
		base + "abstract.wsdl": abstract,
		base + "types/t.xsd": strings.Replace(
			elements,
			`<xs:schema `,
			`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" `,
			1,
		),
		base + "types/x.xsd": `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:x"><xs:simpleType name="Q"><xs:restriction base="xs:int"/></xs:simpleType></xs:schema>`,
	}
	c := read(t, main, files)
	assert.Empty(t, c.Unread)
	assert.Equal(t, "Ask(q: string) → Answer: int", c.Ports()[0].Operation("Ask").Signature())
	assert.Equal(
		t,
		"Q",
		c.Schemas.Element(schema.QName{Space: "urn:u", Local: "u"}).TypeOf().TypeName().Local,
		"a schema block refers to another without a location",
	)
	assert.Len(t, c.Files, 4)
	delete(files, base+"types/t.xsd")
	c = read(t, main, files)
	var all []string
	for _, u := range c.Unread {
		all = append(all, u.What+" "+u.Why)
	}
	assert.Contains(t, strings.Join(all, "\n"), "types/t.xsd nothing stands at "+base+"types/t.xsd")
	assert.Contains(t, strings.Join(all, "\n"), "its element {urn:t}Ask is not declared")
	assert.NotNil(t, c.Ports()[0].Operation("Ask"), "the rest still works")
}

func TestOddDescriptions(t *testing.T) {
	for name, c := range map[string]struct{ src, want string }{
		"no service": {strings.Split(wsdl(elements, messages, ask, askBound), "<service")[0] + "</definitions>",
			"the description has no service"},
		"several body parts": {wsdl(elements, messages, ask, strings.Replace(strings.Replace(askBound,
			` parts="body"`, "", 1), `<soap:header message="t:In" part="session" use="literal"/>`, "", 1)),
			"has 2 parts in the body"},
		"message missing":     {wsdl(elements, "", ask, askBound), "its message {urn:t}In is not defined"},
		"operation not bound": {wsdl(elements, messages, "", askBound), "the port type P has no such operation"},
		"port type missing": {strings.Replace(wsdl(elements, messages, ask, askBound), `type="t:P"`, `type="t:Q"`,
			1), "its port type {urn:t}Q is not defined"},
		"another type system": {wsdl(`<r:grammar xmlns:r="urn:other"/>`+elements, messages, ask, askBound),
			"a type system other than XML Schema"},
		"part without a type": {wsdl(elements, strings.Replace(messages, ` element="t:Answer"`, "", 1), ask,
			askBound), ""},
		"a prefix is not bound": {wsdl(elements, strings.Replace(messages, `t:Answer`, "nope:Answer", 1), ask,
			askBound), "is not declared anywhere"},
	} {
		d := read(t, c.src, nil)
		var all []string
		for _, u := range d.Unread {
			all = append(all, u.Why)
		}
		if c.want == "" {
			assert.NotEmpty(t, d.Ports(), name)
		} else {
			assert.Contains(t, strings.Join(all, "\n"), c.want, name)
		}
		for _, p := range d.Ports() {
			for _, o := range p.Operations {
				assert.NotPanics(t, func() { _ = o.Signature() }, name)
			}
		}
	}
}

func TestDemandsInWords(t *testing.T) {
	const sp = `http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702`
	policy := func(inner string) string {
		return `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:wsp="http://www.w3.org/ns/ws-policy" xmlns:sp="` + sp + `" xmlns:wsu="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd" targetNamespace="urn:t"><wsp:Policy wsu:Id="P1">` + inner + `</wsp:Policy><binding name="B" type="x"><wsp:PolicyReference URI="#P1"/></binding></definitions>`
	}
	for inner, want := range map[string]string{
		`<sp:UsernameToken/>`: "a user name token with a text password",
		`<sp:UsernameToken><wsp:Policy><sp:NoPassword/></wsp:Policy></sp:UsernameToken>`:                                                                 "a user name token without a password",
		`<wsp:ExactlyOne><wsp:All><sp:TransportBinding><wsp:Policy><sp:IncludeTimestamp/></wsp:Policy></sp:TransportBinding></wsp:All></wsp:ExactlyOne>`: "TLS (https)|a timestamp",
		`<sp:SignedParts><sp:Body/><sp:Header Name="To" Namespace="x"/></sp:SignedParts>`:                                                                "signed: body, header To",
		`<sp:SignedParts/>`: "signed: body and headers",
		`<sp:EncryptedParts><sp:Body/></sp:EncryptedParts>`:                                                         "encrypted: body",
		`<sp:UsernameToken wsp:Optional="true"/>`:                                                                   "a user name token with a text password, or not",
		`<wsp:ExactlyOne><wsp:All><sp:UsernameToken/></wsp:All><wsp:All><sp:X509Token/></wsp:All></wsp:ExactlyOne>`: "a user name token with a text password, or not|an X.509 certificate token, or not",
		`<sp:X509Token/>`:               "an X.509 certificate token",
		`<sp:IssuedToken/>`:             "a security token issued by another service",
		`<sp:HttpBasicAuthentication/>`: "HTTP basic authentication",
		`<a:Addressing xmlns:a="http://www.w3.org/2007/05/addressing/metadata"/>`:                                           "WS-Addressing headers",
		`<m:OptimizedMimeSerialization xmlns:m="http://schemas.xmlsoap.org/ws/2004/09/policy/optimizedmimeserialization"/>`: "MTOM attachments",
	} {
		c := read(t, policy(inner), nil)
		var texts []string
		for _, d := range c.Demands {
			texts = append(texts, d.Text)
			assert.Equal(t, "binding B", d.At)
		}
		assert.Equal(t, want, strings.Join(texts, "|"), inner)
	}
	assert.Equal(
		t,
		"none",
		read(
			t,
			policy(`<sp:UsernameToken><wsp:Policy><sp:NoPassword/></wsp:Policy></sp:UsernameToken>`),
			nil,
		).DemandsOf(nil, nil).Token(),
	)
	assert.Equal(t, "text", read(t, policy(`<sp:UsernameToken/>`), nil).DemandsOf(nil, nil).Token())
	assert.False(t, read(t, policy(`<sp:UsernameToken/>`), nil).DemandsOf(nil, nil).Timestamp())
	assert.Equal(
		t,
		"",
		read(t, policy(`<sp:UsernameToken wsp:Optional="true"/>`), nil).DemandsOf(nil, nil).Token(),
		"what is optional is not demanded",
	)
}

func TestPoliciesCountWhereTheyAreAttached(t *testing.T) {
	const head = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:wsp="http://schemas.xmlsoap.org/ws/2004/09/policy" xmlns:sp="http://schemas.xmlsoap.org/ws/2005/07/securitypolicy" xmlns:wsu="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd" targetNamespace="urn:t">`
	other := map[string]string{
		"http://quay.skerry.test/desc/token.xml": `<p:Policy xmlns:p="http://schemas.xmlsoap.org/ws/2004/09/policy" xmlns:sp="http://schemas.xmlsoap.org/ws/2005/07/securitypolicy"><sp:UsernameToken/><p:PolicyReference URI="#self"/></p:Policy>`,
	}
	c := read(
		t,
		head+`<wsp:Policy wsu:Id="used"><wsp:PolicyReference URI="#inner"/></wsp:Policy><wsp:Policy wsu:Id="inner"><sp:IncludeTimestamp/><wsp:PolicyReference URI="#used"/></wsp:Policy><wsp:Policy wsu:Id="idle"><sp:X509Token/></wsp:Policy>
		<binding name="B" type="x" wsp:PolicyURIs="#used token.xml"><operation name="O"><wsp:Policy><sp:TransportBinding/></wsp:Policy></operation><wsp:PolicyReference URI="#gone"/><wsp:PolicyReference URI="away.xml#p"/></binding></definitions>`,
		other,
	)
	var texts []string
	for _, d := range c.Demands {
		texts = append(texts, d.Text+" @ "+d.At)
	}
	assert.Equal(
		t,
		[]string{
			"a timestamp @ binding B",
			"a user name token with a text password @ binding B",
			"TLS (https) @ operation O",
		},
		texts,
	)
	var unread []string
	for _, u := range c.Unread {
		unread = append(unread, u.What+": "+u.Why)
	}
	all := strings.Join(unread, "\n")
	assert.Contains(t, all, "policy idle: nothing in the description refers to it")
	assert.Contains(t, all, "policy #gone: there is no such policy")
	assert.Contains(t, all, "policy away.xml#p: ")
}

func TestHeaderFaultsAreDeclared(t *testing.T) {
	src, err := os.ReadFile(dir + "dues.wsdl")
	require.NoError(t, err)
	with := strings.Replace(
		string(src),
		`<soap:header message="d:ClerkHeader" part="clerk" use="literal"/>`,
		`<soap:header message="d:ClerkHeader" part="clerk" use="literal"><soap:headerfault message="d:UnknownVessel" part="detail" use="literal"/><soap:headerfault message="d:Gone" part="x" use="literal"/></soap:header>`,
		1,
	)
	c := read(t, with, nil)
	o := c.Ports()[0].Operation("Assess")
	require.Len(t, o.HeaderFaults, 1)
	assert.Equal(t, "callSign: CallSign", o.HeaderFaults[0].Fields())
	assert.Equal(t, "header fault of Assess", c.Unread[0].What)
}

func TestSignaturesOfEveryShape(t *testing.T) {
	for xsd, want := range map[string]string{
		`<xs:element name="E" type="xs:int"/>`: "E: int",
		`<xs:element name="E"><xs:complexType><xs:sequence><xs:element name="a" type="xs:int" minOccurs="0" maxOccurs="3"/><xs:element name="b" maxOccurs="unbounded" type="xs:date"/></xs:sequence><xs:attribute name="k" type="xs:ID" use="required"/><xs:attribute name="l" type="xs:int"/></xs:complexType></xs:element>`: "@k: ID, @l?: int, a*: int, b+: date",
		`<xs:element name="E"><xs:complexType><xs:choice minOccurs="0"><xs:element name="a" type="xs:int"/><xs:sequence><xs:element name="b" type="xs:int"/><xs:element name="c" type="xs:int"/></xs:sequence></xs:choice></xs:complexType></xs:element>`:                                                                     "(a: int | b: int, c: int)?",
		`<xs:element name="E"><xs:complexType><xs:sequence><xs:element name="a"><xs:complexType><xs:sequence><xs:element name="x" type="xs:int"/></xs:sequence></xs:complexType></xs:element><xs:any minOccurs="0"/></xs:sequence></xs:complexType></xs:element>`:                                                             "a: {x: int}, any?",
		`<xs:element name="E"><xs:complexType/></xs:element>`: "",
		`<xs:element name="E"><xs:complexType><xs:sequence><xs:element name="a"><xs:simpleType><xs:restriction base="xs:token"><xs:maxLength value="2"/></xs:restriction></xs:simpleType></xs:element></xs:sequence></xs:complexType></xs:element>`: "a: token",
	} {
		c := read(t, wsdl(`<xs:schema targetNamespace="urn:t">`+xsd+`</xs:schema>`, "", "", ""), nil)
		m := &Message{Element: c.Schemas.Element(schema.QName{Space: "urn:t", Local: "E"})}
		assert.Equal(t, want, m.Fields(), xsd)
	}
	var none *Message
	assert.Equal(t, "", none.Fields())
}

func TestRemoteAndLocalLocations(t *testing.T) {
	for _, c := range []struct{ base, loc, want string }{
		{"http://h/a/b?wsdl", "c.xsd", "http://h/a/c.xsd"}, {"http://h/a", "/c", "http://h/c"}, {"http://h/a",
			"https://i/c#x", "https://i/c"}, {"/a/b.wsdl", "c.xsd", "/a/c.xsd"},
		{"/a/b.wsdl", "../c.xsd", "/c.xsd"}, {"/a/b.wsdl", "http://h/c", "http://h/c"}, {"/a/b.wsdl", "file:///d/e",
			"/d/e"},
	} {
		got, err := Resolve(c.base, c.loc)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	for _, bad := range []string{"file:///etc/passwd", "ftp://h/x", "http://[bad"} {
		_, err := Resolve("http://h/a", bad)
		assert.Error(t, err, bad)
	}
	assert.Equal(t, soap.Unset, soap.VersionOf("urn:none"))
}
