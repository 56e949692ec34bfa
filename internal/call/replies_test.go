package call_test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/wssec"
)

// How an answer may end other than by closing: it stays open, or is reset.
const stays, resets = "<stays>", "<resets>"

// answering listens on loopback and answers every request with the bytes that are set.
func answering(t *testing.T) (address string, set func(string)) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	answers := make(chan string, 1)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			if q, err := http.ReadRequest(bufio.NewReader(conn)); err == nil {
				_, _ = io.Copy(io.Discard, q.Body)
			}
			out, open := strings.CutSuffix(<-answers, stays)
			out, broken := strings.CutSuffix(out, resets)
			_, _ = conn.Write([]byte(out))
			switch {
			case open:
				_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
				_, _ = conn.Read(make([]byte, 1))
			case broken:
				time.Sleep(50 * time.Millisecond) // until what was written is read
				_ = conn.(*net.TCPConn).SetLinger(0)
			}
			conn.Close()
		}
	}()
	t.Cleanup(func() { l.Close(); <-done })
	return l.Addr().String(), func(s string) { answers <- s }
}

// reply is a whole answer of HTTP; head is further fields, each with its end. A length among them stands in the
// place of the right one.
func reply(status, media, head, body string) string {
	out := "HTTP/1.1 " + status + "\r\n"
	if media != "" {
		out += "Content-Type: " + media + "\r\n"
	}
	if low := strings.ToLower(head); !strings.Contains(low, "content-length") && !strings.Contains(low, "transfer-encoding") {
		out += fmt.Sprintf("Content-Length: %d\r\n", len(body))
	}
	return out + "Connection: close\r\n" + head + "\r\n" + body
}

func inEnvelope(ns, header, body string) string {
	return `<s:Envelope xmlns:s="` + ns + `">` + header + `<s:Body>` + body + `</s:Body></s:Envelope>`
}

func packed(s string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(s))
	z.Close()
	return b.String()
}

const (
	oneBerth = `<berth free="true"><code>N01</code><length>18</length><depth>3.2</depth><quay>North quay</quay></berth>`
	oneFound = `<FindBerthsResponse xmlns="urn:skerry:berths">` + oneBerth + `</FindBerthsResponse>`
	asXML    = "text/xml; charset=utf-8"
)

// replyCase is an answer, the finding that leads, and words of it.
type replyCase struct{ name, reply, id, says string }

// check sends a call for each answer and looks at what leads.
func checkReplies(t *testing.T, cases []replyCase, set ...string) {
	h := harbour(t)
	plan := berths(t, h, "/berths")
	address, answer := answering(t)
	plan.Settings.Set("address", "http://"+address+"/berths")
	for i := 0; i+1 < len(set); i += 2 {
		plan.Settings.Set(set[i], set[i+1])
	}
	for _, c := range cases {
		answer(c.reply)
		x := run(t, plan)
		if c.id == "" {
			assert.Empty(t, ids(x), c.name)
			assert.Equal(t, exchange.OutcomePassed, x.Outcome, c.name)
			continue
		}
		if !assert.NotEmpty(t, x.Findings, "%s: %v", c.name, x.Outcome) {
			continue
		}
		f := x.Findings[0]
		assert.Equal(t, c.id, f.ID, "%s: %v %s", c.name, ids(x), f.Why)
		assert.Contains(t, f.Title+". "+f.Why+" "+f.Program, c.says, c.name)
		assert.NotEmpty(t, f.Evidence, c.name)
		assert.NotContains(t, f.Title+f.Why+f.Program, "(none),", c.name)
		for _, e := range f.Evidence {
			if e.In == exchange.InResponseBody {
				assert.LessOrEqual(t, e.Offset, x.Leg().ResponseBody.Len(), c.name)
			}
		}
	}
}

