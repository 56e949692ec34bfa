package call

import (
	"context"
	"io"
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
	b, err := openLater(&p.Settings)
	if err != nil { // the port is taken, or this user may not listen there
		require.ErrorContains(t, err, "127.0.0.1:80")
		return
	}
	defer b.close()
	assert.Equal(t, "127.0.0.1:80", b.l.Addr().String())
}
