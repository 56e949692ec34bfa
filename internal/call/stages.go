package call

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net/url"
	"os"
	"time"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wire"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Every stage is a function of values: what it is given, and what it gives. What one
// gives is only read by those after it. The structs below are what stages give; what
// they are given is a base and the outputs of those before.

// base is what every stage is given.
type base struct {
	plan      *Plan               // with variables in, once the address is settled; only read
	rec       *exchange.Recorder  // what is seen is written to it
	operation *contract.Operation // nil where it is not known
	later     *later              // where an answer that comes later is waited for; nil: nowhere
}

// addressed is what the stage address gives.
type addressed struct {
	url *url.URL
}

// bound is what the stage binding gives.
type bound struct {
	action    string
	hasAction bool        // the action is sent
	proxy     *wire.Proxy // nil where the call goes through none
}

// composed is what the stage message gives.
type composed struct {
	draft         *message.Draft // as it is sent, variables in
	header        *message.Draft // header blocks; nil where there are none
	plain         []byte         // the envelope, before it is secured
	front         []byte         // room for one head right before plain, in the same memory
	attached      attached       // what is sent beside it
	invalid       []schema.Error // of the draft
	headerInvalid []schema.Error // of the header blocks
	held          error          // why it is not sent unasked
	size          int64          // bytes of the envelope and what goes beside it
}

// secured is what the stage security gives.
type secured struct {
	envelope      []byte          // as it is sent, in its encoding
	secrets       []exchange.Span // in the envelope
	material      material
	credentials   credentials
	session       session
	sessionKept   bool   // it is from an earlier call
	spaced        bool   // the secret that is sent begins or ends with white space
	assertionOver string // why the assertion that is sent is not valid now, "" where it does
	unfit         string // why the client certificate will hardly do
}

// material are certificates and keys.
type material struct {
	trusted       []*x509.Certificate
	intermediates []*x509.Certificate
	certs         []tls.Certificate     // the client's
	keyLog        *os.File              // nil where none is written
	decryption    []wssec.DecryptionKey // keys that may open what is encrypted in the reply
}

// credentials are those of HTTP authentication.
type credentials struct {
	authorization string // the field's value, "" for none
	user          string // for authentication that is asked for
	password      string
	ntlm          ntlmStep
}

// crossed is what the stages from connect to receive give.
type crossed struct {
	leg          *exchange.Leg
	url          *url.URL            // where it was answered, after redirects
	replaced     [][3]string         // header fields that an extra header replaces
	followed     []string            // redirects
	chosen       string              // the identity whose certificate was sent without being set
	fetched      []*x509.Certificate // issuers that the server did not send
	completes    bool                // and with which the chain leads to what is trusted
	otherName    []string            // names that the server shows to those who ask for none
	acknowledged time.Time           // when the message was, of which the answer comes later
	peerTime     time.Time           // what time it is at the peer, where it was asked
}

// answered is what the stage read gives.
type answered struct {
	reply        *soap.Envelope
	encrypted    *soap.Envelope // the reply before it was decrypted
	doc          *xmltree.Document
	replyAt      int // where doc begins in the response's body
	syntax       *xmltree.SyntaxError
	notOpened    error          // why an encrypted reply could not be opened
	replyInvalid []schema.Error // of the reply
	wholeJudged  bool           // its places are in the whole body, of which doc is the beginning
	complete     bool           // nothing is left to be verified
}

// reading is the stage read at work.
type reading struct {
	base
	addressed
	composed
	material
	leg *exchange.Leg
	answered
}

// verifying is the stage verify at work.
type verifying struct {
	base
	material
	envelope []byte // that was sent
	leg      *exchange.Leg
	answered
	verified
}

// addressing, binding, composing, securing and network are the other stages at work:
// what they were given, and what they give so far.
type addressing struct {
	base
	addressed
}

type binding struct {
	base
	addressed
	bound
}

type composing struct {
	base
	addressed
	bound
	composed
}

type securing struct {
	base
	addressed
	bound
	composed
	secured
	token     *wssec.Token
	assertion *wssec.Assertion // that is sent
}

