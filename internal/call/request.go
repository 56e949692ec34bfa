package call

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/http/httpproxy"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wire"
)

// addressing puts the WS-Addressing headers into the envelope.
func (c *Call) addressing() {
	version := c.plan.Settings.Text("addressing")
	if soap.AddressingNS[version] == "" {
		return
	}
	a := soap.Addressing{Version: version, To: c.url.String(), Action: c.action, MessageID: "urn:uuid:" + uuid()}
	if o := c.c.Operation; o != nil {
		a.OneWay = o.OneWay()
		if own := c.plan.Settings.Get("action"); !own.IsSet() && o.Input != nil && o.Input.Action != "" {
			a.Action = o.Input.Action
		}
		if a.Action == "" && c.plan.Port != nil && o.Input != nil {
			a.Action = soap.DefaultAction(c.plan.Port.PortType.Space, c.plan.Port.PortType.Local, o.Name, o.Input.Name)
		}
	}
	for _, b := range a.Blocks() {
		c.rec.Fact(exchange.Binding, "addressing", strings.TrimSpace(string(b)))
	}
	blocks := a.Blocks()
	for i := len(blocks) - 1; i >= 0; i-- {
		c.envelope, _ = insertHeader(c.envelope, blocks[i])
	}
}

// uuid is a random one (RFC 9562 §5.4).
func uuid() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// encode writes the envelope in the encoding that is set. secrets are the
// borders of what is secret in it: begin, end, begin, end.
func (c *Call) encode(secrets []int) error {
	v := c.plan.Settings.Get("charset")
	out, moved, err := soap.Encode(c.envelope, v.Text, secrets)
	if err != nil {
		return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
	}
	c.envelope = out
	for i := 0; i+1 < len(moved); i += 2 {
		c.secrets = append(c.secrets, exchange.Span{Offset: int64(moved[i]), Length: int64(moved[i+1] - moved[i])})
	}
	c.c.Size = int64(len(c.envelope))
	return nil
}

// settleProxy finds the proxy, if the call goes through one.
func (c *Call) settleProxy() error {
	v := c.plan.Settings.Get("proxy")
	address := v.Text
	switch address {
	case "none", "":
		return nil
	case "environment":
		of := httpproxy.FromEnvironment()
		u, err := of.ProxyFunc()(c.url)
		if err != nil {
			return &endpoint.ProxyError{Value: address, Why: fmt.Sprintf("the environment's proxy cannot be read: %v", err)}
		}
		if u == nil {
			if of.HTTPProxy != "" || of.HTTPSProxy != "" {
				c.rec.Fact(exchange.Connect, "proxy", "none: the environment makes an exception of this host")
			}
			return nil
		}
		address = u.String()
	}
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "socks5" {
		return &endpoint.ProxyError{Value: withoutPassword(address), Why: "a proxy is written http://host:port, https://host:port or socks5://host:port; or environment, or none"}
	}
	p := &wire.Proxy{Scheme: u.Scheme, Host: u.Hostname(), Port: u.Port(), User: u.User.Username()}
	p.Password, _ = u.User.Password()
	if p.Port == "" {
		p.Port = map[string]string{"http": "80", "https": "443", "socks5": "1080"}[u.Scheme]
	}
	c.rec.Fact(exchange.Connect, "proxy", p.String()+", as "+v.Source+" says")
	if v.Text == "environment" {
		c.rec.Fact(exchange.Connect, "proxy", p.String()+", as the process environment says")
	}
	fromWorkspace := v.Source == "endpoint" || strings.HasPrefix(v.Source, "profile ") && !strings.HasSuffix(v.Source, endpoint.Yours)
	if fromWorkspace && c.plan.ProxyOK != nil && !c.plan.ProxyOK(p.String()) {
		return &endpoint.ProxyNewError{Proxy: p.String()}
	}
	p.TLS = &tls.Config{ServerName: p.Host, InsecureSkipVerify: true, VerifyConnection: func(cs tls.ConnectionState) error {
		// What is said of the service's certificate does not hold for the proxy's.
		if v := trust.Judge(cs.PeerCertificates, trust.Policy{Trusted: c.trusted, System: c.plan.Settings.Switch("system-trust"), Host: p.Host, Now: time.Now()}); len(v.Faults) > 0 {
			return v
		}
		return nil
	}}
	c.proxy = p
	return nil
}

