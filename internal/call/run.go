package call

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/wire"
)

// Call is a call that was planned, runs, or has run.
type Call struct {
	base
	steps []step
	outs  outs
	warm  sync.WaitGroup // what is read ahead
}

// New prepares a call. notify, which may be nil, is called whenever the record
// has changed; it must not block.
func New(p Plan, notify func()) *Call {
	now := exchange.Now()
	x := &exchange.Exchange{
		ID: exchange.NewID(now), Started: now, Workspace: p.Workspace, Contract: p.ContractName, Operation: p.Operation,
		Draft: p.DraftName, Endpoint: p.Endpoint, Environment: p.Environment, Changes: p.Changes,
	}
	if p.kept != nil {
		x = again(p.kept)
	}
	c := &Call{base: base{plan: &p, rec: exchange.NewRecorder(x, notify)}, steps: callSteps()}
	switch {
	case p.imported != nil && p.imported.relayed:
		c.steps = relayedSteps()
	case p.imported != nil:
		c.steps = importedSteps()
	case p.fetch != nil && p.fetch.post != nil:
		x.Kind, c.steps = "fetch", logInSteps()
	case p.fetch != nil:
		x.Kind, c.steps = "fetch", fetchSteps()
	}
	if p.Port != nil {
		c.operation = p.Port.Operation(p.Operation)
	}
	if p.kept == nil {
		x.Settings = record(&c.plan.Settings)
	}
	x.SecretNames = exchange.SecretNames(c.plan.Settings.List("secret"))
	x.Secrets = append(headerSecrets(&c.plan.Settings), c.plan.Secrets...)
	return c
}

// facts are what the call knows, as the rules see it.
func (c *Call) facts(err error) *diagnose.Case {
	p, o := c.plan, &c.outs
	f := &diagnose.Case{
		X: c.rec.Exchange(), Err: err, Now: time.Now(), Settings: &p.Settings, Contract: p.Contract, Port: p.Port,
		Operation: c.operation, Served: p.Served,
		Environment: p.Environment, Variables: p.Variables, Identities: p.Identities, Shares: p.Shares,
		History: p.History,
		Fetch:   p.fetch != nil, Description: p.fetch != nil && p.fetch.read != nil,
		SetAside: p.SetAside, SkipVerify: p.SkipVerify, Imported: p.imported != nil,

		Draft: o.composed.draft, Header: o.composed.header, Invalid: o.composed.invalid,
		HeaderInvalid: o.composed.headerInvalid, Size: o.composed.size, Held: o.composed.held,
		SecretHasSpaces: o.secured.spaced, AssertionOver: o.secured.assertionOver, Unfit: o.secured.unfit,
		Replaced: o.crossed.replaced, Followed: o.crossed.followed, Chosen: o.crossed.chosen,
		Fetched: o.crossed.fetched, Completes: o.crossed.completes,
		OtherName: o.crossed.otherName, PeerTime: o.crossed.peerTime,
		Reply: o.answered.reply, ReplyDoc: o.answered.doc, ReplyAt: o.answered.replyAt, ReplyErr: o.answered.syntax,
		NotDecrypted: o.answered.notOpened,
		ReplyInvalid: o.answered.replyInvalid, WholeJudged: o.answered.wholeJudged,
		Unmet: o.verified.unmet, Signatures: o.verified.signed, Signer: o.verified.signer,
		SignerOver: o.verified.signerOver,
		Unsigned:   o.verified.unsigned, Stale: o.verified.staleWhy, StaleAt: o.verified.staleAt,
	}
	f.Later = c.later.calledBack(o.crossed.acknowledged)
	if p.kept != nil && p.kept.Seen != nil {
		f.Later = p.kept.Seen.Later
	}
	if p.imported != nil || p.kept != nil {
		f.Now = f.X.Started
	}
	if w := p.imported; w != nil {
		if w.relayed || w.Ended == GivenUp { // else it was the server that broke the request off
			f.SentDeclared, f.SentCame = w.Declared, w.Came
		}
		f.ProgramLeft, f.Undeclared, f.Empty = w.Left, w.Undeclared, w.empty()
		f.AddsSecurity = w.relayed && p.AddSecurity
		f.GivenUp, f.Waited, f.HeadMade = w.Ended == GivenUp, w.Waited, w.madeHead
	}
	return f
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
	defer c.warm.Wait()
	stage, err := c.path(ctx)
	c.later.close()
	if stage >= exchange.Read && errors.Is(err, context.DeadlineExceeded) && context.Cause(ctx) == wire.ErrTotalTime {
		err = wire.OutOfTime(stage)
	}
	if log := c.outs.secured.material.keyLog; log != nil {
		log.Close()
	}
	outcome := exchange.OutcomePassed
	if err != nil {
		state := exchange.Stopped
		outcome = exchange.OutcomeStopped
		var we *wire.Error
		if errors.Is(err, context.Canceled) || errors.As(err, &we) && we.Reason == wire.Cancelled {
			state, outcome = exchange.Cancelled, exchange.OutcomeCancelled
		}
		c.rec.End(stage, state, "")
	}
	total := c.rec.Now()
	if c.plan.kept != nil {
		total = c.plan.kept.TotalNs
	} else if err != nil {
		c.lookInto(ctx, err)
	}
	c.judge(stage, outcome, total, err)
	return c.rec.Exchange()
}

