package wire

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// A reply that went to disk stays readable as long as its record is, whatever the
// garbage collector does; and a record that was closed is empty, not a fault.
func TestAReplyOnDiskLivesAsLongAsItsRecord(t *testing.T) {
	defer debug.SetGCPercent(debug.SetGCPercent(20))
	body := strings.Repeat("0123456789abcdef", 64<<10) // 1 MiB
	var chunked strings.Builder
	for at := 0; at < len(body); at += 10_000 {
		p := body[at:min(at+10_000, len(body))]
		fmt.Fprintf(&chunked, "%x\r\n%s\r\n", len(p), p)
	}
	chunked.WriteString("0\r\n\r\n")
	for name, head := range map[string]string{
		"plain":          "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n",
		"unknown coding": "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Encoding: br\r\n\r\n",
	} {
		host, port := peer(t, says(head+chunked.String()))
		cfg := config(host, port)
		cfg.Spill, cfg.ReceiveLimit, cfg.InflatedLimit = 64<<10, 8<<20, 8<<20
		leg, x, err := do(t, cfg, post("<a/>"))
		if name == "plain" {
			require.NoError(t, err)
		} else {
			assert.Equal(t, BadCompression, reason(err))
		}
		require.True(t, leg.Stored())
		kept := x.Clone()
		for range 3 {
			runtime.GC()
			debug.FreeOSMemory()
		}
		var out bytes.Buffer
		_, err = kept.Leg().ResponseBody.WriteTo(&out)
		require.NoError(t, err)
		assert.Equal(t, body, out.String(), name)
		assert.Equal(t, body[500_000:500_010], string(kept.Leg().ResponseBody.Range(500_000, 500_010)))
		x.Close()
		_, err = kept.Leg().ResponseBody.WriteTo(io.Discard)
		assert.ErrorIs(t, err, exchange.ErrClosed)
		assert.Empty(t, kept.Leg().In.Bytes())
	}
}

// Closing waits for those who read.
func TestClosingARecordWaitsForItsReaders(t *testing.T) {
	body := strings.Repeat("x", 1<<20)
	host, port := peer(t, says(fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(body), body)))
	cfg := config(host, port)
	cfg.Spill, cfg.ReceiveLimit = 1<<10, 2<<20
	leg, x, err := do(t, cfg, post("<a/>"))
	require.NoError(t, err)
	require.NoError(t, leg.ResponseBody.Use(func(all []byte) error {
		x.Close()
		assert.Equal(t, len(body), bytes.Count(all, []byte("x")), "it is there until the reader has left")
		return nil
	}))
	assert.ErrorIs(t, leg.ResponseBody.Use(func([]byte) error { return nil }), exchange.ErrClosed)
}

// One pool, two principals: neither goes over the other's connection.
func TestAKeptConnectionIsNeverAnothersIdentity(t *testing.T) {
	type user struct{ cert string }
	var mu sync.Mutex
	var seen []user
	serve := func(c net.Conn) {
		for {
			head, _ := request(c)
			if head == "" {
				return
			}
			u := user{}
			if tc, ok := c.(*tls.Conn); ok {
				if certs := tc.ConnectionState().PeerCertificates; len(certs) > 0 {
					u.cert = certs[0].Subject.CommonName
				}
			}
			mu.Lock()
			seen = append(seen, u)
			mu.Unlock()
			_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
		}
	}
	server, client := pairs(t)
	host, port := secure(
		t,
		&tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequestClientCert},
		serve,
	)
	pool := &Pool{}
	defer pool.Close()
	bare := client
	bare.Leaf = nil // as a library may leave it
	base := config(host, port)
	base.TLS, base.Pool, base.TrustedBy = true, pool, "one"
	variants := map[string]func(*Config){
		"nobody":          func(*Config) {},
		"a certificate":   func(c *Config) { c.Certificates = []tls.Certificate{bare} },
		"a user":          func(c *Config) { c.Principal = "pilot" },
		"another user":    func(c *Config) { c.Principal = "dues" },
		"other trust":     func(c *Config) { c.TrustedBy = "two" },
		"another name":    func(c *Config) { c.ServerName = "other.skerry.test" },
		"other protocols": func(c *Config) { c.Protocols = []string{"http/1.1"} },
		"other versions":  func(c *Config) { c.MaxVersion = tls.VersionTLS12 },
		"other ciphers":   func(c *Config) { c.Ciphers = []uint16{tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256} },
		"who may choose": func(c *Config) {
			c.Choose =
				func(*tls.CertificateRequestInfo) *tls.Certificate { return nil }
		},
	}
	for name, change := range variants {
		cfg := base
		change(&cfg)
		leg, _, err := do(t, cfg, post("<a/>"))
		require.NoError(t, err, name)
		assert.False(t, leg.Conn.Reused, "%s goes over a connection that was made for another", name)
	}
	for name, change := range variants {
		cfg := base
		change(&cfg)
		leg, _, err := do(t, cfg, post("<a/>"))
		require.NoError(t, err, name)
		assert.True(t, leg.Conn.Reused, "%s has one of its own", name)
	}
	certs := 0
	for _, u := range seen {
		if u.cert != "" {
			certs++
		}
	}
	assert.Equal(t, 2, certs, "the certificate was seen where it was set, and nowhere else")
}

