package diagnose

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// stopped is a case whose call stopped with an error.
func stopped(err error, set ...string) *Case {
	s := &endpoint.Settings{
		Layers: []endpoint.Layer{
			{
				Source: "endpoint",
				Values: map[string][]string{"address": {"http://quay.skerry.test/berths"}, "soap": {"1.1"}},
			},
		},
	}
	for i := 0; i+1 < len(set); i += 2 {
		s.Layers[0].Values[set[i]] = []string{set[i+1]}
	}
	x := &exchange.Exchange{
		Operation: "FindBerths",
		Endpoint:  "berths",
		Started:   time.Now(),
		Outcome:   exchange.OutcomeStopped,
	}
	return &Case{
		X:           x,
		Err:         err,
		Now:         time.Now(),
		Settings:    s,
		Environment: "model",
		Variables:   map[string]string{"berthhost": "quay"},
	}
}

// answered is a case with a response.
func answered(status int, contentType, body string, set ...string) *Case {
	c := stopped(nil, set...)
	head := fmt.Sprintf("HTTP/1.1 %d x\r\nContent-Type: %s\r\n\r\n", status, contentType)
	l := &exchange.Leg{In: exchange.NewBody([]byte(head + body)), ResponseBody: exchange.NewBody([]byte(body))}
	l.Conn.Host = "quay.skerry.test:80"
	l.Response = exchange.Head{
		Line:      fmt.Sprintf("HTTP/1.1 %d x", status),
		Status:    status,
		Complete:  true,
		BodyWhole: true,
		BodySize:  int64(len(body)),
		Declared:  -1,
		Size:      int64(len(head)),
		Fields: []exchange.Header{
			{
				Name:  "Content-Type",
				Value: contentType,
				Span:  exchange.Span{Offset: 16, Length: int64(len(contentType)) + 14},
			},
		},
	}
	if kind := c.Settings.Text("token"); kind == "text" || kind == "digest" {
		l.RequestBody = []byte(withToken("berth-desk", kind))
	}
	c.X.Legs = append(c.X.Legs, l)
	d, err := xmltree.Parse([]byte(body), xmltree.Limits{})
	c.ReplyDoc = d
	var se *xmltree.SyntaxError
	if errors.As(err, &se) {
		c.ReplyErr = se
	} else {
		c.Reply = soap.Read(d)
	}
	if c.Reply == nil || c.Reply.Fault != nil || status >= 300 {
		c.Err = errors.New("no answer")
	}
	return c
}

// withToken is an envelope with a user name token.
func withToken(user, kind string) string {
	password := `x#PasswordText">p</w:Password>`
	if kind == "digest" {
		password = `x#PasswordDigest">AAAAAAAAAAAAAAAAAAAAAAAAAAA=</w:Password><w:Nonce>c2xhY2s=</w:Nonce><u:Created xmlns:u="` +
			wssec.WSU + `">2026-06-01T08:00:00Z</u:Created>`
	}
	return `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><w:Security xmlns:w="` +
		wssec.WSSE + `"><w:UsernameToken><w:Username>` + user + `</w:Username><w:Password Type="` + password +
		`</w:UsernameToken></w:Security></s:Header><s:Body/></s:Envelope>`
}

func fault11(code, reason, detail string) string {
	return `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd" xmlns:a="http://www.w3.org/2005/08/addressing" xmlns:r="http://docs.oasis-open.org/ws-rx/wsrm/200702" xmlns:sc="http://docs.oasis-open.org/ws-sx/ws-secureconversation/200512"><s:Body><s:Fault><faultcode>` +
		code + `</faultcode><faultstring>` + reason + `</faultstring>` + detail + `</s:Fault></s:Body></s:Envelope>`
}

func ids(fs []exchange.Finding) string {
	var out []string
	for _, f := range fs {
		out = append(out, f.ID)
	}
	return strings.Join(out, " ")
}

func TestEveryRuleHasAnIdOfItsOwnStage(t *testing.T) {
	seen := map[string]bool{}
	for i := range Rules {
		r := &Rules[i]
		assert.False(t, seen[r.ID], "%s stands twice", r.ID)
		seen[r.ID] = true
		assert.NotEqual(t, exchange.None, r.Stage(), r.ID)
		assert.NotEmpty(t, r.Severity, r.ID)
		assert.NotEmpty(t, r.Side, r.ID)
		assert.Empty(t, r.Find(stopped(nil)), "%s finds something where nothing is wrong", r.ID)
	}
	for failure, causes := range explains {
		assert.True(t, seen[failure], failure)
		for _, c := range causes {
			assert.True(t, seen[c], c)
		}
	}
}

