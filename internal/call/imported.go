package call

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/related"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Imported is an exchange that another program made, as far as it is known.
type Imported struct {
	Method string      // "" POST
	URL    string      // "" as far as the head tells
	Header [][2]string // of the request
	Body   []byte      // of the request; nil where only the reply is known
	// Rest follows Body, where that is only the beginning of a request that is too large
	// for memory: it is passed on, and counted, and not looked at.
	Rest  exchange.Body
	Reply []byte // as it crossed: status line, header fields, body; see ReplyOf

	Ended  Ending        // how the connection ended behind Reply, where that is not whole
	Waited time.Duration // how long after the last byte a program gave up

	Made string // what of the heads was not there and is made up here, in words

	Declared int64 // Content-Length of the request as it came, -1 where it said none; only of what was relayed
	Came     int64 // bytes of body that came instead; less, or more
	// Undeclared tells that bytes followed a head that declares none: they belong to no request.
	Undeclared bool
	// Pass is given the answer as it comes, last with what completes it; nil: nobody is.
	Pass func(b []byte, last bool)
	Left *int64 // after how many bytes the program that it goes to took no more; nil: it took all

	// Trace is the place in a trace that the call has on its way from here; nil: none.
	Trace *exchange.Trace
	// Through is the name of the relay that passes it on, "" none.
	Through string

	// Answers says what became of answers that come later, in words; "": none was asked for.
	Answers string

	relayed  bool
	unseen   error  // an archive holds no answer: what it says of that; nil: it holds one
	madeHead bool   // the reply had no head: one is made up
	added    string // the security that was added on the way, in words; "" none
	alone    bool   // a request of which it is not known whether it was answered
	closed   []byte // Body with what is open at its end closed, where Rest follows it
	plain    []byte // what Body is a content coding of; nil: not yet known, or Body itself
	plainOf  []byte // of which bytes it is
	sealed   string // the codings of Body, where they could not be taken off; "" they could, or there are none
	root     rooted // the message, where the request travels in parts

	doc   *xmltree.Document // what is looked at, parsed once for all who look; nil: not yet, or not readable
	docOf []byte            // of which bytes it is
}

// Ending is how a connection ended.
type Ending uint8

// The endings.
const (
	ClosedByServer Ending = iota
	ResetByServer
	GivenUp // by the program that called
)

// rooted is the message in a request that travels in parts (RFC 2387).
type rooted struct {
	of      []byte       // of which bytes it is; nil: not yet known
	part    related.Part // in which it stands
	message []byte
	at      int    // where it begins in them; -1: its part is encoded
	why     string // it cannot be found; "" it can, or there are no parts
}

// rooted is the message of a request in parts; nil where it has none.
func (w *Imported) rooted(body []byte) *rooted {
	media := field(w.Header, "Content-Type")
	if len(body) == 0 || !related.Is(media) {
		return nil
	}
	if r := &w.root; len(r.of) != len(body) || &r.of[0] != &body[0] {
		*r = rooted{of: body}
		part, err := related.Root(media, body)
		if err != nil {
			r.why = err.Error()
			return r
		}
		r.part = part
		if r.message, r.at = part.In(body); r.message == nil {
			r.why = "its envelope is not in " + cmp.Or(part.Coding, "the encoding that is said")
		}
	}
	return &w.root
}

// empty tells whether a program that calls sent nothing.
func (w *Imported) empty() bool {
	return w.relayed && strings.EqualFold(w.Method, http.MethodPost) && len(w.Body) == 0 && w.Came <= 0
}

// SetMessage puts another message in the place of the request's: of its body, or of the part that holds it.
func (w *Imported) SetMessage(b []byte) {
	if r := w.rooted(w.uncoded()); r != nil && r.why == "" {
		b = slices.Concat(r.of[:r.part.Start], r.part.Write(b), r.of[r.part.End:])
	}
	w.setBody(b)
}

