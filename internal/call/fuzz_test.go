package call_test

import (
	"bufio"
	"encoding/json"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/safe"
	"orenda/internal/soap"
	"orenda/internal/standin"
)

// FuzzReply answers a call with any bytes at all, over a real socket. Whatever
// they are, the call ends, is explained where it stopped, can be kept and told,
// and points only at bytes that are there.
func FuzzReply(f *testing.F) {
	h, err := standin.Start(standin.Options{})
	require.NoError(f, err)
	f.Cleanup(h.Close)
	plan := berths(f, h, "/berths")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(f, err)
	f.Cleanup(func() { l.Close() })
	answers := make(chan []byte, 1)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			if req, err := http.ReadRequest(bufio.NewReader(conn)); err == nil {
				req.Body.Close()
			}
			_, _ = conn.Write(<-answers)
			_ = conn.(*net.TCPConn).CloseWrite()
			conn.Close()
		}
	}()
	plan.Settings.Set("address", "http://"+l.Addr().String()+"/berths")
	for name, value := range map[string]string{"answer-time": "2s", "receive-time": "2s", "total-time": "15s",
		"connect-time": "2s", "send-time": "2s", "receive-limit": "64 KiB", "inflated-limit": "256 KiB",
		"compression": "any"} {
		plan.Settings.Set(name, value)
	}

	body := `<s:Envelope xmlns:s="` + soap.V11.Namespace() +
		`"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"><berth free="true"><code>N07</code><length>40</length><depth>3</depth><quay>north</quay></berth></FindBerthsResponse></s:Body></s:Envelope>`
	fault := `<s:Envelope xmlns:s="` + soap.V11.Namespace() +
		`"><s:Body><s:Fault><faultcode>s:Server</faultcode><faultstring>no ` + "\x1b[2J" +
		`</faultstring><detail>caused by: x</detail></s:Fault></s:Body></s:Envelope>`
	for _, head := range []string{"HTTP/1.1 200 OK\r\n", "HTTP/1.1 500 \x1b]0;x\a\r\n", "HTTP/1.0 401 " +
		"No\r\nWWW-Authenticate: Digest realm=\"a\", nonce=\"b\", qop=\"auth\"\r\n", "HTTP/1.1 302 " +
		"Found\r\nLocation: ///\r\n", "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\n"} {
		for _, b := range []string{body, fault, "", "<html><title>\x1b[31m</title>", "\xff\xfe<\x00a\x00/\x00>\x00",
			"<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"} {
			f.Add([]byte(head + "Content-Type: text/xml\r\n\r\n" + b))
			f.Add(
				[]byte(head + "Content-Type: application/soap+xml; charset=utf-16\r\nContent-Length: 9999\r\n\r\n" + b),
			)
			f.Add(
				[]byte(
					head + "Content-Encoding: gzip\r\nTransfer-Encoding: " +
						"chunked\r\n\r\n5\r\n\x1f\x8b\x08\x00\x00\r\n0\r\n\r\n" + b,
				),
			)
		}
	}
	for _, b := range []string{
		reply("200 OK", asXML, "", `<s:Envelope xmlns:s="`+soap.NS11+`"/>`),
		reply("200 OK", asXML, "", `<s:Envelope xmlns:s="`+soap.NS11+`"><t:Body xmlns:t="`+soap.NS12+`"/></s:Envelope>`),
		reply("200 OK", asXML, "", inEnvelope(soap.NS11, "<s:Header><s:Fault/></s:Header>", "")),
		reply("200 OK", asXML, "", inEnvelope(soap.NS11, "", "<Fault/>"+find)),
		reply("500 Internal Server Error", asXML, "", `<s:Fault xmlns:s="`+soap.NS11+`"/>`),
		reply("200 OK", asXML, "Content-Length: 5\r\nContent-Length: x\r\nX-A : b\r\n c\r\n", body),
		reply("200 OK", "text/xml; charset=ISO-8859-1", "", body+"\u00f6\x00"),
		reply("200 OK", asXML, "", "10\r\n"+body) + "HTTP/1.1 200 OK\r\n",
		reply("200 OK", asXML, "", "--q\r\nContent-Type: text/xml\r\n\r\n"+body+"\r\n--q--"),
		"\r\n" + reply("200 OK", asXML, "", body), "HTTP/1.1 102 a\r\n\r\n",
	} {
		f.Add([]byte(b))
	}
	f.Fuzz(func(t *testing.T, answer []byte) {
		for len(answers) > 0 {
			<-answers // the one before was not asked for
		}
		answers <- answer
		began := time.Now()
		x := run(t, plan)
		require.Empty(t, answers, "%v", x.Findings)
		assert.Less(t, time.Since(began), 20*time.Second)
		sound(t, x)
	})
}