func TestErrorsOfTheStagesAtHome(t *testing.T) {
	key := endpoint.KeyOf("answer-time")
	for want, c := range map[string]*Case{
		"address.variable-unset": stopped(&endpoint.UnsetError{Name: "berthHost", Environment: "model",
			Near: "berthhost", Template: "http://${berthHost}/", Offset: 7, Length: 12}),
		"address.environment-unknown": stopped(&endpoint.EnvironmentError{Name: "Model", Near: "model",
			Others: []string{"model"}}),
		"address.malformed":          stopped(&endpoint.TemplateError{Template: "${", Why: "a ${ is not closed"}),
		"address.scheme-unsupported": stopped(&endpoint.AddressError{Address: "ftp://x", Scheme: "ftp"}),
		"binding.endpoint-ambiguous": stopped(&endpoint.AmbiguousError{Operation: "FindBerths",
			Endpoints: []endpoint.Alternative{{Name: "a"}, {Name: "b"}}}),
		"binding.endpoint-missing": stopped(&endpoint.MissingError{Operation: "FindBerths", Name: "bertsh",
			Near: "berths", Others: []string{"berths"}}),
		"binding.operation-unknown": stopped(&endpoint.OperationError{Name: "findBerths", Near: "FindBerths",
			Others: []string{"FindBerths"}}),
		"binding.time-limit-invalid": stopped(&endpoint.ValueError{Key: key, Value: endpoint.Value{Key: key,
			Text: "soon"}, Err: errors.New("it is no time")}),
		"security.identity-unknown": stopped(&endpoint.IdentityError{Name: "dsek", Near: "desk",
			Others: []string{"desk"}}),
		"security.identity-host-new": stopped(&endpoint.HostNewError{Identity: "desk", Scheme: "https", Host: "h",
			Port: "443"}),
		"security.secret-unavailable": stopped(&identity.UnavailableError{Identity: "desk", Source: "env:X",
			Why: "the environment variable is not set"}),
		"security.key-unreadable": stopped(&endpoint.FileError{Key: endpoint.KeyOf("client-cert"), Path: "c.pem",
			Err: errors.New("it is damaged")}),
		"security.password-type-unknown": stopped(&endpoint.ValueError{Key: endpoint.KeyOf("token"),
			Value: endpoint.Value{Key: endpoint.KeyOf("token"), Text: "hunter2"}, Err: errors.New("x")},
			"token", "hunter2"),
		"message.too-large": stopped(&TooLargeError{Size: 5 << 20, Limit: 1 << 20}),
	} {
		fs := Run(c)
		require.NotEmpty(t, fs, want)
		assert.Equal(t, want, fs[0].ID)
		assert.Equal(t, exchange.Stop, fs[0].Severity)
		assert.Equal(t, exchange.Yours, fs[0].Side)
		assert.NotEmpty(t, fs[0].Evidence, want)
		assert.NotContains(t, fmt.Sprintf("%+v", fs), "hunter2")
	}
	fs := Run(stopped(&TooLargeError{Size: 5 << 20, Limit: 1 << 20}))
	assert.Contains(t, fs[0].Why, "5 242 880 bytes; the limit is 1 048 576; 8 MiB would do")
	assert.Equal(t, "8 MiB", fs[0].Remedies[0].Change.To)
}

func TestWhatTheWireSaw(t *testing.T) {
	needMore := []wire.Reason{wire.Certificate, wire.ProxyRefused, wire.LengthDiffers, wire.LaterTimeout} // and are tested with it
	for reason := wire.NameUnknown; reason <= wire.NotKept; reason++ {
		kind := wireFinding(reason)
		if slices.Contains(needMore, reason) {
			continue
		}
		require.NotEmpty(t, kind, "reason %d of the wire has no row in wireFinding", reason)
		c := answered(200, "text/xml", "<a/>")
		c.ReplyDoc, c.Reply = nil, nil
		c.X.Legs[0].Response.BodyWhole = false
		c.X.Legs[0].Conn.TLS = &exchange.TLSInfo{CertSent: true}
		c.Err = &wire.Error{
			Reason:    reason,
			Err:       errors.New("as it was"),
			Got:       3,
			Announced: 900_000,
			Limit:     65536,
			Alert:     "some alert",
		}
		fs := Run(c)
		require.NotEmpty(t, fs, kind)
		assert.Equal(t, kind, fs[0].ID)
		assert.Len(t, fs, 1, "one failure, one cause: %s", ids(fs))
		for _, s := range []string{fs[0].Title, fs[0].Why, fs[0].Program} {
			assert.NotEmpty(t, s, kind)
			assert.NotContains(t, s, "%!", kind)
		}
	}
}

