package call

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

// berthPlan is a plan for the berth desk that asks for its answer later.
func berthPlan(t *testing.T, h *standin.Harbour, more ...string) Plan {
	t.Helper()
	f, err := Fetch(t.Context(), "http://"+h.Plain+"/berths?wsdl", Plan{Agent: "test"}, nil)
	require.NoError(t, err)
	p := Plan{Agent: "test", Contract: f.Contract, Port: f.Contract.Port("BerthDesk11"), Operation: "FindBerths", Endpoint: "berths"}
	p.Settings.Set("address", "http://"+h.Plain+"/berths")
	p.Settings.Set("soap", "1.1")
	p.Settings.Set("reply-to", "here")
	p.Settings.Set("answer-time", "700ms")
	for i := 0; i+1 < len(more); i += 2 {
		p.Settings.Set(more[i], more[i+1])
	}
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`))
	return p
}

func cause(x *exchange.Exchange) string {
	if c := x.Cause(); c != nil {
		return c.ID
	}
	return ""
}

// An answer that comes over a connection of the service's own is the second leg of the same path.
func TestAnAnswerThatComesLater(t *testing.T) {
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	defer h.Close()
	x := New(berthPlan(t, h), nil).Run(t.Context())
	require.Equal(t, exchange.OutcomePassed, x.Outcome, x.Result)
	require.Len(t, x.Legs, 2)
	assert.Equal(t, 202, x.Legs[0].Response.Status)
	assert.Equal(t, "answer that came later", x.Legs[1].Purpose)
	assert.Contains(t, string(x.Legs[1].In.Bytes()), "RelatesTo")
	assert.Regexp(t, `(?s)<wsa:ReplyTo.*http://127\.0\.0\.1:\d+/\w{20,}.*<wsa:FaultTo`, string(x.Legs[0].RequestBody))
	assert.Contains(t, x.Result, "berth")
	assert.Greater(t, x.Stage(exchange.Wait).DurationNs, int64(10*time.Millisecond), "the wait is that for the answer")
	again := x.Clone()
	assert.NotNil(t, again.Seen.Later)

	// A fault comes later too, and stops at read.
	p := berthPlan(t, h)
	p.AsItIs = true
	p.Settings.Set("validate", "false")
	p.SetDraft([]byte(`<FindBerths xmlns="urn:skerry:berths"><length>9000</length></FindBerths>`))
	x = New(p, nil).Run(t.Context())
	assert.Equal(t, exchange.Read, x.StoppedAt, x.Result)
	assert.True(t, strings.HasPrefix(cause(x), "read.fault"), cause(x))
}

func TestAnAnswerThatDoesNotComeLater(t *testing.T) {
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	defer h.Close()
	x := New(berthPlan(t, h, "address", "http://"+h.Plain+"/berths/~wait.answer-missing"), nil).Run(t.Context())
	assert.Equal(t, exchange.Wait, x.StoppedAt)
	require.Equal(t, "wait.answer-missing", cause(x))
	assert.Contains(t, x.Findings[0].Why, "Nothing came to the listener at 127.0.0.1:")

	x = New(berthPlan(t, h, "address", "http://"+h.Plain+"/berths/~wait.answer-early"), nil).Run(t.Context())
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, x.Result)
	assert.Equal(t, "wait.answer-early", x.Findings[0].ID)

	// What comes for another message, or to another place, is told.
	id := regexp.MustCompile(`<wsa:Address>([^<]*)</wsa:Address>`)
	for what, reply := range map[string]func(to string){
		"it relates to another message (urn:other)": func(to string) {
			post(to, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><a:RelatesTo xmlns:a="http://www.w3.org/2005/08/addressing">`+
				`urn:other</a:RelatesTo></s:Header><s:Body/></s:Envelope>`)
		},
		"called /elsewhere: another path": func(to string) { post(to[:strings.LastIndex(to, "/")]+"/elsewhere", "<x/>") },
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			b, _ := io.ReadAll(r.Body)
			w.WriteHeader(http.StatusAccepted)
			go reply(string(id.FindSubmatch(b)[1]))
		}))
		x := New(berthPlan(t, h, "address", s.URL+"/"), nil).Run(t.Context())
		s.Close()
		require.Equal(t, "wait.answer-missing", cause(x), what)
		assert.Contains(t, x.Findings[0].Why, what)
		assert.Equal(t, exchange.Theirs, x.Findings[0].Side)
	}

	// Where to listen is said wrongly, or by somebody who may not.
	for _, bad := range [][]string{{"reply-to", "quay"}, {"reply-to", "http://quay.skerry.test/x"}, {"reply-listen", "nowhere:x"}} {
		x := New(berthPlan(t, h, bad...), nil).Run(t.Context())
		assert.Equal(t, exchange.Binding, x.StoppedAt, bad)
		assert.Equal(t, "binding.value-invalid", cause(x), bad)
	}
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	x = New(berthPlan(t, h, "address", "http://"+h.Plain+"/berths/~wait.answer-missing", "answer-time", "30s"), nil).Run(ctx)
	assert.Equal(t, exchange.OutcomeCancelled, x.Outcome)
}

func post(to, body string) {
	if r, err := http.Post(to, "text/xml", strings.NewReader(body)); err == nil {
		r.Body.Close()
	}
}

// An address of this machine without a port is one of this machine too.
func TestAnAnswerAtTheUsualPort(t *testing.T) {
	var p Plan
	p.Settings.Set("reply-to", "http://localhost/back")
	b, err := openLater(&p)
	if err != nil { // the port is taken, or this user may not listen there
		require.ErrorContains(t, err, "127.0.0.1:80")
		return
	}
	defer b.close()
	assert.Equal(t, "127.0.0.1:80", b.l.Addr().String())
}

// listening signs for listeners by an authority of its own, as a workspace does.
func listening(t *testing.T) (of func(string) (tls.Certificate, string, error), pool *x509.CertPool) {
	t.Helper()
	a, err := trust.Issue(trust.Wish{Name: "here", Authority: true, Within: []string{"127.0.0.1", "localhost"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	pool = x509.NewCertPool()
	pool.AddCert(a.Cert)
	return func(host string) (tls.Certificate, string, error) {
		c, err := a.Serve([]string{host}, time.Now())
		return c, "/home/ines/authority.crt", err
	}, pool
}

// callsBack is a service that takes a message and calls back with an empty answer.
func callsBack(t *testing.T, c *http.Client) string {
	id, to := regexp.MustCompile(`MessageID[^>]*>([^<]*)<`), regexp.MustCompile(`<wsa:Address>([^<]*)<`)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		w.WriteHeader(http.StatusAccepted)
		message, address := string(id.FindSubmatch(b)[1]), string(to.FindSubmatch(b)[1])
		go func() {
			r, err := c.Post(address, "text/xml", strings.NewReader(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header>`+
				`<a:RelatesTo xmlns:a="http://www.w3.org/2005/08/addressing">`+message+`</a:RelatesTo></s:Header><s:Body>`+
				`<FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`))
			if err == nil {
				r.Body.Close()
			}
		}()
	}))
	t.Cleanup(s.Close)
	return s.URL + "/"
}

