package call_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// server is the address of a server that answers so.
func server(t *testing.T, answer http.HandlerFunc) string {
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	return s.URL
}

// Each way in which a request can be sent is taken by the stand-in, and shows in
// the bytes that left.
func TestWaysToSend(t *testing.T) {
	h := harbour(t)
	for _, c := range []struct {
		set   []string
		sent  []string
		other func(t *testing.T, x *exchange.Exchange)
	}{
		{set: []string{"transfer", "chunked"}, sent: []string{"\r\nTransfer-Encoding: chunked\r\n", "\r\n0\r\n\r\n"},
			other: func(t *testing.T, x *exchange.Exchange) {
				assert.NotContains(t, string(x.Leg().Out), "Content-Length")
				assert.True(t, bytes.HasPrefix(x.Leg().RequestBody, []byte("<?xml")), "the body is kept without the "+
					"chunks")
			}},
		{set: []string{"expect-continue", "true"}, sent: []string{"\r\nExpect: 100-continue\r\n"},
			other: func(t *testing.T, x *exchange.Exchange) {
				assert.Equal(t, "HTTP/1.1 100 Continue", x.Stage(exchange.Send).Facts.Get("interim answer"))
				assert.Equal(t, 200, x.Leg().Response.Status)
				pieces := 0
				for _, m := range x.Moments {
					if m.Kind == exchange.BytesOut {
						pieces++
					}
				}
				assert.Equal(t, 2, pieces, "head and body left apart")
			}},
		{set: []string{"compression", "gzip"}, sent: []string{"\r\nAccept-Encoding: gzip\r\n"},
			other: func(t *testing.T, x *exchange.Exchange) {
				assert.Equal(t, "gzip", x.Leg().Response.Coding)
			}},
		{set: []string{"compression", "deflate"}, other: func(t *testing.T, x *exchange.Exchange) {
			assert.Equal(t,
				"deflate", x.Leg().Response.Coding)
		}},
		{set: []string{"charset", "iso-8859-1"}, sent: []string{"charset=iso-8859-1", `encoding="iso-8859-1"`}},
		{set: []string{"charset", "utf-16"}, sent: []string{"charset=utf-16", "\xfe\xff\x00<\x00?"}},
		{set: []string{"keep-alive", "true"}, other: func(t *testing.T, x *exchange.Exchange) {
			assert.NotContains(t, string(x.Leg().Out),
				"Connection:")
		}},
		{set: []string{"addressing", "1.0"},
			sent: []string{"<wsa:To xmlns:wsa=\"http://www.w3.org/2005/08/addressing\">http://" + h.Plain +
				"/berths</wsa:To>",
				"urn:skerry:berths:FindBerths</wsa:Action>", ">urn:uuid:",
				"<wsa:Address>http://www.w3.org/2005/08/addressing/anonymous</wsa:Address>"}, other: func(t *testing.T,
				x *exchange.Exchange) {
				assert.Contains(t, string(x.Leg().In.Bytes()), "RelatesTo")
			}},
		{set: []string{"addressing", "2004/08"},
			sent: []string{"http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous"}},
		{set: []string{"action", "none", "header", "SOAPAction: \"urn:skerry:berths:FindBerths\""},
			sent: []string{"\r\nSOAPAction: \"urn:skerry:berths:FindBerths\"\r\n"}},
	} {
		t.Run(strings.Join(c.set[:2], " "), func(t *testing.T) {
			p := berths(t, h, "/berths")
			for i := 0; i < len(c.set); i += 2 {
				p.Settings.Set(c.set[i], c.set[i+1])
			}
			x := run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
			assert.Equal(t, "4 × berth · code N02", x.Result)
			for _, f := range x.Findings {
				assert.Equal(t, "binding.action-differs", f.ID)
			}
			for _, s := range c.sent {
				assert.Contains(t, string(x.Leg().Out), s)
			}
			if c.other != nil {
				c.other(t, x)
			}
		})
	}
}