type network struct {
	base
	bound
	composed
	secured
	crossed
	compose func(*network) wire.Request
	follow  bool      // redirects, where the settings say so
	held    wire.Pool // the connection that NTLM goes over
}

// outs are what the stages of a call gave so far.
type outs struct {
	addressed addressed
	bound     bound
	composed  composed
	secured   secured
	crossed   crossed
	answered  answered
	verified  verified
}

// step is a row of a table of stages: one stage, or several that the wire goes through
// in one go. One of its functions is set, or why the stage is skipped.
type step struct {
	at      exchange.Stage                                        // of offline, and of what is skipped
	offline func(*Call, context.Context) (note string, err error) // a stage that needs no network
	run     func(*Call, context.Context) (exchange.Stage, error)  // says itself where it stands
	request func(*network) wire.Request                           // the stages from connect to receive
	follow  bool                                                  // redirects, where the settings say so
	skipped string                                                // why the stage is not used
	unknown bool                                                  // what the network did is not known here
}

// do takes a call through a step. at is where the call stands then, and where it
// stopped if there is an error.
func (s *step) do(ctx context.Context, c *Call) (at exchange.Stage, err error) {
	switch {
	case s.offline != nil:
		return s.at, c.stage(s.at, ctx, s.offline)
	case s.request != nil:
		at, err = c.overTheWire(ctx, s)
		if s.unknown {
			c.untouched()
		}
		return at, err
	case s.run != nil:
		return s.run(c, ctx)
	}
	c.rec.End(s.at, exchange.Skipped, s.skipped)
	return s.at, nil
}

// callSteps are those of a call.
func callSteps() []step {
	return []step{
		{at: exchange.Address, offline: (*Call).runAddress},
		{at: exchange.Binding, offline: (*Call).runBinding},
		{at: exchange.Message, offline: (*Call).runMessage},
		{at: exchange.Security, offline: (*Call).runSecurity},
		{request: callRequest, follow: true},
		{run: (*Call).runRead},
		{run: (*Call).runVerify},
	}
}

// fetchSteps are those of the fetch of a description: it has no message, and what
// comes is read as a description.
func fetchSteps() []step {
	return []step{
		{at: exchange.Address, offline: (*Call).runAddress},
		{at: exchange.Binding, offline: (*Call).runFetchBinding},
		{at: exchange.Message, skipped: "a description is fetched"},
		{at: exchange.Security, offline: (*Call).runFetchSecurity},
		{request: fetchRequest},
		{run: (*Call).runDescription},
	}
}

// logInSteps are those of a log-in: what it sends is given, and what it gives is
// taken by who sent it.
func logInSteps() []step {
	return []step{
		{at: exchange.Address, offline: (*Call).runAddress},
		{at: exchange.Binding, offline: (*Call).runFetchBinding},
		{at: exchange.Message, skipped: "a log-in"},
		{at: exchange.Security, offline: (*Call).runFetchSecurity},
		{request: logInRequest},
		{run: (*Call).runLogInAnswer},
	}
}

// importedSteps are those of an exchange that another program made: it is held
// against what is known, and stopped by nothing before the wire.
func importedSteps() []step {
	return []step{
		{run: (*Call).runImported},
		{request: importedRequest, unknown: true},
		{run: (*Call).runRead},
		{run: (*Call).runVerify},
	}
}

// relayedSteps are those of an exchange that is passed on for another program: how
// the service is reached is set here.
func relayedSteps() []step {
	return []step{
		{run: (*Call).runRelayed},
		{request: importedRequest},
		{run: (*Call).runRead},
		{run: (*Call).runVerify},
	}
}

func (c *Call) runAddress(context.Context) (string, error) {
	s := addressing{base: c.base}
	note, err := s.run()
	c.plan, c.outs.addressed = s.plan, s.addressed
	if u := s.url; u != nil && u.Scheme == "https" && s.plan.Settings.Switch("system-trust") {
		c.warm.Go(trust.Warm) // it takes a while, and is needed at the stage tls
	}
	return note, err
}

func (c *Call) runBinding(context.Context) (string, error) {
	s := binding{base: c.base, addressed: c.outs.addressed}
	note, err := s.run()
	c.outs.bound = s.bound
	if u := c.plan.Until; err == nil && (u == exchange.None || u >= exchange.Send) {
		c.later, err = openLater(c.plan)
	}
	return note, err
}

