package relay

import (
	"bytes"
	"compress/gzip"
	"crypto/tls"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/wssec"
)

const soap11, soap12 = "http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"

// inUTF16 is a text in UTF-16, without a byte order mark.
func inUTF16(text string, order binary.AppendByteOrder) string {
	var b []byte
	for _, u := range utf16.Encode([]rune(text)) {
		b = order.AppendUint16(b, u)
	}
	return string(b)
}

// inLatin1 is a text in ISO 8859-1.
func inLatin1(text string) string {
	var b []byte
	for _, r := range text {
		b = append(b, byte(r))
	}
	return string(b)
}

// What a program sends that is no call of the contract is called by what it is, and not by what the service
// makes of it: 415, a version mismatch, an unknown operation. Each cause points at what was sent, and offers
// nothing that is set here.
func TestWhatAProgramSentIsCalledByWhatItIs(t *testing.T) {
	good := fmt.Sprintf(asks, "40")
	body := `<FindBerths xmlns="urn:skerry:berths"><length>40</length></FindBerths>`
	in := func(ns, b string) string {
		return `<s:Envelope xmlns:s="` + ns + `"><s:Body>` + b + `</s:Body></s:Envelope>`
	}
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write([]byte(good))
	z.Close()
	inJSON, _ := json.Marshal(good)
	w := watch(t, "http://PLAIN/berths")
	for _, c := range []struct {
		name, body, media, action string // "" text/xml; charset=utf-8 and the action of the contract; "-" none
		id, says, other           string // the cause, words of it, and the finding behind it
	}{
		{"JSON", `{"quay":"N"}`, "application/json", "", "message.not-xml", "It is JSON", "receive.media-type-refused"},
		{"JSON as XML", `{"quay":"N"}`, "", "", "message.not-xml", "It is JSON", "read.fault-client"},
		{"a form", "quay=N&length=3", "application/x-www-form-urlencoded", "", "message.not-xml", "It is a form",
			"receive.media-type-refused"},
		{"binary XML", "\x56\x02\x0b\x01s\x04\x0b\x01a\x82", "application/soap+msbin1", "", "message.not-xml", "binary XML",
			"receive.media-type-refused"},
		{"Fast Infoset", "\xe0\x00\x00\x01\x008\xcf", "", "", "message.not-xml", "Fast Infoset", "read.fault-client"},
		{"compressed", zipped.String(), "", "", "message.not-xml", "compressed (gzip)", "read.fault-client"},
		{"Base64", base64.StdEncoding.EncodeToString([]byte(good)), "", "", "message.not-xml", "XML in Base64", ""},
		{"a string of JSON", string(inJSON), "", "", "message.not-xml", "a JSON string that holds the XML", ""},
		{"escaped", strings.ReplaceAll(good, "<", "&lt;"), "", "", "message.not-xml", "escaped", ""},
		{"percent", "%3Cs%3AEnvelope%3E", "", "", "message.not-xml", "percent-encoded", ""},
		{"text", "hello", "", "", "message.not-xml", "plain text", ""},
		{"a page", "<html><br></html>", "", "", "message.not-xml", "an HTML page", ""},
		{"nothing", "", "", "", "message.not-xml", "nothing was sent", "read.fault-client"},
		{"two marks", "\ufeff\ufeff" + good, "", "", "message.not-well-formed", "a second byte order mark", ""},
		{"joined", strings.Replace(good, "40", "4&0", 1), "", "", "message.not-well-formed", "&amp;", "read.fault-client"},
		{"a page that is XML", "<html><body/></html>", "", "", "message.not-envelope", "element is html", "read.fault-version"},
		{"no envelope", body, "", "", "message.not-envelope", "FindBerths, which belongs into the body", "read.fault-version"},
		{"no namespace", `<Envelope><Body>` + body + `</Body></Envelope>`, "", "", "message.not-envelope",
			"in the namespace (none); that of SOAP 1.1 is " + soap11, "read.fault-version"},
		{"nearly the namespace", in(soap12+"/", body), "", "", "message.not-envelope", "that of SOAP 1.2 is " + soap12, ""},
		{"small letters", strings.ReplaceAll(good, "Envelope>", "envelope>"), "", "", "message.not-well-formed", "", ""},
		{"another envelope", strings.ReplaceAll(good, "s:Envelope", "s:envelope"), "", "", "message.not-envelope",
			"names are case-sensitive", "read.fault-version"},
		{"no body", `<s:Envelope xmlns:s="` + soap11 + `"/>`, "", "", "message.body-empty", "the envelope has no Body", ""},
		{"body in small letters", `<s:Envelope xmlns:s="` + soap11 + `"><s:body/></s:Envelope>`, "", "", "message.body-empty",
			"the element body in the namespace " + soap11, ""},
		{"an empty body", in(soap11, ""), "", "", "message.body-empty", "FindBerths, ReserveBerth", "read.fault-client"},
		{"text in the body", in(soap11, strings.ReplaceAll(body, "<", "&lt;")), "", "", "message.body-empty",
			"XML that was escaped", "read.fault-client"},
		{"CDATA in the body", in(soap11, "<![CDATA["+body+"]]>"), "", "", "message.body-empty", "CDATA", ""},
		{"body without its namespace", in(soap11, "<FindBerths><length>40</length></FindBerths>"), "", "",
			"message.namespace-differs", "It is in (none)", "read.fault-operation"},
		{"another name", in(soap11, `<FindBerts xmlns="urn:skerry:berths"/>`), "", "", "message.body-differs",
			"`FindBerths` is", "read.fault-operation"},
		{"no such name", in(soap11, `<Moor xmlns="urn:skerry:berths"/>`), "", "", "message.body-differs",
			"has FindBerths, ReserveBerth", "read.fault-operation"},
		{"the answer's name", in(soap11, `<FindBerthsResponse xmlns="urn:skerry:berths"/>`), "", "", "message.body-differs",
			"what FindBerths answers with", ""},
		{"a fault", in(soap11, `<s:Fault><faultcode>s:Client</faultcode></s:Fault>`), "", "", "message.body-differs",
			"A fault is an answer", ""},
		{"an envelope twice", in(soap11, good), "", "", "message.body-differs", "into an envelope twice", ""},
		{"another media type", good, "text/plain", "", "binding.media-type-differs", "SOAP 1.1 is text/xml",
			"receive.media-type-refused"},
		{"that of the other version", good, "application/soap+xml", "", "binding.media-type-differs", "its envelope is of SOAP 1.1",
			"receive.media-type-refused"},
		{"no media type", good, "-", "", "binding.media-type-differs", "It has no Content-Type", "receive.media-type-refused"},
		{"no semicolon", good, "text/xml charset=utf-8", "", "binding.media-type-differs", "a parameter follows a semicolon", ""},
		{"the other version", in(soap12, body), "application/soap+xml; charset=utf-8", "-", "binding.version-differs",
			"is for SOAP 1.1", "receive.media-type-refused"},
		{"its envelope", in(soap12, body), "", "", "binding.version-differs", "is for SOAP 1.1", "read.fault-version"},
		{"no action", good, "", "-", "binding.action-differs", "has no SOAPAction", "read.fault-action"},
		{"an empty action", good, "", `""`, "binding.action-differs", `Sent was ""`, "read.fault-action"},
		{"bytes of another encoding", strings.Replace(good, "40", "40<!--\xe9-->", 1), "", "", "send.charset-differs", "0xe9",
			"read.fault-client"},
	} {
		w.post(c.body, find, func(q *http.Request) {
			switch c.media {
			case "-":
				q.Header["Content-Type"] = nil
			case "":
			default:
				q.Header.Set("Content-Type", c.media)
			}
			switch c.action {
			case "-":
				q.Header.Del("SOAPAction")
			case "":
			default:
				q.Header.Set("SOAPAction", c.action)
			}
		})
		x := w.last()
		require.NotEmpty(t, x.Findings, c.name)
		f := x.Findings[0]
		assert.Equal(t, exchange.OutcomeStopped, x.Outcome, c.name)
		if assert.Equal(t, c.id, f.ID, "%s: %v", c.name, ids(x)) {
			assert.Contains(t, f.Title+". "+f.Why, c.says, c.name)
			assert.NotEmpty(t, f.Program, c.name)
			assert.Empty(t, f.Remedies, c.name)
			require.NotEmpty(t, f.Evidence, c.name)
			assert.Contains(t, []exchange.Part{exchange.InRequestBody, exchange.InRequestHead}, f.Evidence[0].In, c.name)
		}
		if c.other != "" && assert.Len(t, x.Findings, 2, "%s: %v", c.name, ids(x)) {
			assert.Equal(t, c.other, x.Findings[1].ID, c.name)
			assert.NotContains(t, x.Findings[1].Program, "SOAP 1.2", c.name)
		}
	}
}

