// Package truth plays a matrix of failing and healthy exchanges over real sockets, and
// counts how often what leads is true. It is written from the standards, and from what
// servers answer; not from the rules.
package truth

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/trust"
)

const (
	soap11 = "http://schemas.xmlsoap.org/soap/envelope/"
	soap12 = "http://www.w3.org/2003/05/soap-envelope"
	moorNS = "urn:skerry:moor"
	action = "urn:skerry:moor:Moor"
)

// description is that of the mooring office: two ports, a header block that is declared
// and mostly not wanted, an optional field of a strict type.
const description = `<?xml version="1.0"?>
<wsdl:definitions xmlns:wsdl="http://schemas.xmlsoap.org/wsdl/" xmlns:s1="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:s2="http://schemas.xmlsoap.org/wsdl/soap12/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:m="urn:skerry:moor" targetNamespace="urn:skerry:moor" name="Moor">
<wsdl:types><xs:schema targetNamespace="urn:skerry:moor" elementFormDefault="qualified">
<xs:element name="Moor"><xs:complexType><xs:sequence><xs:element name="sign"><xs:simpleType><xs:restriction base="xs:string"><xs:minLength value="1"/></xs:restriction></xs:simpleType></xs:element><xs:element name="length" type="xs:int"/><xs:element name="action" type="xs:string" minOccurs="0"/><xs:element name="since" type="xs:date" minOccurs="0"/><xs:element name="note" type="xs:string" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>
<xs:element name="MoorResponse"><xs:complexType><xs:sequence><xs:element name="berth" type="xs:string"/></xs:sequence></xs:complexType></xs:element>
<xs:element name="Caller"><xs:complexType><xs:sequence><xs:element name="desk" type="xs:string"/></xs:sequence></xs:complexType></xs:element>
</xs:schema></wsdl:types>
<wsdl:message name="In"><wsdl:part name="p" element="m:Moor"/></wsdl:message><wsdl:message name="Out"><wsdl:part name="p" element="m:MoorResponse"/></wsdl:message><wsdl:message name="Head"><wsdl:part name="h" element="m:Caller"/></wsdl:message>
<wsdl:portType name="Desk"><wsdl:operation name="Moor"><wsdl:input message="m:In"/><wsdl:output message="m:Out"/></wsdl:operation></wsdl:portType>
<wsdl:binding name="B1" type="m:Desk"><s1:binding transport="http://schemas.xmlsoap.org/soap/http"/><wsdl:operation name="Moor"><s1:operation soapAction="urn:skerry:moor:Moor"/><wsdl:input><s1:header message="m:Head" part="h" use="literal"/><s1:body use="literal" parts="p"/></wsdl:input><wsdl:output><s1:body use="literal"/></wsdl:output></wsdl:operation></wsdl:binding>
<wsdl:binding name="B2" type="m:Desk"><s2:binding transport="http://schemas.xmlsoap.org/soap/http"/><wsdl:operation name="Moor"><s2:operation soapAction="urn:skerry:moor:Moor"/><wsdl:input><s2:header message="m:Head" part="h" use="literal"/><s2:body use="literal" parts="p"/></wsdl:input><wsdl:output><s2:body use="literal"/></wsdl:output></wsdl:operation></wsdl:binding>
<wsdl:service name="MoorOffice"><wsdl:port name="P11" binding="m:B1"><s1:address location="ADDRESS/moor"/></wsdl:port><wsdl:port name="P12" binding="m:B2"><s2:address location="ADDRESS/moor"/></wsdl:port></wsdl:service>
</wsdl:definitions>`

// said is a fault as a service words it.
type said struct {
	code   string // local name, or prefix:name of WSS or WS-Addressing
	reason string
	detail string // XML within the detail element
}

// envelope is a message of a version; body is what stands within its body.
func envelope(ns, head, body string) string {
	if head != "" {
		head = "<e:Header>" + head + "</e:Header>"
	}
	return `<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="` + ns + `">` + head + `<e:Body>` + body +
		`</e:Body></e:Envelope>`
}

const wsse = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"

