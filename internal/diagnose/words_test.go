package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What programs say, as they say it, leads to the finding.
func TestWordsOfTheWild(t *testing.T) {
	for text, want := range map[string]string{
		"getaddrinfo ENOTFOUND tides.skerry.example":                                                  "connect.name-unknown",
		"Temporary failure in name resolution":                                                        "connect.name-unknown",
		"The remote name could not be resolved: 'tides.skerry.example'":                               "connect.name-unknown",
		"dial tcp 127.0.0.1:81: connect: connection refused":                                          "connect.refused",
		"No connection could be made because the target machine actively refused it":                  "connect.refused",
		"connect: no route to host":                                                                   "connect.unreachable",
		"connect to tides.skerry.example timed out":                                                   "connect.timed-out",
		"Proxy Authentication Required":                                                               "connect.proxy-refused",
		"tls: first record does not look like a TLS handshake":                                        "tls.not-tls",
		"error:0A00010B:SSL routines::wrong version number":                                           "tls.not-tls",
		"The plain HTTP request was sent to HTTPS port":                                               "send.plain-to-tls",
		"self-signed certificate in certificate chain":                                                "tls.self-signed",
		"x509: certificate signed by unknown authority":                                               "tls.authority-unknown",
		"unable to get local issuer certificate":                                                      "tls.authority-unknown",
		"unable to verify the first certificate":                                                      "tls.chain-incomplete",
		"x509: certificate is valid for front.skerry.example, not tides.skerry.example":               "tls.name-differs",
		"No subject alternative names matching IP address 127.0.0.1 found":                            "tls.name-differs",
		"certificate has expired":                                                                     "tls.expired",
		"remote error: tls: certificate required":                                                     "tls.client-certificate-required",
		"Received fatal alert: bad_certificate":                                                       "tls.client-certificate-refused",
		"Received fatal alert: protocol_version":                                                      "tls.version-refused",
		"Received fatal alert: handshake_failure":                                                     "tls.cipher-refused",
		"Remote host terminated the handshake":                                                        "tls.closed",
		"PKCS12 MAC verify error":                                                                     "security.key-unreadable",
		"Read timed out":                                                                              "wait.timed-out",
		"socket hang up":                                                                              "wait.closed",
		"Connection reset by peer":                                                                    "send.reset",
		"The maximum message size quota for incoming messages (65536) has been exceeded":              "receive.over-limit",
		"The maximum string content length quota (8192) has been exceeded":                            "read.text-over-limit",
		"The maximum read depth (32) has been exceeded":                                               "read.depth-over-limit",
		"HTTP 401 Unauthorized":                                                                       "read.fault-security-refused",
		"the server answered with status 401":                                                         "receive.unauthorized",
		"HTTP/1.1 403 Forbidden":                                                                      "receive.forbidden",
		"Request blocked. Reference 18.4f":                                                            "receive.forbidden",
		"There was no endpoint listening at http://tides.skerry.example/tides":                        "receive.not-found",
		"The request failed with HTTP status 405: Method Not Allowed":                                 "receive.method-refused",
		"413 Request Entity Too Large":                                                                "receive.too-large",
		"415 Unsupported Media Type":                                                                  "receive.media-type-refused",
		"The content type text/html; charset=utf-8 does not match":                                    "receive.not-soap",
		"504 Gateway Time-out":                                                                        "receive.gateway",
		"upstream connect error or disconnect/reset before headers":                                   "receive.gateway",
		"Content is not allowed in prolog.":                                                           "read.text-outside",
		"Data at the root level is invalid. Line 1, position 1.":                                      "read.text-outside",
		"DOCTYPE is disallowed when the feature is set":                                               "read.doctype-refused",
		"XML document structures must start and end; it must be well-formed":                          "read.not-well-formed",
		"a SOAP VersionMismatch was answered":                                                         "read.fault-version",
		"<faultcode>s:MustUnderstand</faultcode>":                                                     "read.fault-must-understand",
		"The message with Action 'urn:x' cannot be processed at the receiver":                         "read.fault-action",
		"Cannot find dispatch method for {urn:skerry}FindBerth":                                       "read.fault-operation",
		"<faultcode>wsse:FailedAuthentication</faultcode><faultstring>Anmeldung fehlgeschlagen":       "read.fault-security-refused",
		"<faultcode>wsu:MessageExpired</faultcode><faultstring>el mensaje ha caducado":                "read.fault-security-expired",
		"<faultcode>wsse:InvalidSecurity</faultcode><faultstring>en-tête refusé":                      "read.fault-security-invalid",
		"An error was discovered processing the <wsse:Security> header":                               "read.fault-security-missing",
		"wsa:MessageAddressingHeaderRequired":                                                         "read.fault-addressing",
		"cvc-complex-type.2.4.a: Invalid content was found starting with element 'x'":                 "message.invalid",
		"unexpected element (uri:\"\", local:\"length\"). Expected elements are <{urn:skerry}length>": "message.namespace-differs",
		"org.skerry.SoapFaultException: harbour closed":                                               "read.fault-server",
		"transfer closed with 200 bytes remaining to read":                                            "receive.truncated",
		"tides.skerry.example: signature validation failed":                                           "verify.signature-broken",
		"The private key does not match the certificate":                                              "security.key-mismatch",
		"Couldn't create SOAP message due to exception: XML reader error: unexpected character":       "read.not-envelope",
	} {
		heard := InText(text)
		require.NotEmpty(t, heard, text)
		assert.Equal(t, want, heard[0].ID, text)
		assert.NotEmpty(t, heard[0].Means)
		assert.NotEmpty(t, heard[0].Try)
	}
	for _, nothing := range []string{"", "all 401k plans", "12:00 tide tables read, 4 berths", "Content-Type: " +
		"text/xml", strings.Repeat("slack water ", 9000)} {
		assert.Empty(t, InText(nothing), nothing)
	}
}

