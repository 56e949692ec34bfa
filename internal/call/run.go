package call

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wire"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Call is a call that was planned, runs, or has run.
type Call struct {
	plan Plan
	rec  *exchange.Recorder
	c    diagnose.Case

	url       *url.URL
	envelope  []byte
	secrets   []exchange.Span
	hasAct    bool
	action    string
	trusted   []*x509.Certificate
	middle    []*x509.Certificate
	certs     []tls.Certificate
	keyLog    *os.File
	openers   []wssec.Opener // keys that may open what is encrypted in the reply
	leg       *exchange.Leg
	attached  attached // what is sent beside the envelope
	token     *wssec.Token
	assertion *wssec.Assertion // that is sent

	authorization string // the field's value, "" for none
	user, word    string // for authentication that is asked for
	ntlm          ntlmStep
	session       session
	sessionKept   bool      // it is from an earlier call
	held          wire.Pool // the connection that NTLM goes over
	proxy         *wire.Proxy
}

// New prepares a call. notify, which may be nil, is called whenever the record
// has changed; it must not block.
func New(p Plan, notify func()) *Call {
	var r [4]byte
	_, _ = rand.Read(r[:])
	now := time.Now()
	x := &exchange.Exchange{
		ID: exchange.NewID(now, binary.LittleEndian.Uint32(r[:])), Started: now, Workspace: p.Workspace, Contract: p.ContractName, Operation: p.Operation,
		Draft: p.DraftName, Endpoint: p.Endpoint, Environment: p.Environment, Changes: p.Changes,
	}
	if p.fetch != nil {
		x.Kind = "fetch"
	}
	c := &Call{plan: p, rec: exchange.NewRecorder(x, notify)}
	c.c = diagnose.Case{X: x, Settings: &c.plan.Settings, Contract: p.Contract, Port: p.Port, Served: p.Served, Environment: p.Environment, Variables: p.Variables,
		Identities: p.Identities, Shares: p.Shares, History: p.History, Fetch: p.fetch != nil, Aside: p.Aside, Anything: p.AcceptAnything}
	if p.Port != nil {
		c.c.Operation = p.Port.Operation(p.Operation)
	}
	x.Settings, x.Secrets = record(&c.plan.Settings), headerSecrets(&c.plan.Settings)
	return c
}

// record lists the settings. A token type that is none is not repeated: people
// put the password there.
func record(s *endpoint.Settings) []exchange.Setting {
	out := s.Record()
	for i := range out {
		if out[i].Key == "token" && endpoint.KeyOf("token").Check(out[i].Value) != nil {
			out[i].Value = "(not a type; not shown)"
		}
	}
	return out
}

// Snapshot is the record as it is now.
func (c *Call) Snapshot() *exchange.Exchange { return c.rec.Snapshot() }

// Run takes the call down the path. The record is complete when it returns.
func (c *Call) Run(ctx context.Context) *exchange.Exchange {
	total, err := c.plan.Settings.Duration("total-time")
	if err == nil && total > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, total, wire.ErrTotalTime)
		defer cancel()
	}
	stage, err := c.path(ctx)
	if c.keyLog != nil {
		c.keyLog.Close()
	}
	c.held.Close()
	x := c.rec.Exchange()
	c.c.Err = err
	state, outcome := exchange.Passed, exchange.OutcomePassed
	if err != nil {
		state, outcome = exchange.Stopped, exchange.OutcomeStopped
		var we *wire.Error
		if errors.Is(err, context.Canceled) || errors.As(err, &we) && we.Kind == "cancelled" {
			state, outcome = exchange.Cancelled, exchange.OutcomeCancelled
		}
		c.rec.End(stage, state, "")
	}
	var findings []exchange.Finding
	if outcome != exchange.OutcomeCancelled {
		findings = diagnose.Run(&c.c)
	}
	var memory *exchange.Memory
	if outcome == exchange.OutcomeStopped {
		memory = diagnose.Remember(&c.c, findings)
	}
	now := c.rec.Now()
	c.rec.Update(func(x *exchange.Exchange) {
		x.TotalNs = now
		x.Memory = memory
		x.Outcome = outcome
		if outcome == exchange.OutcomeStopped {
			x.StoppedAt = stage
		}
		x.Findings = findings
		for _, f := range findings {
			if st := x.Stage(f.Stage); f.Severity == exchange.Warn && st.State == exchange.Passed {
				st.State = exchange.Warned
			}
		}
		if (x.Result == "" || stage == exchange.Verify) && outcome == exchange.OutcomeStopped && len(findings) > 0 {
			x.Result = findings[0].Title
		}
	})
	return x
}

