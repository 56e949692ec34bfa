package wire

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// peer is a server that does with each connection what it is told.
func peer(t testing.TB, serve func(net.Conn)) (host, port string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	var conns []net.Conn
	go func() {
		defer close(done)
		var running []chan struct{}
		for {
			c, err := l.Accept()
			if err != nil {
				break
			}
			conns = append(conns, c)
			end := make(chan struct{})
			running = append(running, end)
			go func() { defer close(end); defer c.Close(); serve(c) }()
		}
		for _, r := range running {
			<-r
		}
	}()
	t.Cleanup(func() {
		l.Close()
		time.Sleep(time.Millisecond)
		for _, c := range conns {
			c.Close()
		}
		<-done
	})
	host, port, err = net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return host, port
}

// request reads one request, head and body.
func request(c net.Conn) (head string, body []byte) {
	var got []byte
	buf := make([]byte, 32<<10)
	for {
		if i := bytes.Index(got, []byte("\r\n\r\n")); i >= 0 {
			var n int
			for _, line := range strings.Split(string(got[:i]), "\r\n") {
				_, _ = fmt.Sscanf(line, "Content-Length: %d", &n)
			}
			for len(got) < i+4+n {
				k, err := c.Read(buf)
				got = append(got, buf[:k]...)
				if err != nil {
					return string(got[:i]), got[i+4:]
				}
			}
			return string(got[:i]), got[i+4:]
		}
		k, err := c.Read(buf)
		got = append(got, buf[:k]...)
		if err != nil {
			return string(got), nil
		}
	}
}

// says reads a request and answers with the pieces, each written by itself.
func says(pieces ...string) func(net.Conn) {
	return func(c net.Conn) {
		request(c)
		for _, p := range pieces {
			_, _ = c.Write([]byte(p))
			if len(pieces) > 1 {
				time.Sleep(3 * time.Millisecond)
			}
		}
	}
}

func config(host, port string) Config {
	return Config{
		Host:        host,
		Port:        port,
		ConnectTime: 5 * time.Second,
		SendTime:    5 * time.Second,
		AnswerTime:  5 * time.Second,
		ReceiveTime: 5 * time.Second,
	}
}

func do(t testing.TB, cfg Config, req Request) (*exchange.Leg, *exchange.Exchange, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	x := &exchange.Exchange{}
	rec := exchange.NewRecorder(x, nil)
	leg, err := Do(ctx, cfg, req, rec)
	return leg, x, err
}

func post(body string) Request {
	return Request{
		Method: "POST",
		Target: "/x?y=1",
		Header: [][2]string{
			{"Host", "h"},
			{"x-LOWER-Case", "kept as spelled"},
			{"Content-Length", fmt.Sprint(len(body))},
		},
		Body: []byte(body),
	}
}

func reason(err error) Reason {
	var e *Error
	if errors.As(err, &e) {
		return e.Reason
	}
	return Unknown
}

