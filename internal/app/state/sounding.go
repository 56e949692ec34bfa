package state

import (
	"context"
	"errors"
	"fmt"

	"orenda/internal/exchange"
	"orenda/internal/sounding"
	"orenda/internal/workspace"
)

// Sounding is the search for the edge of what a service accepts in a field, as it goes or as it
// ended.
type Sounding struct {
	Of      CallKey            // the call whose field is sounded
	Options sounding.Options   // how
	Result  *sounding.Result   // what is known so far, nil before the first call
	Goes    bool               // it is under way
	Err     error              // why nothing could be found out
	halt    context.CancelFunc // ends it
}

// PrepareSounding chooses a field of the draft in sight, with the way that fits it; nothing is sent.
func (s *State) PrepareSounding(field, by string) error {
	if s.Sound != nil && s.Sound.Goes {
		return errors.New("a sounding runs; esc halts it")
	}
	d := s.Draft()
	if d == nil {
		return errors.New("choose a draft first")
	}
	if it, ok := d.Find(field); ok && by == "" {
		by = sounding.WayFor(&it)
	}
	o, err := sounding.OptionsFor(d, field, by)
	if err != nil {
		return err
	}
	s.Sound = &Sounding{Of: s.Chosen, Options: o}
	return nil
}

// StartSounding begins to send. asked tells that the person let a draft that changes things be
// sent many times.
func (s *State) StartSounding(asked bool) error {
	one := s.Sound
	if one == nil || one.Goes {
		return errors.New("a sounding runs already")
	}
	if s.W.Config().DraftSettings[one.Of.Draft.ID()].Changes && !asked {
		return fmt.Errorf("%s changes things at the service", one.Of.Draft)
	}
	p, err := s.W.Plan(one.Of.Draft, one.Of.Endpoint, s.Environment)
	if err != nil {
		return err
	}
	if p.NoEndpoint != nil {
		return errors.New("no endpoint serves it; g shows why")
	}
	p.History, p.Sessions = s.J, &s.calls.sessions
	one.Options.Limit = sounding.LimitOf(&p)
	o := one.Options
	o.Told = func(r *sounding.Result) { s.post(func() { one.Result = r }) }
	send := sounding.Over(p, o.Field, "", s.keepOneOfMany)
	one.Goes, one.Result, one.Err = true, nil, nil
	one.halt = s.run.Go(func(ctx context.Context) {
		r, err := sounding.Sound(ctx, o, send)
		s.post(func() {
			one.Goes = false
			switch {
			case errors.Is(err, context.Canceled):
				one.Err = errors.New("halted; what was sent is kept")
			case err != nil:
				one.Err = err
			default:
				one.Result = r
				s.Say("the sounding of %s has ended", r.Name())
			}
		})
	})
	return nil
}

// HaltSounding ends the sounding that runs.
func (s *State) HaltSounding() {
	if s.Sound != nil && s.Sound.Goes {
		s.Sound.halt()
	}
}

// KeepSounding keeps what a sounding found as what was learned of its field.
func (s *State) KeepSounding() {
	r := s.Sound.Result
	of := s.Sound.Of.Draft
	s.noted(s.W.Learn(of.Contract, of.Operation, r.Field, r.Sentence, r.Learned()))
}

// EdgeCases puts a case for each side of each edge into a muster: the accepted one passes, the
// refused one is refused.
func (s *State) EdgeCases(muster string) error {
	one := s.Sound
	var cases []workspace.AddedCase
	for _, e := range one.Result.Edges {
		for i, id := range e.Exchanges {
			x, err := s.J.Get(id)
			if err != nil {
				return err
			}
			c := workspace.CaseOf(x)
			c.Draft = one.Of.Draft.String()
			c.Name = fmt.Sprintf("%s %s %s", one.Result.Field, one.Result.By, e.Accepted)
			if i == 1 {
				c.Name = fmt.Sprintf("%s %s %s is refused", one.Result.Field, one.Result.By, e.Refused)
				c.Expect = []string{"fault"}
				if f := x.Cause(); f != nil && x.Stage(exchange.Read).Facts.Get("fault reason") == "" {
					c.Expect = []string{"finding=" + f.ID}
				}
			}
			cases = append(cases, c)
		}
	}
	if len(cases) == 0 {
		return errors.New("no edge was found, so there is no case of it")
	}
	m, err := s.W.AddCases(muster, cases...)
	if err != nil {
		return err
	}
	delete(s.musters, muster)
	s.Say("%s has %d cases now; C shows it", m.Name, m.Cases.Len())
	return nil
}