// proxyCredentials is who the proxy is told that the call is from.
func (c *Call) proxyCredentials(ctx context.Context) (err error) {
	p := c.proxy
	if p == nil {
		return nil
	}
	if name := c.plan.Settings.Text("proxy-identity"); name != "" {
		if p.User, p.Password, err = c.identityAt(ctx, name, p.Scheme, p.Host, p.Port); err != nil {
			return err
		}
		c.rec.Fact(exchange.Connect, "proxy identity", name)
	}
	if p.Password != "" {
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, p.Password) })
	}
	return nil
}

func (c *Call) judge(chain []*x509.Certificate, host string) *trust.Verdict {
	s := &c.plan.Settings
	if c.plan.AcceptAnything {
		return &trust.Verdict{By: "ANYTHING IS ACCEPTED for this call; nothing was checked"}
	}
	return trust.Judge(chain, trust.Policy{Trusted: c.trusted, Middle: c.middle, Pins: s.List("pin"), System: s.Switch("system-trust"), Host: host, AcceptName: s.Text("accept-name"),
		AcceptExpired: s.Text("accept-expired"), Now: time.Now()})
}

// spillAt is how much of a flowing reply, in bytes, is held in memory.
const spillAt = 8 << 20

var tlsVersions = map[string]uint16{"1.0": tls.VersionTLS10, "1.1": tls.VersionTLS11, "1.2": tls.VersionTLS12, "1.3": tls.VersionTLS13}

// config turns the settings into what the wire needs.
func (c *Call) config() wire.Config {
	s := &c.plan.Settings
	cfg := wire.Config{Until: c.plan.Until, Resolver: c.plan.Resolver, Pool: c.plan.Pool, Certificates: c.certs, ServerName: s.Text("server-name"),
		Proxy: c.proxy, Chunked: s.Text("transfer") == "chunked" && c.plan.fetch == nil, Expect: s.Switch("expect-continue")}
	cfg.Host, cfg.Port = endpoint.HostPort(c.url)
	cfg.TLS = strings.EqualFold(c.url.Scheme, "https")
	cfg.ConnectTime, _ = s.Duration("connect-time")
	cfg.SendTime, _ = s.Duration("send-time")
	cfg.AnswerTime, _ = s.Duration("answer-time")
	cfg.ReceiveTime, _ = s.Duration("receive-time")
	cfg.ReceiveLimit, _ = s.Size("receive-limit")
	cfg.InflatedLimit, _ = s.Size("inflated-limit")
	if s.Text("intake") == "flowing" {
		cfg.Spill = spillAt
	} else {
		cfg.BufferLimit, _ = s.Size("buffer-limit")
		if cfg.BufferLimit >= cfg.ReceiveLimit {
			cfg.BufferLimit = 0 // the receive limit falls first
		}
	}
	cfg.MinVersion, cfg.MaxVersion = tlsVersions[s.Text("tls-min")], tlsVersions[s.Text("tls-max")]
	cfg.Principal = c.principal()
	cfg.TrustedBy = strings.Join([]string{s.Text("trust"), s.Text("intermediates"), s.Text("pin"), s.Text("system-trust"), s.Text("accept-name"), s.Text("accept-expired")}, "\x00")
	if c.plan.AcceptAnything {
		cfg.Pool = nil
	}
	if c.ntlm != noNTLM && cfg.Pool == nil { // it is the connection that is authenticated
		cfg.Pool = &c.held
	}
	for _, suite := range s.List("ciphers") {
		if id, err := endpoint.Cipher(suite); err == nil {
			cfg.Ciphers = append(cfg.Ciphers, id)
		}
	}
	if p := s.Text("alpn"); p != "none" && p != "" {
		cfg.Protocols = strings.Split(p, ", ")
	}
	if len(c.certs) == 0 && c.plan.Candidates != nil && !c.plan.AcceptAnything {
		cfg.Choose = c.choose
	}
	if c.keyLog != nil {
		cfg.KeyLog = c.keyLog
	}
	if w := c.plan.witnessed; w != nil && !w.relayed {
		cfg.Conn, cfg.TLS, cfg.Chunked, cfg.Expect = played{bytes.NewReader(w.Reply)}, false, false, false
	}
	name := cfg.ServerName
	if name == "" {
		name = cfg.Host
	}
	cfg.Judge = func(chain []*x509.Certificate) *trust.Verdict { return c.judge(chain, name) }
	return cfg
}