// setBody puts another body in the place of the request's, and its length into the head.
func (w *Imported) setBody(b []byte) {
	w.Body, w.docOf, w.doc, w.plain, w.plainOf, w.sealed, w.root = b, nil, nil, nil, nil, "", rooted{}
	w.Came = int64(len(b))
	w.Declared = w.Came
	w.Header = slices.DeleteFunc(w.Header, func(h [2]string) bool {
		return strings.EqualFold(h[0], "Content-Length") || strings.EqualFold(h[0], "Content-Encoding")
	})
	w.Header = append(w.Header, [2]string{"Content-Length", strconv.FormatInt(w.Came, 10)})
}

// document is what is looked at of the request; nil where it is not well-formed.
func (w *Imported) document() *xmltree.Document {
	b := w.Readable()
	if len(b) == 0 {
		return nil
	}
	if len(w.docOf) != len(b) || &w.docOf[0] != &b[0] {
		w.docOf, w.doc = b, readSent(b, w.media())
	}
	return w.doc
}

// media is the media type of the message.
func (w *Imported) media() string {
	if len(w.root.of) > 0 && w.root.why == "" {
		return w.root.part.Type
	}
	return field(w.Header, "Content-Type")
}

// readSent reads a message that another program sent: in the encoding that it declares or shows, or else, where it
// cannot be read so, in that of its media type (RFC 7303 §3); nil where it is not well-formed.
func readSent(b []byte, media string) *xmltree.Document {
	d, err := xmltree.Parse(b, message.Limits)
	if err == nil {
		return d
	}
	if _, params, _ := mime.ParseMediaType(media); params["charset"] != "" {
		if d, err = xmltree.ParseEncoded(b, params["charset"], message.Limits); err == nil {
			return d
		}
	}
	return nil
}

// Readable is the message that was sent, as it is looked at: without its content coding, out of its part
// where the request has several; of a large one its beginning.
func (w *Imported) Readable() []byte {
	if w.Rest.IsZero() {
		b, _ := w.sent()
		return b
	}
	if w.closed == nil {
		w.closed = []byte{}
		b, _ := w.sent()
		if d := opening(b, xmltree.Limits{}); d != nil {
			w.closed = d.Src
		}
	}
	return w.closed
}

// sent is the message, and where it begins in the request without its coding; -1: its part is encoded.
func (w *Imported) sent() (message []byte, at int) {
	body := w.Body
	if w.Rest.IsZero() {
		body = w.uncoded()
	}
	if r := w.rooted(body); r != nil && r.why == "" {
		return r.message, r.at
	}
	return body, 0
}

// uncoded is the request without its content coding; as it is where it has none, or is marked so and is not:
// archives hold such bodies as they were before.
func (w *Imported) uncoded() []byte {
	codings := field(w.Header, "Content-Encoding")
	if codings == "" || len(w.Body) == 0 {
		return w.Body
	}
	if len(w.plainOf) != len(w.Body) || &w.plainOf[0] != &w.Body[0] {
		w.plainOf, w.plain, w.sealed = w.Body, nil, ""
		if b, err := wire.Unpacked(codings, w.Body, maxUncoded); err == nil {
			w.plain = b
		} else if !looksLikeXML(w.Body) {
			w.sealed = codings
		}
	}
	if w.plain == nil {
		return w.Body
	}
	return w.plain
}

// maxUncoded is how large a compressed request may become that is looked at, in bytes: many may come at once.
const maxUncoded = 16 << 20

// unread says why a request cannot be looked at: it has a coding that is not known, or its parts cannot be
// told apart; "" it can.
func (w *Imported) unread() string {
	body := w.Body
	if w.Rest.IsZero() {
		body = w.uncoded()
	}
	if w.sealed != "" {
		return "compressed (" + w.sealed + "), not read"
	}
	if r := w.rooted(body); r != nil && r.why != "" {
		return "in parts, not read: " + r.why
	}
	return ""
}

// Envelope is the envelope of the request, nil where there is none.
func (w *Imported) Envelope() *soap.Envelope {
	if d := w.document(); d != nil {
		return soap.Read(d)
	}
	return envelopeIn(w.Readable())
}