// sound is what holds of every exchange, whatever bytes crossed.
func sound(t *testing.T, x *exchange.Exchange) {
	t.Helper()
	require.NotEqual(t, exchange.OutcomeUnderWay, x.Outcome)
	if x.Outcome == exchange.OutcomeStopped {
		require.NotEmpty(t, x.Findings, "stopped at %s and nothing says why", x.StoppedAt)
		assert.NotEmpty(t, x.Result)
	}
	l := x.Leg()
	for _, f := range x.Findings {
		assert.NotEmpty(t, f.Title, f.ID)
		assert.NotEmpty(t, f.Why, f.ID)
		for _, e := range f.Evidence {
			size := int64(-1)
			switch {
			case l == nil:
			case e.In == exchange.InResponseBody:
				size = l.ResponseBody.Len()
			case e.In == exchange.InResponseHead:
				size = l.In.Len()
			}
			if size >= 0 {
				assert.GreaterOrEqual(t, e.Offset, int64(0), f.ID)
				assert.LessOrEqual(t, e.Offset+e.Length, size, f.ID)
			}
		}
	}
	told, err := safe.JSON(x.Redact(nil).Report(true))
	require.NoError(t, err)
	require.True(t, json.Valid(told))
	require.True(t, utf8.Valid(told))
	assert.NotContains(t, string(told), "\x1b")
	kept, err := x.Marshal()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(kept, new(exchange.Exchange)))
	for _, f := range x.Findings {
		assert.False(t, strings.ContainsAny(safe.Line(f.Title+f.Why), "\x1b\x07\n"))
	}
}

// FuzzWitnessed explains any request and any reply of another program. Whatever
// they are, the explanation is whole, asks nothing, sends nothing, and can be
// handed over.
func FuzzWitnessed(f *testing.F) {
	h, err := standin.Start(standin.Options{})
	require.NoError(f, err)
	f.Cleanup(h.Close)
	plan := berths(f, h, "/berths")
	ask := `<s:Envelope xmlns:s="` + soap.V11.Namespace() +
		`"><s:Body><FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths></s:Body></s:Envelope>`
	fault := `<s:Envelope xmlns:s="` + soap.V11.Namespace() +
		`"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no ` + "\x1b[2J" +
		`</faultstring></s:Fault></s:Body></s:Envelope>`
	for _, req := range []string{"", ask, "POST /berths HTTP/1.1\r\nHost: berths.skerry.test\r\nSOAPAction: " +
		"\"\"\r\nContent-Type: text/xml\r\n\r\n" + ask, "POST http://[::1 HTTP/1.1\nHost: ${x}\n\n<a",
		"GET / HTTP/9\r\n\r\n", "--x\r\n\r\n" + ask + "\r\n--x--"} {
		for _, rep := range []string{"", fault, "HTTP/1.1 500 No\r\nContent-Length: 3\r\n\r\n" + fault,
			"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nffffffffffffffff\r\n",
			"HTTP/1.1 200\n\n<html><title>x</title>", "HTTP/1.1 100 Continue\r\n\r\n"} {
			f.Add([]byte(req), []byte(rep), true)
			f.Add([]byte(req), []byte(rep), false)
		}
	}
	f.Fuzz(func(t *testing.T, request, reply []byte, archive bool) {
		var all []*call.Imported
		if archive {
			entries, err := call.FromHAR(request)
			if err != nil {
				text, _ := json.Marshal(
					map[string]any{"log": map[string]any{"version": "1.2", "entries": []any{map[string]any{
						"request": map[string]any{
							"method":   "POST",
							"url":      string(request[:min(len(request), 40)]),
							"postData": map[string]any{"text": string(request)},
						},
						"response": map[string]any{
							"status":     len(reply),
							"statusText": string(reply[:min(len(reply), 9)]),
							"content":    map[string]any{"text": string(reply)},
						}}}}},
				)
				entries, err = call.FromHAR(text)
				require.NoError(t, err)
			}
			for _, e := range entries {
				all = append(all, e.Imported)
			}
		} else if w, err := call.ImportedFrom(request, reply); err == nil {
			all = append(all, w)
		}
		for _, w := range all {
			x := call.Explain(t.Context(), plan, w)
			sound(t, x)
			for _, f := range x.Findings {
				assert.Empty(t, f.Remedies, f.ID)
			}
			assert.NotContains(t, handover.Ticket(x).Markdown(), "\x1b")
			assert.NotContains(t, handover.Settings(x, nil, nil).Markdown(), "\x1b")
		}
	})
}
