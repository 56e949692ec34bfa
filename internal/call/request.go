package call

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/revocation"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wire"
)

func (c *network) judge(chain []*x509.Certificate, host string) *trust.Verdict {
	s := &c.plan.Settings
	if c.plan.SkipVerify {
		return &trust.Verdict{By: "ANYTHING IS ACCEPTED for this call; nothing was checked"}
	}
	return trust.Judge(
		chain,
		trust.Policy{
			Trusted:       c.material.trusted,
			Intermediates: c.material.intermediates,
			Pins:          s.List("pin"),
			System:        s.Switch("system-trust"),
			Host:          host,
			Usage:         x509.ExtKeyUsageServerAuth,
			AcceptName:    s.Text("accept-name"),
			AcceptExpired: s.Text("accept-expired"),
			Now:           time.Now(),
		},
	)
}

// spillAt is how much of a flowing reply, in bytes, is held in memory.
const spillAt = 8 << 20

//nolint:gochecknoglobals // a table: it is never written to
var tlsVersions = map[string]uint16{
	"1.0": tls.VersionTLS10,
	"1.1": tls.VersionTLS11,
	"1.2": tls.VersionTLS12,
	"1.3": tls.VersionTLS13,
}

// resolver is who is asked for addresses; nil: whom this machine asks.
func (c *network) resolver() *net.Resolver {
	at, err := endpoint.ParseServer(c.plan.Settings.Text("resolver"))
	if err != nil || c.plan.Resolver != nil {
		return c.plan.Resolver
	}
	return wire.ResolverAt(at)
}

