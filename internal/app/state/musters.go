package state

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"orenda/internal/expect"
	"orenda/internal/muster"
	"orenda/internal/soap"
	"orenda/internal/workspace"
	"orenda/internal/xmltree"
)

// Running is the run of a muster, as it goes or as it ended.
type Running struct {
	Name  string                   // of the muster
	Cases []muster.Case            // in its order
	Done  map[string]muster.Result // by the name of the case; of the last run until it is run again
	Run   *muster.Run              // nil until it has ended
	Ended int                      // cases of this run that have ended
	All   int                      // cases that it runs
	Goes  bool                     // it is under way

	Beside Place                    // where the same cases were sent too; the zero value: nowhere
	Other  map[string]muster.Result // what came there, by the name of the case
	Pairs  map[string]muster.Pair   // in what the answers differ, by the name of the case; nil until it is known
	halt   context.CancelFunc
}

// Place is an endpoint, in an environment.
type Place struct{ Endpoint, Environment string }

func (p Place) String() string {
	if p.Endpoint == "" {
		return p.Environment
	}
	return p.Endpoint
}

// MusterPlaces are where the cases of a muster may be sent besides: endpoints, and environments.
func (s *State) MusterPlaces() (out []Place) {
	for _, e := range s.W.Config().Endpoints {
		out = append(out, Place{Endpoint: e.Name, Environment: s.Environment})
	}
	for _, e := range s.W.Config().Environments {
		if e.Name != s.Environment {
			out = append(out, Place{Environment: e.Name})
		}
	}
	return out
}

// Muster is the run of a muster: what is known of its last one, or the one under way.
func (s *State) Muster(name string) (*Running, error) {
	if r := s.musters[name]; r != nil {
		return r, nil
	}
	m, err := s.W.Muster(name)
	if err != nil {
		return nil, err
	}
	r := &Running{Name: name, Cases: m.Cases.List(), Done: workspace.LastRun(s.W.RunFile(s.Home, name)).Map()}
	if s.musters == nil {
		s.musters = map[string]*Running{}
	}
	s.musters[name] = r
	return r, nil
}

// atOnce is how many cases of a muster run at once.
const atOnce = 4

// RunMuster runs a muster, or only what was unexpected in its last run, in the background. Cases
// that change things at the service are held back unless again is set.
func (s *State) RunMuster(name string, onlyFailed, again bool) error {
	if r := s.musters[name]; r != nil && r.Goes {
		return errors.New("it runs already; h halts it")
	}
	delete(s.musters, name) // its file may have changed
	r, err := s.Muster(name)
	if err != nil {
		return err
	}
	m, err := s.W.Muster(name)
	if err != nil {
		return err
	}
	kept := s.W.RunFile(s.Home, name)
	o := s.musterOptions(Place{Environment: s.Environment}, again)
	o.Last = workspace.LastRun(kept)
	if onlyFailed {
		o.Wants = func(last *muster.Result) bool { return last != nil && last.Outcome == muster.Unexpected }
	}
	o.Told = func(done, all int, one *muster.Result) {
		result := *one
		s.post(func() {
			r.Ended, r.All = done, all
			if !result.LeftOut {
				r.Done[result.Name] = result
			}
		})
	}
	r.Goes, r.Ended, r.All = true, 0, m.Cases.Len()
	r.halt = s.run.Go(func(ctx context.Context) {
		run := m.Go(ctx, o)
		err := workspace.KeepRun(kept, run, o.Last)
		s.post(func() {
			r.Goes, r.Run = false, run
			for one := range run.Cases.All() {
				if !one.LeftOut {
					r.Done[one.Name] = one
				}
			}
			if s.Say("%s has ended", name); err != nil {
				s.Say("the outcomes were not kept: %v", err)
			}
		})
	})
	return nil
}

func (s *State) musterOptions(at Place, again bool) muster.Options {
	o := muster.Options{AtOnce: atOnce, Now: time.Now}
	s.W.MusterOptions(&o, s.J, at.Endpoint, at.Environment, again)
	o.Keep = s.keepOneOfMany
	return o
}