// principal is on whose behalf the call is made over HTTP: connections that are
// kept are not shared between two. Secrets in it are only told apart.
func (c *Call) principal() string {
	s := &c.plan.Settings
	parts := []string{c.user, c.word, s.Text("http-auth"), s.Text("identity"), s.Text("client-identity"), s.Text("session"),
		c.session.field, c.session.value}
	if kind := s.Text("http-auth"); kind == "basic" || kind == "bearer" {
		parts = append(parts, c.authorization)
	}
	for _, h := range s.List("header") {
		if name, value, _ := strings.Cut(h, ":"); secretField(strings.TrimSpace(name)) {
			parts = append(parts, name, value)
		}
	}
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:])
}

// telling are the header fields whose replacement is told aloud.
var telling = []string{"Host", "Content-Type", "Content-Length", "Transfer-Encoding", "SOAPAction"}

// request makes what is sent.
func (c *Call) request() wire.Request {
	if c.plan.witnessed != nil {
		return c.witnessedRequest()
	}
	s := &c.plan.Settings
	req := wire.Request{Method: "POST", Target: c.url.RequestURI(), Header: make([][2]string, 0, 12), Body: c.envelope, Secret: c.secrets}
	add := func(name, value string) { req.Header = append(req.Header, [2]string{name, value}) }
	add("Host", c.url.Host)
	add("User-Agent", c.plan.Agent)
	if c.plan.fetch != nil && c.plan.fetch.post != nil {
		req.Body = c.plan.fetch.post
		for _, word := range c.plan.fetch.secrets {
			if at := bytes.Index(req.Body, []byte(word)); at >= 0 && word != "" {
				req.Secret = append(req.Secret, exchange.Span{Offset: int64(at), Length: int64(len(word))})
			}
		}
		add("Content-Length", strconv.Itoa(len(req.Body)))
	} else if c.plan.fetch != nil {
		req.Method, req.Body = "GET", nil
		add("Accept", "text/xml, application/xml, */*;q=0.5")
	} else {
		req.Header = append(req.Header, soap.HTTPHeaders(c.sentVersion(), s.Text("charset"), c.action, c.hasAct)...)
		c.packed(&req)
		if c.ntlm == negotiating { // what it is about follows once the server knows who calls
			req.Body, req.Secret = nil, nil
		}
		if s.Text("transfer") == "chunked" {
			add("Transfer-Encoding", "chunked")
		} else {
			add("Content-Length", strconv.Itoa(len(req.Body)))
		}
		if s.Switch("expect-continue") {
			add("Expect", "100-continue")
		}
	}
	switch how := s.Text("compression"); how {
	case "gzip", "deflate":
		add("Accept-Encoding", how)
	case "any":
		add("Accept-Encoding", "gzip, deflate")
	}
	if c.authorization != "" {
		add("Authorization", c.authorization)
	}
	req.Header = append(req.Header, c.sessionHeader()...)
	if c.plan.Pool == nil && !s.Switch("keep-alive") && c.ntlm != negotiating {
		add("Connection", "close")
	}
	for _, h := range s.List("header") {
		name, value, _ := strings.Cut(h, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		there := false
		for i, f := range req.Header {
			if !strings.EqualFold(f[0], name) {
				continue
			}
			there = true
			for _, t := range telling {
				if strings.EqualFold(t, name) && f[1] != value {
					c.c.Replaced = append(c.c.Replaced, [3]string{t, f[1], value})
				}
			}
			req.Header[i] = [2]string{name, value}
		}
		if !there {
			add(name, value)
		}
	}
	req.SecretHeader = func(name string) bool {
		return secretField(name) || c.session.field != "" && strings.EqualFold(name, c.session.field)
	}
	return req
}

// wire crosses it, and once more for each redirect that is followed: always as
// the POST that it was, and with the identity only where that may go.
func (c *Call) wire(ctx context.Context) error {
	purpose := ""
	for hop := 0; ; hop++ {
		req := c.request()
		req.Purpose = purpose
		leg, err := wire.Do(ctx, c.config(), req, c.rec)
		c.leg = leg
		if err == nil && c.challenged(leg, req.Method, req.Target) {
			purpose = "challenge"
			hop--
			continue
		}
		if err == nil && c.expired(leg) && c.openSession(ctx, true) == nil { // once: what was opened now is not kept from before
			purpose = "session"
			hop--
			continue
		}
		if err != nil || hop == mostRedirects || c.plan.fetch != nil || c.plan.Settings.Text("redirects") != "follow" {
			return err
		}
		h := &leg.Response
		to, perr := c.url.Parse(h.Get("Location"))
		switch h.Status {
		case 301, 302, 307, 308:
		default:
			return nil // 303 wants a GET (RFC 9110 §15.4.4)
		}
		if perr != nil || h.Get("Location") == "" || to.Scheme != "http" && to.Scheme != "https" || c.url.Scheme == "https" && to.Scheme == "http" {
			return nil
		}
		if !c.mayGo(to) {
			return nil
		}
		c.rec.Fact(exchange.Receive, fmt.Sprintf("redirect %d", hop+1), fmt.Sprintf("%d to %s, followed as a POST", h.Status, withoutPassword(to.String())))
		c.c.Followed = append(c.c.Followed, withoutPassword(to.String()))
		c.url, purpose = to, "redirect"
	}
}

// mayGo tells whether what the call carries, or would show when asked, may go to
// another place.
func (c *Call) mayGo(to *url.URL) bool {
	host, port := endpoint.HostPort(to)
	if h, p := endpoint.HostPort(c.url); h == host && p == port && to.Scheme == c.url.Scheme {
		return true
	}
	s := &c.plan.Settings
	for _, h := range s.List("header") {
		if name, _, _ := strings.Cut(h, ":"); secretField(strings.TrimSpace(name)) {
			return false
		}
	}
	var who []string
	if c.session.field != "" || c.session.token != nil {
		who = append(who, s.Text("session"))
	}
	if c.authorization != "" || c.word != "" || len(c.secrets) > 0 {
		who = append(who, s.Text("identity"))
	}
	if len(c.certs) > 0 {
		who = append(who, cmp.Or(c.c.Chosen, s.Text("client-identity")))
	}
	for _, name := range who {
		if c.plan.Allowed == nil || !c.plan.Allowed(name, to.Scheme, host, port) {
			return false
		}
	}
	return true
}

// headerSecrets are the secrets in header fields that settings add.
func headerSecrets(s *endpoint.Settings) (out []string) {
	for _, h := range s.List("header") {
		name, value, _ := strings.Cut(h, ":")
		out = append(out, fieldSecrets(strings.TrimSpace(name), strings.TrimSpace(value))...)
	}
	return out
}

// fieldSecrets are the secrets in a header field: its value, and what of it is
// the secret without the scheme or the name before it.
func fieldSecrets(name, value string) (out []string) {
	if !secretField(name) {
		return nil
	}
	out = append(out, value)
	for _, part := range strings.FieldsFunc(value, func(r rune) bool { return r == ' ' || r == ';' || r == ',' }) {
		if i := strings.IndexByte(part, '='); strings.EqualFold(name, "Cookie") && i >= 0 {
			part = part[i+1:]
		} else if strings.EqualFold(part, "Basic") || strings.EqualFold(part, "Bearer") || strings.EqualFold(part, "Digest") {
			continue
		}
		out = append(out, part)
	}
	return out
}

// secretField tells whether a header field's value is a secret.
func secretField(name string) bool {
	return strings.EqualFold(name, "Authorization") || strings.EqualFold(name, "Cookie") || strings.EqualFold(name, "Proxy-Authorization")
}