// What comes back that is no answer is called by what it is.
func TestWhatCameBackIsCalledByWhatItIs(t *testing.T) {
	good := inEnvelope(soap.NS11, "", oneFound)
	ok := func(body string) string { return reply("200 OK", asXML, "", body) }
	wide := strings.Join(strings.Split(good, ""), "\x00") + "\x00"
	checkReplies(t, []replyCase{
		{"right", ok(good), "", ""},
		{"a mark", ok("\ufeff" + good), "", ""},
		{"no body", ok(""), "read.empty", "and nothing follows"},
		{"white space", ok("  \r\n"), "read.empty", "nothing but white space"},
		{"a page", ok("<html><title>Sorry</title></html>"), "receive.not-soap", "an HTML page, not SOAP"},
		{"a page of XML", ok(`<?xml version="1.0"?><!DOCTYPE html PUBLIC "x" "y"><html><title>Sorry</title></html>`),
			"receive.not-soap", "It says: “Sorry”"},
		{"a page behind a comment", ok("<!-- x --><html><title>Sorry</title></html>"), "receive.not-soap", "HTML page"},
		{"JSON", ok(`{"error":1}`), "receive.not-soap", "what answers there speaks JSON"},
		{"JSON, as it says", reply("200 OK", "application/json", "", `{"error":1}`), "receive.not-soap", "JSON, not SOAP"},
		{"text", ok("OK"), "receive.not-soap", "plain text, not SOAP"},
		{"compressed", ok(packed(good)), "receive.not-soap", "compressed, and its head does not say so"},
		{"escaped", ok(strings.ReplaceAll(good, "<", "&lt;")), "receive.not-soap", "XML that was escaped"},
		{"Base64", ok(base64.StdEncoding.EncodeToString([]byte(good))), "receive.not-soap", "XML in Base64"},
		{"zeros", ok(strings.Repeat("\x00", 3) + "\x01\x02\x03"), "receive.not-soap", "binary data"},
		{"UTF-16 that nothing tells of", ok(wide), "read.charset-differs", "It is UTF-16"},
		{"UTF-8 called Latin 1", reply("200 OK", "text/xml; charset=ISO-8859-1", "",
			strings.Replace(good, "North", "Nörth", 1)), "read.charset-doubtful", "are the letter ö in UTF-8"},
		{"UTF-8 declared Latin 1", reply("200 OK", "text/xml", "", `<?xml version="1.0" encoding="ISO-8859-1"?>`+
			strings.Replace(good, "North", "Nörth", 1)), "read.charset-doubtful", "look like UTF-8"},
		{"Latin 1", reply("200 OK", "text/xml; charset=ISO-8859-1", "", strings.Replace(good, "North", "N\xf6rth", 1)), "", ""},
		{"zeros behind", ok(good + "\x00\x00"), "read.text-outside", "2 bytes follow: 00 00"},
		{"a byte behind", ok(good + "\x1a"), "read.text-outside", "1 byte follows: 1a"},
		{"an unknown reference", ok(strings.Replace(good, "North", "&#0;", 1)), "read.not-well-formed", "&#0; names no character"},
		{"a bare <", ok(strings.Replace(good, "North", "a < b", 1)), "read.not-well-formed", "must be written &lt;"},
		{"a description", ok(`<d:definitions xmlns:d="http://schemas.xmlsoap.org/wsdl/"/>`), "read.not-envelope",
			"the address is that of the description"},
		{"no envelope", ok(oneFound), "read.not-envelope", "the answer without its envelope"},
		{"a fault alone", ok(`<s:Fault xmlns:s="` + soap.NS11 + `"><faultcode>s:Client</faultcode><faultstring>bad</faultstring></s:Fault>`),
			"read.not-envelope", "It says: “bad”"},
		{"nearly the namespace", ok(strings.ReplaceAll(good, soap.NS11, strings.TrimSuffix(soap.NS11, "/"))), "read.not-envelope",
			"that of SOAP 1.1 is " + soap.NS11},
		{"small letters", ok(strings.ReplaceAll(good, "Envelope", "envelope")), "read.not-envelope", "names are case-sensitive"},
		{"no Body", ok(`<s:Envelope xmlns:s="` + soap.NS11 + `"/>`), "verify.reply-differs", "the reply's envelope has no Body"},
		{"Body of the other version", ok(`<s:Envelope xmlns:s="` + soap.NS11 + `"><t:Body xmlns:t="` + soap.NS12 + `"/></s:Envelope>`),
			"verify.reply-differs", "It has Body in the namespace " + soap.NS12},
		{"an empty Body", ok(inEnvelope(soap.NS11, "", "<!-- -->")), "verify.reply-differs", "the reply's body is empty"},
		{"text in the Body", ok(inEnvelope(soap.NS11, "", "<![CDATA["+oneFound+"]]>")), "verify.reply-differs", "XML that was escaped"},
		{"two Bodies", ok(strings.Replace(good, "</s:Body>", "</s:Body><s:Body/>", 1)), "read.envelope-malformed", "more than one Body"},
		{"Header last", ok(strings.Replace(good, "</s:Body>", "</s:Body><s:Header/>", 1)), "read.envelope-malformed", "behind its Body"},
		{"two answers", ok(inEnvelope(soap.NS11, "", oneFound+oneFound)), "read.envelope-malformed", "holds 2 elements"},
		{"no namespace", ok(inEnvelope(soap.NS11, "", "<FindBerthsResponse/>")), "verify.reply-differs", "is in (none); due is urn:skerry"},
		{"another case", ok(inEnvelope(soap.NS11, "", `<findBerthsResponse xmlns="urn:skerry:berths"/>`)), "verify.reply-differs",
			"names are case-sensitive"},
		{"the request", ok(inEnvelope(soap.NS11, "", find)), "verify.reply-differs", "which is what was sent"},
		{"another answer", ok(inEnvelope(soap.NS11, "", `<ReserveBerthResponse xmlns="urn:skerry:berths"/>`)), "verify.reply-differs",
			"It is the answer of ReserveBerth"},
		{"the other version", reply("200 OK", "application/soap+xml", "", inEnvelope(soap.NS12, "", oneFound)), "read.version-differs",
			"of the contract is for SOAP 1.1"},
		{"no media type", reply("200 OK", "", "", good), "receive.type-differs", "the reply says no content type"},
		{"a broken media type", reply("200 OK", `text/xml; charset="utf-8`, "", good), "receive.type-differs", "cannot be read"},
		{"a block that must be understood", ok(inEnvelope(soap.NS11, `<s:Header><q:Stamp xmlns:q="urn:q" s:mustUnderstand="1"/></s:Header>`,
			oneFound)), "read.must-understand", "must be understood: Stamp"},
		{"one for somebody else", ok(inEnvelope(soap.NS11, `<s:Header><q:Stamp xmlns:q="urn:q" s:mustUnderstand="1" s:actor="urn:x"/></s:Header>`,
			oneFound)), "", ""},
		{"security", ok(inEnvelope(soap.NS11, `<s:Header><w:Security xmlns:w="`+wssec.WSSE+`" s:mustUnderstand="1"/></s:Header>`, oneFound)),
			"read.must-understand", "process WS-Security in replies too"},
		{"in parts, unsaid", ok("--q\r\nContent-Type: text/xml\r\n\r\n" + good + "\r\n--q--\r\n"), "read.parts-broken",
			"its head says something else"},
		{"not in parts", reply("200 OK", `multipart/related; boundary="q"`, "", good), "read.parts-broken", "in parts, and is not"},
		{"the envelope second", reply("200 OK", `multipart/related; boundary="q"`, "", "--q\r\nContent-Type: image/png\r\n\r\nx\r\n"+
			"--q\r\nContent-Type: text/xml\r\n\r\n"+good+"\r\n--q--\r\n"), "read.parts-broken", "start does not name it"},
		{"a reference without cid", reply("200 OK", `multipart/related; boundary="q"`, "", "--q\r\nContent-Type: text/xml\r\n\r\n"+
			strings.Replace(good, "North quay", `<x:Include xmlns:x="`+soap.XOP+`" href="a@q"/>`, 1)+
			"\r\n--q\r\nContent-ID: <a@q>\r\n\r\nx\r\n--q--\r\n"), "read.attachment-unresolved", "begins with cid:"},
	})
}