// A length that cannot be is answered by no limit, and takes no time.
func TestNoLimitIsOfferedForALengthThatCannotBe(t *testing.T) {
	for _, length := range []int64{1<<40 + 1, 8e18, math.MaxInt64} {
		c := answered(200, "text/xml", "<a/>", "receive-limit", "65536")
		c.ReplyDoc, c.Reply = nil, nil
		c.X.Legs[0].Response.BodyWhole = false
		c.Err = &wire.Error{Reason: wire.OverLimit, Err: errors.New("as it was"), Announced: length, Limit: 65536}
		fs := Run(c)
		require.Len(t, fs, 1, ids(fs))
		assert.Equal(t, "receive.over-limit", fs[0].ID)
		assert.Equal(t, exchange.Theirs, fs[0].Side)
		assert.Contains(t, fs[0].Why, endpoint.Bytes(length)+" bytes")
		assert.Empty(t, fs[0].Remedies)
		assert.NotEmpty(t, fs[0].Evidence)
	}
}

func TestTheNumberThatWouldDo(t *testing.T) {
	c := answered(200, "text/xml", "<a/>", "receive-limit", "65536")
	c.Err = &wire.Error{Reason: wire.OverLimit, Got: 65536, Announced: 1482113, Limit: 65536}
	f := Run(c)[0]
	assert.Contains(t, f.Why, "The reply is 1 482 113 bytes; the receive limit is 65 536; 2 MiB would hold it")
	assert.Equal(t, "endpoint.berths.receive-limit", f.Remedies[0].Change.Key)
	assert.Len(t, f.Remedies[0].All(), 1, "a buffer limit that follows is not set")

	c.History = history{14, 3 << 20}
	f = Run(c)[0]
	assert.Contains(t, f.Why, "4 MiB would hold it and every one of the 14 kept replies to FindBerths")

	c.Settings.Layers = append(
		[]endpoint.Layer{
			{
				Source: "profile harbour-11",
				Values: map[string][]string{"receive-limit": {"65536"}, "buffer-limit": {"65536"}},
			},
		},
		c.Settings.Layers...)
	delete(c.Settings.Layers[1].Values, "receive-limit")
	c.Shares = func(string) []string { return []string{"berths", "tides", "pilots"} }
	f = Run(c)[0]
	require.Len(t, f.Remedies, 2)
	assert.Contains(t, f.Remedies[0].Title, "in the profile harbour-11, for tides, pilots too")
	assert.Equal(t, "profile.harbour-11.buffer-limit", f.Remedies[0].All()[1].Key)
	assert.Contains(t, f.Remedies[1].Title, "for this endpoint only")
	assert.Equal(t, "endpoint.berths.receive-limit", f.Remedies[1].All()[0].Key)
}

type history struct {
	count   int
	largest int64
}

func (h history) Passed(_, _, _ string) *exchange.Exchange { return nil }

func (h history) Repaired(string) []*exchange.Exchange { return nil }

func (h history) ReplySizes(string, *exchange.Exchange) []int64 {
	out := make([]int64, h.count)
	for i := range out {
		out[i] = h.largest
	}
	return out
}