// RunBeside sends the cases of a muster to another place too, and holds what comes against the
// answers of its last run.
func (s *State) RunBeside(name string, at Place, again bool) error {
	r, err := s.Muster(name)
	switch {
	case err != nil:
		return err
	case r.Goes:
		return errors.New("it runs already; h halts it")
	}
	first := &muster.Run{Muster: name}
	for _, c := range r.Cases {
		one, ok := r.Done[c.Name]
		if !ok || one.Exchange == "" {
			return fmt.Errorf("%s was not sent yet; ! runs all cases", c.Name)
		}
		first.Cases.Add(one)
	}
	m, err := s.W.Muster(name)
	if err != nil {
		return err
	}
	o := s.musterOptions(at, again)
	o.Told = func(done, all int, one *muster.Result) {
		result := *one
		s.post(func() { r.Ended, r.All, r.Other[result.Name] = done, all, result })
	}
	r.Beside, r.Other, r.Pairs = at, map[string]muster.Result{}, nil
	r.Goes, r.Ended, r.All = true, 0, m.Cases.Len()
	r.halt = s.run.Go(func(ctx context.Context) {
		second := m.Go(ctx, o)
		pairs, err := muster.Beside(first, second, s.J.Get)
		s.post(func() {
			if r.Goes = false; err != nil {
				s.Say("%v", err)
				return
			}
			r.Pairs = map[string]muster.Pair{}
			differ := 0
			for _, p := range pairs {
				if r.Pairs[p.Name] = p; !p.Same && p.Why == "" {
					differ++
				}
			}
			if differ == 0 {
				s.Say("%s answers all cases as before", at)
			} else {
				s.Say("%s answers %s otherwise", at, count(differ, "case"))
			}
		})
	})
	return nil
}

// HaltMuster halts a muster that runs.
func (s *State) HaltMuster(name string) {
	if r := s.musters[name]; r != nil && r.Goes {
		r.halt()
	}
}

// OpenKept opens a kept exchange by its id.
func (s *State) OpenKept(id string) error {
	x, err := s.J.Get(id)
	if err != nil {
		return err
	}
	s.Open(x)
	return nil
}

// AddCases puts cases into a muster of the workspace.
func (s *State) AddCases(name string, cases []workspace.AddedCase) error {
	m, err := s.W.AddCases(name, cases...)
	if err != nil {
		return err
	}
	delete(s.musters, name)
	s.Say("%s has %s now; C shows it", m.Name, count(m.Cases.Len(), "case"))
	return nil
}

// mostCame is how many replies are held against each other.
const mostCame = 5

// ExpectAsCame has the draft in sight expect what came back, of the newest calls with the same
// values as the one in sight. It gives how many expectations there are, of how many replies.
func (s *State) ExpectAsCame() (expectations, replies int, err error) {
	if s.Shown >= len(s.Attempts) {
		return 0, 0, errors.New("send the draft first; what comes back is expected then")
	}
	shown := s.Attempts[s.Shown]
	var came []*soap.Envelope
	for _, a := range slices.Backward(s.Attempts) {
		if len(came) == mostCame || !slices.Equal(a.Inputs, shown.Inputs) {
			continue
		}
		x, err := s.J.Get(a.ID)
		if err != nil {
			return 0, 0, err
		}
		l := x.Leg()
		if l == nil {
			continue
		}
		if d, err := xmltree.ParseEncoded(l.Readable(), "", xmltree.Limits{}); err == nil {
			if e := soap.Read(d); e != nil {
				came = append(came, e)
			}
		}
	}
	all := expect.AsCame(came)
	if len(all) == 0 {
		return 0, 0, errors.New("these replies have nothing in common that could be expected")
	}
	return len(all), len(came), s.W.SetDraftOwn(s.Chosen.Draft, "expect", all)
}