// What is wrong with the framing of an answer is told from what is wrong with what it says.
func TestTheFramingOfAnAnswer(t *testing.T) {
	good := inEnvelope(soap.NS11, "", oneFound)
	n := len(good)
	size := func(n int) string { return fmt.Sprintf("Content-Length: %d\r\n", n) }
	chunk := fmt.Sprintf("%x\r\n%s\r\n", n, good)
	const chunked = "Transfer-Encoding: chunked\r\n"
	open := "HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n"
	letters := inEnvelope(soap.NS11, "", strings.Replace(oneFound, "North", "Nörðþ", 1))
	checkReplies(t, []replyCase{
		{"right", reply("200 OK", asXML, chunked, chunk+"0\r\n\r\n"), "", ""},
		{"a length that is too small", reply("200 OK", asXML, size(n-5), good), "receive.length-differs", "5 bytes more came behind it"},
		{"no length but a body", reply("200 OK", asXML, size(0), good), "receive.length-differs", "It declares 0 bytes"},
		{"a length of characters", reply("200 OK", asXML, size(len([]rune(letters))), letters), "receive.length-differs",
			"than characters: the service may count these"},
		{"cut where characters end", reply("200 OK", asXML, "", letters[:len([]rune(letters))]), "read.not-well-formed",
			"declares the number of its characters"},
		{"another answer", reply("200 OK", asXML, "", good) + reply("200 OK", asXML, "", good), "receive.length-differs",
			"Nobody asked for it"},
		{"more than the last chunk", reply("200 OK", asXML, chunked, chunk+"0\r\n\r\nmore"), "receive.length-differs", "behind the last chunk"},
		{"two lengths", reply("200 OK", asXML, size(n)+size(n-3), good), "receive.head-malformed", "Two lengths are declared"},
		{"the same length twice", reply("200 OK", asXML, size(n)+size(n), good), "", ""},
		{"a length below zero", reply("200 OK", asXML, size(-1), good), "receive.head-malformed", `A length of "-1" is none`},
		{"a length and chunks", reply("200 OK", asXML, size(5)+chunked, chunk+"0\r\n\r\n"), "receive.head-malformed", "beside chunks"},
		{"another transfer coding", reply("200 OK", asXML, "Transfer-Encoding: identity\r\n", good), "receive.head-malformed", "identity"},
		{"no colon", reply("200 OK", asXML, "this is no field\r\n", good), "receive.head-malformed", "has no colon"},
		{"folded", reply("200 OK", asXML, "X-A: one\r\n two\r\n", good), "receive.head-malformed", "goes on with the field before it"},
		{"a blank before the colon", reply("200 OK", asXML, "X-A : one\r\n", good), "receive.head-malformed", "White space stands between"},
		{"LF alone", strings.ReplaceAll(reply("200 OK", asXML, "", good), "\r\n", "\n"), "", ""}, // RFC 9112 §2.2 lets who reads it take it
		{"chunks, unsaid", open + "Connection: close\r\n\r\n" + chunk + "0\r\n\r\n", "receive.bad-chunk", "chunked is missing"},
		{"said, and no chunks", reply("200 OK", asXML, chunked, good), "receive.bad-chunk", "is not a chunk size"},
		{"a part", reply("206 Partial Content", asXML, "", good[:100]), "read.not-well-formed", "by it, this is only a part"},
		{"cut, of no length", open + "Connection: close\r\n\r\n" + good[:100], "read.not-well-formed", "neither length nor chunks"},
		{"reset, of no length", open + "Connection: close\r\n\r\n" + good + resets, "receive.truncated",
			"nobody can tell whether more"},
		{"no end", open + "\r\n" + good + stays, "receive.stalled", "does not say where it ends"},
		{"half a head", open + stays, "receive.stalled", "bytes of its head came"},
		{"no head", good, "receive.not-http", "the reply has no head"},
		{"blank lines", "\r\n\r\n" + reply("200 OK", asXML, "", good), "receive.not-http", "4 bytes of white space stand before it"},
		{"no status", "HTTP/1.1 20 OK\r\n\r\n", "receive.not-http", "no status line"},
		{"an interim answer alone", "HTTP/1.1 102 Processing\r\n\r\n", "wait.closed", "which is no answer yet"},
		{"and a wait", "HTTP/1.1 102 Processing\r\n\r\n" + stays, "wait.timed-out", "which is no answer yet"},
		{"compressed, and cut", reply("200 OK", asXML, "Content-Encoding: gzip\r\n", packed(good)[:60]), "receive.bad-compression",
			"Nobody asked for a compression"},
		{"a charset as compression", reply("200 OK", asXML, "Content-Encoding: utf-8\r\n", good), "receive.bad-compression",
			"belongs into Content-Type"},
	}, "answer-time", "600ms", "receive-time", "600ms")
}