// ReplyEnvelope is the envelope of the reply, nil where there is none.
func (w *Imported) ReplyEnvelope() *soap.Envelope {
	_, fields, body := cutHead(w.Reply)
	if media := field(fields, "Content-Type"); related.Is(media) {
		if p, err := related.Root(media, body); err == nil {
			body, _ = p.In(body)
		}
	}
	return envelopeIn(body)
}

func envelopeIn(b []byte) *soap.Envelope {
	d, err := xmltree.ParseEncoded(b, "", xmltree.Limits{})
	if err != nil {
		return nil
	}
	return soap.Read(d)
}

// Body names the body element of an envelope; "" where there is none.
func bodyName(e *soap.Envelope) (q schema.QName) {
	if e != nil && !e.Payload.IsZero() {
		q = schema.NameOf(e.Payload.Name())
	}
	return q
}

// OperationIn finds the operation and the port of a contract that the exchange is
// of: by the body of the request, or else of the reply.
func (w *Imported) OperationIn(c *contract.Contract) (*contract.Port, *contract.Operation) {
	asked, said := w.Envelope(), w.ReplyEnvelope()
	version := soap.Unset
	for _, e := range []*soap.Envelope{said, asked} {
		if e != nil {
			version = e.Version
		}
	}
	var ports []*contract.Port
	ops := map[*contract.Port]*contract.Operation{}
	for _, p := range c.Ports() {
		if p.Version == soap.Unset {
			continue
		}
		o := p.ByBody(bodyName(asked))
		for _, k := range p.Operations {
			if o == nil && k.Output != nil && k.Output.Element != nil && k.Output.Element.Name == bodyName(said) {
				o = k
			}
		}
		if o != nil {
			ports, ops[p] = append(ports, p), o
		}
	}
	port := w.portIn(ports, version)
	return port, ops[port]
}

// Explain goes through an exchange that was made elsewhere as through one made
// here, and says why it failed. Nothing is sent. The plan's contract, port and
// operation, where they are known, are what it is held against.
func Explain(ctx context.Context, p Plan, w *Imported) *exchange.Exchange {
	p.History = nil
	for key, value := range map[string]string{"proxy": "none", "redirects": "stop", "receive-limit": "1 GiB",
		"inflated-limit": "1 GiB", "send-limit": "1 GiB"} {
		p.Settings.Set(key, value)
	}
	x := imported(p, w).Run(ctx)
	if w.alone && x.Outcome == exchange.OutcomePassed {
		x.Result = "what became of it is not known"
	}
	for i := range x.Findings { // there is nothing here that could be changed, or asked
		f := &x.Findings[i]
		f.Remedies = []exchange.Remedy{}
		for k := range f.Hypotheses {
			f.Hypotheses[k].Check = ""
		}
	}
	return x
}

// Relay passes on what another program sent, and goes through the exchange as
// through one made here. The plan's settings say how the service is reached.
func Relay(ctx context.Context, p Plan, w *Imported) *exchange.Exchange {
	w.relayed = true
	if p.AddSecurity {
		if stopped := addSecurity(ctx, p, w); stopped != nil {
			return stopped
		}
	}
	c := imported(p, w)
	x := c.Run(ctx)
	x.Kind, x.Trace = "relay", w.Trace
	if w.Through != "" {
		x.From = &exchange.Origin{Relay: w.Through}
	}
	looked := w.Body == nil && !w.empty() // at a description, or a page
	if l := x.Leg(); looked && l != nil && l.Response.BodyWhole {
		x.Outcome, x.StoppedAt, x.Findings, x.Memory, x.Result = exchange.OutcomePassed, exchange.None, nil, nil,
			l.Response.Line
		for _, s := range []exchange.Stage{exchange.Read, exchange.Verify} {
			*x.Stage(s) = exchange.StageRecord{Stage: s, State: exchange.Skipped, Note: "no call"}
		}
	}
	return x
}

