package state

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/relay"
	"orenda/internal/workspace"
)

// Relay is one that runs in the application: calls of other programs go through it.
type Relay struct {
	To        string   // the endpoint or the address that it was started for
	Target    string   // the service
	Addresses []string // that a program calls, the one over TLS last
	Authority string   // file that the program has to trust, for TLS; "" where there is none

	Count, Failed int                 // calls that came, and that did not pass
	Last          *exchange.Exchange  // the newest, masked
	Answering     workspace.Answering // how it answers by itself

	traced    *workspace.Traced
	r         *relay.Relay
	answering atomic.Pointer[workspace.Answering] // as the relay reads it
}

// StartRelay starts a relay to an endpoint or an address; with TLS beside plain HTTP.
func (s *State) StartRelay(to string, overTLS bool) error {
	traced, err := s.W.Traced(to, s.Environment)
	if err != nil {
		return err
	}
	one := &Relay{To: to, Target: traced.To.Redacted(), traced: traced}
	one.answering.Store(&workspace.Answering{})
	o := relay.Options{Listen: "127.0.0.1:0", To: traced.To, Plan: traced.Plan}
	if traced.Base.Settings.Text("client-cert") != "" || traced.Base.Settings.Text("client-identity") != "" {
		o.Secret = relay.NewSecret()
	}
	if overTLS {
		c, _, file, err := workspace.RelayCertificate(s.Home, traced.To.Hostname())
		if err != nil {
			return err
		}
		o.ListenTLS, o.Certificate, one.Authority = "127.0.0.1:0", &c, file
	}
	o.Keep = func(x *exchange.Exchange) {
		err := s.J.Add(x)
		masked := x.Redact(nil)
		s.post(func() {
			one.Count++
			if masked.Outcome != exchange.OutcomePassed {
				one.Failed++
			}
			one.Last = masked.WithoutBytes()
			s.hold(one.Last)
			if err != nil {
				s.Say("the exchange was not kept: %v", err)
			}
		})
	}
	o.Answer = func(w *call.Imported) ([]byte, time.Duration, bool) {
		a := one.answering.Load()
		out, ok := traced.Answer(a, w)
		return out, a.After, ok
	}
	if one.r, err = relay.Listen(o); err != nil {
		return err
	}
	one.Addresses = one.r.Addresses()
	s.Relays = append(s.Relays, one)
	s.run.Go(func(ctx context.Context) { // it ends with the application
		<-ctx.Done()
		one.r.Close()
	})
	return nil
}

// StopRelay stops a relay; what goes through it is ended.
func (s *State) StopRelay(at int) {
	if at < 0 || at >= len(s.Relays) {
		return
	}
	one := s.Relays[at]
	s.Relays = append(s.Relays[:at:at], s.Relays[at+1:]...)
	s.run.Go(func(context.Context) { one.r.Close() })
}

// AnswerBy has a relay answer by itself, or pass on again.
func (r *Relay) AnswerBy(a workspace.Answering) {
	r.Answering = a
	r.answering.Store(&a)
}

// AnswerAsLast has a relay answer as the newest call of the workspace that passed was answered,
// of the operation that came last, or of any.
func (s *State) AnswerAsLast(r *Relay) error {
	operation := ""
	if r.Last != nil {
		operation = r.Last.Operation
	}
	for _, x := range s.traffic.kept {
		if x.Outcome != exchange.OutcomePassed || operation != "" && x.Operation != operation || x.Operation == "" {
			continue
		}
		full := s.calls.clear[x.ID] // of this sitting, as it came
		if full == nil {
			var err error
			if full, err = s.J.Get(x.ID); err != nil {
				return err
			}
		}
		a := r.Answering
		a.Kept, a.Example, a.Fault, a.Page = full, false, false, false
		r.AnswerBy(a)
		return nil
	}
	return fmt.Errorf("no call that is kept has passed yet")
}