// What a status says is told, and nothing that was not so.
func TestWhatAStatusSays(t *testing.T) {
	fault := inEnvelope(soap.NS11, "", "<s:Fault><faultcode>s:Client</faultcode><faultstring>log in</faultstring></s:Fault>")
	page := func(status, head string) string { return reply(status, "text/html", head, "<html></html>") }
	checkReplies(t, []replyCase{
		{"304", reply("304 Not Modified", "", "", ""), "receive.client-error", "nothing has changed"},
		{"302", reply("302 Found", "", "", ""), "receive.redirected", "does not say where"},
		{"401", reply("401 Unauthorized", "", "", ""), "receive.unauthorized", "WWW-Authenticate is missing"},
		{"401 with a fault", reply("401 Unauthorized", asXML, "WWW-Authenticate: Basic realm=\"Q\"\r\n", fault), "receive.unauthorized",
			"It says: “log in”"},
		{"407", page("407 Proxy Authentication Required", ""), "receive.client-error", "the call went through none"},
		{"410", page("410 Gone", ""), "receive.client-error", "at this path any more"},
		{"411", page("411 Length Required", ""), "receive.length-required", "Its length was declared"},
		{"417", page("417 Expectation Failed", ""), "receive.expectation-refused", "none was sent"},
		{"426", page("426 Upgrade Required", "Upgrade: TLS/1.2\r\n"), "receive.client-error", "use an https address"},
		{"429", page("429 Too Many Requests", "Retry-After: 20\r\n"), "receive.client-error", "try again after 20 s"},
		{"431", page("431 Request Header Fields Too Large", ""), "receive.client-error", "fewer or shorter header fields"},
		{"501", page("501 Not Implemented", ""), "receive.server-error", "takes no POST"},
		{"503", page("503 Service Unavailable", "Retry-After: Fri, 04 Dec 2026 10:00:00 GMT\r\n"), "receive.gateway", "try again after Fri"},
		{"511", page("511 Network Authentication Required", ""), "receive.server-error", "the network wants a log-in"},
		{"599", page("599 Odd", ""), "receive.server-error", "which no standard has"},
		{"500 with a fault alone", reply("500 Internal Server Error", asXML, "", `<s:Fault xmlns:s="`+soap.NS11+
			`"><faultstring>no quay</faultstring></s:Fault>`), "receive.server-error", "a fault without its envelope. It says: “no quay”"},
	})
}