// What is odd and was taken all the same is told, and stops nothing.
func TestWhatWasTakenAllTheSameIsTold(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	body := `<FindBerths xmlns="urn:skerry:berths"><length>40</length></FindBerths>`
	for _, c := range []struct {
		body, media, action, id, says string
	}{
		{fmt.Sprintf(asks, "40"), "", "urn:skerry:berths:FindBerths", "binding.action-unquoted", `it is written "urn:skerry:berths:FindBerths"`},
		{strings.Replace(fmt.Sprintf(asks, "40"), "</s:Body>", "</s:Body><s:Header/>", 1), "", find, "message.header-misplaced", "first element"},
		{strings.Replace(fmt.Sprintf(asks, "40"), "</s:Body>", body+"</s:Body>", 1), "", find, "message.body-several", "Behind FindBerths"},
		{fmt.Sprintf(asks, "40"), "text/xml; charset=utf-9", find, "send.charset-differs", `says "utf-9"`},
		{fmt.Sprintf(asks, "40"), "text/xml; charset='utf-8'", find, "send.charset-differs", "apostrophes"},
	} {
		status, _ := w.post(c.body, c.action, func(q *http.Request) {
			if c.media != "" {
				q.Header.Set("Content-Type", c.media)
			}
		})
		x := w.last()
		assert.Equal(t, 200, status, c.id)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, c.id)
		if assert.Equal(t, []string{c.id}, ids(x)) {
			assert.Contains(t, x.Findings[0].Why, c.says)
		}
	}
}