// judge has the rules say what was found, and closes the record.
func (c *Call) judge(stage exchange.Stage, outcome exchange.Outcome, total int64, err error) {
	if err != nil && c.outs.answered.reply != nil && c.outs.answered.reply.Fault != nil {
		c.outs.verified.unmet = c.refusalUnmet()
	}
	facts := c.facts(err)
	var findings []exchange.Finding
	if outcome != exchange.OutcomeCancelled {
		findings = diagnose.Run(facts)
	}
	var memory *exchange.Memory
	expected := outcome == exchange.OutcomeStopped && c.refused(findings)
	if expected {
		outcome = exchange.OutcomePassed
	}
	if outcome == exchange.OutcomeStopped {
		memory = diagnose.Remember(facts, findings)
	}
	c.rec.Update(func(x *exchange.Exchange) {
		x.Seen = c.seen(err)
		if expected {
			asExpected(x, stage, findings)
		}
		x.TotalNs = total
		x.Memory = memory
		x.Outcome = outcome
		if outcome == exchange.OutcomeStopped {
			x.StoppedAt = stage
		}
		x.Findings = findings
		diagnose.Price(x)
		for _, f := range findings {
			if st := x.Stage(f.Stage); f.Severity == exchange.Warn && st.State == exchange.Passed {
				st.State = exchange.Warned
			}
		}
		if (x.Result == "" || stage == exchange.Verify) && outcome == exchange.OutcomeStopped && len(findings) > 0 {
			x.Result = findings[0].Title
		}
	})
}

// stage runs one that needs no network.
func (c *Call) stage(
	s exchange.Stage,
	ctx context.Context,
	do func(*Call, context.Context) (note string, err error),
) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	c.rec.Begin(s)
	note, err := do(c, ctx)
	if err != nil {
		if note != "" {
			c.rec.Update(func(x *exchange.Exchange) { x.Stage(s).Note = note })
		}
		return err
	}
	c.rec.End(s, exchange.Passed, note)
	return nil
}

// path goes from step to step, and says at which stage it stopped, and why.
func (c *Call) path(ctx context.Context) (at exchange.Stage, err error) {
	if c.plan.NoEndpoint != nil {
		c.rec.End(exchange.Address, exchange.Skipped, "no endpoint is chosen")
		c.rec.Begin(exchange.Binding)
		return exchange.Binding, c.plan.NoEndpoint
	}
	for i := range c.steps {
		if at, err = c.steps[i].do(ctx, c); err != nil {
			return at, err
		}
		if u := c.plan.Until; u != exchange.None && u <= at {
			return u, nil
		}
	}
	return at, nil
}

// Compose makes the message of a call as it would leave, its secrets masked, and sends
// nothing: the record says what stood in the way where there is none.
func Compose(ctx context.Context, p Plan) (x *exchange.Exchange, envelope []byte) {
	p.Until = exchange.Security
	c := New(p, nil)
	x = c.Run(ctx)
	if x.Outcome != exchange.OutcomePassed {
		return x, nil
	}
	masked := slices.Clone(c.outs.secured.envelope)
	for _, s := range c.outs.secured.secrets {
		for i := s.Offset; i < s.Offset+s.Length && i < int64(len(masked)); i++ {
			masked[i] = exchange.Masked
		}
	}
	return x, masked
}
