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
)

// Proxy is what is connected to in the service's place.
type Proxy struct {
	Scheme     string // http, https or socks5
	Host, Port string
	User       string // "": no authentication is offered
	Password   string
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

// mostRefusal is how much of a proxy's refusal is read as evidence.
const mostRefusal = 64 << 10

// throughProxy reaches the service by way of the proxy. An http proxy is asked
// to connect through where TLS follows (RFC 9110 §9.3.6); that is a leg of its
// own.
func (t *trip) throughProxy(ctx context.Context) error {
	p := t.cfg.Proxy
	name := p.String()
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Proxy = name })
	conn, err := t.dial(ctx, p.Host, p.Port)
	if err != nil {
		e := err.(*Error)
		if e.Kind != "cancelled" {
			e.Err = fmt.Errorf("%s: %w", e.Kind, e.Err)
			e.Kind = "connect.proxy-refused"
		}
		return e
	}
	t.conn = conn
	if p.Scheme == "https" {
		secure := tls.Client(conn, p.TLS)
		if err := secure.HandshakeContext(ctx); err != nil {
			return t.fail(exchange.Connect, "connect.proxy-refused", fmt.Errorf("the handshake with the proxy failed: %w", err))
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

func (t *trip) socks(ctx context.Context) error {
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
		return t.fail(exchange.Connect, "connect.proxy-refused", err)
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.Connected, Stage: exchange.Connect, Text: t.leg.Conn.Host + " through the proxy"})
	return nil
}

// tunnel asks an http proxy to connect through.
func (t *trip) tunnel(ctx context.Context) error {
	p, to := t.cfg.Proxy, net.JoinHostPort(t.cfg.Host, t.cfg.Port)
	stop := context.AfterFunc(ctx, func() { _ = t.conn.SetDeadline(past) })
	defer stop()
	own := trip{ctx: t.ctx, rec: t.rec, leg: t.leg, conn: t.conn,
		req: Request{Method: "CONNECT", Target: to, Header: [][2]string{{"Host", to}}, SecretHeader: func(name string) bool { return name == "Proxy-Authorization" }}}
	if p.User != "" {
		own.req.Header = append(own.req.Header, [2]string{"Proxy-Authorization", p.authorization()})
	}
	main := *t.leg
	t.rec.Update(func(*exchange.Exchange) { t.leg.Purpose = "proxy" })
	own.compose()
	if n, err := t.conn.Write(own.payload); err != nil {
		return t.fail(exchange.Connect, "connect.proxy-refused", err)
	} else {
		t.rec.Out(t.leg, own.payload, n)
	}
	head, err := own.refusal(ctx)
	if err != nil {
		return err
	}
	if head.Status < 200 || head.Status > 299 {
		e := t.fail(exchange.Connect, "connect.proxy-refused", fmt.Errorf("the proxy answered %s", strings.TrimPrefix(head.Line, head.Proto+" ")))
		e.Got = int64(head.Status)
		return e
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.Connected, Stage: exchange.Connect, Text: to + " through the proxy"})
	// What follows is the call itself.
	t.newLeg(main.Purpose)
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn = main.Conn })
	return nil
}

// refusal reads the head of a proxy's answer and, where it refuses, the page
// that says why.
func (t *trip) refusal(ctx context.Context) (*exchange.Head, error) {
	refused := func(err error) error {
		kind := "connect.proxy-refused"
		if settled(ctx) != nil && isTimeout(err) {
			err = errors.New("the proxy did not answer in time")
		}
		return t.fail(exchange.Connect, kind, err)
	}
	for headEnd(t.leg.In) == 0 {
		if len(t.leg.In) > mostHead || len(t.leg.In) >= 5 && !bytes.HasPrefix(t.leg.In, []byte("HTTP/")) {
			return nil, refused(errors.New("what answers is no HTTP proxy"))
		}
		if n, err := t.more(); n == 0 && err != nil {
			return nil, refused(err)
		}
	}
	end := headEnd(t.leg.In)
	head, err := parseHead(t.leg.In[:end])
	if err != nil {
		return nil, refused(err)
	}
	t.rec.Update(func(*exchange.Exchange) { t.leg.Response = *head })
	if head.Status >= 200 && head.Status <= 299 {
		return head, nil
	}
	_ = t.conn.SetReadDeadline(time.Now().Add(linger))
	for len(t.leg.In) < end+mostRefusal && (head.Declared < 0 || int64(len(t.leg.In)-end) < head.Declared) {
		if n, err := t.more(); n == 0 && err != nil {
			break
		}
	}
	t.rec.Update(func(*exchange.Exchange) {
		t.leg.ResponseBody = t.leg.In[end:]
		t.leg.Response.BodySize = int64(len(t.leg.In) - end)
	})
	return head, nil
}