// fault is a fault in the way of a version: SOAP 1.1 §4.4, SOAP 1.2 §5.4.
func fault(ns string, f said) string {
	prefixed := `xmlns:w="` + wsse + `" xmlns:a="http://www.w3.org/2005/08/addressing" xmlns:r="http://docs.oasis-open.org/ws-rx/wsrm/200702" xmlns:sc="http://docs.oasis-open.org/ws-sx/ws-secureconversation/200512"`
	if ns == soap11 {
		code := f.code
		if !strings.Contains(code, ":") {
			code = "e:" + map[string]string{"Sender": "Client", "Receiver": "Server"}[code]
			if code == "e:" {
				code += f.code
			}
		}
		detail := ""
		if f.detail != "" {
			detail = "<detail>" + f.detail + "</detail>"
		}
		return envelope(ns, "", `<e:Fault `+prefixed+`><faultcode>`+code+`</faultcode><faultstring>`+f.reason+
			`</faultstring>`+detail+`</e:Fault>`)
	}
	code, sub := f.code, ""
	if strings.Contains(code, ":") {
		code, sub = "Sender", "<e:Subcode><e:Value>"+f.code+"</e:Value></e:Subcode>"
	}
	detail := ""
	if f.detail != "" {
		detail = "<e:Detail>" + f.detail + "</e:Detail>"
	}
	return envelope(ns, "", `<e:Fault `+prefixed+`><e:Code><e:Value>e:`+code+`</e:Value>`+sub+
		`</e:Code><e:Reason><e:Text xml:lang="en">`+f.reason+`</e:Text></e:Reason>`+detail+`</e:Fault>`)
}

// answer writes an answer by hand: what servers send is not always what a library would.
type answer func(w *wire, ns string)

// wire is the connection after the request was read.
type wire struct{ net.Conn }

func (w *wire) reply(status int, contentType, body string, fields ...string) {
	head := fmt.Sprintf("HTTP/1.1 %d %s\r\n", status, http.StatusText(status))
	if contentType != "" {
		head += "Content-Type: " + contentType + "\r\n"
	}
	for _, f := range fields {
		head += f + "\r\n"
	}
	_, _ = io.WriteString(w, head+fmt.Sprintf("Content-Length: %d\r\nConnection: close\r\n\r\n%s", len(body), body))
}

func media(ns string) string {
	if ns == soap12 {
		return "application/soap+xml; charset=utf-8"
	}
	return "text/xml; charset=utf-8"
}

func passes(w *wire, ns string) {
	w.reply(200, media(ns), envelope(ns, "", `<MoorResponse xmlns="`+moorNS+`"><berth>N02</berth></MoorResponse>`))
}

// faults answers with a fault, and the status that its version has for it.
func faults(f said) answer {
	return func(w *wire, ns string) {
		status := 500
		if ns == soap12 && f.code == "Sender" {
			status = 400
		}
		w.reply(status, media(ns), fault(ns, f))
	}
}

// office is the service: it answers every call as it is told.
type office struct {
	host, secure string // of plain and TLS
	cert         *trust.Pair

	mu     sync.Mutex
	answer answer
}

func (o *office) tell(a answer) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.answer = a
}

func (o *office) serve(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet {
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, strings.ReplaceAll(description, "ADDRESS", "http://"+o.host))
		return
	}
	b, _ := io.ReadAll(r.Body)
	ns := soap11
	if bytes.Contains(b, []byte(soap12)) {
		ns = soap12
	}
	o.mu.Lock()
	a := o.answer
	o.mu.Unlock()
	c, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer c.Close()
	a(&wire{Conn: c}, ns)
}

func open(t testing.TB) *office {
	t.Helper()
	o := &office{answer: passes}
	plain := httptest.NewServer(http.HandlerFunc(o.serve))
	t.Cleanup(plain.Close)
	o.host = plain.Listener.Addr().String()
	now := time.Now()
	pair, err := trust.Issue(trust.Wish{Name: "moor", Hosts: []string{"127.0.0.1"}, NotBefore: now.Add(-time.Hour),
		NotAfter: now.Add(24 * 365 * time.Hour)})
	require.NoError(t, err)
	o.cert = pair
	secure := httptest.NewUnstartedServer(http.HandlerFunc(o.serve))
	secure.TLS = &tls.Config{
		Certificates: []tls.Certificate{{Certificate: [][]byte{pair.Cert.Raw}, PrivateKey: pair.Key}},
	}
	secure.StartTLS()
	t.Cleanup(secure.Close)
	o.secure = secure.Listener.Addr().String()
	return o
}
