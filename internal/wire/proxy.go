package wire

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/net/proxy"

	"orenda/internal/exchange"
	"orenda/internal/http1"
)

// Proxy is what is connected to in the service's place.
type Proxy struct {
	Scheme     string      // http, https or socks5
	Host, Port string      // name or address; decimal
	User       string      // "": no authentication is offered
	Password   string      // secret
	TLS        *tls.Config // of the connection to an https proxy
}

// String is the proxy's address, without user and password.
func (p *Proxy) String() string { return p.Scheme + "://" + net.JoinHostPort(p.Host, p.Port) }

func (p *Proxy) speaksHTTP() bool { return p.Scheme == "http" || p.Scheme == "https" }

func (p *Proxy) authorization() string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(p.User+":"+p.Password))
}

// hostOf is a host as it stands in a URL or a Host field.
func hostOf(host, port, usual string) string {
	if port == usual {
		if strings.Contains(host, ":") {
			return "[" + host + "]"
		}
		return host
	}
	return net.JoinHostPort(host, port)
}

// maxRefusal is how much of a proxy's refusal is read as evidence.
const maxRefusal = 64 << 10

// ProxyDialError is why the proxy itself could not be reached.
type ProxyDialError struct {
	Reason Reason // Refused, NameUnknown, ConnectTimeout or Unreachable
	Err    error  // what the system said
}

func (e *ProxyDialError) Error() string { return e.Err.Error() }

func (e *ProxyDialError) Unwrap() error { return e.Err }

// throughProxy reaches the service by way of the proxy. An http proxy is asked
// to connect through where TLS follows (RFC 9110 §9.3.6); that is a leg of its
// own.
func (t *roundTrip) throughProxy(ctx context.Context) error {
	p := t.cfg.Proxy
	name := p.String()
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Proxy = name })
	conn, err := t.dial(ctx, p.Host, p.Port)
	if err != nil {
		e, ok := errors.AsType[*Error](err)
		if ok && e.Reason != Cancelled {
			e.Err, e.Reason = &ProxyDialError{Reason: e.Reason, Err: e.Err}, ProxyRefused
		}
		return err
	}
	t.conn = conn
	if p.Scheme == "https" {
		secure := tls.Client(conn, p.TLS)
		if err := secure.HandshakeContext(ctx); err != nil {
			return t.fail(exchange.Connect, ProxyRefused, fmt.Errorf("the handshake with the proxy failed: %w", err))
		}
		t.conn = secure
	}
	switch {
	case p.Scheme == "socks5":
		return t.socks(ctx)
	case t.cfg.TLS:
		return t.tunnel(ctx)
	}
	return nil
}

// fixed dials a connection that is there already.
type fixed struct{ conn net.Conn }

func (f fixed) Dial(string, string) (net.Conn, error) { return f.conn, nil }
func (f fixed) DialContext(context.Context, string, string) (net.Conn, error) {
	return f.conn, nil
}

func (t *roundTrip) socks(ctx context.Context) error {
	p := t.cfg.Proxy
	var auth *proxy.Auth
	if p.User != "" {
		auth = &proxy.Auth{User: p.User, Password: p.Password}
	}
	d, err := proxy.SOCKS5("tcp", net.JoinHostPort(p.Host, p.Port), auth, fixed{t.conn})
	if err == nil {
		_, err = d.(proxy.ContextDialer).DialContext(ctx, "tcp", net.JoinHostPort(t.cfg.Host, t.cfg.Port))
	}
	if err != nil {
		// The package says "socks connect tcp A->B: why"; only why is news.
		var oe *net.OpError
		if errors.As(err, &oe) && oe.Err != nil {
			err = oe.Err
		}
		return t.fail(exchange.Connect, ProxyRefused, err)
	}
	t.rec.Moment(
		exchange.Moment{
			Kind:  exchange.Connected,
			Stage: exchange.Connect,
			Text:  t.leg.Conn.Host + " through the proxy",
		},
	)
	return nil
}

// tunnel asks an http proxy to connect through.
func (t *roundTrip) tunnel(ctx context.Context) error {
	p, to := t.cfg.Proxy, net.JoinHostPort(t.cfg.Host, t.cfg.Port)
	stop := context.AfterFunc(ctx, func() { _ = t.conn.SetDeadline(expiredDeadline()) })
	defer stop()
	own := roundTrip{ctx: t.ctx, rec: t.rec, leg: t.leg, conn: t.conn,
		req: Request{
			Method:       "CONNECT",
			Target:       to,
			Header:       [][2]string{{"Host", to}},
			SecretHeader: func(name string) bool { return name == "Proxy-Authorization" },
		}}
	if p.User != "" {
		own.req.Header = append(own.req.Header, [2]string{"Proxy-Authorization", p.authorization()})
	}
	purpose, conn := t.leg.Purpose, t.leg.Conn
	t.rec.Update(func(*exchange.Exchange) { t.leg.Purpose = "proxy" })
	own.compose()
	n, err := t.conn.Write(own.payload)
	if err != nil {
		return t.fail(exchange.Connect, ProxyRefused, err)
	}
	t.rec.Out(t.leg, own.payload, n)
	head, err := own.refusal(ctx)
	if err != nil {
		return err
	}
	if head.Status < 200 || head.Status > 299 {
		e := t.fail(
			exchange.Connect,
			ProxyRefused,
			fmt.Errorf("the proxy answered %s", strings.TrimPrefix(head.Line, head.Proto+" ")),
		)
		e.Got = int64(head.Status)
		return e
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.Connected, Stage: exchange.Connect, Text: to + " through the proxy"})
	// What follows is the call itself.
	t.newLeg(purpose)
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn = conn })
	return nil
}

// refusal reads the head of a proxy's answer and, where it refuses, the page
// that says why.
func (t *roundTrip) refusal(ctx context.Context) (*exchange.Head, error) {
	refused := func(err error) error {
		if ended(ctx) != nil && isTimeout(err) {
			err = errors.New("the proxy did not answer in time")
		}
		return t.fail(exchange.Connect, ProxyRefused, err)
	}
	in, end := t.unread(), 0
	for ; end == 0; in = t.unread() {
		if len(in) > http1.MaxHead || len(in) >= 5 && !bytes.HasPrefix(in, []byte("HTTP/")) {
			return nil, refused(errors.New("what answers is no HTTP proxy"))
		}
		if end = http1.HeadEnd(in); end > 0 {
			break
		}
		if n, err := t.more(); n == 0 && err != nil {
			return nil, refused(err)
		}
	}
	head, err := http1.Response(in[:end])
	if err != nil {
		return nil, refused(err)
	}
	t.rec.Update(func(*exchange.Exchange) { t.leg.Response = *head })
	if head.Status >= 200 && head.Status <= 299 {
		return head, nil
	}
	_ = t.conn.SetReadDeadline(time.Now().Add(linger))
	from := int64(end)
	for n := t.leg.In.Len() - from; n < maxRefusal && (head.Declared < 0 ||
		n < head.Declared); n = t.leg.In.Len() - from {
		if k, err := t.more(); k == 0 && err != nil {
			break
		}
	}
	_ = t.rec.Delivered(t.leg, from, t.leg.In.Len())
	return head, nil
}
