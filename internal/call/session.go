package call

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Sessions are what log-ins gave, kept in memory for the calls that follow.
type Sessions struct {
	mu   sync.Mutex
	held map[string]session
}

// session is what a log-in gave.
type session struct {
	field, value string // header field, and what it says
	token        []byte // an assertion for the security header
	key          sessionKey
	since        time.Time
	until        time.Time // when the assertion ends; zero: it does not say
}

// sessionKey is the key by which an assertion is confirmed: what is sent with it is signed by that key.
type sessionKey struct {
	secret []byte               // that both agreed on; nil: none
	own    *wssec.DecryptionKey // that of the identity's certificate; nil: none
}

func (k *sessionKey) is() bool { return k.secret != nil || k.own != nil }

// almostOver is how long before its end an assertion is not sent any more: it is
// still on its way then, and clocks differ.
const almostOver = 10 * time.Second

// secrets are the secrets in it: all of it, and each value in it.
func (s *session) secrets() []string {
	out := []string{s.value}
	for _, part := range strings.FieldsFunc(s.value, func(r rune) bool { return r == ';' || r == ' ' }) {
		if _, v, ok := strings.Cut(part, "="); ok && v != "" {
			part = v
		}
		if part != "Bearer" {
			out = append(out, part)
		}
	}
	if s.key.secret != nil {
		out = append(out, base64.StdEncoding.EncodeToString(s.key.secret))
	}
	for _, span := range wssec.SecretsOf(s.token) {
		out = append(out, string(s.token[span.Start:span.End]))
	}
	return out
}