func TestTheRequestLeavesByteForByte(t *testing.T) {
	got := make(chan string, 1)
	host, port := peer(t, func(c net.Conn) {
		head, body := request(c)
		got <- head + "\r\n\r\n" + string(body)
		_, _ = c.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"))
	})
	leg, x, err := do(t, config(host, port), post("<ä/>"))
	require.NoError(t, err)
	want := "POST /x?y=1 HTTP/1.1\r\nHost: h\r\nx-LOWER-Case: kept as spelled\r\nContent-Length: 5\r\n\r\n<ä/>"
	assert.Equal(t, want, <-got)
	assert.Equal(t, want, string(leg.Out), "and it is recorded as it left")
	assert.Equal(t, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok", string(leg.In.Bytes()))
	assert.Equal(t, "ok", string(leg.ResponseBody.Bytes()))
	f := leg.Request.Field("X-Lower-Case")
	require.NotNil(t, f)
	assert.Equal(t, "x-LOWER-Case: kept as spelled", string(leg.Out[f.Span.Offset:f.Span.Offset+f.Span.Length]))
	var order []string
	for _, m := range x.Moments {
		switch m.Kind {
		case exchange.Connected, exchange.HandedOver, exchange.FirstByte, exchange.HeadComplete, exchange.Closed:
			order = append(order, string(m.Kind))
		}
	}
	assert.Equal(t, []string{"connected", "handed-over", "first-byte", "head-complete", "closed"}, order)
	for _, s := range []exchange.Stage{exchange.Connect, exchange.Send, exchange.Wait, exchange.Receive} {
		assert.Equal(t, exchange.Passed, x.Stage(s).State, s.String())
	}
	assert.Equal(t, exchange.Skipped, x.Stage(exchange.TLS).State)
}

func TestHeaderInjectionIsNotPossible(t *testing.T) {
	host, port := peer(t, says("HTTP/1.1 204 No Content\r\n\r\n"))
	r := post("")
	r.Header = append(r.Header, [2]string{"X-Note", "a\r\nX-Evil: b"})
	leg, _, err := do(t, config(host, port), r)
	require.NoError(t, err)
	assert.NotContains(t, string(leg.Out), "\nX-Evil")
}

func TestBodiesAreFramedAsTheStandardSays(t *testing.T) {
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	_, _ = w.Write([]byte(strings.Repeat("tide ", 100)))
	w.Close()
	for name, c := range map[string]struct {
		pieces []string
		body   string
		reason Reason
	}{
		"declared": {[]string{"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello"}, "hello", Unknown},
		"declared, in pieces": {[]string{"HT", "TP/1.1 200 OK\r\nContent-Le", "ngth: 5\r\n\r", "\nhe", "llo"},
			"hello", Unknown},
		"until closed":    {[]string{"HTTP/1.0 200 OK\r\n\r\nhello"}, "hello", Unknown},
		"bare line feeds": {[]string{"HTTP/1.1 200 OK\nContent-Length: 5\n\nhello"}, "hello", Unknown},
		"chunked": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n3\r\nhel\r\n2;ext=1\r\nlo\r\n0\r\nX-Trailer: 1\r\n\r\n"}, "hello", Unknown},
		"chunked, in pieces": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", "3", "\r\nh",
			"el\r", "\n2\r\nlo\r\n0", "\r\n\r\n"}, "hello", Unknown},
		"chunks win over size": {[]string{"HTTP/1.1 200 OK\r\nContent-Length: 99\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n"}, "hello", Unknown},
		"no content": {[]string{"HTTP/1.1 204 No Content\r\nContent-Length: 5\r\n\r\n"}, "", Unknown},
		"interim answers": {[]string{"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Early\r\nLink: " +
			"x\r\n\r\nHTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"}, "ok", Unknown},
		"folded field": {[]string{"HTTP/1.1 200 OK\r\nX-A: 1\r\n  2\r\nContent-Length: 2\r\n\r\nok"}, "ok",
			Unknown},
		"gzip": {[]string{"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: " +
			fmt.Sprint(z.Len()) + "\r\n\r\n" + z.String()}, strings.Repeat("tide ", 100), Unknown},
		"more than declared": {[]string{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok and more"}, "ok", Unknown},
		"too short":          {[]string{"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nhello"}, "hello", Truncated},
		"last chunk missing": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n"},
			"hello", Truncated},
		"no chunk size": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nhello\r\n"}, "", BadChunk},
		"negative chunk size": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n-5\r\nhello\r\n"},
			"", BadChunk},
		"chunk longer than said": {[]string{"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nhello\r\n"},
			"he", BadChunk},
		"head cut short": {[]string{"HTTP/1.1 200 OK\r\nContent-"}, "", Truncated},
		"not gzip": {[]string{"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: " +
			"5\r\n\r\nhello"}, "hello", BadCompression},
		"unknown coding": {[]string{"HTTP/1.1 200 OK\r\nContent-Encoding: br\r\nContent-Length: " +
			"5\r\n\r\nhello"}, "hello", BadCompression},
		"another protocol": {[]string{"220 radio ready\r\n"}, "", NotHTTP},
		"no status":        {[]string{"HTTP/1.1 fine\r\n\r\n"}, "", NotHTTP},
		"nothing":          {[]string{""}, "", AnswerClosed},
	} {
		t.Run(name, func(t *testing.T) {
			host, port := peer(t, says(c.pieces...))
			leg, _, err := do(t, config(host, port), post("<a/>"))
			if c.reason == Unknown {
				require.NoError(t, err)
				assert.True(t, leg.Response.BodyWhole)
			} else {
				assert.Equal(t, c.reason, reason(err))
			}
			assert.Equal(t, c.body, string(leg.ResponseBody.Bytes()))
			assert.Equal(t, strings.Join(c.pieces, ""), string(leg.In.Bytes()), "what came is recorded as it came")
		})
	}
}

