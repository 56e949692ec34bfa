package call

import (
	"crypto/rand"
	"fmt"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

func (c *base) version() soap.Version {
	v, _ := soap.ParseVersion(c.plan.Settings.Text("soap"))
	return v
}

// run builds the envelope.
func (c *composing) run() (string, error) {
	if err := c.drafts(); err != nil {
		return "", err
	}
	c.typed()
	d, err := c.attach(c.draft)
	if err != nil {
		return "", err
	}
	c.draft = d
	c.build()
	c.addressing()
	if c.plan.Settings.Switch("validate") {
		c.invalid = d.Validate()
		if c.header != nil {
			c.headerInvalid = c.header.Validate()
		}
	}
	c.size = int64(len(c.plain)) + c.attached.more
	for _, b := range c.header.Blocks() {
		c.rec.Fact(exchange.Message, "header block", diagnose.Excerpt(b))
	}
	c.rec.Fact(exchange.Message, "size", endpoint.Bytes(c.size)+" bytes")
	c.rec.Update(func(x *exchange.Exchange) {
		if x.Inputs = nil; c.plan.imported != nil {
			x.Inputs = d.FirstInputs(x.SecretNames)
		} else {
			x.Inputs = d.Inputs()
		}
		x.Inputs = append(x.Inputs, headerInputs(d, c.header)...)
		x.Secrets = append(append(x.Secrets, d.Secrets(x.SecretNames)...), c.header.Secrets(x.SecretNames)...)
	})
	limit, err := c.plan.Settings.Size("send-limit")
	if err == nil && limit > 0 && c.size > limit {
		return c.note(), &diagnose.TooLargeError{Size: c.size, Limit: limit}
	}
	c.held = c.holds()
	if c.plan.Until != exchange.None && c.plan.Until < exchange.Send {
		return c.note(), nil // no message leaves
	}
	return c.note(), c.held
}

// holds says why the message is not sent unasked: a required value was never filled in,
// or it breaks its schema, which was not set aside for the endpoint. A call that only
// looks whether there is a connection sends no message, and one that was made elsewhere
// was sent by others.
func (c *composing) holds() error {
	p := c.plan
	if p.AsItIs || p.imported != nil || p.Until == exchange.Connect || p.Until == exchange.TLS {
		return nil
	}
	if len(c.invalid)+len(c.headerInvalid) > 0 && p.SetAside["message.invalid"] == "" {
		return diagnose.ErrBreaksSchema
	}
	if len(c.draft.Demanded())+len(c.header.Demanded()) > 0 {
		return diagnose.ErrUnfilled
	}
	return nil
}

// headerInputs are what the header blocks were filled with, and which ones a draft
// brings along that is an envelope.
func headerInputs(d, header *message.Draft) (out []exchange.Input) {
	if header != nil {
		for _, in := range header.Inputs() {
			in.Path = "header:" + in.Path
			out = append(out, in)
		}
	}
	e := d.Envelope()
	if e == nil || e.Header.IsZero() {
		return out
	}
	var names []string
	for b := range e.Header.Children() {
		names = append(names, b.Name().Local)
	}
	if names != nil {
		out = append(out, exchange.Input{Path: "header blocks", Value: strings.Join(names, ", ")})
	}
	return out
}

// drafts takes the draft and its header blocks, with the variables in.
func (c *composing) drafts() (err error) {
	c.draft = c.plan.Draft
	large(len(c.draft.Bytes()))
	if err := c.draft.Err(); err != nil {
		return err
	}
	if c.draft.Envelope() == nil {
		c.header = c.plan.Header
	}
	if c.header != nil && c.header.Err() != nil {
		return c.header.Err()
	}
	if !c.plan.Expand {
		return nil
	}
	d, h := c.draft, c.header
	if d, err = c.expand(d); err == nil && h != nil {
		h, err = c.expand(h)
	}
	if err != nil {
		return err
	}
	c.draft, c.header = d, h
	return nil
}

// typed says the type of each value where the port is encoded (SOAP 1.1 §5).
func (c *composing) typed() {
	o := c.operation
	if o == nil || o.Use != "encoded" || c.draft.IsEncoded() || c.plan.imported != nil {
		return
	}
	typed, err := c.draft.Encoded()
	said := "the port is encoded: each value says its type"
	switch {
	case err != nil:
		said = "the port is encoded, and the draft is sent as it stands: " + err.Error()
	case typed == c.draft:
		return
	default:
		c.draft = typed
	}
	c.rec.Fact(exchange.Message, "encoding", said)
}

// build makes the envelope, or takes the draft that is one.
func (c *composing) build() {
	out := c.draft.Outgoing()
	if c.draft.Envelope() == nil {
		whole, _ := soap.BuildAfter(headRoom, c.version(), c.header.Blocks(), out)
		c.front, c.plain = whole[:headRoom], whole[headRoom:]
		return
	}
	c.plain = out
	said := "the draft's own, byte for byte"
	if c.plan.imported != nil {
		said = "as the program sent it"
	}
	c.rec.Fact(exchange.Message, "envelope", said)
}

// headRoom is room for the head of an HTTP request before its envelope, in bytes.
const headRoom = 768

// note is the message in one line.
func (c *composing) note() string {
	note := endpoint.Bytes(c.size) + " B"
	if n := len(c.attached.parts); n == 1 {
		note += " · 1 part"
	} else if n > 1 {
		note += fmt.Sprintf(" · %d parts", n)
	}
	invalid, unfilled := len(c.invalid)+len(c.headerInvalid), len(c.draft.Unfilled())+len(c.header.Unfilled())
	switch {
	case c.draft.Decl == nil:
		return note
	case invalid > 0:
		return note + " · " + faults(invalid)
	case unfilled > 0:
		return note + fmt.Sprintf(" · %d to fill", unfilled)
	}
	return note + " · valid"
}

func faults(n int) string { return diagnose.Faults(n, "fault") }

// expand puts variables into a draft.
func (c *composing) expand(d *message.Draft) (*message.Draft, error) {
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

// sentVersion is that of a draft which is a whole envelope, else the one that is set.
func sentVersion(b *base, draft *message.Draft) soap.Version {
	if draft != nil && draft.Envelope() != nil {
		return draft.Envelope().Version
	}
	return b.version()
}

// addressing puts the WS-Addressing headers into the envelope.
func (c *composing) addressing() {
	version := c.plan.Settings.Text("addressing")
	if c.later != nil && soap.AddressingNS[version] == "" {
		version = soap.Addressing10 // an answer that comes later needs it
	}
	if soap.AddressingNS[version] == "" {
		return
	}
	a := soap.Addressing{Version: version, To: c.url.String(), Action: c.action, MessageID: "urn:uuid:" + uuid()}
	if o := c.operation; o != nil {
		a.OneWay = o.OneWay()
		if own := c.plan.Settings.Get("action"); !own.IsSet() && o.Input != nil && o.Input.Action != "" {
			a.Action = o.Input.Action
		}
		if a.Action == "" && c.plan.Port != nil && o.Input != nil {
			a.Action = soap.DefaultAction(c.plan.Port.PortType.Space, c.plan.Port.PortType.Local, o.Name, o.Input.Name)
		}
	}
	if c.later != nil {
		a.ReplyTo = c.later.address
		c.later.await(a.MessageID)
		c.rec.Fact(exchange.Binding, "answer comes to", c.later.address)
		if c.later.trust != "" {
			c.rec.Fact(exchange.Binding, "the service has to trust", c.later.trust)
		}
	}
	for _, b := range a.Blocks() {
		c.rec.Fact(exchange.Binding, "addressing", strings.TrimSpace(string(b)))
	}
	blocks := a.Blocks()
	for i := len(blocks) - 1; i >= 0; i-- {
		c.plain, _ = insertHeader(c.plain, blocks[i])
	}
}

// uuid is a random one (RFC 9562 §5.4).
func uuid() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}
