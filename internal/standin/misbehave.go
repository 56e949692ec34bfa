package standin

//revive:disable:line-length-limit an answer is one line

import (
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"orenda/internal/soap"
)

// misbehaviour is one way to answer wrongly.
type misbehaviour struct {
	what       string
	everywhere bool // descriptions too
	do         func(h *Harbour, w http.ResponseWriter, r *http.Request, s *service)
	shown      [2]string // the setting with which a call meets it, and its value; empty: every call does
}

// raw writes bytes to the connection and closes it.
func raw(text string) func(*Harbour, http.ResponseWriter, *http.Request, *service) {
	return func(_ *Harbour, w http.ResponseWriter, _ *http.Request, _ *service) {
		withConn(w, func(c net.Conn) { _, _ = c.Write([]byte(text)) })
	}
}

func withConn(w http.ResponseWriter, do func(net.Conn)) {
	hj, ok := w.(http.Hijacker)
	if !ok {
		return
	}
	c, _, err := hj.Hijack()
	if err != nil {
		return
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	do(c)
}

// page answers with a status, a media type and a body.
func page(
	status int,
	contentType, body string,
	header ...string,
) func(*Harbour, http.ResponseWriter, *http.Request, *service) {
	return func(_ *Harbour, w http.ResponseWriter, _ *http.Request, _ *service) {
		w.Header().Set("Content-Type", contentType)
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}
}

// xml answers 200 with a body of the service's media type.
func xml(body string) func(*Harbour, http.ResponseWriter, *http.Request, *service) {
	return func(_ *Harbour, w http.ResponseWriter, _ *http.Request, s *service) {
		v := soap.V11
		if s != nil {
			v = s.port.Version
		}
		w.Header().Set("Content-Type", v.MediaType()+"; charset=utf-8")
		_, _ = w.Write(
			[]byte(
				strings.NewReplacer("{ns}", v.Namespace(), "{other}", (soap.V11 + soap.V12 - v).Namespace()).
					Replace(body),
			),
		)
	}
}

// faulty answers with a fault.
func faulty(f fault) func(*Harbour, http.ResponseWriter, *http.Request, *service) {
	return func(_ *Harbour, w http.ResponseWriter, _ *http.Request, s *service) {
		v := soap.V11
		if s != nil {
			v = s.port.Version
		}
		w.Header().Set("Content-Type", v.MediaType()+"; charset=utf-8")
		w.WriteHeader(statusOf(v, &f))
		_, _ = w.Write(faultEnvelope(v, &f))
	}
}

const htmlPage = "<!DOCTYPE html><html><head><title>%s</title></head><body><h1>%s</h1></body></html>"

func html(title string) string { return fmt.Sprintf(htmlPage, title, title) }

// longest is how long a stand-in holds a call that it never answers.
const longest = 20 * time.Second

func hold(r *http.Request) {
	select {
	case <-r.Context().Done():
	case <-time.After(longest):
	}
}

// later is the setting of a call whose answer is to come later.
//
//nolint:gochecknoglobals // a constant
var later = [2]string{"reply-to", "here"}

// misbehaviours are named by the finding that each leads to.
//
//nolint:gochecknoglobals // a table: it is never written to
var misbehaviours = map[string]misbehaviour{
	"wait.timed-out": {
		what: "never answers",
		do:   func(_ *Harbour, _ http.ResponseWriter, r *http.Request, _ *service) { hold(r) },
	},
	"wait.answer-missing": {
		what: "takes the message, and never calls back with the answer that is to come later", shown: later,
	},
	"wait.answer-early": {what: "calls back with the answer before it acknowledges the message", shown: later},
	"wait.closed":       {what: "closes the connection without an answer", do: raw("")},
	"receive.truncated": {
		what: "announces more than it sends",
		do: raw(
			"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nContent-Length: 5000\r\n\r\n<soap:Envelope xmlns:soap=\"" +
				soap.NS11 + "\"><soap:Bo",
		),
	},
	"receive.stalled": {
		what: "stops in the middle of its reply",
		do: func(_ *Harbour, w http.ResponseWriter, r *http.Request, _ *service) {
			withConn(w, func(c net.Conn) {
				_, _ = c.Write(
					[]byte("HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nContent-Length: 5000\r\n\r\n<soap:Envelope"),
				)
				_, _ = c.Read(make([]byte, 1))
			})
		},
	},
	"receive.bad-chunk": {
		what: "breaks the chunked coding",
		do: raw(
			"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n<soap\r\nzz\r\n",
		),
	},
	"receive.bad-compression": {
		what: "marks plain text as gzip",
		do:   page(200, "text/xml", "<a/>", "Content-Encoding", "gzip"),
	},
	"receive.not-http": {
		what:       "speaks another protocol",
		everywhere: true,
		do:         raw("220 skerry harbour radio ready\r\n"),
	},
	"receive.head-too-large": {
		what: "sends 100 KB of header",
		do: raw(
			"HTTP/1.1 200 OK\r\n" + strings.Repeat("X-Signal-Flag: "+strings.Repeat("z", 985)+"\r\n", 100) + "\r\n",
		),
	},
	"receive.unauthorized": {
		what: "answers 401",
		do:   page(401, "text/html", html("Who goes there?"), "WWW-Authenticate", `Basic realm="Skerry Harbour"`),
	},
	"receive.forbidden": {what: "answers 403", do: page(403, "text/html", html("Not for you"))},
	"receive.not-found": {
		what:       "answers 404",
		everywhere: true,
		do:         page(404, "text/html", html("No such quay")),
	},
	"receive.method-refused": {
		what: "answers 405",
		do:   page(405, "text/html", html("Only looking"), "Allow", "GET"),
	},
	"receive.too-large":          {what: "answers 413", do: page(413, "text/html", html("Too much cargo"))},
	"receive.media-type-refused": {what: "answers 415", do: page(415, "text/plain", "unsupported")},
	"receive.coding-refused": {
		what: "takes no compressed request", shown: [2]string{"request-coding", "gzip"},
		do: page(415, "text/plain", "only plain cargo", "Accept-Encoding", "identity"),
	},
	"receive.length-required": {
		what: "takes no request in chunks", shown: [2]string{"transfer", "chunked"},
		do: page(411, "text/plain", "how long is it?"),
	},
	"receive.redirected": {
		what: "answers 302",
		do:   page(302, "text/html", html("Moved"), "Location", "/berths"),
	},
	"receive.expectation-refused": {
		what: "gives no leave to send the body",
		do:   page(417, "text/plain", "no such expectation here"),
	},
	"receive.gateway": {
		what: "answers 502 as a proxy would",
		do:   page(502, "text/html", html("Bad gateway"), "Server", "harbour-gate"),
	},
	"receive.server-error": {
		what: "answers 500 without a fault",
		do:   page(500, "text/plain", "crane stuck: no power at quay 4"),
	},
	"receive.accepted-only": {what: "answers 202 where a reply is due", do: page(202, "text/xml", "")},
	"receive.not-soap": {
		what:       "answers with an HTML page",
		everywhere: true,
		do:         page(200, "text/html; charset=utf-8", html("Harbour log-in")),
	},
	"receive.type-differs": {
		what: "marks its reply with the other version's type",
		do: func(h *Harbour, w http.ResponseWriter, r *http.Request, s *service) {
			w.Header().Set("Content-Type", (soap.V11 + soap.V12 - s.port.Version).MediaType())
			out, _ := soap.Build(s.port.Version, nil, []byte(`<FindBerthsResponse xmlns="urn:skerry:berths"/>`))
			_, _ = w.Write(out)
		},
	},
	"read.empty": {what: "answers with nothing", do: xml("")},
	"read.not-well-formed": {
		what: "sends broken XML",
		do:   xml("<soap:Envelope xmlns:soap=\"{ns}\">\n  <soap:Body><berth>N04</soap:Body>\n</soap:Envelope>"),
	},
	"read.charset-differs": {
		what: "sends bytes that are not in its encoding",
		do:   xml("<soap:Envelope xmlns:soap=\"{ns}\"><soap:Body><a>caf\xe9</a></soap:Body></soap:Envelope>"),
	},
	"read.text-outside": {
		what: "puts a warning before the envelope",
		do: xml(
			"Warning: tide gauge not calibrated\n<soap:Envelope xmlns:soap=\"{ns}\"><soap:Body/></soap:Envelope>",
		),
	},
	"read.doctype-refused": {
		what: "sends an entity bomb",
		do: xml(
			"<!DOCTYPE a [<!ENTITY b \"boom\"><!ENTITY c \"&b;&b;&b;&b;&b;&b;&b;&b;\">]>\n<soap:Envelope " +
				"xmlns:soap=\"{ns}\"><soap:Body>&c;</soap:Body></soap:Envelope>",
		),
	},
	"read.parts-broken": {
		what: "sends a multipart reply without its last boundary",
		do: page(
			200,
			`multipart/related; type="text/xml"; boundary="quay"`,
			"--quay\r\nContent-Type: text/xml\r\n\r\n<a/>",
		),
	},
	"read.attachment-unresolved": {
		what: "refers to a part that is not there",
		do: xml(
			`<s:Envelope xmlns:s="{ns}"><s:Body><paper><x:Include xmlns:x="http://www.w3.org/2004/08/xop/include" href="cid:gone@harbour"/></paper></s:Body></s:Envelope>`,
		),
	},
	"read.not-envelope": {
		what: "sends XML that is no envelope",
		do:   xml("<status xmlns=\"urn:skerry:watch\">all quiet</status>"),
	},
	"read.version-differs": {
		what: "answers in the other SOAP version",
		do:   xml("<soap:Envelope xmlns:soap=\"{other}\"><soap:Body/></soap:Envelope>"),
	},
	"read.depth-over-limit": {
		what: "nests 5000 elements",
		do: xml(
			"<soap:Envelope xmlns:soap=\"{ns}\"><soap:Body>" + strings.Repeat("<a>", 5000) + strings.Repeat(
				"</a>",
				5000,
			) + "</soap:Body></soap:Envelope>",
		),
	},
	"read.fault-client": {
		what: "answers with a fault that blames the message",
		do:   faulty(fault{code: "Client", reason: "the vessel is longer than any berth"}),
	},
	"read.fault-server": {
		what: "answers with a fault that blames itself",
		do: faulty(
			fault{
				code:   "Server",
				reason: "the berth register is being repaired",
				detail: "<trace xmlns=\"urn:skerry:watch\">at desk: at register: caused by: disk full</trace>",
			},
		),
	},
	"read.fault-declared": {
		what: "answers with a declared fault",
		do: faulty(
			fault{
				code:   "Client",
				reason: "the berth N02 is held already",
				detail: `<BerthTaken xmlns="urn:skerry:berths"><berth>N02</berth><until>2027-05-04</until></BerthTaken>`,
			},
		),
	},
	"read.fault-security-missing": {
		what: "asks for a security header",
		do:   faulty(fault{code: "InvalidSecurity", reason: "no security header found", secure: true}),
	},
	"read.fault-security-refused": {
		what: "refuses the user",
		do: faulty(
			fault{
				code:   "FailedAuthentication",
				reason: "the security token could not be authenticated or authorized",
				secure: true,
			},
		),
	},
	"read.fault-security-expired": {
		what: "finds the message too old",
		do:   faulty(fault{code: "MessageExpired", reason: "the timestamp has expired", secure: true}),
	},
	"read.fault-security-invalid": {
		what: "does not take the token",
		do: faulty(
			fault{
				code:   "InvalidSecurityToken",
				reason: "the nonce was used before; the message is a replay",
				secure: true,
			},
		),
	},
	"read.fault-must-understand": {
		what: "does not understand a header",
		do:   faulty(fault{code: "MustUnderstand", reason: "the header priority is not understood"}),
	},
	"read.fault-version": {
		what: "answers VersionMismatch",
		do:   faulty(fault{code: "VersionMismatch", reason: "an envelope of the other version is due"}),
	},
	"read.fault-action": {
		what: "does not know the action",
		do:   faulty(fault{code: "Client", reason: "the SOAPAction is not known here"}),
	},
	"read.fault-operation": {
		what: "does not know the body's element",
		do:   faulty(fault{code: "Client", reason: "no such operation: FindBerth"}),
	},
	"read.fault-protocol": {
		what: "takes only messages of a sequence (WS-ReliableMessaging)",
		do: xml(
			`<s:Envelope xmlns:s="{ns}" xmlns:r="http://docs.oasis-open.org/ws-rx/wsrm/200702"><s:Body><s:Fault><faultcode>r:WSRMRequired</faultcode><faultstring>the RM Destination requires the use of WSRM</faultstring></s:Fault></s:Body></s:Envelope>`,
		),
	},
	"read.fault-addressing": {
		what: "wants WS-Addressing headers",
		do: xml(
			`<s:Envelope xmlns:s="{ns}" xmlns:a="http://www.w3.org/2005/08/addressing"><s:Body><s:Fault><faultcode>a:MessageAddressingHeaderRequired</faultcode><faultstring>a required header is missing</faultstring></s:Fault></s:Body></s:Envelope>`,
		),
	},
	"read.fault-hidden": {
		what: "hides an error in a reply that looks like success",
		do: xml(
			`<s:Envelope xmlns:s="{ns}"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"><errorText>register offline</errorText></FindBerthsResponse></s:Body></s:Envelope>`,
		),
	},
	"verify.reply-differs": {
		what: "answers another operation",
		do:   xml(`<s:Envelope xmlns:s="{ns}"><s:Body><PilotAshore xmlns="urn:skerry:watch"/></s:Body></s:Envelope>`),
	},
	"verify.invalid": {
		what: "breaks its own schema",
		do: xml(
			`<s:Envelope xmlns:s="{ns}"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"><berth free="maybe"><code>N01</code><length>18</length><depth>3.2</depth><quay>North quay</quay></berth></FindBerthsResponse></s:Body></s:Envelope>`,
		),
	},
	"terminal": {
		what: "fills every text with terminal escape sequences",
		do: func(_ *Harbour, w http.ResponseWriter, _ *http.Request, _ *service) {
			esc := "\x1b[2J\x1b]0;owned\x07"
			withConn(w, func(c net.Conn) {
				body := "<soap:Envelope xmlns:soap=\"" + soap.NS11 +
					"\"><soap:Body><soap:Fault><faultcode>soap:Server</faultcode><faultstring>wreck \u202etxet\u202c " +
					"\u009b31m end</faultstring></soap:Fault></soap:Body></soap:Envelope>"
				fmt.Fprintf(
					c,
					"HTTP/1.1 500 Wreck%s\r\nX-Mark: %s\r\nContent-Type: text/xml\r\nContent-Length: %d\r\n\r\n%s",
					esc,
					esc,
					len(body),
					body,
				)
			})
		},
	},
	"slow": {
		what: "sends its reply slowly, chunk by chunk",
		do: func(_ *Harbour, w http.ResponseWriter, r *http.Request, s *service) {
			out, _ := soap.Build(s.port.Version, nil, []byte(`<FindBerthsResponse xmlns="urn:skerry:berths"/>`))
			w.Header().Set("Content-Type", s.port.Version.MediaType())
			f, _ := w.(http.Flusher)
			for len(out) > 0 {
				n := min(len(out), 24)
				_, _ = w.Write(out[:n])
				f.Flush()
				out = out[n:]
				select {
				case <-r.Context().Done():
					return
				case <-time.After(120 * time.Millisecond):
				}
			}
		},
	},
}

// Misbehaviour is one row of the list.
type Misbehaviour struct {
	ID, What string    // stable name: stage.cause; it does
	Shown    [2]string // the setting with which a call meets it, and its value; empty: every call does
}

// Misbehaviours lists all of them, by id.
func Misbehaviours() []Misbehaviour {
	var out []Misbehaviour
	for id, m := range misbehaviours {
		out = append(out, Misbehaviour{id, m.what, m.shown})
	}
	slices.SortFunc(out, func(a, b Misbehaviour) int { return strings.Compare(a.ID, b.ID) })
	return out
}