// step runs one stage that needs no network.
func (c *Call) step(ctx context.Context, s exchange.Stage, do func() (note string, err error)) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	c.rec.Begin(s)
	note, err := do()
	if err != nil {
		if note != "" {
			c.rec.Update(func(x *exchange.Exchange) { x.Stage(s).Note = note })
		}
		return err
	}
	c.rec.End(s, exchange.Passed, note)
	return nil
}

// path goes from stage to stage, and says at which it stopped, and why.
func (c *Call) path(ctx context.Context) (exchange.Stage, error) {
	if c.plan.Unsettled != nil {
		c.rec.End(exchange.Address, exchange.Skipped, "no endpoint is settled")
		c.rec.Begin(exchange.Binding)
		return exchange.Binding, c.plan.Unsettled
	}
	if c.plan.witnessed != nil {
		if stage, err := c.settled(); err != nil {
			return stage, err
		}
		return c.across(ctx)
	}
	home := []struct {
		stage exchange.Stage
		do    func() (string, error)
	}{
		{exchange.Address, c.address}, {exchange.Binding, c.binding}, {exchange.Message, c.message}, {exchange.Security, func() (string, error) { return c.security(ctx) }},
	}
	for _, h := range home {
		if c.plan.fetch != nil && h.stage == exchange.Message {
			c.rec.End(h.stage, exchange.Skipped, "a description is fetched")
			continue
		}
		if err := c.step(ctx, h.stage, h.do); err != nil {
			return h.stage, err
		}
		if c.done(h.stage) {
			return h.stage, nil
		}
	}
	return c.across(ctx)
}

// across goes over the wire, and to the end of the path.
func (c *Call) across(ctx context.Context) (exchange.Stage, error) {
	err := c.wire(ctx)
	if c.plan.witnessed != nil {
		defer c.untouched()
	}
	if err != nil {
		var we *wire.Error
		if errors.As(err, &we) {
			c.notes()
			return we.Stage, err
		}
		return exchange.Receive, err
	}
	c.notes()
	if u := c.plan.Until; u != exchange.None && u <= exchange.Receive {
		return u, nil
	}
	if c.plan.fetch != nil {
		return c.readDescription(ctx)
	}
	return c.answer(ctx)
}

func (c *Call) done(s exchange.Stage) bool { return c.plan.Until == s }

func (c *Call) address() (string, error) {
	if c.plan.EnvError != nil {
		return "", c.plan.EnvError
	}
	v := c.plan.Settings.Get("address")
	c.rec.Fact(exchange.Address, "template", v.Text)
	set, err := c.plan.Settings.Expand(c.plan.Environment, c.plan.Variables)
	if err != nil {
		return v.Text, c.withheld(err)
	}
	c.plan.Settings = set
	c.rec.Update(func(x *exchange.Exchange) {
		written := x.Settings
		if !slices.ContainsFunc(written, func(s exchange.Setting) bool { return strings.Contains(s.Value, "$") }) {
			return
		}
		x.Settings, x.Secrets = record(&c.plan.Settings), append(x.Secrets, headerSecrets(&c.plan.Settings)...)
		for i, s := range written { // both are in the order of the table
			if x.Settings[i].Value != s.Value {
				x.Settings[i].Template = s.Value
			}
		}
	})
	for _, name := range endpoint.Variables(v.Text) {
		if value, set := c.plan.Variables[name]; set {
			c.rec.Fact(exchange.Address, name, value)
		}
	}
	resolved, err := endpoint.Expand(v.Text, c.plan.Environment, c.plan.Variables)
	if err != nil {
		return v.Text, c.withheld(err)
	}
	u, err := endpoint.ParseAddress(resolved)
	c.rec.Fact(exchange.Address, "resolved", withoutPassword(resolved))
	if err != nil {
		return withoutPassword(resolved), err
	}
	c.url = u
	return withoutPassword(resolved), nil
}

