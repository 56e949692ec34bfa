package call

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// A reply that is on disk is read without a tree: the scanner runs over all of
// it, and what it holds is judged piece by piece on the way (schema.Flow). Its
// beginning, closed where it was cut, is made into a tree for all that asks what
// kind of answer it is.

// beginning is how much of it that is, in bytes.
const beginning = 1 << 20

// flow is what a run over a large reply showed.
type flow struct {
	rows     int    // children of the payload that have its most frequent name
	row      string // that name
	elements int

	want    *schema.Element // of the payload; nil: it is not judged
	set     *schema.Set
	invalid []schema.Error
	without []string // what was not judged
	inBody  bool     // the body has begun: what comes is the payload
}

// run scans a whole body, looking at the context now and then.
func (f *flow) run(ctx context.Context, body []byte, limits xmltree.Limits) (err error) {
	s := xmltree.NewScanner(body, limits)
	var judged *schema.Flow
	if f.want != nil {
		judged = f.set.NewFlow(body, s, f.want, schema.Options{Context: ctx})
		defer func() { f.invalid, f.without = judged.Done() }()
	}
	counts := map[xmltree.NameID]int{}
	for n := 0; ; n++ {
		if n&0xffff == 0 {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			runtime.Gosched() // what gives the pages back that were looked at has its turn
		}
		t, err := s.Next()
		if err != nil {
			return err
		}
		if t.Kind == xmltree.EOF {
			break
		}
		if t.Kind == xmltree.EndElement && judged != nil {
			judged.End(t)
		}
		if t.Kind != xmltree.StartElement {
			continue
		}
		f.elements++
		if judged != nil {
			switch s.Depth() {
			case payloadDepth - 1:
				name := s.NameOf(t.Name)
				f.inBody = f.inBody || name.Local == "Body" && soap.VersionOf(name.Space) != soap.Unset
			case payloadDepth:
				if f.inBody {
					judged.Top()
				}
			}
			judged.Start(t)
		}
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
// It is cut after the last child of the payload that is whole, or, where none is,
// after the last piece of markup that is.
func opening(cut []byte, limits xmltree.Limits) *xmltree.Document {
	s := xmltree.NewScanner(cut, limits)
	var open []string
	end, kept := 0, 0 // of what is kept: its length, and how many elements are open there
	last, lastOpen := 0, 0
	for {
		t, err := s.Next()
		if err != nil || t.Kind == xmltree.EOF { // the cut, or the end
			break
		}
		switch t.Kind {
		case xmltree.StartElement:
			open = append(open, s.NameOf(t.Name).Qualified())
		case xmltree.EndElement:
			open = open[:len(open)-1]
			if len(open) <= payloadDepth {
				end, kept = t.Span.End, len(open) // a child of the payload is whole
			}
		}
		last, lastOpen = t.Span.End, len(open)
	}
	if end == 0 {
		end, kept = last, lastOpen
	}
	var b bytes.Buffer
	b.Write(cut[:end])
	for i := min(kept, len(open)) - 1; i >= 0; i-- {
		b.WriteString("</" + open[i] + ">")
	}
	d, err := xmltree.Parse(b.Bytes(), limits)
	if err != nil && (d == nil || d.Root().IsZero()) {
		return nil
	}
	return d
}

// recode gives the response body UTF-8, where it is in another encoding. skip is
// how many bytes of it are its byte order mark.
func (c *reading) recode() (skip int, err error) {
	l := c.leg
	err = l.ResponseBody.Use(func(all []byte) error {
		r, mark, err := xmltree.Recoding(all, charset(l.Response.Get("Content-Type")))
		skip = mark
		if err != nil || r == nil {
			return err
		}
		skip = 0
		_, err = c.rec.Rewrite(l, func(add func([]byte) error) error {
			return copyTo(add, r)
		})
		return err
	})
	return skip, err
}

// copyTo copies what a reader gives, piece by piece.
func copyTo(add func([]byte) error, r io.Reader) error {
	buf := make([]byte, 256<<10)
	for {
		n, err := r.Read(buf)
		if aerr := add(buf[:n]); aerr != nil {
			return aerr
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// around is how much is kept as evidence on both sides of where a reply stops
// being well-formed.
const around = 1 << 10

// brokenAt makes the place where a large reply stops being well-formed what the
// rules look at.
func (c *reading) brokenAt(syntax *xmltree.SyntaxError, skip int) {
	from := max(syntax.Offset-around, 0)
	shifted := *syntax
	shifted.Offset -= from
	c.syntax, c.replyAt = &shifted, from+skip
	window := c.leg.ResponseBody.Range(int64(from+skip), int64(syntax.Offset+skip+around))
	c.doc = &xmltree.Document{Src: window}
}

// flowing reads and verifies a reply that is on disk.
//
//revive:disable-next-line:function-length one stage, in the order of what it does
//revive:disable-next-line:cyclomatic one stage, in the order of what it does
func (c *reading) flowing(ctx context.Context, limits xmltree.Limits) (exchange.Stage, error) {
	l := c.leg
	skip, err := c.recode()
	if err != nil {
		return exchange.Read, err
	}
	var f flow
	if o := c.operation; o != nil && o.Output != nil && c.plan.Settings.Switch("validate") && o.Use != "encoded" &&
		c.plan.Until != exchange.Read {
		f.want, f.set = o.Output.Element, c.plan.Contract.Schemas
	}
	err = l.ResponseBody.Use(func(all []byte) error { return f.run(ctx, all[skip:], limits) })
	size := l.ResponseBody.Len()
	doc := opening(l.ResponseBody.Range(int64(skip), beginning), limits)
	c.doc = doc
	defer func() { c.secretsInReply(l.ResponseBody.Range(int64(skip), maxSecretText)) }()
	var syntax *xmltree.SyntaxError
	switch {
	case errors.As(err, &syntax):
		c.brokenAt(syntax, skip)
		if stop := c.noAnswer(); stop != nil {
			return exchange.Receive, stop
		}
		return exchange.Read, err
	case err != nil:
		return exchange.Read, err
	case doc == nil:
		return exchange.Read, diagnose.NotEnvelopeError{}
	}
	if c.reply = soap.Read(doc); c.reply == nil {
		return exchange.Read, diagnose.NotEnvelopeError{Root: doc.Root().Name()}
	}
	e := c.reply
	c.rec.Fact(
		exchange.Read,
		"envelope",
		fmt.Sprintf("SOAP %s · %s elements, read flowing from disk", e.Version, endpoint.Bytes(int64(f.elements))),
	)
	if e.Version != sentVersion(&c.base, c.draft) {
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
	if c.plan.Until == exchange.Read {
		return exchange.Read, nil
	}
	c.complete = true
	c.rec.Begin(exchange.Verify)
	note := ""
	if o := c.operation; o != nil && o.Output != nil && o.Output.Element != nil {
		want := o.Output.Element
		if got := schema.NameOf(e.Payload.Name()); got != want.Name && o.Style != "rpc" {
			return exchange.Verify, diagnose.ReplyDiffersError{Got: got, Want: want.Name}
		}
		if f.want != nil {
			for i := range f.invalid {
				f.invalid[i].Span.Start += skip
				f.invalid[i].Span.End += skip
			}
			c.replyInvalid, c.wholeJudged = f.invalid, true
			note = "valid"
			if len(f.invalid) > 0 {
				note = faults(len(f.invalid))
			}
			fact := fmt.Sprintf("%s; all of %s bytes were checked", note, endpoint.Bytes(size))
			if len(f.without) > 0 {
				fact += ", but for " + strings.Join(f.without, ", ")
			}
			c.rec.Fact(exchange.Verify, "schema", fact)
		}
	}
	c.rec.End(exchange.Verify, exchange.Passed, note)
	return exchange.Verify, nil
}
