package call

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/xmltree"
)

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
	if u.Scheme == "https" && c.plan.Settings.Switch("system-trust") {
		go trust.Warm()
	}
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
	if !strings.Contains(address, "@") {
		return address
	}
	if u, err := url.Parse(address); err == nil && u.User != nil {
		return u.Redacted()
	}
	return address
}

func (c *Call) binding() (string, error) {
	s := &c.plan.Settings
	for _, v := range s.Given() {
		if v.Text == "" || v.Key.Stage == exchange.Security {
			continue
		}
		if err := v.Key.Check(v.Text); err != nil && v.Key.Kind != endpoint.List {
			return "", &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
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
	if s.Get("buffer-limit").IsSet() && s.Text("intake") == "whole" && s.Switch("strict-buffer") {
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
	if o := c.c.Operation; o != nil && o.Use == "encoded" && !d.IsEncoded() && c.plan.witnessed == nil {
		if typed, err := d.Encoded(); err != nil {
			c.rec.Fact(exchange.Message, "encoding", "the port is encoded, and the draft is sent as it stands: "+err.Error())
		} else if typed != d {
			d, c.c.Draft = typed, typed
			c.rec.Fact(exchange.Message, "encoding", "the port is encoded: each value says its type")
		}
	}
	d, err := c.attach(d)
	if err != nil {
		return "", err
	}
	out := d.Outgoing()
	if d.Envelope() != nil {
		c.envelope = out
		c.rec.Fact(exchange.Message, "envelope", map[bool]string{true: "as the program sent it", false: "the draft's own, byte for byte"}[c.plan.witnessed != nil])
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

func (c *Call) sentVersion() soap.Version {
	if c.c.Draft != nil && c.c.Draft.Envelope() != nil {
		return c.c.Draft.Envelope().Version
	}
	return c.version()
}