// withheld says of a variable without a value whether one was kept back.
func (c *Call) withheld(err error) error {
	if e, ok := errors.AsType[*endpoint.UnsetError](err); ok {
		e.Withheld = c.plan.Withheld[e.Name]
	}
	return err
}

func withoutPassword(address string) string {
	if u, err := url.Parse(address); err == nil && u.User != nil {
		return u.Redacted()
	}
	return address
}

func (c *Call) binding() (string, error) {
	s := &c.plan.Settings
	for i := range endpoint.Keys {
		k := &endpoint.Keys[i]
		v := s.Of(k)
		if v.Text == "" || k.Stage == exchange.Security {
			continue
		}
		if err := k.Check(v.Text); err != nil && k.Kind != endpoint.List {
			return "", &endpoint.ValueError{Key: k, Value: v, Err: err}
		}
	}
	if total, err := s.Duration("total-time"); err == nil {
		if connect, err := s.Duration("connect-time"); err == nil && total > 0 && total < connect {
			v := s.Get("total-time")
			return "", &endpoint.ValueError{Key: v.Key, Value: v, Err: fmt.Errorf("the whole call is given %s, less than the %s for connecting alone", v.Text, s.Text("connect-time"))}
		}
	}
	if err := c.settleProxy(); err != nil {
		return "", err
	}
	if c.plan.fetch != nil {
		return "GET", nil
	}
	if buffer, b := s.Get("buffer-limit"), s.Text("intake") == "whole" && s.Switch("strict-buffer"); b && buffer.IsSet() {
		have, _ := s.Size("buffer-limit")
		want, _ := s.Size("receive-limit")
		if have != want {
			return "", errors.New("the buffer limit is not the receive limit")
		}
	}
	v := s.Get("action")
	c.hasAct, c.action = true, v.Text
	switch {
	case v.Text == "none":
		c.hasAct, c.action = false, ""
	case v.Source == "default" && c.c.Operation != nil:
		c.hasAct, c.action = c.c.Operation.HasAction, c.c.Operation.Action
	}
	port := c.plan.Port
	if port != nil {
		c.rec.Fact(exchange.Binding, "port", port.Name+" · "+port.Style+" · SOAP "+port.Version.String())
		if o := c.c.Operation; o != nil {
			c.rec.Fact(exchange.Binding, "operation", o.Signature())
			c.rec.Fact(exchange.Binding, "contract's action", o.Action)
		}
	}
	c.rec.Fact(exchange.Binding, "action sent", c.action)
	intake := "taken in whole"
	if s.Text("intake") == "flowing" {
		intake = "taken in flowing"
	}
	return "SOAP " + s.Text("soap") + " · " + intake, nil
}

func (c *Call) version() soap.Version {
	v, _ := soap.ParseVersion(c.plan.Settings.Text("soap"))
	return v
}