func (c *Call) runFetchBinding(context.Context) (string, error) {
	s := binding{base: c.base, addressed: c.outs.addressed}
	err := s.values()
	c.outs.bound = s.bound
	return "GET", err
}

func (c *Call) runMessage(context.Context) (string, error) {
	s := composing{base: c.base, addressed: c.outs.addressed, bound: c.outs.bound}
	note, err := s.run()
	c.outs.composed = s.composed
	return note, err
}

func (c *Call) securing() *securing {
	return &securing{base: c.base, addressed: c.outs.addressed, bound: c.outs.bound, composed: c.outs.composed}
}

func (c *Call) runSecurity(ctx context.Context) (string, error) {
	s := c.securing()
	s.envelope = s.plain
	note, err := s.run(ctx)
	c.outs.bound, c.outs.composed, c.outs.secured = s.bound, s.composed, s.secured
	return note, err
}

func (c *Call) runFetchSecurity(ctx context.Context) (string, error) {
	s := c.securing()
	notes, err := s.forHTTP(ctx)
	c.outs.bound, c.outs.secured = s.bound, s.secured
	return notes, err
}

// overTheWire goes through the stages from connect to receive.
func (c *Call) overTheWire(ctx context.Context, s *step) (exchange.Stage, error) {
	n := c.network()
	n.compose, n.follow = s.request, s.follow
	at, err := n.run(ctx)
	c.outs.secured, c.outs.crossed, c.outs.composed.front = n.secured, n.crossed, n.front
	return at, err
}

func (c *Call) network() *network {
	n := &network{
		base:     c.base,
		bound:    c.outs.bound,
		composed: c.outs.composed,
		secured:  c.outs.secured,
		crossed:  c.outs.crossed,
	}
	if n.url == nil {
		n.url = c.outs.addressed.url
	}
	return n
}

// lookInto finds out more about why a call stopped, once it has.
func (c *Call) lookInto(ctx context.Context, err error) {
	n := c.network()
	n.lookInto(ctx, err)
	c.outs.secured, c.outs.crossed = n.secured, n.crossed
}

func (c *Call) reading() *reading {
	return &reading{
		base: c.base, addressed: addressed{c.outs.crossed.url}, composed: c.outs.composed,
		material: c.outs.secured.material, leg: c.outs.crossed.leg,
	}
}

func (c *Call) runRead(ctx context.Context) (exchange.Stage, error) {
	r := c.reading()
	at, err := r.run(ctx)
	c.outs.answered = r.answered
	return at, err
}

func (c *Call) runVerify(ctx context.Context) (exchange.Stage, error) {
	if c.outs.answered.complete {
		return exchange.Verify, nil
	}
	v := &verifying{
		base: c.base, material: c.outs.secured.material, envelope: c.outs.secured.envelope,
		leg: c.outs.crossed.leg, answered: c.outs.answered,
	}
	err := v.run(ctx)
	c.outs.answered, c.outs.verified = v.answered, v.verified
	return exchange.Verify, err
}

func (c *Call) runDescription(ctx context.Context) (exchange.Stage, error) {
	r := c.reading()
	at, err := r.description(ctx)
	c.outs.answered = r.answered
	return at, err
}

func (c *Call) runLogInAnswer(context.Context) (exchange.Stage, error) {
	c.rec.End(exchange.Read, exchange.Skipped, "a log-in")
	c.rec.End(exchange.Verify, exchange.Skipped, "")
	line := c.outs.crossed.leg.Response.Line
	c.rec.Update(func(x *exchange.Exchange) { x.Result = line })
	return exchange.Verify, nil
}

// verified is what the stage verify gives.
type verified struct {
	unmet      []diagnose.Unmet
	signed     []wssec.Signature
	signer     *x509.Certificate // whose signature is not trusted
	signerOver string            // why the certificate of a signature is outside its dates
	unsigned   bool              // a signature is demanded, and none covers the body
	staleWhy   string            // what is wrong with the reply's timestamp
	staleAt    xmltree.Span
}