// A message may be in an encoding that only its head names (RFC 7303 §3): it is read so, as the service reads it.
func TestTheHeadNamesTheEncoding(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	text := fmt.Sprintf(asks, "40<!-- Båt -->")
	for media, body := range map[string]string{
		"text/xml; charset=iso-8859-1":   inLatin1(text),
		"text/xml; charset=windows-1252": inLatin1(text),
		"text/xml; charset=utf-16le":     inUTF16(text, binary.LittleEndian),
		"text/xml; charset=UTF-16BE":     inUTF16(text, binary.BigEndian),
	} {
		status, answer := w.post(body, find, func(q *http.Request) { q.Header.Set("Content-Type", media) })
		assert.Equal(t, 200, status, "%s: %s", media, answer)
		assert.Empty(t, w.last().Findings, "%s: %+v", media, w.last().Findings)
		assert.Equal(t, "FindBerths", w.last().Operation, media)
	}
}

// Whatever a program sends, and in which encoding: no password of it is kept.
func TestNoSecretOfAnotherProgramIsKept(t *testing.T) {
	const password = "Båt-9-slipp"
	security := `<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd">` +
		`<w:UsernameToken><w:Username>inés</w:Username><w:Password>` + password + `</w:Password></w:UsernameToken></w:Security>`
	text := strings.Replace(fmt.Sprintf(asks, "40"), "<s:Body>", "<s:Header>"+security+"</s:Header><s:Body>", 1)
	w := watch(t, "http://PLAIN/berths")
	inParts := func(coding, beside string) string {
		return "--q\r\nContent-Type: text/xml\r\n\r\n" + fmt.Sprintf(asks, "40") +
			"\r\n--q\r\nContent-Type: application/json\r\nContent-Transfer-Encoding: " + coding + "\r\n\r\n" + beside + "\r\n--q--\r\n"
	}
	const related = `multipart/related; type="text/xml"; boundary="q"`
	asJSON := `{"user":"x","password":"` + password + `"}`
	for _, c := range []struct{ name, body, media string }{
		{"in a file beside it", inParts("8bit", asJSON), related},
		{"in Base64 beside it", inParts("base64", base64.StdEncoding.EncodeToString([]byte(asJSON))), related},
		{"plain", text, ""},
		{"mark", "\ufeff" + text, ""},
		{"declared", inLatin1(`<?xml version="1.0" encoding="ISO-8859-1"?>` + text), "text/xml"},
		{"head only", inLatin1(text), "text/xml; charset=iso-8859-1"},
		{"no word", inLatin1(text), "text/xml"},
		{"UTF-16", "\xff\xfe" + inUTF16(text, binary.LittleEndian), "text/xml; charset=utf-16"},
		{"UTF-16 without a mark", inUTF16(text, binary.BigEndian), "text/xml"},
		{"broken before", strings.Replace(text, "inés", "in&es", 1), ""},
		{"broken behind", strings.Replace(text, "</s:Body>", "", 1), ""},
		{"no envelope", `<logIn><password>` + password + `</password></logIn>`, ""},
		{"JSON", `{"user":"x","password":"` + password + `"}`, "application/json"},
		{"a form", "user=x&password=" + password, "application/x-www-form-urlencoded"},
		{"Base64", base64.StdEncoding.EncodeToString([]byte(text)), ""},
		{"escaped", strings.ReplaceAll(text, "<", "&lt;"), ""},
	} {
		w.post(c.body, find, func(q *http.Request) {
			if c.media != "" {
				q.Header.Set("Content-Type", c.media)
			}
		})
		kept, err := json.Marshal(w.last().Redact(nil))
		require.NoError(t, err)
		l := w.last().Redact(nil).Leg()
		for _, form := range []string{
			"9-slipp", "t-9-", inUTF16("9-slipp", binary.LittleEndian), inUTF16("9-slipp", binary.BigEndian),
			base64.StdEncoding.EncodeToString([]byte(password)),
		} {
			for _, b := range []string{string(kept), string(l.Out), string(l.RequestBody)} {
				assert.NotContains(t, b, form, c.name)
			}
		}
		if c.name != "Base64" && !strings.HasPrefix(c.name, "UTF-16 ") {
			assert.Contains(t, strings.ReplaceAll(string(l.Out), "\x00", ""), "POST ", c.name)
			assert.NotEqual(t, strings.Repeat(string(exchange.Masked), len(l.RequestBody)), string(l.RequestBody),
				"what is no secret is kept: %s", c.name)
		}
	}
}