func (c *Call) message() (string, error) {
	d := c.plan.Draft
	c.c.Draft = d
	if err := d.Err(); err != nil {
		return "", err
	}
	h := c.plan.Header
	if d.Envelope() != nil {
		h = nil
	}
	if c.c.Header = h; h != nil && h.Err() != nil {
		return "", h.Err()
	}
	if c.plan.Expand {
		var err error
		if d, err = c.expand(d); err == nil && h != nil {
			h, err = c.expand(h)
		}
		if err != nil {
			return "", err
		}
		c.c.Draft, c.c.Header = d, h
	}
	d, err := c.attach(d)
	if err != nil {
		return "", err
	}
	out := d.Outgoing()
	if d.Envelope() != nil {
		c.envelope = out
		c.rec.Fact(exchange.Message, "envelope", "the draft's own, byte for byte")
	} else {
		c.envelope, _ = soap.Build(c.version(), h.Blocks(), out)
	}
	c.addressing()
	if c.plan.Settings.Switch("validate") {
		c.c.Invalid = d.Validate()
		if h != nil {
			c.c.HeaderInvalid = h.Validate()
		}
	}
	c.c.Size = int64(len(c.envelope)) + c.attached.more
	note := diagnose.Bytes(c.c.Size) + " B"
	if n := len(c.attached.parts); n == 1 {
		note += " · 1 part"
	} else if n > 1 {
		note += fmt.Sprintf(" · %d parts", n)
	}
	switch {
	case d.Decl == nil:
	case len(c.c.Invalid)+len(c.c.HeaderInvalid) > 0:
		note += " · " + faults(len(c.c.Invalid)+len(c.c.HeaderInvalid))
	case len(d.Unfilled())+len(h.Unfilled()) > 0:
		note += fmt.Sprintf(" · %d to fill", len(d.Unfilled())+len(h.Unfilled()))
	default:
		note += " · valid"
	}
	for _, b := range h.Blocks() {
		c.rec.Fact(exchange.Message, "header block", diagnose.Excerpt(b))
	}
	c.rec.Fact(exchange.Message, "size", diagnose.Bytes(c.c.Size)+" bytes")
	c.rec.Update(func(x *exchange.Exchange) { x.Inputs = d.Inputs() })
	limit, err := c.plan.Settings.Size("send-limit")
	if err == nil && limit > 0 && c.c.Size > limit {
		return note, &diagnose.TooLargeError{Size: c.c.Size, Limit: limit}
	}
	return note, nil
}

func faults(n int) string {
	if n == 1 {
		return "1 fault"
	}
	return fmt.Sprintf("%d faults", n)
}

// expand puts variables into a draft.
func (c *Call) expand(d *message.Draft) (*message.Draft, error) {
	escaped := make(map[string]string, len(c.plan.Variables))
	for name, v := range c.plan.Variables {
		escaped[name] = xmltree.EscapeAttr(v)
	}
	out, err := endpoint.Expand(string(d.Bytes()), c.plan.Environment, escaped)
	if err != nil {
		return d, err
	}
	return message.NewDraft(d.Schemas, d.Decl, []byte(out)), nil
}

