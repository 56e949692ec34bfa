package state

import (
	"context"
	"fmt"

	"orenda/internal/compare"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/workspace"
)

// Compared are two exchanges that are compared, and in what they differ.
type Compared struct {
	A, B   *exchange.Exchange // with their bytes; nil until they are read
	Report *compare.Report    // with what is set aside; nil until it is made
	Err    error              // one of them cannot be had
	ids    [2]string
}

// Begun tells whether anything is compared.
func (c *Compared) Begun() bool { return c.ids[0] != "" }

// Compare reads two kept exchanges and compares them, in the background.
func (s *State) Compare(a, b string) {
	s.Compared = Compared{ids: [2]string{a, b}}
	s.look("compare "+a+" "+b, func(context.Context) func() {
		c := Compared{ids: [2]string{a, b}}
		if c.A, c.Err = s.J.Get(a); c.Err == nil {
			c.B, c.Err = s.J.Get(b)
		}
		if c.Err == nil {
			c.Report = compare.Sides(compare.Exchange(c.A), compare.Exchange(c.B), true)
		}
		return func() {
			if s.Compared.ids == c.ids {
				s.Compared = c
			}
		}
	})
}

// CompareInSight compares the exchange in sight with the last that passed: over its endpoint,
// else over another; one that passed with the attempt before. It tells whether there is one.
func (s *State) CompareInSight() bool {
	x := s.Exchange()
	if x.ID == "" || len(x.Legs) == 0 {
		s.Say("send the call first; what was sent is compared")
		return false
	}
	if x.Outcome == exchange.OutcomePassed {
		for i := s.Shown - 1; i >= 0 && i < len(s.Attempts); i-- {
			s.Compare(s.Attempts[i].ID, x.ID)
			return true
		}
	}
	if p := s.J.Passed(s.W.ID(), x.Operation, x.Endpoint); p != nil && p.ID != x.ID {
		s.Compare(p.ID, x.ID)
		return true
	}
	const some = 200
	list, err := s.J.List(journal.Query{Workspace: s.W.ID(), Operation: x.Operation, Max: some})
	if err != nil {
		s.Say("%v", err)
		return false
	}
	for _, p := range list {
		if p.Outcome == exchange.OutcomePassed && p.ID != x.ID {
			s.Compare(p.ID, x.ID)
			return true
		}
	}
	s.Say("no other call of %s has passed yet; mark two in the traffic (space) to compare them", x.Operation)
	return false
}

// TakeOverDifference gives what the second call of a comparison belongs to what the first has.
func (s *State) TakeOverDifference(d *compare.Difference) error {
	b := s.Compared.B
	if b == nil || b.Kind != "" {
		return fmt.Errorf("this call is another program's: change it there")
	}
	if b.Workspace != s.W.ID() {
		return fmt.Errorf("this call belongs to another workspace")
	}
	c, err := workspace.Taken(d, b.Endpoint)
	if err != nil {
		return err
	}
	s.Fetching = nil
	s.Choose(s.cellOf(b))
	r := exchange.NewRemedy("", c)
	return s.ApplyRemedy(&r)
}
