package wire

import (
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"crypto/tls"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// Pool keeps connections alive between calls. A kept connection is looked at
// before it is taken, so that no request is ever sent twice.
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
	mostIdle    = 8
	longestIdle = 60 * time.Second
)

func (c *Config) poolKey() string {
	parts := []string{c.Host, c.Port, c.ServerName, c.Scope}
	if c.Proxy != nil {
		parts = append(parts, c.Proxy.String(), c.Proxy.User)
	}
	if c.TLS {
		parts = append(parts, "tls", tls.VersionName(c.MinVersion), tls.VersionName(c.MaxVersion))
		for _, cert := range c.Certificates {
			if cert.Leaf != nil {
				parts = append(parts, trust.Fingerprint(cert.Leaf))
			}
		}
	}
	return strings.Join(parts, "\x00")
}

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
			return k.conn, k.info
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
	if len(p.idle[key]) >= mostIdle {
		conn.Close()
		return
	}
	p.idle[key] = append(p.idle[key], kept{conn, info, time.Now()})
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

// quiet tells whether a kept connection is open and has nothing to say: a peer
// that closed it, or that sent something unasked, has spoilt it.
func quiet(conn net.Conn) bool {
	if t, ok := conn.(*tls.Conn); ok {
		conn = t.NetConn()
	}
	if b, ok := conn.(*beneath); ok {
		conn = b.Conn
	}
	sc, ok := conn.(syscall.Conn)
	if !ok {
		return false
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return false
	}
	alive := false
	err = raw.Read(func(fd uintptr) bool {
		var b [1]byte
		n, _, rerr := syscall.Recvfrom(int(fd), b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		alive = n < 0 && (rerr == syscall.EAGAIN || rerr == syscall.EWOULDBLOCK)
		return true
	})
	return err == nil && alive
}