// A security header that is refused is read as the service reads it: what is wrong with it is said, and not that
// none was sent, or that a password is wrong.
func TestWhatIsWrongWithASecurityHeaderIsSaid(t *testing.T) {
	const utility = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
	const types = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#Password"
	day := `<DayTable xmlns="urn:skerry:tides"><station>NSK</station><day>2026-06-01</day></DayTable>`
	password := func(kind, value, more string) string {
		return `<w:UsernameToken><w:Username>` + standin.User + `</w:Username><w:Password Type="` + types + kind + `">` + value +
			`</w:Password>` + more + `</w:UsernameToken>`
	}
	text := password("Text", standin.Password, "")
	timestamp := func(layout string, from, to time.Duration) string {
		at := func(d time.Duration) string { return time.Now().UTC().Add(d).Format(layout) }
		return `<u:Timestamp><u:Created>` + at(from) + `</u:Created><u:Expires>` + at(to) + `</u:Expires></u:Timestamp>`
	}
	made := time.Now().UTC()
	digest := wssec.NewToken(standin.User, standin.Password, wssec.Digest, made)
	inner := string(wssec.Build(digest, nil).XML)
	inner = inner[strings.Index(inner, ">")+1 : strings.LastIndex(inner, "</")]
	value := inner[strings.Index(inner, `Digest">`)+len(`Digest">`):]
	value = value[:strings.Index(value, "<")]
	whole := `<w:Nonce>` + base64.StdEncoding.EncodeToString([]byte("sixteen letters.")) + `</w:Nonce><u:Created>` +
		made.Format(time.RFC3339) + `</u:Created>`
	header := func(space, in string) string {
		return `<s:Header><w:Security xmlns:w="` + space + `" xmlns:u="` + utility + `">` + in + `</w:Security></s:Header>`
	}
	w := watch(t, "https://TLS/tides", "trust", "CERT")
	for _, c := range []struct{ name, header, body, id, says, other string }{
		{"another namespace", header("http://schemas.xmlsoap.org/ws/2002/12/secext", text), day, "security.header-differs",
			"Its namespace is http://schemas.xmlsoap.org/ws/2002/12/secext", "read.fault-security-missing"},
		{"in the body", "", strings.NewReplacer("<s:Header>", "", "</s:Header>", "").Replace(header(wssec.WSSE, text)),
			"security.header-differs", "stands in the Body", "read.fault-security-missing"},
		{"by itself", `<s:Header xmlns:w="` + wssec.WSSE + `">` + text + `</s:Header>`, day, "security.header-differs",
			"by itself", "read.fault-security-missing"},
		{"without a token", header(wssec.WSSE, ""), day, "read.fault-security-missing", "found no token in the security header", ""},
		{"no zone", header(wssec.WSSE, timestamp("2006-01-02T15:04:05", 0, time.Minute)+text), day, "security.token-malformed",
			"no time zone", "read.fault-security-invalid"},
		{"no time", header(wssec.WSSE, timestamp("02.01.2006", 0, time.Minute)+text), day, "security.token-malformed",
			"no time of XML Schema", "read.fault-security-invalid"},
		{"no digest", header(wssec.WSSE, password("Digest", standin.Password, whole)), day, "security.token-malformed",
			"28 characters", "read.fault-security-refused"},
		{"a digest as text", header(wssec.WSSE, password("Text", value, whole)), day, "security.token-malformed",
			"looks like a digest", "read.fault-security-refused"},
		{"no nonce", header(wssec.WSSE, password("Digest", value, "")), day, "security.token-malformed",
			"without Nonce or Created", "read.fault-security-refused"},
		{"a nonce that is none", header(wssec.WSSE, password("Digest", value, strings.Replace(whole, "<w:Nonce>", "<w:Nonce>!", 1))),
			day, "security.token-malformed", "not in Base64", ""},
		{"an old token", `<s:Header xmlns:soap="` + soap11 + `">` + string(wssec.Build(wssec.NewToken(standin.User, standin.Password, wssec.Digest,
			made.Add(-time.Hour)), nil).XML) + `</s:Header>`, day, "read.fault-security-expired", "1h0m", ""},
		{"a wrong password", header(wssec.WSSE, password("Text", "ebb at ten", "")), day, "read.fault-security-refused", "", ""},
	} {
		w.post(`<s:Envelope xmlns:s="`+soap11+`">`+c.header+`<s:Body>`+c.body+`</s:Body></s:Envelope>`, `"urn:skerry:tides:DayTable"`)
		x := w.last()
		require.NotEmpty(t, x.Findings, c.name)
		f := x.Findings[0]
		assert.Equal(t, c.id, f.ID, "%s: %v", c.name, ids(x))
		assert.Contains(t, f.Title+". "+f.Why, c.says, c.name)
		assert.Empty(t, f.Remedies, c.name)
		if c.other != "" && assert.Greater(t, len(x.Findings), 1, c.name) {
			assert.Equal(t, c.other, x.Findings[1].ID, c.name)
			assert.NotContains(t, x.Findings[1].Title, "none was sent", c.name)
			at := f.Evidence[0]
			assert.Equal(t, exchange.InRequestBody, at.In, c.name)
			assert.Equal(t, byte('<'), x.Leg().RequestBody[at.Offset], c.name)
		}
		kept, err := json.Marshal(x.Redact(nil))
		require.NoError(t, err)
		assert.NotContains(t, string(kept), standin.Password, c.name)
	}
}

