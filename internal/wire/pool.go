package wire

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"orenda/internal/exchange"
)

// Pool keeps connections alive between calls. A kept connection is looked at
// before it is taken, so that no request is ever sent twice, and it is given only
// to those who would have made the same one: see Config.poolKey.
type Pool struct {
	mu   sync.Mutex
	idle map[string][]kept
}

type kept struct {
	conn net.Conn
	info *exchange.TLSInfo
	at   time.Time
}

// Connections idle for longer are not used again; services close them too.
const (
	maxIdle     = 8
	longestIdle = 60 * time.Second
)

// poolKey holds everything that tells one connection from another: where it goes,
// through what, by which rules it was opened and judged, and on whose behalf.
func (c *Config) poolKey() string {
	parts := append(make([]string, 0, 16), c.Host, c.Port, c.Principal, strconv.FormatBool(c.TLS))
	if p := c.Proxy; p != nil {
		parts = append(parts, p.String(), p.User, digest([]byte(p.Password)))
	}
	if c.TLS {
		parts = append(parts, c.ServerName, c.TrustedBy, fmt.Sprint(c.MinVersion, c.MaxVersion, c.Ciphers),
			strings.Join(c.Protocols, ","), fmt.Sprint(c.Choose != nil))
		for _, cert := range c.Certificates {
			for _, der := range cert.Certificate {
				parts = append(parts, digest(der))
			}
		}
	}
	return strings.Join(parts, "\x00")
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// take gives a kept connection that is still quiet, with what its handshake
// showed; nil where there is none.
func (p *Pool) take(key string) (net.Conn, *exchange.TLSInfo) {
	for {
		p.mu.Lock()
		list := p.idle[key]
		if len(list) == 0 {
			p.mu.Unlock()
			return nil, nil
		}
		k := list[len(list)-1]
		p.idle[key] = list[:len(list)-1]
		p.mu.Unlock()
		if time.Since(k.at) < longestIdle && quiet(k.conn) {
			return k.conn, k.info.Clone()
		}
		k.conn.Close()
	}
}

func (p *Pool) put(key string, conn net.Conn, info *exchange.TLSInfo) {
	_ = conn.SetDeadline(time.Time{})
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.idle == nil {
		p.idle = map[string][]kept{}
	}
	if len(p.idle[key]) >= maxIdle {
		conn.Close()
		return
	}
	p.idle[key] = append(p.idle[key], kept{conn, info.Clone(), time.Now()})
}

// Close ends all kept connections.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, list := range p.idle {
		for _, k := range list {
			k.conn.Close()
		}
	}
	p.idle = nil
}

// beneathTLS is the connection that a kept one goes over.
func beneathTLS(conn net.Conn) net.Conn {
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	if r, ok := conn.(*recordingConn); ok {
		conn = r.Conn
	}
	return conn
}
