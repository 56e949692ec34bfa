package state

import (
	"slices"
	"sync"

	"orenda/internal/exchange"
)

// inbox holds what goroutines bring until the program's loop takes it, which alone
// touches the rest of the state.
type inbox struct {
	mu    sync.Mutex
	takes []func()
}

func (b *inbox) put(take func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.takes = append(b.takes, take)
}

func (b *inbox) empty() []func() {
	b.mu.Lock()
	defer b.mu.Unlock()
	takes := b.takes
	b.takes = nil
	return takes
}

func (s *State) post(take func()) {
	s.inbox.put(take)
	s.notify()
}

// Take takes what came in; the program's loop calls it at each wake-up.
func (s *State) Take() {
	for _, take := range s.inbox.empty() {
		take()
	}
}

// ended takes a call that has ended and was kept, or could not be.
func (s *State) ended(id string, x, masked *exchange.Exchange, err error) {
	r := s.calls.running[id]
	delete(s.calls.running, id)
	if len(x.Secrets) > 0 {
		s.calls.clear[id] = x
	}
	s.hold(masked)
	s.Stale("")
	if r != nil && r.many {
		s.oneLess(masked)
	}
	s.pump()
	if r != nil && r.cell == s.Chosen {
		s.Attempts = append(slices.DeleteFunc(slices.Clone(s.Attempts), func(x *exchange.Exchange) bool {
			return x.ID == id // its head was read of the journal meanwhile
		}), masked)
		s.Shown = len(s.Attempts) - 1
	}
	if s.Message == underWay && s.Running() == nil {
		s.Message = ""
	}
	if next := s.calls.next; next != nil && r != nil && r.cell == s.Chosen {
		s.calls.next = nil
		next()
	}
	if err != nil {
		s.Say("the exchange was not kept: %v", err)
	}
}
