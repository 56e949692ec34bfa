package call

import (
	"slices"
	"time"

	"orenda/internal/data"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/expect"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/soap"
)

// expects are the expectations that are set; those that cannot be read stopped the call
// at binding.
func (c *base) expects() (out []*expect.Expectation) {
	for _, text := range c.plan.Settings.List("expect") {
		if e, err := expect.Parse(text); err == nil {
			out = append(out, e)
		}
	}
	return out
}

// answerOf is what expectations are held against.
func (c *base) answerOf(a *answered, l *exchange.Leg) *expect.Answer {
	out := &expect.Answer{Total: time.Duration(c.rec.Now())}
	if l != nil {
		out.Size = l.ResponseBody.Len()
	}
	if p := c.plan.Contract; p != nil {
		out.Set = p.Schemas
	}
	if o := c.operation; o != nil && o.Output != nil {
		out.Decl = o.Output.Element
	}
	if a.reply != nil {
		out.Payload, out.Fault = a.reply.Payload, a.reply.Fault
	}
	return out
}

// hold holds expectations against an answer, and notes each: what is not met is given.
func (c *base) hold(all []*expect.Expectation, a *expect.Answer) (unmet []diagnose.Unmet) {
	var within *expect.Answer // with the documents in values opened; nil until asked for
	for _, e := range all {
		r := e.Check(a)
		if !r.Met && !r.Found && !a.Payload.IsZero() {
			if within == nil {
				within = unfolded(a)
			}
			if in := e.Check(within); in.Met {
				r = in
			}
		}
		if r.Met {
			c.rec.Fact(exchange.Verify, "expected "+e.Text, "received "+r.Received)
			continue
		}
		u := diagnose.Unmet{Path: r.Path, Expected: r.Expected, Received: r.Received, Found: r.Found}
		if !r.At.IsZero() {
			u.At = r.At.Span()
		} else if !a.Payload.IsZero() {
			u.At = a.Payload.Span()
		}
		if !r.Found && !a.Payload.IsZero() {
			u.Near = near.Miss(r.Path, message.Names(a.Payload))
		}
		unmet = append(unmet, u)
	}
	return unmet
}

// unfolded is an answer with the XML documents that stand in its values opened.
func unfolded(a *expect.Answer) *expect.Answer {
	out := *a
	if d, n := data.Unfold(a.Payload.Doc()); n > 0 {
		if e := soap.Read(d); e != nil {
			out.Payload = e.Payload
		}
	}
	return &out
}

// refused tells whether the call ended as it was expected to: with a fault, or with a
// finding. What was expected is no failure.
func (c *Call) refused(findings []exchange.Finding) bool {
	all := c.expects()
	if !slices.ContainsFunc(all, (*expect.Expectation).Refusal) {
		return false
	}
	a := c.answerOf(&c.outs.answered, c.outs.crossed.leg)
	if len(findings) > 0 {
		a.Finding = findings[0].ID
	}
	return c.hold(all, a) == nil
}

// refusalUnmet is what was expected of a fault and is not so.
func (c *Call) refusalUnmet() []diagnose.Unmet {
	of := c.expects()
	if !slices.ContainsFunc(of, (*expect.Expectation).Refusal) {
		return nil
	}
	of = slices.DeleteFunc(of, (*expect.Expectation).OfFinding)
	return c.hold(of, c.answerOf(&c.outs.answered, c.outs.crossed.leg))
}

// asExpected makes the record that of a call which ended as it was expected to.
func asExpected(x *exchange.Exchange, stage exchange.Stage, findings []exchange.Finding) {
	for i := range findings {
		findings[i].Severity = exchange.Note
		findings[i].Because = ""
	}
	st := x.Stage(stage)
	st.State, st.Note = exchange.Passed, "refused, as was expected"
	v := x.Stage(exchange.Verify)
	v.State, v.Note = exchange.Passed, "as expected"
}