func (c *Call) security(ctx context.Context) (string, error) {
	s := &c.plan.Settings
	if err := c.material(ctx); err != nil {
		return "", err
	}
	if err := c.proxyCredentials(ctx); err != nil {
		return "", err
	}
	var notes []string
	if kind := s.Text("http-auth"); kind != "none" {
		if err := c.authorize(ctx, kind); err != nil {
			return "", err
		}
		notes = append(notes, "HTTP "+kind)
	}
	if c.plan.fetch != nil {
		for _, word := range c.plan.fetch.secrets {
			c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, word) })
		}
		return strings.Join(append(notes, "no token"), " · "), nil
	}
	if err := c.openSession(ctx, false); err != nil {
		return "", err
	}
	if s.Text("session") != "" {
		notes = append(notes, "session")
	}
	if c.plan.Contract != nil {
		for i, d := range c.plan.Contract.Demands {
			c.rec.Fact(exchange.Security, fmt.Sprintf("demand %d", i+1), d.Text)
		}
	}
	kind := s.Get("token")
	if err := kind.Key.Check(kind.Text); err != nil {
		return "", &endpoint.ValueError{Key: kind.Key, Value: kind, Err: err}
	}
	life, err := s.Duration("timestamp")
	if err != nil || life < 0 {
		v := s.Get("timestamp")
		return "", &endpoint.ValueError{Key: v.Key, Value: v, Err: errors.Join(err, errors.New("it is not a life time"))}
	}
	var token *wssec.Token
	var stamp *wssec.Timestamp
	now, err := c.clock()
	if err != nil {
		return "", err
	}
	if life > 0 {
		stamp = &wssec.Timestamp{Created: now, Life: life}
		notes = append(notes, "timestamp")
	}
	if kind.Text != "none" {
		user, password, err := c.credentials(ctx)
		if err != nil {
			return "", err
		}
		token = c.userToken(user, password, wssec.PasswordType(kind.Text), now)
		notes = append(notes, "user name, "+kind.Text)
		if password != "" {
			c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, password) })
		}
	}
	tokens, err := c.tokenFiles()
	if err != nil {
		return "", err
	}
	if c.session.token != nil {
		tokens = append(tokens, c.session.token)
		c.asserted(c.session.token)
	}
	if len(tokens) > 0 {
		notes = append(notes, "token from file")
	}
	protected := len(c.named("sign"))+len(c.named("encrypt")) > 0
	if token == nil && stamp == nil && !protected && len(tokens) == 0 {
		c.optimise()
		return strings.Join(append(notes, "no token"), " · "), c.encode(nil)
	}
	h := wssec.BuildHeader(token, stamp, wssec.HeaderOptions{Version: c.sentVersion(), Actor: s.Text("security-actor"), MayIgnore: !s.Switch("must-understand"), Tokens: tokens})
	c.envelope, _ = insertHeader(c.envelope, h.XML)
	c.rec.Fact(exchange.Security, "header", strings.TrimSpace(masked(h)))
	more, err := c.protect(ctx)
	if err != nil {
		return "", err
	}
	c.optimise()
	return strings.Join(append(notes, more...), " · "), c.encode(passwords(c.envelope))
}