// What is no request that can be passed on makes no exchange: who watches the relay is told why it was turned away.
func TestWhoIsTurnedAwayIsTold(t *testing.T) {
	var mu sync.Mutex
	var told []string
	last := func() string {
		mu.Lock()
		defer mu.Unlock()
		return strings.Join(told, "\n")
	}
	pair, err := trust.Issue(trust.Wish{Name: "quay", Hosts: []string{"127.0.0.1"}})
	require.NoError(t, err)
	own := pair.TLS()
	r, err := Listen(Options{
		To: &url.URL{Scheme: "http", Host: "127.0.0.1:1"}, Idle: 200 * time.Millisecond,
		ListenTLS: "127.0.0.1:0", Certificate: &own,
		Plan: func(*call.Imported) call.Plan { return call.Plan{Operation: "?"} },
		TurnedAway: func(why string) {
			mu.Lock()
			defer mu.Unlock()
			told = append(told, why)
		},
	})
	require.NoError(t, err)
	defer r.Close()
	at := r.ListensAt()
	send := func(to, text string) {
		c, err := net.Dial("tcp", to)
		require.NoError(t, err)
		defer c.Close()
		_, _ = io.WriteString(c, text)
		_ = c.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = io.ReadAll(c)
	}
	head := "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\n"
	for _, c := range []struct{ to, text, says string }{
		{at[0], head + "Content-Length: 3\r\nContent-Length: 4\r\n\r\nabc", "2 lengths are declared"},
		{at[0], head + "Content-Length: many\r\n\r\nabc", `a length of "many"`},
		{at[0], head + "Transfer-Encoding: chunked\r\n\r\nzz\r\nabc", "not a chunk size"},
		{at[0], head + "Transfer-Encoding: chunked\r\n\r\n9\r\nabc", "the chunks were cut off"},
		{at[0], "hello\r\n\r\n", "no request line"},
		{at[0], strings.TrimSuffix(head, "\r\n") + "\r\nAuthorization Basic c2xhY2std2F0ZXI=\r\n\r\n", "\"…\" is no header field"},
		{at[0], strings.Replace(head, "localhost", "quay.example", 1) + "\r\n", "is not this relay"},
		{at[0], "\x16\x03\x01\x00\x05hello", "speaks TLS to the address that is for plain HTTP"},
		{at[1], head + "\r\n", "speaks plain HTTP to the address that is for TLS"},
	} {
		send(c.to, c.text)
		require.Eventually(t, func() bool { return strings.Contains(last(), c.says) }, 10*time.Second, time.Millisecond,
			"%s: %s", c.says, last())
	}
	_, err = tls.Dial("tcp", at[1], &tls.Config{ServerName: "127.0.0.1"}) // trusts nothing of ours
	require.Error(t, err)
	require.Eventually(t, func() bool { return strings.Contains(last(), "has to trust the file of the local authority") },
		10*time.Second, time.Millisecond, "%s", last())
	before := last()
	assert.NotContains(t, before, "c2xhY2std2F0ZXI", "what is logged holds no secret")
	send(at[0], "") // who says nothing is not spoken of
	assert.Equal(t, before, last())
}

