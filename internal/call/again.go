package call

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wire"
	"orenda/internal/wssec"
)

// Again judges a kept exchange by today's rules: from its bytes, its settings and what
// was seen of the wire. Nothing is sent. Of the plan, contract, port, variables and
// history are used, as far as they are known. ok is false where the record does not hold
// enough: the exchange never left, or not all of its reply is kept.
func Again(ctx context.Context, p Plan, kept *exchange.Exchange) (x *exchange.Exchange, ok bool) {
	described := p.Port != nil && p.Port.Operation(kept.Operation) != nil
	if !judgeable(kept) || !described && (kept.Contract != "" || kept.Seen != nil && kept.Seen.Described) {
		return nil, false
	}
	p.kept, p.Changes, p.Until, p.Pool, p.fetch = kept, kept.Changes, exchange.None, nil, nil
	p.Settings = settingsOf(kept)
	p.Operation, p.DraftName, p.Endpoint, p.Environment = kept.Operation, kept.Draft, kept.Endpoint, kept.Environment
	if kept.Kind == "relay" {
		p.imported = &Imported{relayed: true}
	}
	c := New(p, nil)
	c.steps = []step{{run: (*Call).runKept}, {run: (*Call).runRead}, {run: (*Call).runVerify}}
	return c.Run(ctx), true
}

// judgeable tells whether a record holds enough to be judged again.
func judgeable(x *exchange.Exchange) bool {
	l := x.Leg()
	if x.Kind != "" && x.Kind != "relay" || l == nil || x.Outcome == exchange.OutcomeCancelled ||
		x.StoppedAt != exchange.None && x.StoppedAt < exchange.Connect {
		return false
	}
	for _, s := range x.Settings {
		if s.Key == "reply-signature" && s.Value == "demand" {
			return false // the keys are not in the record
		}
	}
	if len(l.RequestBody) == 0 && x.Kind == "" && (x.Seen == nil || x.Seen.Draft == "") {
		return false
	}
	failed := x.Seen != nil && x.Seen.Failure != nil
	return (failed || l.Response.Complete) && l.Decrypted == nil && !l.BodyCut() &&
		!bytes.Contains(l.RequestBody, []byte(wssec.XENC))
}

// settingsOf are the settings of a record, each in the layer that it came from.
func settingsOf(x *exchange.Exchange) (s endpoint.Settings) {
	for _, v := range x.Settings {
		k := endpoint.KeyOf(v.Key)
		if k == nil || v.Source == "default" {
			continue
		}
		values := []string{v.Value}
		if k.Kind == endpoint.List {
			values = strings.Split(v.Value, ", ")
		}
		i := slices.IndexFunc(s.Layers, func(l endpoint.Layer) bool { return l.Source == v.Source })
		if i < 0 {
			s.Layers = append(s.Layers, endpoint.Layer{Source: v.Source, Values: map[string][]string{}})
			i = len(s.Layers) - 1
		}
		s.Layers[i].Values[v.Key] = values
	}
	return s
}

// again begins the record of an exchange that is judged once more.
func again(kept *exchange.Exchange) *exchange.Exchange {
	x := kept.Clone()
	x.Findings, x.Memory, x.Outcome, x.StoppedAt, x.Result = nil, nil, "", exchange.None, ""
	return x
}

// runKept takes what the record has in the place of all stages up to receive.
func (c *Call) runKept(context.Context) (exchange.Stage, error) {
	kept := c.plan.kept
	c.rec.Update(func(x *exchange.Exchange) {
		x.Stages, x.Moments = slices.Clone(kept.Stages), kept.Moments
		for i := range x.Stages {
			if st := &x.Stages[i]; st.Stage >= exchange.Read || st.Stage == kept.StoppedAt {
				*st = exchange.StageRecord{
					Stage:      st.Stage,
					State:      st.State,
					StartedNs:  st.StartedNs,
					DurationNs: st.DurationNs,
				}
			} else if st.State == exchange.Warned {
				st.State = exchange.Passed // the rules say so anew
			}
			if x.Stages[i].Stage >= exchange.Read {
				x.Stages[i].State = exchange.Waiting
			}
		}
	})
	l := c.rec.Exchange().Leg()
	c.outs.crossed.leg = l
	if u, err := url.Parse(c.plan.Settings.Text("address")); err == nil {
		c.outs.addressed.url, c.outs.crossed.url = u, u
	}
	c.outs.composed = c.composedAgain(l)
	c.outs.secured.envelope = l.Sent()
	seen := kept.Seen
	if seen == nil {
		return exchange.Receive, nil
	}
	o := &c.outs.crossed
	o.replaced, o.followed, o.chosen = seen.Replaced, seen.Followed, seen.Chosen
	o.otherName, o.peerTime = seen.OtherName, seen.PeerTime
	c.outs.secured.spaced, c.outs.secured.assertionOver, c.outs.secured.unfit = seen.Spaced, seen.Assertion, seen.Unfit
	c.plan.SkipVerify = seen.Anything
	if w := c.plan.imported; w != nil {
		w.Declared, w.Came, w.Left = seen.Declared, seen.Came, seen.Left
	}
	if seen.Failure != nil {
		return kept.StoppedAt, failureAgain(kept.StoppedAt, seen.Failure, l)
	}
	return exchange.Receive, nil
}

