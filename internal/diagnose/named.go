package diagnose

import (
	"bytes"
	"strings"
)

// What is recognised, and cannot be read here: it is named, with what to do.

// namedKind is the kind of an answer that is SOAP, and no XML: what it is called, and what helps.
// "" it is none of them.
func namedKind(media string, body []byte) (what, helps string) {
	const asText = "the service's people have to offer an endpoint that encodes messages as text"
	for _, k := range []struct {
		media, begins string
		what, helps   string
	}{
		{"application/fastinfoset", "\xe0\x00\x00\x01", "Fast Infoset (ITU-T X.891)", "ask for text/xml: the " +
			"service encodes XML in binary for those that say they take it"},
		{"application/soap+fastinfoset", "", "Fast Infoset (ITU-T X.891)", "ask for application/soap+xml"},
		{"application/soap+msbin1", "", "binary XML", asText},
		{"application/soap+msbinsession1", "", "binary XML", asText},
		{"application/x-bxml", "", "binary XML", asText},
		{"application/exi", "$EXI", "Efficient XML Interchange (EXI)", "ask for text/xml"},
		{"application/dime", "", "DIME, an old way to send attachments", "the service has to send attachments as " +
			"MTOM or SwA (multipart/related)"},
	} {
		if strings.EqualFold(media, k.media) || k.begins != "" && bytes.HasPrefix(body, []byte(k.begins)) {
			return k.what, k.helps
		}
	}
	return "", ""
}

// namedPeer is what speaks at a port that answers no HTTP/1.1, by its first bytes; "" is not known.
func namedPeer(in []byte) string {
	switch {
	case len(in) >= 9 && in[0] == 0 && in[3] == 4 && in[4]&^1 == 0 && in[5] == 0: // SETTINGS, RFC 9113 §6.5
		return "It speaks HTTP/2 alone, and a call here is HTTP/1.1: the service's people have to let HTTP/1.1 " +
			"in too, or a proxy before it does."
	case bytes.HasPrefix(in, []byte("SSH-")):
		return "It is a server of SSH."
	case bytes.HasPrefix(in, []byte("220 ")) || bytes.HasPrefix(in, []byte("220-")):
		return "It greets like a server of mail or FTP."
	case bytes.HasPrefix(in, []byte("+OK")) || bytes.HasPrefix(in, []byte("* OK")):
		return "It greets like a server of mail."
	case len(in) > 5 && in[0] == 'J' && bytes.HasPrefix(in, []byte("JRMI")):
		return "It speaks Java RMI."
	}
	return ""
}

// transports are schemes of addresses in descriptions that lead to no HTTP, with what they are.
//
//nolint:gochecknoglobals // a table: it is never written to
var transports = map[string]string{
	"jms": "JMS, a message queue", "mailto": "mail", "smtp": "mail", "net.pipe": "named pipes of one machine",
	"net.tcp": "a binary protocol over TCP", "net.msmq": "a message queue", "soap.udp": "UDP",
	"amqp": "AMQP, a message queue", "mq": "a message queue",
}
