package call

import (
	"context"
	"errors"
	"fmt"
	"orenda/internal/related"
	"strconv"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// run reads the answer.
func (c *reading) run(ctx context.Context) (exchange.Stage, error) {
	h := &c.leg.Response
	oneWay := c.operation != nil && c.operation.OneWay()
	if c.leg.ResponseBody.IsZero() && (h.Status == 202 || h.Status == 204 || oneWay && h.Status < 300) {
		for _, s := range []exchange.Stage{exchange.Read, exchange.Verify} {
			c.rec.End(s, exchange.Skipped, "no reply is due")
		}
		c.rec.Update(func(x *exchange.Exchange) { x.Result = "accepted" })
		c.complete = true
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
	body, encoding := c.leg.ResponseBody.Bytes(), charset(h.Get("Content-Type"))
	if related.Is(h.Get("Content-Type")) {
		var err error
		if body, encoding, err = c.related(); err != nil {
			if stop := c.noAnswer(); stop != nil {
				return exchange.Receive, stop
			}
			return exchange.Read, err
		}
	} else if c.leg.Stored() {
		return c.flowing(ctx, limits)
	}
	doc, err := xmltree.ParseEncoded(body, encoding, limits)
	c.doc = doc
	var syntax *xmltree.SyntaxError
	if errors.As(err, &syntax) {
		c.syntax = syntax
	} else {
		c.reply = soap.Read(doc)
	}
	if c.reply == nil {
		// What is no answer stops at receive where the head says so already.
		if stop := c.noAnswer(); stop != nil {
			c.rec.Update(
				func(x *exchange.Exchange) { *x.Stage(exchange.Read) = exchange.StageRecord{Stage: exchange.Read} },
			)
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
	if c.notOpened != nil && c.reply.Fault == nil {
		return exchange.Read, c.notOpened
	}
	e := c.reply
	doc = e.Doc
	c.rec.Fact(exchange.Read, "envelope", "SOAP "+e.Version.String()+" · "+strconv.Itoa(doc.Len())+" nodes")
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
	if e.Version != sentVersion(&c.base, c.draft) {
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
	return exchange.Read, nil
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
func (c *reading) noAnswer() error {
	h := &c.leg.Response
	switch {
	case h.Status >= 300:
		return fmt.Errorf("the status is %d", h.Status)
	case c.leg.ResponseBody.IsZero():
		return nil
	}
	ct := strings.ToLower(h.Get("Content-Type"))
	if strings.Contains(ct, "html") || contract.LooksLikeHTML(c.leg.ResponseBody.Bytes()) ||
		ct != "" && !strings.Contains(ct, "xml") && !strings.HasPrefix(ct, "multipart/") && c.syntax != nil {
		return errors.New("the answer is not SOAP")
	}
	return nil
}

// run verifies what was read.
func (c *verifying) run(ctx context.Context) error {
	c.rec.Begin(exchange.Verify)
	e := c.reply
	if err := c.signatures(); err != nil {
		return err
	}
	note := ""
	if o := c.operation; o != nil && o.Output != nil && o.Output.Element != nil {
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
			c.replyInvalid = c.plan.Contract.Schemas.Validate(e.Payload, want, schema.Options{Context: ctx})
			note = "valid"
			if n := len(c.replyInvalid); n > 0 {
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
		c.unmet = append(c.unmet, u)
	}
	if c.unmet != nil {
		return diagnose.UnexpectedError{}
	}
	c.rec.End(exchange.Verify, exchange.Passed, note)
	return nil
}