func TestLimitsHoldToTheByte(t *testing.T) {
	big := strings.Repeat("0123456789", 50_000)
	for name, c := range map[string]struct {
		change func(*Config)
		head   string
		reason Reason
		got    int64
	}{
		"receive, announced": {func(c *Config) { c.ReceiveLimit = 1000 }, fmt.Sprintf("Content-Length: %d",
			len(big)), OverLimit, 1000},
		"receive, not announced": {func(c *Config) { c.ReceiveLimit = 1001 }, "Connection: close", OverLimit, 1001},
		"buffer": {func(c *Config) { c.ReceiveLimit, c.BufferLimit = 900_000, 777 },
			fmt.Sprintf("Content-Length: %d", len(big)), OverBuffer, 777},
		"exactly the limit": {func(c *Config) { c.ReceiveLimit = int64(len(big)) },
			fmt.Sprintf("Content-Length: %d", len(big)), Unknown, int64(len(big))},
	} {
		t.Run(name, func(t *testing.T) {
			host, port := peer(t, says("HTTP/1.1 200 OK\r\n"+c.head+"\r\n\r\n"+big))
			cfg := config(host, port)
			c.change(&cfg)
			leg, x, err := do(t, cfg, post("<a/>"))
			assert.EqualValues(t, c.got, int(leg.ResponseBody.Len()))
			if c.reason == Unknown {
				require.NoError(t, err)
				return
			}
			assert.Equal(t, c.reason, reason(err))
			assert.LessOrEqual(t, int(leg.In.Len()), int(c.got)+20<<10, "no more than 20 KiB are read ahead")
			fell := false
			for _, m := range x.Moments {
				fell = fell || m.Kind == exchange.LimitFell
			}
			assert.True(t, fell)
		})
	}
}

func TestABombIsNotInflated(t *testing.T) {
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	zeros := make([]byte, 1<<20)
	for range 50 {
		_, _ = w.Write(zeros)
	}
	w.Close()
	host, port := peer(
		t,
		says(
			fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: %d\r\n\r\n", z.Len())+z.String(),
		),
	)
	cfg := config(host, port)
	cfg.InflatedLimit = 1 << 20
	leg, _, err := do(t, cfg, post("<a/>"))
	assert.Equal(t, InflatedOverLimit, reason(err))
	assert.Len(t, leg.ResponseBody.Bytes(), 1<<20)
}

func TestAnEarlyRefusalIsRead(t *testing.T) {
	host, port := peer(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 1000))
		_, _ = c.Write([]byte("HTTP/1.1 413 Too Large\r\nContent-Length: 3\r\nConnection: close\r\n\r\nbig"))
		if tc, ok := c.(*net.TCPConn); ok {
			_ = tc.CloseWrite()
		}
		time.Sleep(100 * time.Millisecond) // and stops reading
	})
	leg, x, err := do(t, config(host, port), post(strings.Repeat("x", 20<<20)))
	require.NoError(t, err)
	assert.Equal(t, 413, leg.Response.Status)
	assert.Equal(t, "big", string(leg.ResponseBody.Bytes()))
	assert.Less(t, len(leg.Out), 20<<20)
	assert.Equal(t, exchange.Warned, x.Stage(exchange.Send).State)
}

func TestAPeerThatBreaksOffWhileTheRequestLeaves(t *testing.T) {
	host, port := peer(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 1000))
		if tc, ok := c.(*net.TCPConn); ok {
			_ = tc.SetLinger(0)
		}
	})
	_, _, err := do(t, config(host, port), post(strings.Repeat("x", 20<<20)))
	assert.Equal(t, SendReset, reason(err))
	var e *Error
	require.ErrorAs(t, err, &e)
	assert.Less(t, e.Got, e.Announced)
}

func TestAPeerThatStopsReading(t *testing.T) {
	hold := make(chan struct{})
	host, port := peer(t, func(net.Conn) { <-hold })
	t.Cleanup(func() { close(hold) })
	cfg := config(host, port)
	cfg.SendTime = 200 * time.Millisecond
	_, _, err := do(t, cfg, post(strings.Repeat("x", 30<<20)))
	assert.Equal(t, SendTimeout, reason(err))
}

