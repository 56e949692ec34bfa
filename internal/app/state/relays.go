package state

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/relay"
	"orenda/internal/workspace"
)

// Relay is one that runs in the application: calls of other programs go through it.
type Relay struct {
	Name      string   // under which the workspace keeps it; "" it does not
	To        string   // the endpoint or the address that it was started for
	Target    string   // the service
	Addresses []string // that a program calls, the one over TLS last
	Authority string   // file that the program has to trust, for TLS; "" where there is none

	TurnedAway int    // requests that were not taken
	Why        string // the newest of them was not

	Count, Failed int                 // calls that came, and that did not pass
	Last          *exchange.Exchange  // the newest, masked
	Answering     workspace.Answering // how it answers by itself

	route     *workspace.Route
	traced    *workspace.Traced
	r         *relay.Relay
	close     func()                              // ends it, and keeps what passed
	answering atomic.Pointer[workspace.Answering] // as the relay reads it
}

// StartRelay starts a relay to an endpoint or an address; with TLS beside plain HTTP.
func (s *State) StartRelay(to string, overTLS bool) error {
	r := &workspace.Route{To: to}
	if s.W.Endpoint(to) != nil {
		r.To, r.Endpoint = "", to
	}
	if overTLS {
		r.ListenTLS = "127.0.0.1:0"
	}
	return s.StartRoute(r)
}

// StartRoute starts a relay as the workspace may keep it.
func (s *State) StartRoute(r *workspace.Route) error {
	if r.Contract != "" {
		return fmt.Errorf("it has a contract of its own: orenda relay %s starts it", r.Name)
	}
	traced, err := s.W.Traced(r.Leads(), s.Environment)
	if err != nil {
		return err
	}
	one := &Relay{To: r.Leads(), Target: traced.To.Redacted(), Name: r.Name, route: r, traced: traced}
	if one.Answering, err = r.Answering(); err != nil {
		return err
	}
	one.AnswerBy(one.Answering)
	wanted, err := r.Sampling()
	if err != nil {
		return err
	}
	var o relay.Options
	if o, one.Authority, err = r.Options(s.Home, traced); err != nil {
		return err
	}
	behind := journal.NewBehind(journal.Adding(s.J), func(x *exchange.Exchange, err error) {
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
	})
	cut, err := r.Trimming()
	if err != nil {
		behind.Close()
		return err
	}
	o.Keep = func(x *exchange.Exchange) {
		if wanted(x) {
			behind.Add(cut(x))
		}
	}
	o.TurnedAway = func(why string) {
		s.post(func() {
			one.TurnedAway++
			one.Why = why
		})
	}
	o.Change = func(w *call.Imported) { one.answering.Load().Change(w) }
	o.Answer = func(w *call.Imported) ([]byte, time.Duration, bool) {
		a := one.answering.Load()
		out, ok := traced.Answer(a, w)
		return out, a.After, ok
	}
	if one.r, err = relay.Listen(o); err != nil {
		behind.Close()
		return err
	}
	traced.Here(one.r.Address())
	one.close = sync.OnceFunc(func() {
		one.r.Close()
		behind.Close()
	})
	one.Addresses = one.r.Addresses()
	s.Relays = append(s.Relays, one)
	s.run.Go(func(ctx context.Context) { // it ends with the application
		<-ctx.Done()
		one.close()
	})
	return nil
}

// SecureRelay begins a relay again that gives each request the endpoint's security. Whoever knows
// its address calls as the person, so it has another one, with a part that nobody guesses.
func (s *State) SecureRelay(one *Relay) error {
	if one.route.Endpoint == "" {
		return errors.New("it leads to an address: only an endpoint of the workspace has security to add")
	}
	r := *one.route
	r.Secure, r.Describe, r.Add = true, one.Answering.Describe, nil
	for _, f := range one.Answering.Add {
		r.Add = append(r.Add, f[0]+": "+f[1])
	}
	s.StopRelay(slices.Index(s.Relays, one))
	return s.StartRoute(&r)
}

// StopRelay stops a relay; what goes through it is ended.
func (s *State) StopRelay(at int) {
	if at < 0 || at >= len(s.Relays) {
		return
	}
	one := s.Relays[at]
	s.Relays = append(s.Relays[:at:at], s.Relays[at+1:]...)
	s.run.Go(func(context.Context) { one.close() })
}

// Routes are the relays that the workspace keeps and that do not run now.
func (s *State) Routes() (out []*workspace.Route, err error) {
	w := s.W
	kept := Known(s, "relays", func(context.Context) routes {
		all, err := w.Routes()
		return routes{all, err}
	})
	for _, r := range kept.all {
		if !slices.ContainsFunc(s.Relays, func(one *Relay) bool { return one.Name == r.Name }) {
			out = append(out, r)
		}
	}
	return out, kept.err
}

type routes struct {
	all []*workspace.Route
	err error
}

// KeepRelay keeps a relay that runs in the workspace, under a name: as it listens and does now.
func (s *State) KeepRelay(one *Relay, name string) error {
	r := *one.route
	r.Name, r.Describe, r.Add = name, one.Answering.Describe, nil
	for _, f := range one.Answering.Add {
		r.Add = append(r.Add, f[0]+": "+f[1])
	}
	r.Listen = one.r.ListensAt()[0]
	if r.ListenTLS != "" {
		r.ListenTLS = one.r.ListensAt()[1]
	}
	err := s.W.KeepRoute(&r)
	if err == nil {
		err = s.W.ApproveRoute(&r)
	}
	if err == nil {
		one.Name = name
		s.Stale("relays")
	}
	return err
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
