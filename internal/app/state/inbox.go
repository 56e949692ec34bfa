package state

import (
	"orenda/internal/call"
	"orenda/internal/exchange"
)

// What goroutines bring is put into an inbox and taken by the program's loop,
// which alone touches the rest of the state.

func (s *State) post(take func()) {
	s.inbox.mu.Lock()
	s.inbox.takes = append(s.inbox.takes, take)
	s.inbox.mu.Unlock()
	s.notify()
}

func (s *State) done(id string, x *exchange.Exchange, err error) {
	masked := x.Redact(nil)
	s.post(func() {
		r := s.running[id]
		delete(s.running, id)
		if len(x.Secrets) > 0 {
			s.clear[id] = x
		}
		x := masked
		s.note(x)
		s.Kept++
		if r != nil {
			r.cancel()
			s.ended(r.many)
		}
		s.pump()
		if r != nil && r.cell == s.Cell {
			s.Attempts = append(s.Attempts, x)
			s.Shown = len(s.Attempts) - 1
		}
		s.Changed()
		if s.Message == underWay && s.Running() == nil {
			s.Message = ""
		}
		if next := s.next; next != nil && r != nil && r.cell == s.Cell {
			s.next = nil
			next()
		}
		if err != nil {
			s.Say("the exchange was not kept: %v", err)
		}
	})
}

func (s *State) fetched(id, source string, f *call.Fetched, err error) {
	s.post(func() { s.takeFetched(id, source, f, err) })
}

// Take takes what came in; the program's loop calls it at each wake-up.
func (s *State) Take() {
	s.inbox.mu.Lock()
	takes := s.inbox.takes
	s.inbox.takes = nil
	s.inbox.mu.Unlock()
	for _, t := range takes {
		t()
	}
}