// imported is the call of an exchange that another program made.
func imported(p Plan, w *Imported) *Call {
	p.imported = w
	p.fetch, p.Changes, p.Until = nil, nil, exchange.None
	if !w.relayed {
		p.Pool = nil
	}
	if w.alone {
		p.Until = exchange.Security // what became of it is not known
	}
	address := w.URL
	if u, err := url.Parse(address); err != nil || u.Host == "" {
		address = "http://" + cmp.Or(field(w.Header, "Host"), "unknown.invalid") + "/"
	}
	p.Settings.Set("address", strings.ReplaceAll(address, "$", "$$"))
	for _, key := range []string{"http-auth", "token", "addressing"} {
		p.Settings.Set(key, "none")
	}
	p.Settings.Set("session", "")
	version := soap.Unset
	if e := w.ReplyEnvelope(); e != nil {
		version = e.Version
	}
	if e := w.Envelope(); e != nil {
		version = e.Version
		p.Settings.Set("token", tokenIn(e))
	}
	if version != soap.Unset {
		p.Settings.Set("soap", version.String())
	} else if p.Settings.Text("soap") == "" {
		p.Settings.Set("soap", "1.1")
	}
	if w.Body != nil && w.unread() == "" {
		action, has := actionIn(w.Header)
		switch {
		case has && action != "":
			p.Settings.Set("action", action)
		case has || len(w.Header) > 0:
			p.Settings.Set("action", "none")
		}
		p.setDraft(w.Readable(), w.document())
		p.Header = nil
		if !w.Rest.IsZero() {
			p.Settings.Set("validate", "false") // what is cut breaks its schema
		}
	}
	return New(p, nil)
}

// actionIn is the action that a request's head names.
func actionIn(fields [][2]string) (action string, has bool) {
	for _, f := range fields {
		if strings.EqualFold(f[0], "SOAPAction") {
			return strings.Trim(f[1], `" `), true
		}
		if strings.EqualFold(f[0], "Content-Type") {
			if _, params, err := mime.ParseMediaType(f[1]); err == nil && params["action"] != "" {
				return params["action"], true
			}
		}
	}
	return "", false
}

// tokenIn is the type of the password in a request's security header.
func tokenIn(e *soap.Envelope) string {
	for sec := range e.Header.Named(wssec.WSSE, "Security") {
		for t := range sec.Named(wssec.WSSE, "UsernameToken") {
			for p := range t.Named(wssec.WSSE, "Password") {
				if kind, _ := p.Attr("", "Type"); strings.HasSuffix(kind, "#PasswordDigest") {
					return string(wssec.Digest)
				}
				return string(wssec.Text)
			}
		}
	}
	return "none"
}

// runImported goes through the stages before the wire.
func (c *Call) runImported(ctx context.Context) (exchange.Stage, error) {
	w := c.plan.imported
	if err := c.stage(exchange.Address, ctx, (*Call).runAddress); err != nil {
		return exchange.Address, err
	}
	c.rec.Update(func(x *exchange.Exchange) {
		if w.URL == "" {
			x.Stage(exchange.Address).Note = "not known"
		}
		for _, f := range w.Header {
			x.Secrets = append(x.Secrets, fieldSecrets(f[0], f[1], x.SecretNames)...)
		}
	})
	if w.Body == nil {
		for _, s := range []exchange.Stage{exchange.Binding, exchange.Message, exchange.Security} {
			c.rec.End(s, exchange.Skipped, "the request is not known")
		}
		return exchange.Security, nil
	}
	// It was sent, whatever is wrong with it: that is told, and stops nothing.
	if err := c.stage(exchange.Binding, ctx, (*Call).runSentBinding); err != nil {
		c.rec.End(exchange.Binding, exchange.Warned, "")
	}
	if why := w.unread(); why != "" { // what may be in it is not known: all of it is cut out of the record
		c.rec.End(exchange.Message, exchange.Skipped, why)
		c.rec.End(exchange.Security, exchange.Skipped, "not read")
		c.outs.secured.envelope = w.Body
		c.outs.secured.secrets = []exchange.Span{{Length: int64(len(w.Body))}}
		return exchange.Security, nil
	}
	if err := c.stage(exchange.Message, ctx, (*Call).runMessage); err != nil {
		c.rec.End(exchange.Message, exchange.Warned, "")
	}
	if err := c.stage(exchange.Security, ctx, (*Call).runSentSecurity); err != nil || w.relayed {
		return exchange.Security, err
	}
	if e := w.brokenOff(); e != nil {
		return e.Stage, e
	}
	return exchange.Security, nil
}