// Who is at fault is said by the code where it does, by the words where these are plain, and else not.
func TestWhoAFaultBlames(t *testing.T) {
	in := func(code, words string) string {
		return reply("500 Internal Server Error", asXML, "", inEnvelope(soap.NS11, "", `<s:Fault xmlns:w="`+wssec.WSSE+`"><faultcode>`+code+
			`</faultcode><faultstring>`+words+`</faultstring></s:Fault>`))
	}
	body := func(b string) string {
		return reply("500 Internal Server Error", asXML, "", inEnvelope(soap.NS11, "", b))
	}
	checkReplies(t, []replyCase{
		{"no code", body("<s:Fault/>"), "read.fault-server", "It has no code, and so does not say"},
		{"a code of its own", in("NoBerth", "it broke"), "read.fault-server", "Its code is NoBerth, which does not say"},
		{"the service's code", in("s:Server", "it broke"), "read.fault-server", "the service is at fault, not the message"},
		{"no reason", in("s:Client", ""), "read.fault-client", "refused the message, and gives no reason"},
		{"the other shape", body("<s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code><s:Reason><s:Text>bad</s:Text></s:Reason></s:Fault>"),
			"read.fault-client", "It says: “bad”"},
		{"no namespace", body("<Fault><faultstring>bad</faultstring></Fault>"), "verify.reply-differs", "a fault that is written wrongly"},
		{"in the Header", reply("200 OK", asXML, "", inEnvelope(soap.NS11, "<s:Header><s:Fault><faultstring>bad</faultstring></s:Fault></s:Header>",
			"")), "verify.reply-differs", "stands in the Header"},
		{"behind the answer", reply("200 OK", asXML, "", inEnvelope(soap.NS11, "", oneFound+"<s:Fault><faultstring>bad</faultstring></s:Fault>")),
			"read.fault-hidden", "a fault behind it"},
		{"a date is no length", in("s:Server", "expired at 2026-12-20T10:20:00Z"), "read.fault-server", "the service failed"},
		{"words of the service", in("s:Client", "Could not connect to database"), "read.fault-client", "its words the service"},
		{"of a pointer", in("s:Client", "NullPointerException"), "read.fault-client", "its words the service"},
		{"of the message", in("s:Server", "cvc-complex-type.2.4.a"), "read.fault-server", "its words perhaps the message"},
		{"a header that nobody sent", in("s:MustUnderstand", "not understood"), "read.fault-must-understand", "No header was sent"},
		{"security that nobody sent", in("w:InvalidSecurity", "see log"), "read.fault-security-invalid", "None was sent"},
		{"an action that was sent", in("s:Client", "The SOAPAction header is missing"), "read.fault-action", "something between may take it off"},
		{"an element of the contract", in("s:Client", "Unexpected element FindBerths"), "read.fault-operation", "which is the contract's"},
		{"a type that was not sent", in("s:Server", "Invalid content type application/json"), "receive.media-type-refused",
			"that was not sent: application/json"},
		{"a type that is expected", in("s:Server", "Invalid content type, expected application/soap+xml"), "receive.media-type-refused",
			"let your program send SOAP 1.2"},
	})
}

