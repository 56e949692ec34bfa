package call

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// noToken is the note of a stage that puts no token into the message.
const noToken = "no token"

// forHTTP gives what the wire needs: certificates and keys, and what HTTP and the
// proxy want to know.
func (c *securing) forHTTP(ctx context.Context) (note string, err error) {
	if err := c.readMaterial(ctx); err != nil {
		return "", err
	}
	if err := c.proxyCredentials(ctx); err != nil {
		return "", err
	}
	if f := c.plan.fetch; f != nil {
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, f.secrets...) })
	}
	kind := c.plan.Settings.Text("http-auth")
	if kind == "none" {
		return noToken, nil
	}
	if err := c.authorize(ctx, kind); err != nil {
		return "", err
	}
	return "HTTP " + kind + " · " + noToken, nil
}

// run gives the message its security header.
func (c *securing) run(ctx context.Context) (string, error) {
	s := &c.plan.Settings
	first, err := c.forHTTP(ctx)
	if err != nil {
		return "", err
	}
	var notes []string
	if first != noToken {
		notes = append(notes, strings.TrimSuffix(first, " · "+noToken))
	}
	if err := c.openSession(ctx, false); err != nil {
		return "", err
	}
	if s.Text("session") != "" {
		notes = append(notes, "session")
	}
	c.demands()
	token, stamp, said, err := c.tokenAndTimestamp(ctx)
	if err != nil {
		return "", err
	}
	notes = append(notes, said...)
	tokens, err := c.otherTokens()
	if err != nil {
		return "", err
	}
	if len(tokens) > 0 {
		notes = append(notes, "token from file")
	}
	protected := len(c.named("sign"))+len(c.named("encrypt")) > 0
	if token == nil && stamp == nil && !protected && len(tokens) == 0 {
		c.optimise()
		return strings.Join(append(notes, noToken), " · "), c.encode(c.placesWithin())
	}
	h := wssec.BuildHeader(token, stamp, wssec.HeaderOptions{
		Version: sentVersion(&c.base, c.draft), Actor: s.Text("security-actor"),
		MayIgnore: !s.Switch("must-understand"), Tokens: tokens,
	})
	c.envelope, _ = insertHeader(c.envelope, h.XML)
	c.rec.Fact(exchange.Security, "header", strings.TrimSpace(masked(h)))
	more, err := c.protect(ctx)
	if err != nil {
		return "", err
	}
	c.optimise()
	return strings.Join(append(notes, more...), " · "), c.encode(c.secretPlaces(c.envelope))
}

// demands tells what the contract's policy demands, and what of it is set up.
func (c *securing) demands() {
	if c.plan.Contract == nil {
		return
	}
	var o *contract.Operation
	if c.plan.Port != nil {
		o = c.plan.Port.Operation(c.plan.Operation)
	}
	for i, d := range c.plan.Contract.DemandsOf(c.plan.Port, o) {
		said := d.Text
		if met, known := diagnose.Met(d, &c.plan.Settings, c.url.String()); known && met {
			said += " · set up"
		} else if known && !d.Optional {
			said += " · missing"
		}
		c.rec.Fact(exchange.Security, fmt.Sprintf("demand %d", i+1), said)
	}
}

// tokenAndTimestamp makes the user name token and the timestamp that are set; nil
// where none is. notes are both in words.
func (c *securing) tokenAndTimestamp(ctx context.Context) (
	token *wssec.Token, stamp *wssec.Timestamp, notes []string, err error,
) {
	s := &c.plan.Settings
	kind := s.Get("token")
	if err := kind.Key.Check(kind.Text); err != nil {
		return nil, nil, nil, &endpoint.ValueError{Key: kind.Key, Value: kind, Err: err}
	}
	life, err := s.Duration("timestamp")
	if err != nil || life < 0 {
		v := s.Get("timestamp")
		err = errors.Join(err, errors.New("it is not a life time"))
		return nil, nil, nil, &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
	}
	now, err := c.clock()
	if err != nil {
		return nil, nil, nil, err
	}
	if life > 0 {
		stamp = &wssec.Timestamp{Created: now, Life: life}
		notes = append(notes, "timestamp")
	}
	if kind.Text == "none" {
		return nil, stamp, notes, nil
	}
	user, password, err := c.userAndPassword(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	if password != "" {
		c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, password) })
	}
	token = c.userToken(user, password, wssec.PasswordType(kind.Text), now)
	return token, stamp, append(notes, "user name, "+kind.Text), nil
}

// otherTokens are those from files, and the assertion that a log-in gave.
func (c *securing) otherTokens() ([][]byte, error) {
	tokens, err := c.tokenFiles()
	if err == nil && c.session.token != nil {
		tokens = append(tokens, c.session.token)
		_ = c.asserted(c.session.token) // one that cannot be read is sent all the same
	}
	return tokens, err
}

// authorize makes the Authorization field (RFC 7617, RFC 6750), which the wire
// knows to be a secret.
func (c *securing) authorize(ctx context.Context, kind string) error {
	if kind == "negotiate" {
		host, port := endpoint.HostPort(c.url)
		id, err := c.identityFor(c.plan.Settings.Text("identity"), c.url.Scheme, host, port)
		if err != nil || c.plan.Peek {
			return err
		}
		return c.negotiateAs(ctx, id)
	}
	user, password, err := c.userAndPassword(ctx)
	if err != nil {
		return err
	}
	switch kind {
	case "digest", "asked": // told once the service asks
		c.credentials.user, c.credentials.password = user, password
	case "ntlm":
		c.credentials.user, c.credentials.password = user, password
		if err := c.credentials.negotiate(); err != nil {
			return err
		}
	case "bearer":
		c.credentials.authorization = "Bearer " + password
	case "basic":
		c.credentials.authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
	}
	if password != "" {
		c.rec.Update(func(x *exchange.Exchange) {
			x.Secrets = append(
				x.Secrets,
				password,
				c.credentials.authorization,
				strings.TrimPrefix(c.credentials.authorization, "Basic "),
			)
		})
	}
	c.rec.Fact(exchange.Security, "HTTP authentication", kind+" as "+user)
	return nil
}