// The answer may come over TLS, by a certificate of the local authority; who does not trust it is told apart.
func TestAnAnswerThatComesLaterOverTLS(t *testing.T) {
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	defer h.Close()
	of, pool := listening(t)
	trusting := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: pool}}}
	p := berthPlan(t, h, "address", callsBack(t, trusting), "reply-tls", "always", "answer-time", "5s", "validate", "false")
	p.Listening = of
	x := New(p, nil).Run(t.Context())
	require.Len(t, x.Legs, 2, x.Result)
	assert.Regexp(t, `https://127\.0\.0\.1:\d+/`, string(x.Legs[0].RequestBody))
	assert.Equal(t, "/home/ines/authority.crt", x.Stage(exchange.Binding).Facts.Get("the service has to trust"))

	// An https address asks for it by itself.
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := "https://" + free.Addr().String() + "/back"
	free.Close()
	p.Settings.Set("reply-tls", "as-addressed")
	p.Settings.Set("reply-to", at)
	x = New(p, nil).Run(t.Context())
	require.Len(t, x.Legs, 2, x.Result)

	p.Settings.Set("address", callsBack(t, &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}))
	p.Settings.Set("answer-time", "700ms")
	x = New(p, nil).Run(t.Context())
	require.Equal(t, "wait.answer-missing", cause(x))
	assert.Contains(t, x.Findings[0].Why, "its TLS handshake failed")
	assert.Contains(t, x.Findings[0].Program, "/home/ines/authority.crt")

	p.Listening = nil
	x = New(p, nil).Run(t.Context())
	assert.Equal(t, "binding.value-invalid", cause(x))
}

// Whether the listener is reached is tried from this machine, and the answer says from where.
func TestTheListenerIsTried(t *testing.T) {
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	defer h.Close()
	silent := "http://" + h.Plain + "/berths/~wait.answer-missing"
	tried := func(p Plan) exchange.Hypothesis {
		x := New(p, nil).Run(t.Context())
		require.Equal(t, "wait.answer-missing", cause(x), x.Result)
		x = Check(t.Context(), p, x)
		for _, k := range x.Findings[0].Hypotheses {
			if k.ID == "not-reached" {
				return k
			}
		}
		require.Fail(t, "there is no such possibility")
		return exchange.Hypothesis{}
	}
	k := tried(berthPlan(t, h, "address", silent))
	assert.Regexp(t, `^tried from 127\.0\.0\.1:\d+, on this machine: http://127\.0\.0\.1:\d+/\w+ leads to the listener`, k.Answer)
	assert.Empty(t, k.Verdict, "the service's network is another")

	p := berthPlan(t, h, "address", silent, "reply-tls", "always")
	p.Listening, _ = listening(t)
	assert.Contains(t, tried(p).Answer, "leads to the listener")

	other := httptest.NewServer(http.NotFoundHandler())
	defer other.Close()
	p = berthPlan(t, h, "address", silent, "reply-to", other.URL+"/back", "reply-listen", "127.0.0.1:0")
	k = tried(p)
	assert.Equal(t, exchange.Confirmed, k.Verdict)
	assert.Contains(t, k.Answer, "another program answers at 127.0.0.1:")

	other.Close()
	k = tried(p)
	assert.Equal(t, exchange.Confirmed, k.Verdict)
	assert.Contains(t, k.Answer, "connection refused")
}
