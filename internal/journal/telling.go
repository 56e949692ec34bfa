package journal

import "orenda/internal/exchange"

// Telling is a journal that tells of each exchange that is kept in it.
type Telling struct {
	Keeper
	Tell func(*exchange.Exchange) // from several goroutines; it must not wait
	End  func()                   // as the journal is closed
}

// Add implements Journal.
func (t *Telling) Add(x *exchange.Exchange) error { return t.AddAll([]*exchange.Exchange{x})[0] }

// AddAll implements Adder.
func (t *Telling) AddAll(all []*exchange.Exchange) []error { return t.Prepare(all)() }

// Prepare implements Preparer.
func (t *Telling) Prepare(all []*exchange.Exchange) func() []error {
	add := Prepared(Adding(t.Keeper), all)
	return func() []error {
		for _, x := range all {
			t.Tell(x)
		}
		return add()
	}
}

// Waiting is how many exchanges wait until the server of a shared journal is back.
func (t *Telling) Waiting() int {
	if w, ok := t.Keeper.(interface{ Waiting() int }); ok {
		return w.Waiting()
	}
	return 0
}

// Shared tells whether several keep exchanges in it.
func (t *Telling) Shared() bool {
	s, ok := t.Keeper.(interface{ Shared() bool })
	return ok && s.Shared()
}

// Close implements Journal.
func (t *Telling) Close() error {
	t.End()
	return t.Keeper.Close()
}