func (s *Sessions) get(key string) (session, bool) {
	if s == nil {
		return session{}, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	v, ok := s.held[key]
	return v, ok
}

func (s *Sessions) put(key string, v *session) {
	if s == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if v == nil {
		delete(s.held, key)
		return
	}
	if s.held == nil {
		s.held = map[string]session{}
	}
	s.held[key] = *v
}

// openSession makes the log-in that goes before the call, or takes what an
// earlier one gave. anew forgets that first.
//
//revive:disable-next-line:cyclomatic one stage, in the order of what it does
func (c *securing) openSession(ctx context.Context, anew bool) error {
	name := c.plan.Settings.Text("session")
	if name == "" || c.plan.fetch != nil {
		return nil
	}
	host, port := endpoint.HostPort(c.url)
	id, err := c.identityFor(name, c.url.Scheme, host, port)
	if err != nil {
		return err
	}
	fail := func(err error) error { return &diagnose.LogInError{Identity: name, Err: err} }
	in := id.LogIn
	if in == nil || in.Address == "" {
		return fail(errors.New("it has no log-in: orenda identity set " + name + " log-in.address=URL sets one"))
	}
	u, err := endpoint.ParseAddress(in.Address)
	if err != nil {
		return fail(err)
	}
	// What it gives goes to the service, and its secret to where it logs in.
	host, port = endpoint.HostPort(u)
	if _, err = c.identityFor(name, u.Scheme, host, port); err != nil {
		return err
	}
	if c.plan.Peek {
		return nil
	}
	key := strings.Join([]string{name, in.Address, in.Gives, in.As, in.Kind, in.Scope, in.For, in.KeyType}, "\x00")
	if isTrust(in) && in.For == "" {
		key += "\x00" + c.url.String()
	}
	if anew {
		c.plan.Sessions.put(key, nil)
	}
	s, kept := c.plan.Sessions.get(key)
	if kept && !s.until.IsZero() && time.Until(s.until) < almostOver {
		kept = false
	}
	if !kept {
		if s, err = c.logIn(ctx, id, u); err != nil {
			_, none := errors.AsType[*identity.UnavailableError](err)
			if _, locked := errors.AsType[*identity.LockedError](err); none || locked {
				return err
			}
			return fail(err)
		}
		c.plan.Sessions.put(key, &s)
	}
	c.session, c.sessionKept = s, kept
	c.rec.Update(func(x *exchange.Exchange) {
		x.Secrets = append(x.Secrets, s.secrets()...)
	})
	how := "logged in at " + withoutPassword(in.Address)
	if kept {
		how = "kept since " + s.since.Local().Format("15:04:05")
	}
	what := "an assertion"
	if s.field != "" {
		what = s.field
	}
	c.rec.Fact(exchange.Security, "session of "+name, how+", which gave "+what)
	return nil
}

// logIn sends the log-in, as an exchange of its own.
func (c *securing) logIn(ctx context.Context, id *identity.Identity, u *url.URL) (s session, err error) {
	in := id.LogIn
	if isTrust(in) {
		return c.askTrust(ctx, id, u)
	}
	secret, err := id.Reveal(ctx)
	if err != nil {
		return s, err
	}
	body, authorization := in.Body, ""
	if in.Kind == identity.OAuth2 {
		body, authorization = clientCredentials(id, secret)
	}
	if path, ok := strings.CutPrefix(body, "file:"); ok {
		b, err := os.ReadFile(path)
		if err != nil {
			return s, err
		}
		body = string(b)
	}
	isXML := strings.HasPrefix(strings.TrimSpace(body), "<")
	kind, escape := in.Type, url.QueryEscape
	switch {
	case kind == "" && isXML:
		kind = "text/xml; charset=utf-8"
	case kind == "":
		kind = "application/x-www-form-urlencoded"
	}
	switch {
	case strings.Contains(kind, "xml"):
		escape = xmltree.EscapeAttr
	case strings.Contains(kind, "json"):
		escape = func(s string) string { return strings.Trim(jsonText(s), `"`) }
	}
	sent := body
	if in.Kind == "" {
		sent = strings.NewReplacer("${user}", escape(id.User), "${secret}", escape(secret)).Replace(body)
	}
	p := *c.plan
	p.Sessions, p.Changes, p.History, p.Until, p.Draft, p.Header, p.Candidates = nil, nil, nil, exchange.None, nil, nil,
		nil
	p.Operation, p.Settings = "log-in of "+id.Name, c.plan.Settings
	for _, key := range []string{"token", "http-auth"} {
		p.Settings.Set(key, "none")
	}
	for _, key := range []string{
		"session", "timestamp", "client-cert", "client-key", "client-identity", "connect-to", "reply-to",
	} {
		p.Settings.Set(key, "")
	}
	for _, key := range []string{"token-file", "sign", "encrypt"} {
		p.Settings.Set(key)
	}
	p.Settings.Set("redirects", "stop")
	p.Settings.Set("address", strings.ReplaceAll(u.String(), "$", "$$"))
	header := []string{"Content-Type: " + kind}
	if in.Action != "" || strings.HasPrefix(kind, "text/xml") {
		header = append(header, `SOAPAction: "`+in.Action+`"`)
	}
	secrets := []string{secret, escape(secret)}
	if authorization != "" {
		header = append(header, "Authorization: "+authorization, "Accept: application/json")
		secrets = append(secrets, strings.TrimPrefix(authorization, "Basic "))
	}
	p.Settings.Set("header", header...)
	p.fetch = &fetching{post: []byte(sent), secrets: secrets}
	call := New(p, nil)
	x := call.Run(ctx)
	x.Kind = "log-in"
	s.since = time.Now()
	if in.Kind == identity.OAuth2 {
		err = s.takeBearer(x)
	} else {
		err = s.take(in, x)
	}
	x.Secrets = append(x.Secrets, s.secrets()...)
	if c.plan.Keep != nil {
		c.plan.Keep(x)
	}
	return s, err
}

// take finds in the answer what the log-in gives.
//
//revive:disable-next-line:cyclomatic one stage, in the order of what it does
func (s *session) take(in *identity.LogIn, x *exchange.Exchange) error {
	l := x.Leg()
	if f := x.Cause(); f != nil && x.Outcome == exchange.OutcomeStopped {
		return errors.New(f.Title)
	}
	if l == nil || !l.Response.Complete {
		return errors.New("it was not answered")
	}
	if d, err := xmltree.Parse(l.ResponseBody.Bytes(), xmltree.Limits{}); err == nil {
		if e := soap.Read(d); e != nil && e.Fault != nil {
			return fmt.Errorf("it was answered a fault: %s", e.Fault.Reason)
		}
	}
	if l.Response.Status >= 400 {
		return fmt.Errorf("it was answered %s", l.Response.Line)
	}
	what, name, _ := strings.Cut(strings.TrimSpace(in.Gives), " ")
	s.field = in.As
	switch what {
	case "", "cookies":
		var all []string
		for _, f := range l.Response.Fields {
			if strings.EqualFold(f.Name, "Set-Cookie") {
				pair, _, _ := strings.Cut(f.Value, ";")
				all = append(all, strings.TrimSpace(pair))
			}
		}
		if len(all) == 0 {
			return fmt.Errorf("it was answered %s, and no cookie was set", l.Response.Line)
		}
		s.field, s.value = cmp.Or(s.field, "Cookie"), strings.Join(all, "; ")
		return nil
	case "header":
		s.value = l.Response.Get(name)
	case "element", "assertion":
		doc, err := xmltree.Parse(l.ResponseBody.Bytes(), xmltree.Limits{})
		if err != nil {
			return fmt.Errorf("what it was answered is no XML: %w", err)
		}
		if what == "assertion" {
			name = "Assertion"
		}
		n := named(doc.Root(), name)
		if what == "assertion" && !n.IsZero() {
			s.field, s.token = "", []byte(message.Alone(n))
			if a, err := wssec.ReadAssertion(n); err == nil && a != nil {
				s.until = a.NotAfter
			}
			return nil
		}
		if !n.IsZero() {
			for l := range strings.Lines(n.Text()) { // base64 may be wrapped
				s.value += strings.TrimSpace(l)
			}
		}
	default:
		return fmt.Errorf("gives is cookies, header NAME, element NAME or assertion, not %q", in.Gives)
	}
	if s.value == "" {
		return fmt.Errorf("it was answered %s, and %s is not in it", l.Response.Line, in.Gives)
	}
	if s.field == "" {
		s.field, s.value = "Authorization", "Bearer "+s.value
	}
	return nil
}

// named is the first element of a local name, below or at n.
func named(n xmltree.Node, local string) xmltree.Node {
	if n.Name().Local == local {
		return n
	}
	for c := range n.Children() {
		if found := named(c, local); !found.IsZero() {
			return found
		}
	}
	return xmltree.Node{}
}

// expired tells whether an answer says that the session it was sent with is over:
// a refusal, or a page to log in on, and no envelope.
func (c *network) expired(l *exchange.Leg) bool {
	if !c.sessionKept || c.session.field == "" || l == nil || !l.Response.Complete {
		return false
	}
	switch st := l.Response.Status; {
	case st == 401 || st == 403 || st == 440:
		return true
	case st >= 300 && st < 400:
		return true
	case contract.LooksLikeHTML(l.ResponseBody.Bytes()):
		return diagnose.LooksLikeLogIn(l.ResponseBody.Bytes())
	}
	return false
}

// sessionHeader is the field that carries the session.
func (c *network) sessionHeader() [][2]string {
	if c.session.field == "" {
		return nil
	}
	return [][2]string{{c.session.field, c.session.value}}
}

// jsonText is a text as a JSON string, with its quotes.
func jsonText(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}