// composedAgain is the message as it was sent: its body, and the header blocks that are
// neither of security nor of addressing.
func (c *Call) composedAgain(l *exchange.Leg) (out composed) {
	p := *c.plan
	body := l.Sent()
	e := envelopeIn(body)
	if e != nil && !e.Payload.IsZero() && !ownEnvelope(c.plan.kept) && c.plan.imported == nil {
		var blocks []byte
		for b := range e.Header.Children() {
			if q := b.Name(); q.Space != wssec.WSSE && !soap.IsAddressing(q.Space) {
				blocks = append(blocks, b.Bytes()...)
			}
		}
		p.SetHeader(append(append([]byte("<headers>"), blocks...), "</headers>"...))
		body = e.Payload.Bytes()
	} else {
		p.SetHeader(nil)
	}
	if seen := c.plan.kept.Seen; seen != nil && seen.Header != "" {
		p.SetHeader([]byte(seen.Header))
	}
	if seen := c.plan.kept.Seen; seen != nil && seen.Draft != "" {
		body = []byte(seen.Draft)
	}
	if c.plan.imported != nil {
		p.setDraft(body, readSent(body, l.SentMedia()))
	} else {
		p.SetDraft(body)
	}
	out.draft, out.header, out.plain, out.size = p.Draft, p.Header, l.RequestBody, int64(len(l.RequestBody))
	if c.plan.Settings.Switch("validate") && out.draft.Err() == nil {
		out.invalid = out.draft.Validate()
		if out.header != nil && out.header.Err() == nil {
			out.headerInvalid = out.header.Validate()
		}
	}
	return out
}

// ownEnvelope tells whether the draft was a whole envelope.
func ownEnvelope(x *exchange.Exchange) bool {
	return slices.ContainsFunc(x.Stage(exchange.Message).Facts, func(f exchange.Fact) bool {
		return f.Name == "envelope"
	})
}

// seen are the facts that the record does not hold elsewhere.
func (c *Call) seen(err error) *exchange.Seen {
	o := &c.outs
	s := &exchange.Seen{
		Replaced: o.crossed.replaced, Followed: o.crossed.followed, Chosen: o.crossed.chosen,
		OtherName: o.crossed.otherName, PeerTime: o.crossed.peerTime, Spaced: o.secured.spaced,
		Assertion: o.secured.assertionOver, Unfit: o.secured.unfit, Anything: c.plan.SkipVerify,
		Described: c.operation != nil,
	}
	const most = 256 << 10
	left := o.crossed.leg != nil && len(o.crossed.leg.RequestBody) > 0
	for to, d := range map[*string]*message.Draft{&s.Draft: o.composed.draft, &s.Header: o.composed.header} {
		if d != nil && len(d.Bytes()) <= most && (!left || len(d.Unfilled()) > 0) {
			*to = string(d.Bytes())
		}
	}
	s.Later = c.later.calledBack(o.crossed.acknowledged)
	if w := c.plan.imported; w != nil && w.relayed {
		s.Declared, s.Came, s.Left = w.Declared, w.Came, w.Left
	}
	e, ok := errors.AsType[*wire.Error](err)
	if !ok {
		return s
	}
	f := &exchange.Failure{
		Reason:    e.Reason.Name(),
		Alert:     e.Alert,
		Limit:     e.Limit,
		Got:       e.Got,
		Announced: e.Announced,
		At:        e.At,
		Whole:     e.Err == wire.ErrTotalTime,
	}
	if e.Err != nil {
		f.Says = e.Err.Error()
	}
	if e.Verdict != nil {
		for _, v := range e.Verdict.Faults {
			f.Faults = append(
				f.Faults,
				exchange.CertificateFault{Reason: int(v.Reason), Index: v.Index, Detail: v.Detail},
			)
		}
	}
	s.Failure = f
	return s
}

// failureAgain is the wire's error as it was.
func failureAgain(at exchange.Stage, f *exchange.Failure, l *exchange.Leg) *wire.Error {
	e := &wire.Error{Stage: at, Reason: wire.ReasonOf(f.Reason), Alert: f.Alert, Limit: f.Limit, Got: f.Got,
		Announced: f.Announced, At: f.At}
	if f.Says != "" {
		e.Err = errors.New(f.Says)
	}
	if f.Whole {
		e.Err = wire.ErrTotalTime
	}
	if f.Faults == nil {
		return e
	}
	e.Verdict = &trust.Verdict{}
	var chain []*x509.Certificate
	if t := l.Conn.TLS; t != nil {
		for _, der := range t.Chain {
			if cert, err := x509.ParseCertificate(der); err == nil {
				chain = append(chain, cert)
			}
		}
	}
	for _, v := range f.Faults {
		fault := trust.Fault{Reason: trust.Reason(v.Reason), Index: v.Index, Detail: v.Detail}
		if v.Index < len(chain) {
			fault.Cert = chain[v.Index]
		}
		e.Verdict.Faults = append(e.Verdict.Faults, fault)
	}
	return e
}