func TestFaultsAreToldApart(t *testing.T) {
	for _, c := range []struct {
		code, reason, detail string
		set                  []string
		want                 string
		stage                exchange.Stage
	}{
		{"s:MustUnderstand", "header x", "", nil, "read.fault-must-understand", exchange.Read},
		{"s:VersionMismatch", "", "", nil, "read.fault-version", exchange.Read},
		{"w:InvalidSecurity", "No WS-Security header found", "", nil, "read.fault-security-missing", exchange.Security},
		{"s:Server", "An error was discovered processing the &lt;wsse:Security> header", "", nil,
			"read.fault-security-missing", exchange.Security},
		{"w:InvalidSecurity", "no security header found", "", []string{"token", "digest"},
			"read.fault-security-invalid", exchange.Security},
		{"w:FailedAuthentication", "x", "", []string{"token", "digest"}, "read.fault-security-refused",
			exchange.Security},
		{"s:Client", "Invalid username or password", "", []string{"token", "text", "address", "https://q/"},
			"read.fault-security-refused", exchange.Security},
		{"w:MessageExpired", "x", "", []string{"timestamp", "5m"}, "read.fault-security-expired", exchange.Security},
		{"w:UnsupportedSecurityToken", "x", "", []string{"token", "text", "address", "https://q/"},
			"read.fault-security-invalid", exchange.Security},
		{"a:MessageAddressingHeaderRequired", "x", "", nil, "read.fault-addressing", exchange.Read},
		{"r:WSRMRequired", "x", "", nil, "read.fault-protocol", exchange.Read},
		{"sc:BadContextToken", "the context is not known", "", nil, "read.fault-protocol", exchange.Read},
		{"a:ActionNotSupported", "x", "", nil, "read.fault-action", exchange.Binding},
		{"s:Client", "Server did not recognize the value of HTTP Header SOAPAction: x", "", nil, "read.fault-action",
			exchange.Binding},
		{"s:Client", "Cannot find dispatch method for {urn:x}y", "", nil, "read.fault-operation", exchange.Message},
		{"s:Client", "too long", "", nil, "read.fault-client", exchange.Read},
		{"s:Server", "broken", "<detail><t>at a caused by: x caused by: disk full</t></detail>", nil,
			"read.fault-server", exchange.Read},
		{"odd", "words", "", nil, "read.fault-server", exchange.Read},
		{"s:Client", "the content type text/plain is not taken", "", nil, "receive.media-type-refused",
			exchange.Receive},
	} {
		fs := Run(answered(500, "text/xml", fault11(c.code, c.reason, c.detail), c.set...))
		require.NotEmpty(t, fs, c.reason)
		assert.Equal(t, c.want, ids(fs), "%s %s", c.code, c.reason)
		assert.Equal(t, c.stage, fs[0].Stage, c.want)
		e := fs[0].Evidence[0]
		assert.Positive(t, e.Length, c.want)
	}
	fs := Run(
		answered(
			500,
			"text/xml",
			fault11("s:Server", "broken", "<detail><t>at a caused by: x caused by: disk full</t></detail>"),
		),
	)
	assert.Contains(t, fs[0].Why, "“caused by: disk full”", "the last cause is the true one")
	fs = Run(answered(200, "text/xml", fault11("s:Client", "no", "")))
	assert.Equal(t, "read.fault-client receive.status-differs", ids(fs))
	assert.Equal(t, exchange.Note, fs[1].Severity)
}

func TestRemediesOfARefusedToken(t *testing.T) {
	c := answered(
		500,
		"text/xml",
		fault11("w:InvalidSecurity", "no security header found", ""),
		"address",
		"https://quay.skerry.test/x",
	)
	c.Identities = []Identity{{Name: "desk", User: "berth-desk"}, {Name: "mate", User: "first-mate"}}
	f := Run(c)[0]
	var titles []string
	for _, r := range f.Remedies {
		titles = append(titles, r.Title)
		assert.Contains(t, r.Ask, "https://quay.skerry.test:443")
	}
	assert.Equal(
		t,
		[]string{
			"send a user name token as desk (berth-desk), digest password",
			"send a user name token as mate (first-mate), digest password",
			"send a user name token as a user that you type now, digest password",
			"send a user name token as desk (berth-desk), text password",
			"send a user name token as mate (first-mate), text password",
			"send a user name token as a user that you type now, text password",
		},
		titles,
		"digest first; text over TLS only",
	)
	c = answered(500, "text/xml", fault11("w:InvalidSecurity", "no security header found", ""))
	c.Identities = []Identity{{Name: "desk", User: "berth-desk"}}
	assert.Len(t, Run(c)[0].Remedies, 2, "no text password without TLS")
	c = answered(500, "text/xml", fault11("w:FailedAuthentication", "no", ""), "token", "digest", "identity", "desk")
	assert.Equal(t, "text", Run(c)[0].Remedies[0].Change.To)
}

