package call

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/spool"
	"orenda/internal/xmltree"
)

// A reply that is on disk is read without a tree: the scanner runs over all of
// it, and its beginning, closed where it was cut, is made into a tree for all
// that asks what kind of answer it is.

// beginning is how much of it that is, in bytes.
const beginning = 1 << 20

// flow is what a run over a large reply showed.
type flow struct {
	rows     int    // children of the payload that have its most frequent name
	row      string // that name
	elements int
}

// run scans a whole body, looking at the context now and then.
func (f *flow) run(ctx context.Context, body []byte, limits xmltree.Limits) error {
	s := xmltree.NewScanner(body, limits)
	counts := map[xmltree.NameID]int{}
	for n := 0; ; n++ {
		if n&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		t, err := s.Next()
		if err != nil {
			return err
		}
		if t.Kind == xmltree.EOF {
			break
		}
		if t.Kind != xmltree.StartElement {
			continue
		}
		f.elements++
		if s.Depth() == payloadDepth+1 {
			counts[t.Name]++
		}
	}
	for id, n := range counts {
		if n > f.rows {
			f.rows, f.row = n, s.NameOf(id).Local
		}
	}
	return nil
}

// payloadDepth is how deep the payload stands: in the body, in the envelope.
const payloadDepth = 3

// opening parses the beginning of a body: what is open where it is cut is closed.
func opening(body []byte, limits xmltree.Limits) (*xmltree.Document, int) {
	cut := body[:min(len(body), beginning)]
	s := xmltree.NewScanner(cut, limits)
	end, depth := 0, 0
	var open []string
	for {
		t, err := s.Next()
		if err != nil || t.Kind == xmltree.EOF { // the cut, or the end
			break
		}
		switch {
		case t.Kind == xmltree.StartElement:
			open = append(open, s.NameOf(t.Name).Qualified())
		case t.Kind == xmltree.EndElement:
			open = open[:len(open)-1]
			if len(open) <= payloadDepth {
				end, depth = t.Span.End, len(open) // a child of the payload is whole
			}
		}
	}
	open = open[:min(depth, len(open))]
	var b bytes.Buffer
	b.Write(cut[:end])
	for i := len(open) - 1; i >= 0; i-- {
		b.WriteString("</" + open[i] + ">")
	}
	d, err := xmltree.Parse(b.Bytes(), limits)
	if err != nil {
		return nil, 0
	}
	return d, end
}

// recoded is the reply in UTF-8.
func (c *Call) recoded() ([]byte, error) {
	l := c.leg
	r, skip, err := xmltree.Recoding(l.ResponseBody, charset(l.Response.Get("Content-Type")))
	if err != nil || r == nil {
		return l.ResponseBody[skip:], err
	}
	to, err := spool.New("", 3*int64(len(l.ResponseBody))+1<<20)
	if err != nil {
		return nil, err
	}
	l.Spool.Calm(func() {
		l.BodySpool.Calm(func() { _, err = io.CopyBuffer(struct{ io.Writer }{to}, r, make([]byte, 256<<10)) })
	})
	c.rec.Update(func(*exchange.Exchange) { l.BodySpool, l.ResponseBody = to, to.Bytes() })
	return to.Bytes(), err
}

// flowing reads and verifies a reply that is on disk.
func (c *Call) flowing(ctx context.Context, limits xmltree.Limits) (exchange.Stage, error) {
	l := c.leg
	body, err := c.recoded()
	if err != nil {
		return exchange.Read, err
	}
	held := l.BodySpool
	if held == nil {
		held = l.Spool
	}
	var f flow
	held.Calm(func() { err = f.run(ctx, body, limits) })
	doc, seen := opening(body, limits)
	c.c.ReplyDoc = doc
	var syntax *xmltree.SyntaxError
	switch {
	case errors.As(err, &syntax):
		c.c.ReplyErr = syntax
		c.c.ReplyDoc = &xmltree.Document{Src: body}
		if stop := c.noAnswer(); stop != nil {
			return exchange.Receive, stop
		}
		return exchange.Read, err
	case err != nil:
		return exchange.Read, err
	case doc == nil:
		return exchange.Read, diagnose.NotEnvelopeError{}
	}
	if c.c.Reply = soap.Read(doc); c.c.Reply == nil {
		return exchange.Read, diagnose.NotEnvelopeError{Root: doc.Root().Name()}
	}
	e := c.c.Reply
	c.rec.Fact(exchange.Read, "envelope", fmt.Sprintf("SOAP %s · %s elements, read flowing from disk", e.Version, diagnose.Bytes(int64(f.elements))))
	if e.Version != c.sentVersion() {
		return exchange.Read, errors.New("the envelope is of another SOAP version")
	}
	what := e.Payload.Name().Local
	c.rec.Fact(exchange.Read, "body", what)
	c.rec.End(exchange.Read, exchange.Passed, what)
	c.rec.Update(func(x *exchange.Exchange) {
		x.Result = what
		if f.rows > 0 {
			x.Result = fmt.Sprintf("%d × %s", f.rows, f.row)
		}
	})
	if c.done(exchange.Read) {
		return exchange.Read, nil
	}
	c.rec.Begin(exchange.Verify)
	note := ""
	if o := c.c.Operation; o != nil && o.Output != nil && o.Output.Element != nil {
		want := o.Output.Element
		if got := schema.NameOf(e.Payload.Name()); got != want.Name && o.Style != "rpc" {
			return exchange.Verify, diagnose.ReplyDiffersError{Got: got, Want: want.Name}
		}
		if c.plan.Settings.Switch("validate") && o.Use != "encoded" {
			var errs []schema.Error
			for _, x := range c.plan.Contract.Schemas.Validate(e.Payload, want, schema.Options{Context: ctx}) {
				if x.Rule != "cvc-complex-type.2.4" || x.Path != e.Payload.Name().Qualified() {
					errs = append(errs, x) // that it ends too early is of our making
				}
			}
			c.c.ReplyInvalid = errs
			note = "beginning valid"
			if len(errs) > 0 {
				note = fmt.Sprintf("%d faults", len(errs))
			}
			c.rec.Fact(exchange.Verify, "schema", fmt.Sprintf("%s; the first %s of %s bytes were checked", note, diagnose.Bytes(int64(seen)), diagnose.Bytes(int64(len(body)))))
		}
	}
	c.rec.End(exchange.Verify, exchange.Passed, note)
	return exchange.Verify, nil
}