// What comes behind an answer that has no body is told beside that none came.
func TestABodyBehindAnAnswerThatHasNone(t *testing.T) {
	plan := berths(t, harbour(t), "/berths")
	address, answer := answering(t)
	plan.Settings.Set("address", "http://"+address+"/berths")
	answer(reply("204 No Content", asXML, "", "<a/>"))
	x := run(t, plan)
	assert.Equal(t, []string{"receive.accepted-only", "receive.length-differs"}, ids(x))
	assert.Contains(t, x.Findings[1].Why, "An answer of the status 204 has no body; 4 bytes more came behind it: “<a/>”")
}

// Of a request that is not known nothing is said that it lacks.
func TestNothingIsMissedInARequestThatIsNotKnown(t *testing.T) {
	for _, code := range []string{"w:InvalidSecurity", "s:MustUnderstand"} {
		w := &call.Imported{URL: "http://quay.example/", Reply: call.ReplyOf("HTTP/1.1 500 x", [][2]string{{"Content-Type", "text/xml"}},
			[]byte(inEnvelope(soap.NS11, `<s:Header><w:Security xmlns:w="`+wssec.WSSE+`" s:mustUnderstand="1"/></s:Header>`,
				`<s:Fault xmlns:w="`+wssec.WSSE+`"><faultcode>`+code+`</faultcode><faultstring>see log</faultstring></s:Fault>`)))}
		x := call.Explain(t.Context(), call.Plan{Agent: "test"}, w)
		require.NotEmpty(t, x.Findings)
		assert.NotContains(t, x.Findings[0].Title+x.Findings[0].Why, "sent", code)
		assert.NotContains(t, ids(x), "read.must-understand", code)
	}
}

// An envelope without a Body has no answer, also where it is large and read from the disk.
func TestAFlowingReplyWithoutABody(t *testing.T) {
	plan := berths(t, harbour(t), "/berths")
	address, answer := answering(t)
	plan.Settings.Set("address", "http://"+address+"/berths")
	plan.Settings.Set("intake", "flowing")
	answer(reply("200 OK", asXML, "", `<s:Envelope xmlns:s="`+soap.NS11+`">`+strings.Repeat("<!-- quay -->\n", 700_000)+`</s:Envelope>`))
	x := run(t, plan)
	defer x.Close()
	require.True(t, x.Leg().ResponseBody.Stored(), "it is too large for memory")
	require.NotEmpty(t, x.Findings)
	assert.Equal(t, "verify.reply-differs", x.Findings[0].ID, ids(x))
	assert.Equal(t, "the reply's envelope has no Body", x.Findings[0].Title)
}