func TestStatusesWithoutAnAnswer(t *testing.T) {
	page := "<html><head><title>Wreck &amp; salvage</title></head></html>"
	for status, want := range map[int]string{301: "receive.redirected", 307: "receive.redirected",
		400: "receive.client-error", 401: "receive.unauthorized", 403: "receive.forbidden", 404: "receive.not-found",
		405: "receive.method-refused",
		413: "receive.too-large", 415: "receive.media-type-refused", 429: "receive.client-error",
		500: "receive.server-error", 501: "receive.server-error", 502: "receive.gateway", 503: "receive.gateway",
		504: "receive.gateway", 200: "receive.not-soap"} {
		fs := Run(answered(status, "text/html", page))
		assert.Equal(t, want, ids(fs), status)
		if status != 301 && status != 307 && status != 415 {
			assert.Contains(t, fs[0].Why, "“Wreck & salvage”", "the page's title is quoted: %d", status)
		}
	}
	f := Run(
		answered(
			400,
			"text/html",
			"<html><head><title>400 No required SSL certificate was sent</title></head></html>",
		),
	)
	assert.Equal(t, "tls.client-certificate-required", ids(f), "a front server's page is about the certificate")
	assert.Equal(t, exchange.TLS, f[0].Stage)
	f = Run(
		answered(400, "text/html", "<html><title>400 The plain HTTP request was sent to HTTPS port</title></html>"),
	)
	assert.Equal(t, "send.plain-to-tls", ids(f))
	assert.Equal(t, "https://quay.skerry.test/berths", f[0].Remedies[0].Change.To)
}

func TestWithLessEvidenceAFindingIsNeverAnotherCause(t *testing.T) {
	// A fault without its reason, without its code, and without both.
	for _, f := range []string{fault11("w:FailedAuthentication", "", ""), fault11("", "authentication failed", ""),
		fault11("",
			"", "")} {
		got := ids(Run(answered(500, "text/xml", f, "token", "digest")))
		assert.Contains(t, []string{"read.fault-security-refused", "read.fault-server"}, got)
	}
	// A page whose words are gone is still what its status says, no more.
	assert.Equal(t, "receive.client-error", ids(Run(answered(400, "text/html", "<html></html>"))))
	// An oversize reply that does not announce its size.
	c := answered(200, "text/xml", "<a/>", "receive-limit", "65536")
	c.Err = &wire.Error{Reason: wire.OverLimit, Got: 65536, Announced: -1, Limit: 65536}
	f := Run(c)[0]
	assert.Equal(t, "receive.over-limit", f.ID)
	assert.Contains(t, f.Why, "does not announce its size")
}

func TestOrder(t *testing.T) {
	warn := func(id string, s exchange.Stage) exchange.Finding {
		return exchange.Finding{ID: id, Stage: s, Severity: exchange.Warn}
	}
	stop := func(id string, s exchange.Stage) exchange.Finding {
		return exchange.Finding{ID: id, Stage: s, Severity: exchange.Stop}
	}
	for _, c := range []struct {
		in   []exchange.Finding
		want string
	}{
		{[]exchange.Finding{warn("message.invalid", exchange.Message), stop("read.fault-client", exchange.Read)},
			"read.fault-client message.invalid"},
		{[]exchange.Finding{warn("message.invalid", exchange.Message), stop("connect.refused", exchange.Connect)},
			"connect.refused message.invalid"},
		{[]exchange.Finding{stop("tls.name-differs", exchange.TLS), stop("tls.expired", exchange.TLS),
			stop("tls.self-signed", exchange.TLS)},
			"tls.self-signed tls.expired tls.name-differs"},
		{[]exchange.Finding{warn("read.fault-hidden", exchange.Read), warn("message.invalid", exchange.Message)},
			"message.invalid read.fault-hidden"},
		{[]exchange.Finding{warn("binding.buffer-differs", exchange.Binding), stop("receive.over-buffer",
			exchange.Receive)},
			"binding.buffer-differs receive.over-buffer"},
	} {
		got := (&Case{X: &exchange.Exchange{}}).judge(c.in)
		assert.Equal(t, c.want, ids(got))
		if c.want == "read.fault-client message.invalid" { // nothing proves it: it may be
			assert.Equal(t, exchange.ByAnswer, got[0].By)
			assert.Equal(t, "message.invalid", got[0].Hypotheses[0].ID)
		}
	}
}

func TestNumbersAreWrittenForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1 000", 65536: "65 536", 1482113: "1 482 113"} {
		assert.Equal(t, want, endpoint.Bytes(n))
	}
}

// The address that a description gives is doubted for reasons that are told,
// and taken where the description itself came from there.
func TestTheAddressOfTheDescriptionIsDoubted(t *testing.T) {
	for _, k := range []struct{ address, served, why, instead string }{
		{"http://localhost:8080/berths", "quay.skerry.test:80", "it names the machine itself",
			"http://quay.skerry.test:80/berths"},
		{"http://127.0.0.1/berths", "", "it names the machine itself", ""},
		{"http://[::1]:81/berths", "", "it names the machine itself", ""},
		{"https://berths.skerry.example/berths", "", "its host is of a kind that is never reachable", ""},
		{"http://berthhost/berths", "", "its host is a single label, known only where the service runs", ""},
		{"https://old.skerry.org/berths", "quay.skerry.org:443", "another host, quay.skerry.org:443, served the " +
			"description", "https://quay.skerry.org:443/berths"},
		{"https://localhost/berths", "tides.skerry.org:80", "it names the machine itself",
			""}, // it was served over http: no remedy leaves TLS
		{"https://127.0.0.1:8443/berths", "127.0.0.1:8080", "", ""}, // another port of the same host
		{"https://localhost:8443/berths", "127.0.0.1:8080", "", ""},
		{"http://quay.skerry.org/berths", "", "", ""},
		{"http://quay.skerry.org/berths", "quay.skerry.org:80", "", ""},
		{"http://quay.skerry.org/berths", "quay.skerry.org:8080", "", ""},
		{"http://127.0.0.1:8080/berths", "127.0.0.1:8080", "", ""},
	} {
		c := stopped(nil)
		c.Contract, c.Served = &contract.Contract{Source: "http://tides.skerry.org/berths?wsdl"}, k.served
		c.Port = &contract.Port{Name: "BerthDesk11", Address: k.address}
		c.Settings.Layers = append(
			c.Settings.Layers[:0],
			endpoint.Layer{Source: "contract", Values: map[string][]string{"address": {k.address}, "soap": {"1.1"}}},
		)
		fs := fromContract(c)
		if k.why == "" {
			assert.Empty(t, fs, k.address)
			continue
		}
		require.Len(t, fs, 1, k.address)
		assert.Contains(t, fs[0].Why, k.why)
		assert.Contains(t, fs[0].Evidence[0].Excerpt, k.address)
		if k.instead == "" {
			assert.Empty(t, fs[0].Remedies)
			continue
		}
		require.Len(t, fs[0].Remedies, 1)
		assert.Equal(t, k.instead, fs[0].Remedies[0].Change.To)
		c.Settings.Layers[0].Source = "endpoint"
		assert.Empty(t, fromContract(c), "what the person set is not doubted")
	}
}

// Bytes that are no text are told by their kind, not quoted.
func TestBytesThatAreNoText(t *testing.T) {
	zipped := "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03\xb3\xc9"
	for _, c := range []struct{ media, body, want string }{
		{"application/octet-stream", zipped, "It is compressed (gzip), and the head does not say so"},
		{"text/xml", zipped, "It is compressed (gzip), and the head does not say so"},
		{"application/octet-stream", "%PDF-1.7\n%\xe2\xe3\xcf\xd3\x00", "the answer is a PDF file"},
		{"text/xml", "PK\x03\x04\x14\x00\x00", "the answer is a ZIP file"},
		{"application/octet-stream", "\x00\x01\x02\x03\xff\xfe", "It is not text: 00 01 02 03 ff fe"},
	} {
		f := Run(answered(200, c.media, c.body))
		require.NotEmpty(t, f, "%q", c.body)
		assert.Equal(t, "receive.not-soap", f[0].ID)
		assert.Contains(t, f[0].Title+". "+f[0].Why, c.want, "%q", c.body)
		assert.NotContains(t, f[0].Why, "It says")
	}
	assert.NotContains(t, Run(answered(200, "text/xml", "<a>&x;</a>"))[0].Why, "It is")
	assert.NotContains(t, Run(answered(200, "text/xml", "<a>\u00e9"))[0].Why, "It is")
	assert.NotContains(t, Run(answered(200, "text/xml", "<a>\x01</a>"))[0].Why, "It is")
}