// config turns the settings into what the wire needs.
func (c *network) config() wire.Config {
	s := &c.plan.Settings
	cfg := wire.Config{
		Until:        c.plan.Until,
		Resolver:     c.resolver(),
		Pool:         c.plan.Pool,
		Certificates: c.material.certs,
		ServerName:   s.Text("server-name"),
		Proxy:        c.throughProxy(),
		Chunked:      s.Text("transfer") == "chunked" && c.plan.fetch == nil,
		Expect:       s.Switch("expect-continue"),
	}
	if cfg.Chunked {
		cfg.Trailer = fieldsIn(s, "trailer")
	}
	cfg.Host, cfg.Port = endpoint.HostPort(c.url)
	if cfg.IP = s.Text("ip"); len(c.followed) == 0 { // elsewhere it means nothing
		cfg.ConnectTo = s.Text("connect-to")
	}
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
	if c.plan.SkipVerify {
		cfg.Pool = nil
	}
	if cfg.Pool != nil {
		cfg.Principal, cfg.TrustedBy = c.principal(), c.trustedBy()
	}
	if c.credentials.ntlm != noNTLM && cfg.Pool == nil { // it is the connection that is authenticated
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
	if len(c.material.certs) == 0 && c.plan.Candidates != nil && !c.plan.SkipVerify {
		cfg.Choose = c.choose
	}
	if c.material.keyLog != nil {
		cfg.KeyLog = c.material.keyLog
	}
	if w := c.plan.imported; w != nil {
		c.ofAnother(&cfg, w)
	}
	name := cfg.ServerName
	if name == "" {
		name = cfg.Host
	}
	cfg.Judge = func(chain []*x509.Certificate) *trust.Verdict { return c.judge(chain, name) }
	cfg.Standing = c.standing(s.Text("revocation"))
	return cfg
}

// standing asks who, where that is wanted, can tell whether certificates were revoked.
func (c *network) standing(how string) func(context.Context, []*x509.Certificate, []byte) []exchange.Standing {
	if how == "off" || how == "" || c.plan.SkipVerify {
		return nil
	}
	a := &revocation.Asker{Now: time.Now()}
	if how == "asked" {
		a.Client = revocation.Client()
	}
	return a.Standings
}

// relayedLimit is how many bytes of an answer are passed on where no limit is set.
const relayedLimit = 16 << 30

// ofAnother is how another program's exchange crosses. One that was made elsewhere is
// played. One that is relayed has its answer given on as it comes; limits that nobody set
// are none there: the program has its own. What is too large for memory goes to disk.
func (c *network) ofAnother(cfg *wire.Config, w *Imported) {
	s := &c.plan.Settings
	if !w.relayed {
		var end error
		switch w.Ended {
		case ResetByServer:
			end = syscall.ECONNRESET
		case GivenUp:
			end = os.ErrDeadlineExceeded
		}
		cfg.Conn, cfg.TLS, cfg.Chunked, cfg.Expect = played{bytes.NewReader(w.Reply), end}, false, false, false
		return
	}
	cfg.Pass = w.Pass
	if !s.Get("receive-limit").IsSet() {
		cfg.ReceiveLimit = relayedLimit
	}
	if !s.Get("inflated-limit").IsSet() {
		cfg.InflatedLimit = relayedLimit
	}
	if !s.Get("buffer-limit").IsSet() && !s.Get("intake").IsSet() {
		cfg.Spill, cfg.BufferLimit = spillAt, 0
	}
}

// throughProxy is the proxy, with how its own certificate is judged: what is said of
// the service's does not hold for it.
func (c *network) throughProxy() *wire.Proxy {
	if c.proxy == nil {
		return nil
	}
	p := *c.proxy
	policy := trust.Policy{Trusted: c.material.trusted, System: c.plan.Settings.Switch("system-trust"), Host: p.Host,
		Usage: x509.ExtKeyUsageServerAuth}
	p.TLS = &tls.Config{
		ServerName:         p.Host,
		InsecureSkipVerify: true,
		VerifyConnection: func(cs tls.ConnectionState) error {
			judged := policy
			judged.Now = time.Now()
			if v := trust.Judge(cs.PeerCertificates, judged); len(v.Faults) > 0 {
				return v
			}
			return nil
		},
	}
	return &p
}

// trustedBy is by what the server's certificate is judged: connections that are kept
// are not shared where it differs. "" without TLS.
func (c *network) trustedBy() string {
	if c.url.Scheme != "https" {
		return ""
	}
	s := &c.plan.Settings
	parts := make([]string, 0, 7)
	for _, key := range []string{"trust", "intermediates", "pin", "system-trust", "accept-name", "accept-expired",
		"revocation"} {
		parts = append(parts, s.Text(key))
	}
	return strings.Join(parts, "\x00")
}

// principal is on whose behalf the call is made over HTTP: connections that are
// kept are not shared between two. Secrets in it are only told apart.
func (c *network) principal() string {
	s := &c.plan.Settings
	parts := []string{
		s.Text("connect-to"), s.Text("ip"),
		c.credentials.user,
		c.credentials.password,
		s.Text("identity"),
		s.Text("client-identity"),
		s.Text("session"),
		c.session.field,
		c.session.value,
	}
	switch kind := s.Text("http-auth"); kind {
	case "none":
	case "basic", "bearer":
		parts = append(parts, kind, c.credentials.authorization)
	default:
		parts = append(parts, kind)
	}
	for _, f := range fieldsOfSettings(s) {
		if c.secretNames().Name(f[0]) {
			parts = append(parts, f[0], f[1])
		}
	}
	all := strings.Join(parts, "\x00")
	if strings.Trim(all, "\x00") == "" {
		return "" // nobody's
	}
	sum := sha256.Sum256([]byte(all))
	return hex.EncodeToString(sum[:])
}

// callRequest is the request of a call.
func callRequest(c *network) wire.Request {
	s := &c.plan.Settings
	req := c.request("POST", c.envelope)
	req.Secret = c.secrets
	req.Header = append(
		req.Header,
		soap.HTTPHeaders(sentVersion(&c.base, c.draft), s.Text("charset"), c.action, c.hasAction)...)
	c.packed(&req)
	if n := len(c.front); len(req.Body) > 0 && n > 0 && &c.front[:n+1][n] == &req.Body[0] {
		req.Front, c.front = c.front, nil // later legs have a head of their own
	}
	if c.credentials.ntlm == negotiating { // what it is about follows once the server knows who calls
		req.Body, req.Secret = nil, nil
	}
	c.coded(&req)
	if s.Text("transfer") == "chunked" {
		req.Header = append(req.Header, [2]string{"Transfer-Encoding", "chunked"})
		var names []string
		for _, f := range fieldsIn(s, "trailer") {
			names = append(names, f[0])
		}
		if names != nil { // RFC 9110 §6.6.2
			req.Header = append(req.Header, [2]string{"Trailer", strings.Join(names, ", ")})
		}
	} else {
		req.Header = append(req.Header, [2]string{"Content-Length", strconv.Itoa(len(req.Body))})
	}
	if s.Switch("expect-continue") {
		req.Header = append(req.Header, [2]string{"Expect", "100-continue"})
	}
	return c.completed(req)
}

// coded compresses the body, where that is set (RFC 9110 §8.4). In what is compressed no secret has a
// place of its own: where there is any, all of it is one.
func (c *network) coded(req *wire.Request) {
	if c.plan.Settings.Text("request-coding") != "gzip" || len(req.Body) == 0 || !req.Rest.IsZero() {
		return
	}
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, _ = z.Write(req.Body) // into memory
	_ = z.Close()
	req.Plain, req.PlainSecret, req.Front = req.Body, req.Secret, nil
	if req.Body = out.Bytes(); len(req.Secret) > 0 {
		req.Secret = []exchange.Span{{Length: int64(len(req.Body))}}
	}
	req.Header = append(req.Header, [2]string{"Content-Encoding", "gzip"})
	c.rec.Fact(exchange.Send, "compressed", fmt.Sprintf("gzip, %s bytes of %s",
		endpoint.Bytes(int64(len(req.Body))), endpoint.Bytes(int64(len(req.Plain)))))
}

// fetchRequest is the request for a description.
func fetchRequest(c *network) wire.Request {
	req := c.request("GET", nil)
	req.Header = append(req.Header, [2]string{"Accept", "text/xml, application/xml, */*;q=0.5"})
	return c.completed(req)
}

// logInRequest is the request of a log-in, whose body was made before.
func logInRequest(c *network) wire.Request {
	f := c.plan.fetch
	req := c.request("POST", f.post)
	for _, secret := range f.secrets {
		if at := bytes.Index(req.Body, []byte(secret)); at >= 0 && secret != "" {
			req.Secret = append(req.Secret, exchange.Span{Offset: int64(at), Length: int64(len(secret))})
		}
	}
	req.Header = append(req.Header, [2]string{"Content-Length", strconv.Itoa(len(req.Body))})
	return c.completed(req)
}

// request begins a request with the fields that all have.
func (c *network) request(method string, body []byte) wire.Request {
	req := wire.Request{Method: method, Target: c.url.RequestURI(), Header: make([][2]string, 0, 12), Body: body}
	req.Header = append(req.Header, [2]string{"Host", c.url.Host}, [2]string{"User-Agent", c.plan.Agent})
	return req
}

// completed adds the fields that settings ask for to a request.
func (c *network) completed(req wire.Request) wire.Request {
	s := &c.plan.Settings
	add := func(name, value string) { req.Header = append(req.Header, [2]string{name, value}) }
	switch how := s.Text("compression"); how {
	case "gzip", "deflate":
		add("Accept-Encoding", how)
	case "any":
		add("Accept-Encoding", "gzip, deflate")
	}
	if c.credentials.authorization != "" {
		add("Authorization", c.credentials.authorization)
	}
	req.Header = append(req.Header, c.sessionHeader()...)
	if s.Switch("trace-header") {
		t := exchange.NewTrace("", "")
		c.rec.Update(func(x *exchange.Exchange) { x.Trace = t })
		add("traceparent", t.Header())
	}
	if c.plan.Pool == nil && !s.Switch("keep-alive") && c.credentials.ntlm != negotiating {
		add("Connection", "close")
	}
	for _, f := range fieldsIn(s, "header") {
		c.put(&req, f[0], f[1])
	}
	names := c.secretNames()
	req.SecretHeader = func(name string) bool {
		return names.Name(name) || c.session.field != "" && strings.EqualFold(name, c.session.field)
	}
	return req
}

// put adds a field that a setting asks for, or replaces what is there.
func (c *network) put(req *wire.Request, name, value string) {
	there := false
	for i, f := range req.Header {
		if !strings.EqualFold(f[0], name) {
			continue
		}
		there = true
		for _, t := range toldWhenReplaced() {
			if strings.EqualFold(t, name) && f[1] != value {
				c.replaced = append(c.replaced, [3]string{t, f[1], value})
			}
		}
		req.Header[i] = [2]string{name, value}
	}
	if !there {
		req.Header = append(req.Header, [2]string{name, value})
	}
}

// toldWhenReplaced are the header fields whose replacement is told.
func toldWhenReplaced() []string {
	return []string{"Host", "Content-Type", "Content-Length", "Transfer-Encoding", "SOAPAction"}
}

// run goes over the wire, and puts what was seen into the record.
func (c *network) run(ctx context.Context) (exchange.Stage, error) {
	err := c.cross(ctx)
	if err == nil {
		err = c.await(ctx)
	}
	c.held.Close()
	c.notes()
	if we, ok := errors.AsType[*wire.Error](err); ok {
		return we.Stage, err
	}
	return exchange.Receive, err
}

// cross goes over the wire, and once more for each redirect that is followed: always
// as the POST that it was, and with the identity only where that may go.
func (c *network) cross(ctx context.Context) error {
	purpose := ""
	for hop := 0; ; hop++ {
		req := c.compose(c)
		req.Purpose = purpose
		leg, err := wire.Do(ctx, c.config(), req, c.rec)
		c.leg = leg
		if err == nil && c.challenged(leg, req.Method, req.Target) {
			purpose = "challenge"
			hop--
			continue
		}
		if err == nil && c.expired(leg) && c.renewed(ctx) { // once: what was opened now is not kept from before
			purpose = "session"
			hop--
			continue
		}
		if err != nil || hop == maxRedirects || !c.follow || c.plan.Settings.Text("redirects") != "follow" {
			return err
		}
		to := c.redirect(leg)
		if to == nil {
			return nil
		}
		said := withoutPassword(to.String())
		c.rec.Fact(
			exchange.Receive,
			fmt.Sprintf("redirect %d", hop+1),
			fmt.Sprintf("%d to %s, followed as a POST", leg.Response.Status, said),
		)
		c.followed = append(c.followed, said)
		c.url, purpose = to, "redirect"
	}
}

// redirect is where an answer sends the call, if it may go there as it is.
func (c *network) redirect(leg *exchange.Leg) *url.URL {
	h := &leg.Response
	switch h.Status {
	case 301, 302, 307, 308:
	default:
		return nil // 303 wants a GET (RFC 9110 §15.4.4)
	}
	to, err := c.url.Parse(h.Get("Location"))
	if err != nil || h.Get("Location") == "" || to.Scheme != "http" && to.Scheme != "https" ||
		c.url.Scheme == "https" && to.Scheme == "http" {
		return nil
	}
	if !c.mayGo(to) {
		return nil
	}
	return to
}

// renewed opens the session anew.
func (c *network) renewed(ctx context.Context) bool {
	s := &securing{base: c.base, addressed: addressed{c.url}, bound: c.bound, composed: c.composed, secured: c.secured}
	if s.openSession(ctx, true) != nil {
		return false
	}
	c.session, c.sessionKept = s.session, s.sessionKept
	return true
}

// mayGo tells whether what the call carries, or would show when asked, may go to
// another place.
func (c *network) mayGo(to *url.URL) bool {
	host, port := endpoint.HostPort(to)
	if h, p := endpoint.HostPort(c.url); h == host && p == port && to.Scheme == c.url.Scheme {
		return true
	}
	s := &c.plan.Settings
	for _, f := range fieldsOfSettings(s) {
		if c.secretNames().Name(f[0]) {
			return false
		}
	}
	var who []string
	if c.session.field != "" || c.session.token != nil {
		who = append(who, s.Text("session"))
	}
	if c.credentials.authorization != "" || c.credentials.password != "" || len(c.secrets) > 0 {
		who = append(who, s.Text("identity"))
	}
	if len(c.material.certs) > 0 {
		who = append(who, cmp.Or(c.chosen, s.Text("client-identity")))
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
	for _, f := range fieldsOfSettings(s) {
		out = append(out, fieldSecrets(f[0], f[1], s.List("secret"))...)
	}
	return out
}

// fieldsOfSettings are the fields that settings add, before the body and behind it.
func fieldsOfSettings(s *endpoint.Settings) [][2]string {
	return slices.Concat(fieldsIn(s, "header"), fieldsIn(s, "trailer"))
}

// fieldsIn are the fields of a setting that lists some.
func fieldsIn(s *endpoint.Settings, key string) (out [][2]string) {
	for _, f := range s.List(key) {
		name, value, _ := strings.Cut(f, ":")
		out = append(out, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
	}
	return out
}

// fieldSecrets are the secrets in a header field: its value, and what of it is
// the secret without the scheme or the name before it.
func fieldSecrets(name, value string, names exchange.SecretNames) (out []string) {
	if !names.Name(name) {
		return nil
	}
	out = append(out, value)
	for _, part := range strings.FieldsFunc(value, func(r rune) bool { return r == ' ' || r == ';' || r == ',' }) {
		if i := strings.IndexByte(part, '='); strings.EqualFold(name, "Cookie") && i >= 0 {
			part = part[i+1:]
		} else if strings.EqualFold(part, "Basic") || strings.EqualFold(part, "Bearer") || strings.EqualFold(part,
			"Digest") {
			continue
		}
		out = append(out, part)
	}
	return out
}

// secretNames are what is secret by its name or place, besides what always is.
func (c *base) secretNames() exchange.SecretNames {
	return exchange.SecretNames(c.plan.Settings.List("secret"))
}