// What came beside the fields and the body of an answer holds no secret either, once it is told or kept. The head
// that is told is that of the answer, whatever came before it.
func TestSecretsBesideAnAnswer(t *testing.T) {
	const secret = "slack-water-77"
	good := inEnvelope(soap.NS11, "", oneFound)
	plan := berths(t, harbour(t), "/berths")
	address, answer := answering(t)
	plan.Settings.Set("address", "http://"+address+"/berths")
	whole := reply("200 OK", asXML, "", good)
	inParts := func(coding, beside string) string {
		return reply("200 OK", `multipart/related; type="text/xml"; boundary="q"`, "", "--q\r\nContent-Type: text/xml\r\n\r\n"+good+
			"\r\n--q\r\nContent-Type: application/json\r\nContent-Transfer-Encoding: "+coding+"\r\n\r\n"+beside+"\r\n--q--\r\n")
	}
	asJSON := `{"user":"x","password":"` + secret + `"}`
	hasSecret := func(b []byte) bool {
		s := strings.ReplaceAll(string(b), "=\r\n", "")
		return strings.Contains(s, secret) || strings.Contains(s, secret[9:]) ||
			strings.Contains(s, base64.StdEncoding.EncodeToString([]byte(asJSON))[24:48])
	}
	for name, came := range map[string]string{
		"in a file beside it":      inParts("8bit", asJSON),
		"in Base64 beside it":      inParts("base64", base64.StdEncoding.EncodeToString([]byte(asJSON))),
		"quoted-printable beside":  inParts("quoted-printable", asJSON[:20]+"=\r\n"+asJSON[20:]),
		"broken between two lines": inParts("quoted-printable", strings.Replace(asJSON, secret, secret[:9]+"=\r\n"+secret[9:], 1)),
		"in what is not in parts":  reply("200 OK", `multipart/related; boundary="q"`, "", asJSON),
		"in parts without the end": reply("200 OK", `multipart/related; boundary="q"`, "", "--q\r\nContent-Type: application/json\r\n\r\n"+asJSON),
		"behind it":                whole + "<Password>" + secret + "</Password>",
		"behind it, as JSON":       whole + `{"password":"` + secret + `"}`,
		"in another answer":        whole + "HTTP/1.1 200 OK\r\nSet-Cookie: sid=" + secret + "\r\n\r\n",
		"without a colon":          reply("200 OK", asXML, "Authorization Basic "+secret+"\r\n", good),
		"a folded line":            reply("200 OK", asXML, "X-A: b\r\n Set-Cookie: sid="+secret+"; Path=/\r\n", good),
		"an interim answer":        "HTTP/1.1 103 Early Hints\r\nSet-Cookie: sid=" + secret + "\r\n\r\n" + whole,
		"behind an interim one": "HTTP/1.1 103 Early Hints\r\n\r\n" + reply("200 OK", asXML, "Set-Cookie: sid="+secret+"\r\n",
			good),
	} {
		answer(came)
		x := run(t, plan)
		assert.True(t, hasSecret(x.Leg().In.Bytes()), name)
		kept := x.Redact(nil)
		told, err := json.Marshal(kept.Report(true))
		require.NoError(t, err)
		all, err := kept.Marshal()
		require.NoError(t, err)
		for what, b := range map[string][]byte{"told": told, "kept": all, "bytes": kept.Leg().In.Bytes()} {
			assert.False(t, hasSecret(b), "%s, %s", name, what)
			assert.NotContains(t, string(b), base64.StdEncoding.EncodeToString([]byte(secret))[:16], "%s, %s", name, what)
		}
		assert.True(t, strings.HasPrefix(string(kept.Leg().AnswerHead()), "HTTP/1.1 200 OK\r\n"), name)
		assert.True(t, strings.HasSuffix(string(kept.Leg().AnswerHead()), "\r\n\r\n"), name)
	}
}