func TestTimeLimits(t *testing.T) {
	silent := func(c net.Conn) { request(c); _, _ = c.Read(make([]byte, 1)) }
	for want, serve := range map[Reason]func(net.Conn){
		AnswerTimeout: silent,
		Stalled: func(c net.Conn) {
			request(c)
			_, _ = c.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nhal"))
			_, _ = c.Read(make([]byte, 1))
		},
	} {
		host, port := peer(t, serve)
		cfg := config(host, port)
		cfg.AnswerTime, cfg.ReceiveTime = 150*time.Millisecond, 150*time.Millisecond
		_, _, err := do(t, cfg, post("<a/>"))
		assert.Equal(t, want, reason(err))
	}
	host, port := peer(t, silent)
	ctx, cancel := context.WithTimeoutCause(context.Background(), 150*time.Millisecond, ErrTotalTime)
	defer cancel()
	_, err := Do(ctx, config(host, port), post("<a/>"), exchange.NewRecorder(&exchange.Exchange{}, nil))
	assert.Equal(t, AnswerTimeout, reason(err))
	assert.ErrorIs(t, err, ErrTotalTime)
}

func TestConnectionsAreKeptAndLookedAtBeforeTheyAreTaken(t *testing.T) {
	accepted := make(chan bool, 10)
	host, port := peer(t, func(c net.Conn) {
		accepted <- true
		for i := 0; ; i++ {
			if head, _ := request(c); head == "" {
				return
			}
			_, _ = c.Write([]byte("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"))
			if i == 1 {
				return // the second answer is the last on this connection
			}
		}
	})
	pool := &Pool{}
	defer pool.Close()
	cfg := config(host, port)
	cfg.Pool = pool
	var reused []bool
	for range 3 {
		leg, _, err := do(t, cfg, post("<a/>"))
		require.NoError(t, err, "a connection that the peer closed is never used")
		reused = append(reused, leg.Conn.Reused)
		time.Sleep(30 * time.Millisecond)
	}
	assert.Equal(t, []bool{false, true, false}, reused)
	assert.Len(t, accepted, 2)
}

func issue(t testing.TB, w trust.Wish) *trust.Pair {
	p, err := trust.Issue(w)
	require.NoError(t, err)
	return p
}

// secure is a TLS peer.
func secure(t testing.TB, conf *tls.Config, serve func(net.Conn)) (host, port string) {
	return peer(t, func(c net.Conn) {
		s := tls.Server(c, conf)
		if s.HandshakeContext(context.Background()) != nil {
			return
		}
		serve(s)
		_ = s.CloseWrite()
	})
}

const fine = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"

func TestHandshakes(t *testing.T) {
	server := issue(t, trust.Wish{Name: "quay", Hosts: []string{"127.0.0.1"}})
	clientCA := issue(t, trust.Wish{Name: "Skerry client authority", Authority: true})
	client := issue(t, trust.Wish{Name: "agency", Client: true, By: clientCA})
	other := issue(t, trust.Wish{Name: "stranger", Client: true})
	pool := x509.NewCertPool()
	pool.AddCert(clientCA.Cert)
	base := func() *tls.Config { return &tls.Config{Certificates: []tls.Certificate{server.TLS()}} }
	for name, c := range map[string]struct {
		server func(*tls.Config)
		client func(*Config)
		reason Reason
		alert  string
		stage  exchange.Stage
	}{
		"passes": {func(*tls.Config) {}, func(*Config) {}, Unknown, "", 0},
		"versions do not meet": {func(s *tls.Config) { s.MinVersion = tls.VersionTLS13 },
			func(c *Config) { c.MaxVersion = tls.VersionTLS12 }, VersionRefused,
			"protocol version not supported", exchange.TLS},
		"an old server": {func(s *tls.Config) { s.MinVersion, s.MaxVersion = tls.VersionTLS10, tls.VersionTLS11 },
			func(*Config) {}, VersionRefused,
			"protocol version not supported", exchange.TLS},
		"ciphers do not meet": {func(s *tls.Config) {
			s.MaxVersion = tls.VersionTLS12
			s.CipherSuites = []uint16{tls.TLS_RSA_WITH_AES_128_CBC_SHA}
		}, func(*Config) {}, CipherRefused, "handshake failure", exchange.TLS},
		"certificate required, TLS 1.2": {func(s *tls.Config) {
			s.MaxVersion = tls.VersionTLS12
			s.ClientAuth, s.ClientCAs = tls.RequireAndVerifyClientCert, pool
		}, func(*Config) {}, ClientCertificateRequired, "handshake failure", exchange.TLS},
		"certificate required, TLS 1.3": {func(s *tls.Config) {
			s.ClientAuth,
				s.ClientCAs = tls.RequireAndVerifyClientCert, pool
		}, func(*Config) {}, ClientCertificateRequired,
			"certificate required", exchange.Wait},
		"certificate refused, TLS 1.2": {func(s *tls.Config) {
			s.MaxVersion = tls.VersionTLS12
			s.ClientAuth, s.ClientCAs = tls.RequireAndVerifyClientCert, pool
		}, func(c *Config) { c.Certificates = []tls.Certificate{other.TLS()} }, ClientCertificateRefused,
			"unknown certificate authority", exchange.TLS},
		"certificate accepted": {func(s *tls.Config) {
			s.ClientAuth, s.ClientCAs = tls.RequireAndVerifyClientCert,
				pool
		}, func(c *Config) { c.Certificates = []tls.Certificate{client.TLS()} }, Unknown,
			"", 0},
	} {
		t.Run(name, func(t *testing.T) {
			conf := base()
			c.server(conf)
			host, port := secure(t, conf, says(fine))
			cfg := config(host, port)
			cfg.TLS, cfg.MinVersion = true, tls.VersionTLS12
			c.client(&cfg)
			leg, x, err := do(t, cfg, post("<a/>"))
			if c.reason == Unknown {
				require.NoError(t, err)
				assert.Equal(t, "ok", string(leg.ResponseBody.Bytes()))
				assert.NotEmpty(t, leg.Conn.TLS.Chain)
				return
			}
			assert.Equal(t, c.reason, reason(err))
			var e *Error
			require.ErrorAs(t, err, &e)
			assert.Equal(t, c.alert, e.Alert)
			if name == "certificate required, TLS 1.3" {
				// It comes with the first read, which may still find the request leaving.
				assert.GreaterOrEqual(t, e.Stage, exchange.Send)
			} else {
				assert.Equal(t, c.stage, e.Stage)
			}
			if strings.Contains(name, "required") {
				assert.True(t, leg.Conn.TLS.CertAsked)
				assert.False(t, leg.Conn.TLS.CertSent)
				assert.Contains(t, strings.Join(leg.Conn.TLS.Issuers, ""), "Skerry client authority")
			}
			_ = x
		})
	}
}