func masked(h wssec.Header) string {
	out, at := "", 0
	for _, s := range h.Secrets {
		out += string(h.XML[at:s.Start]) + strings.Repeat("•", 8)
		at = s.End
	}
	return out + string(h.XML[at:])
}

func (c *securing) userAndPassword(ctx context.Context) (user, password string, err error) {
	if c.url == nil {
		return "", "", &endpoint.IdentityError{}
	}
	host, port := endpoint.HostPort(c.url)
	return c.identityAt(ctx, c.plan.Settings.Text("identity"), c.url.Scheme, host, port)
}

// identityFor gives an identity for a place where it may be used. It is the only way
// to one that a setting names: neither a secret nor a key nor a certificate of it is
// used for a place that was not approved.
func (c *securing) identityFor(name, scheme, host, port string) (*identity.Identity, error) {
	if c.plan.Identity == nil || name == "" {
		return nil, &endpoint.IdentityError{Name: name}
	}
	id, err := c.plan.Identity(name)
	if err != nil {
		return nil, err
	}
	if c.plan.Allowed != nil && !c.plan.Allowed(id.Name, scheme, host, port) {
		return nil, &endpoint.HostNewError{Identity: id.Name, Scheme: scheme, Host: host, Port: port}
	}
	// Where a setting leads the connection elsewhere, the identity goes there.
	if to := c.plan.Settings.Get("connect-to"); to.Text != "" && to.Source != "this call" && c.plan.Allowed != nil {
		h, p, err := net.SplitHostPort(to.Text)
		if err != nil || !c.plan.Allowed(id.Name, scheme, h, p) {
			return nil, &endpoint.HostNewError{Identity: id.Name, Scheme: scheme, Host: h, Port: p}
		}
	}
	return id, nil
}

// identityHere gives an identity for the service that is called, with the password
// of its key where it has one.
func (c *securing) identityHere(ctx context.Context, name string) (*identity.Identity, string, error) {
	host, port := endpoint.HostPort(c.url)
	id, err := c.identityFor(name, c.url.Scheme, host, port)
	if err != nil || id.Secret == "" || c.plan.Peek {
		return id, "", err
	}
	_, password, err := c.identityAt(ctx, name, c.url.Scheme, host, port)
	return id, password, err
}

// identityAt is the user and the password of an identity, for a place where it
// may be used.
func (c *securing) identityAt(ctx context.Context, name, scheme, host, port string) (user, password string, err error) {
	id, err := c.identityFor(name, scheme, host, port)
	if err != nil {
		return "", "", err
	}
	if c.plan.Peek {
		return id.User, "", nil
	}
	password, err = id.Reveal(ctx)
	c.rec.Fact(exchange.Security, "user", id.User)
	return id.User, password, err
}

// insertHeader puts a header block into an envelope: into its header where it
// has one, else before its body. The prefix soap is bound on the way.
func insertHeader(envelope, block []byte) (out []byte, at int) {
	d, err := xmltree.Parse(envelope, xmltree.Limits{})
	e := soap.Read(d)
	if err != nil || e == nil {
		return envelope, 0
	}
	ns := e.Version.Namespace()
	text := string(block)
	if uri, ok := d.Root().Lookup("soap"); !ok || uri != ns {
		text = strings.Replace(text, "<wsse:Security ", `<wsse:Security xmlns:soap="`+ns+`" `, 1)
	}
	shift := len(text) - len(block)
	prefix := "soap"
	if q := e.Doc.Root().Name().Prefix; q != "" {
		prefix = q + ":"
	} else {
		prefix = ""
	}
	var pos int
	switch {
	case !e.Header.IsZero() && e.Header.Inner().Start == e.Header.Span().End: // <soap:Header/>
		s := e.Header.Span()
		open := strings.TrimRight(strings.TrimSuffix(string(envelope[s.Start:s.End]), "/>"), " ") + ">\n"
		text = open + text + "\n  </" + e.Header.Name().Qualified() + ">"
		return []byte(string(envelope[:s.Start]) + text + string(envelope[s.End:])), s.Start + len(open) + shift
	case !e.Header.IsZero():
		pos = e.Header.Inner().Start
		text = "\n" + text
		return []byte(string(envelope[:pos]) + text + string(envelope[pos:])), pos + 1 + shift
	}
	pos = e.Body.Span().Start
	open := "<" + prefix + "Header>\n"
	text = open + text + "\n  </" + prefix + "Header>\n  "
	return []byte(string(envelope[:pos]) + text + string(envelope[pos:])), pos + len(open) + shift
}

// encode writes the envelope in the encoding that is set. secrets are the
// borders of what is secret in it: begin, end, begin, end.
func (c *securing) encode(secrets []int) error {
	v := c.plan.Settings.Get("charset")
	out, moved, err := soap.Encode(c.envelope, v.Text, secrets)
	if err != nil {
		return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
	}
	c.envelope = out
	for i := 0; i+1 < len(moved); i += 2 {
		c.secrets = append(c.secrets, exchange.Span{Offset: int64(moved[i]), Length: int64(moved[i+1] - moved[i])})
	}
	c.size = int64(len(c.envelope))
	return nil
}

// proxyCredentials is who the proxy is told that the call is from.
func (c *securing) proxyCredentials(ctx context.Context) (err error) {
	if c.proxy == nil {
		return nil
	}
	p := *c.proxy
	c.proxy = &p
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
