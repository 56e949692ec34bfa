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

	"orenda/internal/exchange"
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
	for name, value := range map[string]string{"answer-time": "2s", "receive-time": "2s", "total-time": "15s", "connect-time": "2s", "send-time": "2s", "receive-limit": "64 KiB", "inflated-limit": "256 KiB", "compression": "any"} {
		plan.Settings.Set(name, value)
	}

	body := `<s:Envelope xmlns:s="` + soap.V11.Namespace() + `"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"><berth free="true"><code>N07</code><length>40</length><depth>3</depth><quay>north</quay></berth></FindBerthsResponse></s:Body></s:Envelope>`
	fault := `<s:Envelope xmlns:s="` + soap.V11.Namespace() + `"><s:Body><s:Fault><faultcode>s:Server</faultcode><faultstring>no ` + "\x1b[2J" + `</faultstring><detail>caused by: x</detail></s:Fault></s:Body></s:Envelope>`
	for _, head := range []string{"HTTP/1.1 200 OK\r\n", "HTTP/1.1 500 \x1b]0;x\a\r\n", "HTTP/1.0 401 No\r\nWWW-Authenticate: Digest realm=\"a\", nonce=\"b\", qop=\"auth\"\r\n", "HTTP/1.1 302 Found\r\nLocation: ///\r\n", "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\n"} {
		for _, b := range []string{body, fault, "", "<html><title>\x1b[31m</title>", "\xff\xfe<\x00a\x00/\x00>\x00", "<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"} {
			f.Add([]byte(head + "Content-Type: text/xml\r\n\r\n" + b))
			f.Add([]byte(head + "Content-Type: application/soap+xml; charset=utf-16\r\nContent-Length: 9999\r\n\r\n" + b))
			f.Add([]byte(head + "Content-Encoding: gzip\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n\x1f\x8b\x08\x00\x00\r\n0\r\n\r\n" + b))
		}
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
					size = int64(len(l.ResponseBody))
				case e.In == exchange.InResponseHead:
					size = int64(len(l.In))
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
	})
}
