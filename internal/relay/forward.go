package relay

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orenda/internal/wire"
)

// Forward makes a relay a forward proxy (RFC 9110 §7.6, §9.3.6): a program that has fixed
// addresses, and takes a proxy, is traced with them. Calls of SOAP are gone through as any; all
// else is passed on, and only counted.
type Forward struct {
	// Opens is the certificate with which TLS to a host is opened; nil: what goes there passes
	// through unread.
	Opens func(host string) *tls.Certificate
	// Other is told of what passed and was no call; read is false where it could not be looked at.
	Other func(host string, bytes int64, read bool)
}

// connectTime is how long a host of which nothing is read is tried.
const connectTime = 10 * time.Second

// errConnect is a request for a tunnel to a host and port.
type errConnect struct{ host string }

func (e errConnect) Error() string { return "a tunnel to " + e.host }

// origin is where a request in absolute form goes; what names a host of its own is an error.
func origin(target string) (*url.URL, error) {
	u, err := url.Parse(target)
	if err != nil || u.Scheme != "http" || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%.80q: a proxy is asked for whole http addresses, or to CONNECT", target)
	}
	return u, nil
}

// tunnel answers CONNECT: it opens TLS where it may, else passes bytes on unread.
func (r *Relay) tunnel(c *patient, in *bufio.Reader, hostPort string) {
	f := r.o.Load().Forward
	host, port, err := net.SplitHostPort(hostPort)
	if err != nil || host == "" || port == "" {
		answer(c, "400 Bad Request", "orenda relay: CONNECT takes a host and a port")
		return
	}
	const established = "HTTP/1.1 200 Connection established\r\n\r\n"
	r.wait(c.Conn, time.Time{})
	if cert := f.Opens(strings.ToLower(host)); cert != nil {
		if _, err := io.WriteString(c, established); err != nil {
			return
		}
		inner := tls.Server(
			&read{Conn: c.Conn, r: in},
			&tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12},
		)
		_ = inner.SetDeadline(time.Now().Add(connectTime))
		if err := inner.Handshake(); err != nil {
			r.turnAway(c, began(nil, err))
			return
		}
		_ = inner.SetDeadline(time.Time{})
		u := &url.URL{Scheme: "https", Host: hostPort}
		if port == "443" {
			u.Host = host
		}
		r.serveAt(&patient{Conn: inner, idle: r.o.Load().Idle, of: c.Conn}, u)
		_ = inner.Close()
		return
	}
	d := net.Dialer{Timeout: connectTime}
	to, err := d.DialContext(r.ctx, "tcp", hostPort)
	if err != nil {
		answer(c, "502 Bad Gateway", "orenda relay: "+hostPort+" cannot be reached: "+err.Error())
		return
	}
	defer to.Close()
	if _, err := io.WriteString(c, established); err != nil {
		return
	}
	_ = c.SetReadDeadline(time.Time{})
	var n atomic.Int64
	var both sync.WaitGroup
	both.Go(func() {
		k, _ := io.Copy(to, in)
		n.Add(k)
		halfClose(to)
	})
	both.Go(func() {
		k, _ := io.Copy(c.Conn, to)
		n.Add(k)
		halfClose(c.Conn)
	})
	ended := make(chan struct{})
	go func() { both.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-r.ctx.Done():
		to.Close()
		c.Close()
		<-ended
	}
	f.Other(hostPort, n.Load(), false)
}

func halfClose(c net.Conn) {
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.CloseWrite()
		return
	}
	_ = c.Close()
}

// read is a connection of which some was read already.
type read struct {
	net.Conn
	r *bufio.Reader
}

func (c *read) Read(b []byte) (int, error) { return c.r.Read(b) }

// serveAt passes on what comes over a connection; at is where it all goes, nil where each request
// says it, or where the relay leads.
func (r *Relay) serveAt(from *patient, at *url.URL) {
	in := bufio.NewReaderSize(from, 32<<10)
	pool := &wire.Pool{}
	defer pool.Close()
	for r.pass(from, in, pool, at) {
		r.wait(from.tracked(), time.Now())
	}
}

// isCall tells whether a request is one to be gone through: a forward proxy sees others too.
func isCall(w *taken) bool {
	return w.Method == http.MethodPost && w.Envelope() != nil
}

var errNotHere = errors.New("this is a forward proxy: it is asked for whole addresses, or to CONNECT")