// brokenOff tells of a request that ended before its declared end, or of which no answer is recorded; nil: neither.
func (w *Imported) brokenOff() *wire.Error {
	if w.unseen != nil {
		return &wire.Error{Stage: exchange.Wait, Reason: wire.AnswerUnknown, Err: w.unseen}
	}
	if w.Came >= w.Declared || len(w.Reply) > 0 {
		return nil
	}
	e := &wire.Error{Stage: exchange.Send, Reason: wire.LengthDiffers, Announced: w.Declared, Got: w.Came}
	switch w.Ended {
	case ResetByServer:
		e.Reason, e.Err = wire.SendReset, errors.New("it was reset by the server")
	case ClosedByServer:
		e.Reason, e.Err = wire.SendReset, errors.New("the server closed it")
	}
	return e
}

// runSentBinding is the stage binding of what was sent: its proxy is not known.
func (c *Call) runSentBinding(context.Context) (string, error) {
	s := binding{base: c.base, addressed: c.outs.addressed}
	note, err := s.run()
	s.proxy = c.outs.bound.proxy
	c.outs.bound = s.bound
	return note, err
}

// runSentSecurity is the stage security of what was sent: its token as it stands there.
func (c *Call) runSentSecurity(context.Context) (string, error) {
	note := noToken
	if kind := c.plan.Settings.Text("token"); kind != "none" {
		note = "user name, " + kind
	}
	s := c.securing()
	s.secured = c.outs.secured
	w := c.plan.imported
	if w.Answers != "" {
		c.rec.Fact(exchange.Binding, "answers", w.Answers)
	}
	if w.added != "" {
		c.rec.Fact(exchange.Security, "added by the relay", w.added)
	}
	if s.envelope = w.Body; w.Rest.IsZero() {
		s.envelope = w.uncoded()
	}
	err := s.encode(c.sentSecrets(w))
	if s.size += w.Rest.Len(); !w.Rest.IsZero() {
		c.rec.Fact(exchange.Message, "looked at", fmt.Sprintf("the first %s of %s bytes",
			endpoint.Bytes(int64(len(w.Body))), endpoint.Bytes(s.size)))
	}
	c.outs.composed, c.outs.secured = s.composed, s.secured
	return note, err
}

// sentSecrets notes the secrets in the message of another program, and gives their places in the request.
func (c *Call) sentSecrets(w *Imported) (places []int) {
	message, at := w.sent()
	if d := w.document(); d != nil {
		places = c.secretPlacesOf(d)
	} else {
		places = c.secretPlacesIn(message)
	}
	c.rec.Update(func(x *exchange.Exchange) {
		for i := 0; i+1 < len(places); i += 2 {
			x.Secrets = append(x.Secrets, string(message[places[i]:places[i+1]]))
		}
	})
	if at < 0 && len(places) > 0 { // encoded, they stand nowhere: all of the part is one
		places, at = []int{w.root.part.Start, w.root.part.End}, 0
	}
	for i := range places {
		places[i] += at
	}
	return append(places, c.secretsBeside(w)...)
}

// secretsBeside are the places of secrets in the files that travel beside a message, as far as they are text.
func (c *Call) secretsBeside(w *Imported) (places []int) {
	body := w.root.of
	if len(body) == 0 || w.root.why != "" {
		return nil
	}
	parts, _ := related.Split(field(w.Header, "Content-Type"), body) // as far as they go
	var found []string
	for i := range parts {
		p := &parts[i]
		if p.Root || !p.IsText() {
			continue
		}
		content, start := p.In(body)
		at := c.secretPlacesIn(content)
		for k := 0; k+1 < len(at); k += 2 {
			found = append(found, string(content[at[k]:at[k+1]]))
			if start >= 0 {
				places = append(places, start+at[k], start+at[k+1])
			}
		}
		if start < 0 && len(at) > 0 { // encoded, they stand nowhere: all of the part is one
			places = append(places, p.Start, p.End)
		}
	}
	c.rec.Update(func(x *exchange.Exchange) { x.Secrets = append(x.Secrets, found...) })
	return places
}