// A password keeps its place in every encoding and between chunks: it is cut
// out of what is kept, and of nothing else.
func TestSecretsKeepTheirPlace(t *testing.T) {
	h := harbour(t)
	for _, set := range [][]string{{"charset", "utf-16"}, {"charset", "iso-8859-1"}, {"transfer", "chunked"},
		{"charset",
			"utf-16", "transfer", "chunked"}} {
		p := berths(t, h, "/berths")
		p.SetDraft(
			[]byte(
				"<FindBerths xmlns=\"urn:skerry:berths\"><length>20</length><!--" + strings.Repeat(
					"Größe € 𝄞 ",
					1500,
				) + "--></FindBerths>",
			),
		)
		p.Settings.Set("token", "text")
		p.Settings.Set("identity", "desk")
		for i := 0; i < len(set); i += 2 {
			p.Settings.Set(set[i], set[i+1])
		}
		t.Setenv("DESK_WORD", "wörd-of-the-desk")
		p.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD"}, nil
		}
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%v %+v", set, x.Findings)
		l := x.Leg()
		require.NotEmpty(t, l.SecretSpans)
		kept := x.Redact(nil).Leg()
		changed := func(a, b []byte) (n int) {
			for i := range a {
				if a[i] != b[i] {
					n++
				}
			}
			return n
		}
		length := 0
		for _, s := range l.BodySecrets {
			length += int(s.Length)
		}
		assert.Equal(t, length, changed(l.RequestBody, kept.RequestBody), "%v", set)
		assert.Equal(t, length, changed(l.Out, kept.Out), "%v", set)
		d, err := xmltree.ParseEncoded(l.RequestBody, "", xmltree.Limits{})
		require.NoError(t, err)
		assert.Contains(t, string(d.Src), "wörd-of-the-desk")
		d, err = xmltree.ParseEncoded(kept.RequestBody, "", xmltree.Limits{})
		if err == nil {
			assert.NotContains(t, string(d.Src), "desk</wsse:Password>")
		}
	}
}

func TestRedirectsAreNeverSilent(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~receive.redirected")
	assert.Equal(t, "receive.redirected", run(t, p).Findings[0].ID)
	p.Settings.Set("redirects", "follow")
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	require.Len(t, x.Legs, 2)
	assert.Equal(t, "redirect", x.Legs[1].Purpose)
	assert.True(t, strings.HasPrefix(string(x.Legs[1].Out), "POST /berths "), "it stays the POST that it was")
	assert.Equal(t, []string{"receive.redirect-followed"}, ids(x))
	assert.Equal(t, exchange.Note, x.Findings[0].Severity)
	assert.Equal(t, "http://"+h.Plain+"/berths", x.Findings[0].Remedies[0].All()[0].To)

	// What an identity gave is not carried to another host without leave.
	p.Settings.Set("http-auth", "bearer")
	p.Settings.Set("identity", "desk")
	t.Setenv("DESK_WORD", "token-of-the-desk")
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", Secret: "env:DESK_WORD"}, nil
	}
	went := 0
	other := server(t, func(w http.ResponseWriter, r *http.Request) { went++ })
	from := server(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other+"/berths", http.StatusTemporaryRedirect)
	})
	p.Settings.Set("address", from)
	p.Allowed = func(_, _, host, port string) bool { return strings.HasSuffix(from, host+":"+port) }
	x = run(t, p)
	assert.Equal(t, "receive.redirected", x.Findings[0].ID)
	assert.Zero(t, went)
	// Nor is what waits for a server to ask, and what a person wrote as a header.
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD"}, nil
	}
	p.Settings.Set("http-auth", "asked")
	assert.Equal(t, "receive.redirected", run(t, p).Findings[0].ID)
	p.Settings.Set("http-auth", "none")
	p.Settings.Set("header", "Cookie: berth=N07")
	assert.Equal(t, "receive.redirected", run(t, p).Findings[0].ID)
	assert.Zero(t, went)
	// And none ends the following but the number of steps.
	circle := ""
	circle = server(t, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, circle, http.StatusFound) })
	p = berths(t, h, "/berths")
	p.Settings.Set("redirects", "follow")
	p.Settings.Set("address", circle)
	x = run(t, p)
	assert.Equal(t, "receive.redirected", x.Findings[0].ID)
	assert.Len(t, x.Legs, 6)
}