// A fault that is written wrongly is no answer of an operation of the style rpc, whose wrapper may have any name.
func TestAFaultWithoutItsNamespaceIsNoAnswerOfRPC(t *testing.T) {
	h := harbour(t)
	f := fetch(t, "http://"+h.Plain+"/callsigns?wsdl")
	plan := call.Plan{Contract: f.Contract, Served: f.Served, Endpoint: "signs", Agent: "test"}
	plan.Port = f.Contract.Ports()[0]
	plan.Operation = plan.Port.Operations[0].Name
	require.Equal(t, "rpc", plan.Port.Operations[0].Style)
	address, answer := answering(t)
	plan.Settings.Set("address", "http://"+address+"/")
	plan.AsItIs = true
	plan.Settings.Set("soap", plan.Port.Version.String())
	plan.SetDraft(message.Sample(f.Contract.Schemas, plan.Port.Operations[0].Input.Element, message.Want{}))
	answer(reply("500 x", plan.Port.Version.MediaType(), "", inEnvelope(plan.Port.Version.Namespace(), "",
		"<Fault><faultstring>bad</faultstring></Fault>")))
	x := run(t, plan)
	require.NotEmpty(t, x.Findings)
	assert.Equal(t, "the body holds a fault that is written wrongly", x.Findings[0].Title)
}

// A file holds a message as somebody wrote it down: what its head has is told as it stands there, and nothing is
// said of a head that it has not.
func TestWhatAFileSaysOfAReply(t *testing.T) {
	request := []byte("POST /berths HTTP/1.1\r\nHost: quay.example\r\nContent-Type: text/xml\r\nSOAPAction: \"\"\r\n\r\n" +
		inEnvelope(soap.NS11, "", find))
	head := func(lines string) string {
		return "HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n" + lines + "\r\n" + inEnvelope(soap.NS11, "", oneFound)
	}
	for _, c := range []struct{ name, reply, id, says, never string }{
		{"no colon", head("Served by quay\r\n"), "receive.head-malformed", "A line has no colon", ""},
		{"folded", head("X-Quay: north\r\n south\r\n"), "receive.head-malformed", "goes on with the field before it", ""},
		{"white space before the colon", head("X-Quay : north\r\n"), "receive.head-malformed", "between a field's name and its colon", ""},
		{"a line before it", "\r\n" + head(""), "", "", ""},
		{"text without a head", "220 quay ESMTP", "receive.not-soap", "It says: “220 quay ESMTP”.", "The status is"},
		{"bytes without a head", "\x01\x02\x03\x04", "receive.not-soap", "It is not text", "text/plain"},
		{"nothing", "", "", "what became of it is not known", ""},
	} {
		w, err := call.ImportedFrom(request, []byte(c.reply))
		require.NoError(t, err, c.name)
		x := call.Explain(t.Context(), call.Plan{}, w)
		said := x.Result
		for _, f := range x.Findings {
			said += "\n" + f.ID + " " + f.Title + ". " + f.Why
			for _, e := range f.Evidence {
				said += e.Excerpt
			}
		}
		assert.Contains(t, said, c.id, c.name)
		assert.Contains(t, said, c.says, c.name)
		if c.never != "" {
			assert.NotContains(t, said, c.never, c.name)
		}
	}
}

// An archive without an answer does not say that the service closed the connection.
func TestAnArchiveWithoutAnAnswer(t *testing.T) {
	body, err := json.Marshal(inEnvelope(soap.NS11, "", find))
	require.NoError(t, err)
	all, err := call.FromHAR(fmt.Appendf(nil, `{"log":{"version":"1.2","entries":[{"request":{"method":"POST","url":"http://quay.example/berths",`+
		`"headers":[{"name":"Content-Type","value":"text/xml"}],"postData":{"text":%s}},"response":{"status":0,"_error":"reset"}}]}}`, body))
	require.NoError(t, err)
	require.Len(t, all, 1)
	_, err = call.FromHAR([]byte(`{"log":{"version":"1.2","entries":[{"request":{},"response":{"_error":{"code":7}}}]}}`))
	require.NoError(t, err, "what no standard has may be of any shape")
	x := call.Explain(t.Context(), call.Plan{}, all[0].Imported)
	require.NotNil(t, x.Cause())
	assert.Equal(t, "wait.not-recorded", x.Cause().ID)
	assert.Contains(t, x.Cause().Why, "cannot be told from it: it may not have reached the service, have been broken off, or have been "+
		"given up. It says: “reset”.")
}