// A body whose head declares no length belongs to no request: the call is not called passed.
func TestABodyWithoutALengthIsNoBody(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	head := "POST / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\nContent-Type: text/xml\r\nSOAPAction: " + find + "\r\n"
	w.raw(head + "\r\n" + fmt.Sprintf(asks, "12"))
	w.keeps(1)
	x := w.last()
	assert.Equal(t, exchange.OutcomeStopped, x.Outcome)
	assert.Equal(t, "message.not-xml", x.Cause().ID)
	assert.Contains(t, x.Cause().Why, "declares no length")

	// A program of HTTP/1.0 names no host, and need not.
	old := strings.NewReplacer("HTTP/1.1", "HTTP/1.0", "Host: localhost\r\n", "").Replace(head)
	answer := w.raw(old + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(fmt.Sprintf(asks, "12")), fmt.Sprintf(asks, "12")))
	w.keeps(2)
	assert.Contains(t, answer, "FindBerthsResponse")
	assert.Equal(t, exchange.OutcomePassed, w.last().Outcome)

	// A length that is too small is that of the characters only where some of them have several bytes.
	body := fmt.Sprintf(asks, "12")
	w.raw(head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body)-2, body))
	w.keeps(3)
	assert.Equal(t, "send.length-differs", w.last().Cause().ID)
	assert.NotContains(t, w.last().Cause().Why, "characters")
	body = fmt.Sprintf(asks, "12<!--åø-->")
	w.raw(head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body)-2, body))
	w.keeps(4)
	assert.Contains(t, w.last().Cause().Why, "It is the number of its characters.")
}