// authorize makes the Authorization field (RFC 7617, RFC 6750), which the wire
// knows to be a secret.
func (c *Call) authorize(ctx context.Context, kind string) error {
	user, password, err := c.credentials(ctx)
	if err != nil {
		return err
	}
	switch kind {
	case "digest", "asked": // told once the service asks
		c.user, c.word = user, password
	case "ntlm":
		c.user, c.word = user, password
		if err := c.negotiate(); err != nil {
			return err
		}
	case "bearer":
		c.authorization = "Bearer " + password
	case "basic":
		c.authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
	}
	if password != "" {
		c.rec.Update(func(x *exchange.Exchange) {
			x.Secrets = append(x.Secrets, password, c.authorization, strings.TrimPrefix(c.authorization, "Basic "))
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

func (c *Call) credentials(ctx context.Context) (user, password string, err error) {
	if c.url == nil {
		return "", "", &endpoint.IdentityError{}
	}
	host, port := endpoint.HostPort(c.url)
	return c.identityAt(ctx, c.plan.Settings.Text("identity"), c.url.Scheme, host, port)
}

// identityAt is the user and the password of an identity, for a place where it
// may be used.
func (c *Call) identityAt(ctx context.Context, name, scheme, host, port string) (user, password string, err error) {
	if c.plan.Identity == nil || name == "" {
		return "", "", &endpoint.IdentityError{Name: name}
	}
	id, err := c.plan.Identity(name)
	if err != nil {
		return "", "", err
	}
	if c.plan.Allowed != nil && !c.plan.Allowed(id.Name, scheme, host, port) {
		return "", "", &endpoint.HostNewError{Identity: id.Name, Scheme: scheme, Host: host, Port: port}
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

func (c *Call) sentVersion() soap.Version {
	if c.c.Draft != nil && c.c.Draft.Envelope() != nil {
		return c.c.Draft.Envelope().Version
	}
	return c.version()
}

// notes puts what was seen on the wire into the stages' short notes and facts.
func (c *Call) notes() {
	l := c.leg
	c.rec.Update(func(x *exchange.Exchange) {
		conn := x.Stage(exchange.Connect)
		if len(l.Conn.Resolved) > 0 {
			conn.Facts.Set("resolved", strings.Join(l.Conn.Resolved, ", "))
		}
		for _, t := range l.Conn.Tried {
			result := "connected"
			if t.Error != "" {
				result = t.Error
			}
			conn.Facts.Set("tried "+t.Address, result)
		}
		if l.Conn.Proxy != "" {
			conn.Facts.Set("through the proxy", l.Conn.Proxy)
		}
		if conn.Note == "" && l.Conn.Remote != "" {
			conn.Note = l.Conn.Remote
		}
		if t := l.Conn.TLS; t != nil {
			st := x.Stage(exchange.TLS)
			if steps := handshake(x); steps != "" {
				st.Facts.Set("handshake", steps)
			}
			if t.Version != "" {
				st.Facts.Set("version", t.Version)
				st.Facts.Set("cipher", t.Cipher)
				if st.Note == "" {
					st.Note = strings.TrimPrefix(t.Version, "TLS ")
				}
				if t.Protocol != "" {
					st.Facts.Set("protocol", t.Protocol)
				}
				if t.Stapled > 0 {
					st.Facts.Set("OCSP stapled", fmt.Sprintf("%d bytes", t.Stapled))
				}
				if t.Timestamps > 0 {
					st.Facts.Set("transparency", fmt.Sprintf("%d signed certificate timestamps", t.Timestamps))
				}
				if t.Trusted != "" {
					st.Facts.Set("verdict", "trusted: "+t.Trusted)
					st.Note = strings.TrimPrefix(t.Version, "TLS ") + " · trusted"
				}
			}
			for i, raw := range t.Chain {
				cert, err := x509.ParseCertificate(raw)
				if err != nil {
					continue
				}
				p := ""
				if len(t.Chain) > 1 {
					p = fmt.Sprintf("%d ", i+1)
				}
				st.Facts.Set(p+"certificate", cert.Subject.String())
				st.Facts.Set(p+"issued by", cert.Issuer.String())
				st.Facts.Set(p+"for", strings.Join(trust.Names(cert), ", "))
				st.Facts.Set(p+"valid", cert.NotBefore.UTC().Format("2006-01-02")+" to "+cert.NotAfter.UTC().Format("2006-01-02"))
				st.Facts.Set(p+"key", trust.KeyWords(cert))
				st.Facts.Set(p+"SHA-256", trust.Grouped(trust.Fingerprint(cert)))
			}
			if t.CertSent && len(c.certs) > 0 {
				st.Facts.Set("client certificate", c.certs[0].Leaf.Subject.String())
			}
			if t.CertAsked {
				st.Facts.Set("asks for a client certificate", orAny(strings.Join(t.Issuers, "; ")))
			}
			if t.Alert != "" {
				st.Facts.Set("alert", t.Alert)
			}
		}
		if n := len(l.Out); n > 0 {
			st := x.Stage(exchange.Send)
			st.Facts.Set("handed over", fmt.Sprintf("%s of %s bytes", diagnose.Bytes(int64(n)), diagnose.Bytes(l.Request.Size+l.Request.BodySize)))
			if st.Note == "" {
				st.Note = diagnose.Bytes(int64(n)) + " B"
			}
		}
		if h := &l.Response; h.Complete {
			st := x.Stage(exchange.Receive)
			st.Facts.SetAt("status", h.Line, exchange.InResponseHead, exchange.Span{Length: int64(len(h.Line))})
			if f := h.Field("Content-Type"); f != nil {
				st.Facts.SetAt("content type", f.Value, exchange.InResponseHead, f.Span)
			}
			size := diagnose.Bytes(h.BodySize) + " bytes"
			note := diagnose.Bytes(h.BodySize)
			if h.Declared >= 0 && h.Declared != h.BodySize {
				size = fmt.Sprintf("%s accepted of %s announced", diagnose.Bytes(h.BodySize), diagnose.Bytes(h.Declared))
				note += " of " + diagnose.Bytes(h.Declared)
			}
			st.Facts.Set("body", size)
			if h.Coding != "" {
				st.Facts.Set("compressed", fmt.Sprintf("%s, %s bytes as they came", h.Coding, diagnose.Bytes(h.WireSize)))
			}
			if h.Chunked {
				st.Facts.Set("chunks", fmt.Sprint(len(l.ChunkEnds)))
			}
			st.Note = note + " B"
		}
	})
}

// steps are the moments of a handshake, in words.
var steps = map[exchange.MomentKind]string{exchange.HelloSent: "hello", exchange.HelloReceived: "answered", exchange.ChainReceived: "chain", exchange.CertAsked: "certificate asked for", exchange.Alert: "alert", exchange.Handshaken: "done"}

// handshake lists them with their times since the stage began.
func handshake(x *exchange.Exchange) string {
	from := x.Stage(exchange.TLS).StartedNs
	var out []string
	for _, m := range x.Moments {
		if word := steps[m.Kind]; word != "" && m.Leg == len(x.Legs) {
			out = append(out, fmt.Sprintf("%s %.1f ms", word, float64(m.At-from)/1e6))
		}
	}
	return strings.Join(out, " · ")
}

func orAny(s string) string {
	if s == "" {
		return "from any authority"
	}
	return s
}

// answer is read and verified.
func (c *Call) answer(ctx context.Context) (exchange.Stage, error) {
	h := &c.leg.Response
	oneWay := c.c.Operation != nil && c.c.Operation.OneWay()
	body := c.leg.ResponseBody
	if len(body) == 0 && (h.Status == 202 || h.Status == 204 || oneWay && h.Status < 300) {
		for _, s := range []exchange.Stage{exchange.Read, exchange.Verify} {
			c.rec.End(s, exchange.Skipped, "no reply is due")
		}
		c.rec.Update(func(x *exchange.Exchange) { x.Result = "accepted" })
		return exchange.Verify, nil
	}
	c.rec.Begin(exchange.Read)
	if ctx.Err() != nil {
		return exchange.Read, ctx.Err()
	}
	limits := xmltree.Limits{}
	limits.Depth, _ = c.plan.Settings.Count("depth-limit")
	limits.Repeats, _ = c.plan.Settings.Count("repeat-limit")
	limits.Names, _ = c.plan.Settings.Count("name-limit")
	text, _ := c.plan.Settings.Size("text-limit")
	limits.Text = int(text)
	encoding := charset(h.Get("Content-Type"))
	if soap.IsRelated(h.Get("Content-Type")) {
		var err error
		if body, encoding, err = c.related(); err != nil {
			if stop := c.noAnswer(); stop != nil {
				return exchange.Receive, stop
			}
			return exchange.Read, err
		}
	} else if c.leg.Spilled() {
		return c.flowing(ctx, limits)
	}
	doc, err := xmltree.ParseEncoded(body, encoding, limits)
	c.c.ReplyDoc = doc
	var syntax *xmltree.SyntaxError
	if errors.As(err, &syntax) {
		c.c.ReplyErr = syntax
	} else {
		c.c.Reply = soap.Read(doc)
	}
	if c.c.Reply == nil {
		// What is no answer stops at receive where the head says so already.
		if stop := c.noAnswer(); stop != nil {
			c.rec.Update(func(x *exchange.Exchange) { *x.Stage(exchange.Read) = exchange.StageRecord{Stage: exchange.Read} })
			return exchange.Receive, stop
		}
		switch {
		case len(body) == 0:
			return exchange.Read, diagnose.EmptyError{}
		case err != nil:
			return exchange.Read, err
		}
		return exchange.Read, diagnose.NotEnvelopeError{Root: doc.Root().Name()}
	}
	c.opened(body, limits)
	if c.c.Sealed != nil && c.c.Reply.Fault == nil {
		return exchange.Read, c.c.Sealed
	}
	e := c.c.Reply
	doc = e.Doc
	c.rec.Fact(exchange.Read, "envelope", "SOAP "+e.Version.String()+" · "+fmt.Sprint(doc.Len())+" nodes")
	if f := e.Fault; f != nil {
		c.rec.Update(func(x *exchange.Exchange) {
			st := x.Stage(exchange.Read)
			st.Facts.Set("fault code", f.Code.Qualified())
			for i, s := range f.Subcodes {
				st.Facts.Set(fmt.Sprintf("fault subcode %d", i+1), s.Qualified())
			}
			st.Facts.Set("fault reason", f.Reason)
			st.Note = "fault"
			x.Result = "fault: " + f.Reason
		})
		return exchange.Read, errors.New("a fault: " + f.Reason)
	}
	if e.Version != c.sentVersion() {
		return exchange.Read, errors.New("the envelope is of another SOAP version")
	}
	what := "an empty body"
	if !e.Payload.IsZero() {
		what = e.Payload.Name().Local
		c.rec.Fact(exchange.Read, "body", what)
	}
	if err := c.resolve(e); err != nil {
		return exchange.Read, err
	}
	c.rec.End(exchange.Read, exchange.Passed, what)
	c.rec.Update(func(x *exchange.Exchange) { x.Result = message.Summary(e.Payload) })
	if c.done(exchange.Read) {
		return exchange.Read, nil
	}
	return exchange.Verify, c.verify(ctx)
}

func charset(contentType string) string {
	for _, p := range strings.Split(contentType, ";") {
		if k, v, ok := strings.Cut(strings.TrimSpace(p), "="); ok && strings.EqualFold(k, "charset") {
			return strings.Trim(v, `"' `)
		}
	}
	return ""
}

// noAnswer is the stop at receive where status or media type say that what
// came is no answer.
func (c *Call) noAnswer() error {
	h := &c.leg.Response
	switch {
	case h.Status >= 300:
		return fmt.Errorf("the status is %d", h.Status)
	case len(c.leg.ResponseBody) == 0:
		return nil
	}
	ct := strings.ToLower(h.Get("Content-Type"))
	if strings.Contains(ct, "html") || contract.LooksLikeHTML(c.leg.ResponseBody) || ct != "" && !strings.Contains(ct, "xml") && !strings.HasPrefix(ct, "multipart/") && c.c.ReplyErr != nil {
		return errors.New("the answer is not SOAP")
	}
	return nil
}

func (c *Call) verify(ctx context.Context) error {
	c.rec.Begin(exchange.Verify)
	e := c.c.Reply
	if err := c.signatures(); err != nil {
		return err
	}
	note := ""
	if o := c.c.Operation; o != nil && o.Output != nil && o.Output.Element != nil {
		want := o.Output.Element
		got := schema.NameOf(e.Payload.Name())
		wrong := e.Payload.IsZero() || got != want.Name
		if wrong && o.Style == "rpc" && !e.Payload.IsZero() {
			wrong = false // the name of an rpc wrapper is a convention (WSDL 1.1 §3.5)
		}
		if wrong {
			return diagnose.ReplyDiffersError{Got: got, Want: want.Name}
		}
		if c.plan.Settings.Switch("validate") && o.Use != "encoded" {
			c.c.ReplyInvalid = c.plan.Contract.Schemas.Validate(e.Payload, want, schema.Options{Context: ctx})
			note = "valid"
			if n := len(c.c.ReplyInvalid); n > 0 {
				note = faults(n)
			}
			c.rec.Fact(exchange.Verify, "schema", note)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	for _, x := range c.plan.Settings.List("expect") {
		path, want, _ := strings.Cut(x, "=")
		u := diagnose.Unmet{Path: path, Expected: want}
		var at xmltree.Node
		u.Received, at, u.Found = message.Lookup(e.Payload, path)
		if at.IsZero() {
			at = e.Payload
		}
		if !at.IsZero() {
			u.At = at.Span()
		}
		if u.Found && u.Received == want {
			c.rec.Fact(exchange.Verify, "expected "+path, "received "+want)
			continue
		}
		if !u.Found {
			u.Near = near.Miss(path, message.Names(e.Payload))
		}
		c.c.Unmet = append(c.c.Unmet, u)
	}
	if c.c.Unmet != nil {
		return diagnose.UnexpectedError{}
	}
	c.rec.End(exchange.Verify, exchange.Passed, note)
	return nil
}