// The reading of a remote alert relies on how crypto/tls reports it.
func TestRemoteAlertsAreRecognised(t *testing.T) {
	err := error(&net.OpError{Op: "remote error", Err: tls.AlertError(116)})
	number, words, is := remoteAlert(fmt.Errorf("read: %w", err))
	assert.True(t, is)
	assert.EqualValues(t, certificateRequired, number)
	assert.Equal(t, "certificate required", words)
	for _, none := range []error{io.EOF, &net.OpError{Op: "read", Err: io.EOF}} {
		_, _, is := remoteAlert(none)
		assert.False(t, is)
	}
}

func TestWhatIsNoTLS(t *testing.T) {
	host, port := peer(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 100))
		_, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n"))
	})
	cfg := config(host, port)
	cfg.TLS = true
	leg, _, err := do(t, cfg, post("<a/>"))
	assert.Equal(t, NotTLS, reason(err))
	assert.True(t, bytes.HasPrefix(leg.Conn.TLS.HelloIn, []byte("HTTP/1.1 400")), "what came beneath is evidence")

	host, port = peer(t, func(c net.Conn) { _, _ = c.Read(make([]byte, 100)) })
	cfg.Host, cfg.Port = host, port
	_, _, err = do(t, cfg, post("<a/>"))
	assert.Equal(t, HandshakeClosed, reason(err))

	hold := make(chan struct{})
	host, port = peer(t, func(net.Conn) { <-hold })
	t.Cleanup(func() { close(hold) })
	cfg.Host, cfg.Port, cfg.ConnectTime = host, port, 200*time.Millisecond
	_, _, err = do(t, cfg, post("<a/>"))
	assert.Equal(t, HandshakeTimeout, reason(err))
}

func TestAJudgementEndsTheHandshake(t *testing.T) {
	server := issue(t, trust.Wish{Name: "quay", Hosts: []string{"127.0.0.1"}})
	sent := make(chan bool, 1)
	host, port := secure(t, &tls.Config{Certificates: []tls.Certificate{server.TLS()}}, func(c net.Conn) {
		_, err := c.Read(make([]byte, 1))
		sent <- err == nil
	})
	cfg := config(host, port)
	cfg.TLS = true
	cfg.Judge = func(chain []*x509.Certificate) *trust.Verdict {
		return trust.Judge(chain, trust.Policy{Host: host, Now: time.Now()})
	}
	leg, x, err := do(t, cfg, post("secret"))
	assert.Equal(t, Certificate, reason(err))
	assert.Empty(t, leg.Out, "nothing of the request leaves")
	assert.Equal(t, exchange.Open, x.Stage(exchange.TLS).State, "the caller stops the stage")
	select {
	case got := <-sent:
		assert.False(t, got)
	case <-time.After(50 * time.Millisecond): // the handshake failed on their side too
	}
}

