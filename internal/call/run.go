package call

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/url"
	"os"
	"time"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/wssec"
)

// Call is a call that was planned, runs, or has run.
type Call struct {
	plan Plan
	rec  *exchange.Recorder
	c    diagnose.Case

	url       *url.URL
	envelope  []byte
	secrets   []exchange.Span
	hasAct    bool
	action    string
	trusted   []*x509.Certificate
	middle    []*x509.Certificate
	certs     []tls.Certificate
	keyLog    *os.File
	openers   []wssec.Opener // keys that may open what is encrypted in the reply
	leg       *exchange.Leg
	attached  attached // what is sent beside the envelope
	token     *wssec.Token
	assertion *wssec.Assertion // that is sent

	authorization string // the field's value, "" for none
	user, word    string // for authentication that is asked for
	ntlm          ntlmStep
	sealed        *soap.Envelope // the reply before it was decrypted
	session       session
	sessionKept   bool      // it is from an earlier call
	held          wire.Pool // the connection that NTLM goes over
	proxy         *wire.Proxy
}

// New prepares a call. notify, which may be nil, is called whenever the record
// has changed; it must not block.
func New(p Plan, notify func()) *Call {
	now := time.Now()
	x := &exchange.Exchange{
		ID: exchange.NewID(now), Started: now, Workspace: p.Workspace, Contract: p.ContractName, Operation: p.Operation,
		Draft: p.DraftName, Endpoint: p.Endpoint, Environment: p.Environment, Changes: p.Changes,
	}
	if p.fetch != nil {
		x.Kind = "fetch"
	}
	c := &Call{plan: p, rec: exchange.NewRecorder(x, notify)}
	c.c = diagnose.Case{X: x, Settings: &c.plan.Settings, Contract: p.Contract, Port: p.Port, Served: p.Served, Environment: p.Environment, Variables: p.Variables,
		Identities: p.Identities, Shares: p.Shares, History: p.History, Fetch: p.fetch != nil, Aside: p.Aside, Anything: p.AcceptAnything}
	if p.Port != nil {
		c.c.Operation = p.Port.Operation(p.Operation)
	}
	x.Settings, x.Secrets = record(&c.plan.Settings), headerSecrets(&c.plan.Settings)
	return c
}

// record lists the settings. A token type that is none is not repeated: people
// put the password there.
func record(s *endpoint.Settings) []exchange.Setting {
	out := s.Record()
	for i := range out {
		if out[i].Key == "token" && endpoint.KeyOf("token").Check(out[i].Value) != nil {
			out[i].Value = "(not a type; not shown)"
		}
	}
	return out
}

// Snapshot is the record as it is now.
func (c *Call) Snapshot() *exchange.Exchange { return c.rec.Snapshot() }

// Run takes the call down the path. The record is complete when it returns.
func (c *Call) Run(ctx context.Context) *exchange.Exchange {
	if limit, err := c.plan.Settings.Duration("total-time"); err == nil && limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, limit, wire.ErrTotalTime)
		defer cancel()
	}
	stage, err := c.path(ctx)
	if c.keyLog != nil {
		c.keyLog.Close()
	}
	c.held.Close()
	x := c.rec.Exchange()
	c.c.Err = err
	state, outcome := exchange.Passed, exchange.OutcomePassed
	if err != nil {
		state, outcome = exchange.Stopped, exchange.OutcomeStopped
		var we *wire.Error
		if errors.Is(err, context.Canceled) || errors.As(err, &we) && we.Reason == wire.Cancelled {
			state, outcome = exchange.Cancelled, exchange.OutcomeCancelled
		}
		c.rec.End(stage, state, "")
	}
	total := c.rec.Now()
	c.lookInto(ctx, err)
	var findings []exchange.Finding
	if outcome != exchange.OutcomeCancelled {
		findings = diagnose.Run(&c.c)
	}
	var memory *exchange.Memory
	if outcome == exchange.OutcomeStopped {
		memory = diagnose.Remember(&c.c, findings)
	}
	c.rec.Update(func(x *exchange.Exchange) {
		x.TotalNs = total
		x.Memory = memory
		x.Outcome = outcome
		if outcome == exchange.OutcomeStopped {
			x.StoppedAt = stage
		}
		x.Findings = findings
		for _, f := range findings {
			if st := x.Stage(f.Stage); f.Severity == exchange.Warn && st.State == exchange.Passed {
				st.State = exchange.Warned
			}
		}
		if (x.Result == "" || stage == exchange.Verify) && outcome == exchange.OutcomeStopped && len(findings) > 0 {
			x.Result = findings[0].Title
		}
	})
	return x
}

// step runs one stage that needs no network.
func (c *Call) step(ctx context.Context, s exchange.Stage, do func() (note string, err error)) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	c.rec.Begin(s)
	note, err := do()
	if err != nil {
		if note != "" {
			c.rec.Update(func(x *exchange.Exchange) { x.Stage(s).Note = note })
		}
		return err
	}
	c.rec.End(s, exchange.Passed, note)
	return nil
}

// path goes from stage to stage, and says at which it stopped, and why.
func (c *Call) path(ctx context.Context) (exchange.Stage, error) {
	if c.plan.Unsettled != nil {
		c.rec.End(exchange.Address, exchange.Skipped, "no endpoint is settled")
		c.rec.Begin(exchange.Binding)
		return exchange.Binding, c.plan.Unsettled
	}
	if c.plan.witnessed != nil {
		if stage, err := c.settled(ctx); err != nil {
			return stage, err
		}
		return c.across(ctx)
	}
	home := []struct {
		stage exchange.Stage
		do    func() (string, error)
	}{
		{exchange.Address, c.address}, {exchange.Binding, c.binding}, {exchange.Message, c.message}, {exchange.Security, func() (string, error) { return c.security(ctx) }},
	}
	for _, h := range home {
		if c.plan.fetch != nil && h.stage == exchange.Message {
			c.rec.End(h.stage, exchange.Skipped, "a description is fetched")
			continue
		}
		if err := c.step(ctx, h.stage, h.do); err != nil {
			return h.stage, err
		}
		if c.done(h.stage) {
			return h.stage, nil
		}
	}
	return c.across(ctx)
}

// across goes over the wire, and to the end of the path.
func (c *Call) across(ctx context.Context) (exchange.Stage, error) {
	err := c.wire(ctx)
	if w := c.plan.witnessed; w != nil && !w.relayed {
		defer c.untouched()
	}
	if err != nil {
		var we *wire.Error
		if errors.As(err, &we) {
			c.notes()
			return we.Stage, err
		}
		return exchange.Receive, err
	}
	c.notes()
	if u := c.plan.Until; u != exchange.None && u <= exchange.Receive {
		return u, nil
	}
	if c.plan.fetch != nil {
		return c.readDescription(ctx)
	}
	return c.answer(ctx)
}

func (c *Call) done(s exchange.Stage) bool { return c.plan.Until == s }