// Extra headers may replace what would be sent, to see what happens; it is said.
func TestReplacedHeadersAreToldAloud(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("header", "Content-Type: text/plain", "X-Quay: 4")
	x := run(t, p)
	assert.Contains(t, ids(x), "send.header-replaced")
	assert.Contains(t, string(x.Leg().Out), "\r\nContent-Type: text/plain\r\n")
	assert.Contains(t, string(x.Leg().Out), "\r\nX-Quay: 4\r\n")
	assert.NotContains(t, string(x.Leg().Out), "text/xml")

	p.Settings.Set("header", "content-length: 5")
	p.Settings.Set("answer-time", "2s")
	x = run(t, p)
	assert.Equal(t, exchange.OutcomeStopped, x.Outcome)
	assert.Contains(t, ids(x), "send.header-replaced")
}

func TestVariablesStandInEverySetting(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Environment, p.Variables = "model", map[string]string{"quay": "4", "patience": "45s"}
	p.Settings.Set("header", "X-Quay: ${quay}", "X-Price: $$5", "X-Tide: ${tide:-ebb}")
	p.Settings.Set("answer-time", "${patience}")
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Contains(t, string(x.Leg().Out), "X-Quay: 4\r\nX-Price: $5\r\nX-Tide: ebb\r\n")
	for _, s := range x.Settings {
		switch s.Key {
		case "answer-time":
			assert.Equal(t, "45s", s.Value)
			assert.Equal(t, "${patience}", s.Template, "value and template stand side by side")
		case "total-time":
			assert.Empty(t, s.Template)
		}
	}
	p.Settings.Set("header", "X-Quay: ${Quay}")
	x = run(t, p)
	assert.Equal(t, []string{"address.variable-unset"}, ids(x))
	assert.Contains(t, x.Findings[0].Why, "`quay` is")
	assert.Equal(t, "header", x.Findings[0].Evidence[0].Key)
	assert.Equal(t, "endpoint.berths.header", x.Findings[0].Remedies[1].All()[0].Key)

	p.Settings.Set("header", "X-Quay: ${lantern}")
	p.Withheld = map[string]string{"lantern": "HARBOUR_LANTERN"}
	x = run(t, p)
	assert.Equal(t, []string{"address.variable-withheld"}, ids(x))
	assert.Equal(t, "allow.env:HARBOUR_LANTERN", x.Findings[0].Remedies[0].All()[0].Key)
}

func TestAddressingThatIsDemanded(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~read.fault-addressing")
	x := run(t, p)
	require.Equal(t, "read.fault-addressing", x.Findings[0].ID)
	c := x.Findings[0].Remedies[0].All()[0]
	assert.Equal(t, "1.0", c.To)
	p.Settings.Set("addressing", fmt.Sprint(c.To))
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
}

func TestLeaveThatIsRefused(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~receive.expectation-refused")
	p.Settings.Set("expect-continue", "true")
	x := run(t, p)
	assert.Equal(t, "receive.expectation-refused", x.Findings[0].ID)
	assert.NotContains(t, string(x.Leg().Out), "<soap:", "the body never left")
	assert.Equal(t, "false", x.Findings[0].Remedies[0].All()[0].To)
}

func TestAConnectionIsKept(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("keep-alive", "true")
	p.Pool = &wire.Pool{}
	defer p.Pool.Close()
	require.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
	x := run(t, p)
	assert.True(t, x.Leg().Conn.Reused)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
}

func TestNameLimit(t *testing.T) {
	var b strings.Builder
	for i := range 200 {
		fmt.Fprintf(&b, "<n%d/>", i)
	}
	at := server(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		fmt.Fprintf(
			w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><a>%s</a></s:Body></s:Envelope>`,
			b.String(),
		)
	})
	p := berths(t, harbour(t), "/berths")
	p.Settings.Set("address", at)
	p.Settings.Set("name-limit", "100")
	x := run(t, p)
	assert.Equal(t, "read.names-over-limit", x.Findings[0].ID)
	assert.Equal(t, exchange.Read, x.StoppedAt)
}