// Of a trace the innermost cause comes first, wherever it stands.
// What programs say is known by its meaning: with the words in another order, and with
// other numbers.
func TestWhatProgramsSayIsKnownByItsMeaning(t *testing.T) {
	for text, want := range map[string]string{
		"more than one endpoint configuration for contract Tides was found":                    "binding.endpoint-ambiguous",
		"for the contract Tides there are two endpoint configurations: more than one endpoint": "binding.endpoint-ambiguous",
		"the receive size and the buffer size must be the same value":                          "binding.buffer-differs",
		"buffer size and received message size have to be equal":                               "binding.buffer-differs",
		"unknown or unsupported SSL protocol":                                                  "tls.version-refused",
		"the SSL protocol is not supported":                                                    "tls.version-refused",
		"they do not possess a common algorithm":                                               "tls.cipher-refused",
		"the remote host closed the connection during the handshake":                           "tls.closed",
		"during the handshake the connection was closed by the peer":                           "tls.closed",
		"no endpoint was listening at http://quay/x that could accept the message":             "receive.not-found",
		"the response's content type text/html does not match that of the binding":             "receive.not-soap",
		"the security token could not be authenticated or authorized":                          "read.fault-security-refused",
		"the security token is expired":                                                        "read.fault-security-expired",
		"the header Security was not understood":                                               "read.fault-must-understand",
		"the maximum string length 8192 of the reader was exceeded":                            "read.text-over-limit",
		"while reading, the string content length quota 4096 was exceeded":                     "read.text-over-limit",
		"the maximum array length 16384 of the reader was exceeded":                            "read.repeats-over-limit",
		"the request channel timed out after 00:01:00 while waiting for a reply":               "wait.timed-out",
		"waiting for a reply, the request channel ran into its time-out of 60 s":               "wait.timed-out",
	} {
		got := InText(text)
		if assert.NotEmpty(t, got, text) {
			assert.Equal(t, want, got[0].ID, text)
		}
	}
}

func TestTheInnermostCauseComesFirst(t *testing.T) {
	trace := `10:01 ERROR call failed: internal server error
TransportException: connection was closed
	at a.b(C.java:1)
Caused by: HandshakeException: handshake_failure
	at d.e(F.java:2)
Caused by: ValidatorException: path building failed
	... 9 more
10:02 INFO trying again`
	heard := InText(trace)
	var ids []string
	for _, h := range heard {
		ids = append(ids, h.ID)
	}
	assert.Equal(t, []string{"tls.authority-unknown", "tls.cipher-refused", "wait.closed", "receive.server-error"}, ids)
	assert.Equal(t, 6, heard[0].Line)
	assert.Equal(t, heard, InText(strings.ReplaceAll(trace, "\n", "\r")), "as a terminal pastes it")
	assert.Equal(
		t,
		"connect.refused",
		InText("send failed: error reading the reply ---> IOException: server closed ---> SocketException: " +
			"connection refused")[0].ID,
	)
}

func TestEveryRowOfTheWordsIsAFinding(t *testing.T) {
	for _, r := range errorPatterns {
		assert.NotNil(t, Explain(r.id), r.id)
		assert.False(t, speaksOf("", r.id), r.id)
	}
	for id, all := range hypotheses {
		assert.NotNil(t, Explain(id), id)
		seen := map[string]bool{}
		for _, p := range all {
			assert.False(t, seen[p.ID], "%s: %s twice", id, p.ID)
			seen[p.ID] = true
			if p.Check != "" {
				assert.NotEmpty(t, CheckWords[p.Check])
			}
		}
	}
}

func FuzzInText(f *testing.F) {
	f.Add("Caused by: Caused by: ---> connection refused")
	f.Add("\xff\x00 http://[::1]: due to: 401")
	f.Fuzz(func(t *testing.T, text string) {
		for _, h := range InText(text) {
			if h.Line < 1 || h.Means == "" {
				t.Fatalf("%+v", h)
			}
		}
	})
}

func BenchmarkInText(b *testing.B) {
	log := strings.Repeat(
		"2027-03-01 10:01:02,345 INFO  [worker-12] skerry.harbour.tides.Client: station Skerry Sound read, 1482 "+
			"values kept in 12 ms\n",
		20000,
	)
	b.SetBytes(int64(len(log)))
	for b.Loop() {
		InText(log)
	}
}