// pairs are a server's and a client's certificate with their keys.
func pairs(t testing.TB) (server, client tls.Certificate) {
	t.Helper()
	server = issue(t, trust.Wish{Name: "quay", Hosts: []string{"127.0.0.1"}}).TLS()
	return server, issue(t, trust.Wish{Name: "pilot", Client: true}).TLS()
}

// A snapshot stays as it was, also where a connection says something later.
func TestALateAlertRewritesNoOlderRecord(t *testing.T) {
	server, _ := pairs(t)
	second := make(chan struct{})
	roots := x509.NewCertPool()
	host, port := secure(t, &tls.Config{Certificates: []tls.Certificate{server}, ClientCAs: roots}, func(c net.Conn) {
		request(c)
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
		request(c)
		<-second
		// An alert of the peer after the handshake: access denied.
		if tc, ok := c.(*tls.Conn); ok {
			_, _ = tc.NetConn().Write([]byte{21, 3, 3, 0, 2, 2, 49}) // it is not encrypted: the library calls it broken
		}
	})
	pool := &Pool{}
	defer pool.Close()
	cfg := config(host, port)
	cfg.TLS, cfg.Pool, cfg.MaxVersion = true, pool, tls.VersionTLS12
	first, x, err := do(t, cfg, post("<a/>"))
	require.NoError(t, err)
	old := x.Clone()
	done := make(chan *exchange.Leg)
	go func() {
		close(second)
		leg, _, _ := do(t, cfg, post("<b/>"))
		done <- leg
	}()
	for range 100 { // -race sees whoever writes to what is read here
		_ = fmt.Sprint(*old.Leg().Conn.TLS, *first.Conn.TLS)
		time.Sleep(time.Millisecond)
	}
	later := <-done
	assert.True(t, later.Conn.Reused)
	assert.NotSame(t, first.Conn.TLS, later.Conn.TLS)
	assert.Empty(t, old.Leg().Conn.TLS.Alert)
}

// What a peer sends without end is bounded, whatever it is.
func TestEndlessPeersAreCutOff(t *testing.T) {
	forever := func(head, more string) func(net.Conn) {
		return func(c net.Conn) {
			request(c)
			_, _ = io.WriteString(c, head)
			block := []byte(strings.Repeat(more, 1+8192/len(more)))
			for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
				if _, err := c.Write(block); err != nil {
					return
				}
			}
		}
	}
	for name, c := range map[string]struct {
		serve  func(net.Conn)
		reason Reason
	}{
		"trailers": {forever("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n1\r\nx\r\n0\r\n",
			"X-A: 1\r\n"), BadChunk},
		"interim answers": {forever("", "HTTP/1.1 100 Continue\r\n\r\n"), HeadTooLarge},
		"header fields":   {forever("HTTP/1.1 200 OK\r\n", "X-A: 1\r\n"), HeadTooLarge},
		"one-byte chunks": {forever("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", "1\r\nx\r\n"), OverLimit},
	} {
		t.Run(name, func(t *testing.T) {
			host, port := peer(t, c.serve)
			cfg := config(host, port)
			cfg.ReceiveLimit = 1 << 20
			leg, x, err := do(t, cfg, post("<a/>"))
			assert.Equal(t, c.reason, reason(err), "%v", err)
			assert.LessOrEqual(t, leg.In.Len(), int64(8<<20))
			assert.LessOrEqual(t, len(x.Moments), exchange.MaxMoments+32)
			assert.LessOrEqual(t, len(leg.ChunkEnds), maxChunkEnds)
		})
	}
	host, port := peer(t, forever("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", "1\r\nx\r\n"))
	ctx, cancel := context.WithTimeoutCause(t.Context(), 300*time.Millisecond, ErrTotalTime)
	defer cancel()
	_, err := Do(ctx, config(host, port), post("<a/>"), exchange.NewRecorder(&exchange.Exchange{}, nil))
	assert.Equal(t, ReceiveTimeout, reason(err))
}

// A head is written before its body without a copy, where there is room; else both are
// copied. What stands in the body never moves.
func TestAHeadGoesInFrontOfItsBody(t *testing.T) {
	whole := []byte("......body")
	front, body := whole[:6], whole[6:]
	assert.Equal(t, "headbody", string(inFront(front, []byte("head"), body)))
	assert.Equal(t, "..headbody", string(whole))
	assert.Equal(t, "a longer headbody", string(inFront(front, []byte("a longer head"), body)))
	assert.Equal(t, "headbody", string(inFront(nil, []byte("head"), body)))
	assert.Equal(t, "headbody", string(inFront(make([]byte, 6), []byte("head"), body)), "not the same memory")
	assert.Equal(t, "..headbody", string(whole))
}