// runRelayed finds out how the service is reached, and goes through the stages before
// the wire.
func (c *Call) runRelayed(ctx context.Context) (exchange.Stage, error) {
	w := c.plan.imported
	before := addressing{base: c.base}
	if _, err := before.run(); err == nil {
		b := binding{base: before.base, addressed: before.addressed}
		if err := b.findProxy(); err != nil {
			return exchange.Connect, err
		}
		c.outs.bound.proxy = b.proxy
		s := &securing{base: before.base, addressed: before.addressed, bound: b.bound}
		if err := errors.Join(s.readMaterial(ctx), s.proxyCredentials(ctx)); err != nil {
			return exchange.Security, err
		}
		c.outs.bound.proxy, c.outs.secured = s.proxy, s.secured
	}
	at, err := c.runImported(ctx)
	if err == nil && w.Body != nil && w.Came < w.Declared {
		return exchange.Send, &wire.Error{
			Stage:     exchange.Send,
			Reason:    wire.LengthDiffers,
			Announced: w.Declared,
			Got:       w.Came,
		}
	}
	return at, err
}

// played stands in the place of a connection: what is written goes nowhere, and
// what is read is a reply that came elsewhere.
type played struct {
	*bytes.Reader
	end error // in the place of io.EOF; nil: that
}

func (p played) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	if err == io.EOF && p.end != nil {
		err = p.end
	}
	return n, err
}

func (played) Write(b []byte) (int, error)      { return len(b), nil }
func (played) Close() error                     { return nil }
func (played) LocalAddr() net.Addr              { return nowhere{} }
func (played) RemoteAddr() net.Addr             { return nowhere{} }
func (played) SetDeadline(time.Time) error      { return nil }
func (played) SetReadDeadline(time.Time) error  { return nil }
func (played) SetWriteDeadline(time.Time) error { return nil }

type nowhere struct{}

func (nowhere) Network() string { return "none" }
func (nowhere) String() string  { return "elsewhere" }

// untouched says of the stages of the network that they are not known.
func (c *Call) untouched() {
	c.rec.Update(func(x *exchange.Exchange) {
		for _, s := range []exchange.Stage{exchange.Connect, exchange.TLS, exchange.Send, exchange.Wait} {
			st := x.Stage(s)
			if st.State == exchange.Passed || st.State == exchange.Skipped {
				*st = exchange.StageRecord{Stage: s, State: exchange.Skipped, Note: "made elsewhere"}
			}
		}
		if made := c.plan.imported.Made; made != "" {
			x.Stage(exchange.Receive).Facts.Set("not known", made+"; one is made up here")
		}
	})
}

// importedRequest is the request as the other program sent it.
func importedRequest(c *network) wire.Request {
	w := c.plan.imported
	req := wire.Request{
		Method:       w.Method,
		Target:       c.url.RequestURI(),
		Header:       w.Header,
		Body:         c.envelope,
		Rest:         w.Rest,
		Secret:       c.secrets,
		SecretHeader: c.secretNames().Name,
	}
	if w.Rest.IsZero() && w.plain != nil && len(w.Body) > 0 {
		req.Plain, req.PlainSecret, req.Body, req.Secret = req.Body, req.Secret, w.Body, nil
		if len(req.PlainSecret) > 0 {
			req.Secret = []exchange.Span{{Length: int64(len(req.Body))}}
		}
	}
	if req.Method == "" {
		req.Method = "POST"
	}
	if len(req.Header) == 0 {
		host, port := endpoint.HostPort(c.url)
		req.Header = [][2]string{
			{"Host", net.JoinHostPort(host, port)},
			{"Content-Length", strconv.Itoa(len(c.envelope))},
		}
	}
	return req
}