func TestEveryAddressIsTried(t *testing.T) {
	host, port := peer(t, says(fine))
	dns, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	go func() { // answers 127.0.0.2 (nobody listens there) and then the peer's address
		defer close(done)
		b := make([]byte, 512)
		for {
			n, from, err := dns.ReadFrom(b)
			if err != nil {
				return
			}
			q := b[:n]
			isA := q[n-4+1] == 1 || bytes.Contains(q, []byte{0, 1, 0, 1})
			r := append([]byte(nil), q[:12]...)
			r[2], r[3] = 0x81, 0x80
			end := 12
			for q[end] != 0 {
				end += int(q[end]) + 1
			}
			r = append(r, q[12:end+5]...)
			r[10], r[11] = 0, 0
			if isA {
				r[7] = 2
				for _, ip := range [][4]byte{{127, 0, 0, 2}, {127, 0, 0, 1}} {
					r = append(r, 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 1, 0, 4, ip[0], ip[1], ip[2], ip[3])
				}
			}
			_, _ = dns.WriteTo(r, from)
		}
	}()
	defer func() { dns.Close(); <-done }()
	_ = host
	cfg := config("quay.skerry.test", port)
	cfg.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", dns.LocalAddr().String())
	}}
	leg, _, err := do(t, cfg, post("<a/>"))
	require.NoError(t, err)
	assert.Len(t, leg.Conn.Resolved, 2)
	last := leg.Conn.Tried[len(leg.Conn.Tried)-1]
	assert.Empty(t, last.Error)
	assert.Equal(t, "127.0.0.1:"+port, last.Address)
}

// The socket to the name server and the time limit end together, in either order.
func TestASilentNameServerIsATimeOut(t *testing.T) {
	dns, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer dns.Close()
	cfg := config("tides.skerry.test", "80")
	cfg.ConnectTime = 2 * time.Millisecond
	cfg.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", dns.LocalAddr().String())
	}}
	for range 300 {
		_, _, err := do(t, cfg, post("<a/>"))
		require.Equal(t, ConnectTimeout, reason(err))
	}
}

func TestUntilGoesNoFurtherThanAsked(t *testing.T) {
	asked := make(chan string, 1)
	host, port := peer(t, func(c net.Conn) {
		head, _ := request(c)
		asked <- head
	})
	cfg := config(host, port)
	cfg.Until = exchange.Connect
	leg, x, err := do(t, cfg, post("<a/>"))
	require.NoError(t, err)
	assert.Empty(t, leg.Out)
	assert.Equal(t, exchange.Waiting, x.Stage(exchange.Send).State)
	assert.Empty(t, <-asked)
}

func FuzzAnswer(f *testing.F) {
	for _, s := range []string{fine, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
		"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\n\r\nx", "HTTP/1.1 100 Continue\r\n\r\n", "\r\n\r\n"} {
		f.Add([]byte(s), uint16(10))
	}
	f.Fuzz(func(t *testing.T, answer []byte, limit uint16) {
		us, them := net.Pipe()
		go func() {
			_, _ = io.Copy(io.Discard, them)
		}()
		go func() {
			_, _ = them.Write(answer)
			them.Close()
		}()
		x := &exchange.Exchange{}
		rec := exchange.NewRecorder(x, nil)
		tr := &roundTrip{
			ctx: context.Background(),
			cfg: Config{
				ReceiveLimit:  int64(limit) + 1,
				InflatedLimit: 1 << 16,
				AnswerTime:    time.Second,
				ReceiveTime:   time.Second,
			},
			rec:  rec,
			leg:  rec.NewLeg("", exchange.Spill{}),
			conn: us,
		}
		_, _ = tr.answer()
		us.Close()
		if n := int(tr.leg.ResponseBody.Len()); tr.leg.Response.Coding == "" && n > int(limit)+1 {
			t.Fatalf("%d bytes delivered over a limit of %d", n, int(limit)+1)
		}
	})
}
