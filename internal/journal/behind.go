package journal

import (
	"slices"
	"sync"
	"time"

	"orenda/internal/exchange"
)

// Adder keeps several exchanges at once; there is an error, or nil, for each.
type Adder interface {
	AddAll(all []*exchange.Exchange) []error
}

// Preparer is an Adder that first makes what it keeps of exchanges, which takes long, and keeps it when
// add is called. What is prepared first is to be added first.
type Preparer interface {
	Prepare(all []*exchange.Exchange) (add func() []error)
}

// Prepared prepares exchanges where the adder can do that apart.
func Prepared(j Adder, all []*exchange.Exchange) (add func() []error) {
	if p, ok := j.(Preparer); ok {
		return p.Prepare(all)
	}
	return func() []error { return j.AddAll(all) }
}

// Adding is a journal as an Adder: by its own way to keep several at once, or one by one.
func Adding(j Journal) Adder {
	if a, ok := j.(Adder); ok {
		return a
	}
	return oneByOne{j}
}

type oneByOne struct{ j Journal }

func (o oneByOne) AddAll(all []*exchange.Exchange) []error {
	errs := make([]error, len(all))
	for i, x := range all {
		errs[i] = o.j.Add(x)
	}
	return errs
}

// What may wait to be kept: more makes who brings it wait.
const (
	maxWaiting      = 512
	maxWaitingBytes = 64 << 20
)

// gather is how long the first of a batch waits for others: what is kept at once costs half.
const gather = 10 * time.Millisecond

// Behind keeps exchanges a little later than they are brought, as many at once as wait: who
// passes calls on is not held up by the journal. What was brought is lost only with the process,
// and only as long as it has not been told that it is kept.
type Behind struct {
	j    Adder
	kept func(*exchange.Exchange, error)
	most int // how many may wait

	mu      sync.Mutex
	changed *sync.Cond
	waiting []brought
	bytes   int64
	closed  bool
	done    chan struct{}
}

// brought is an exchange that waits, with what is closed once it is kept; nil: nobody waits for that.
type brought struct {
	x    *exchange.Exchange
	kept chan struct{}
}

func (b brought) awaited() bool { return b.kept != nil }

// NewBehind begins to keep. kept is told of each exchange, in their order, from one goroutine,
// once it is kept or could not be.
func NewBehind(j Adder, kept func(*exchange.Exchange, error)) *Behind {
	b := &Behind{j: j, kept: kept, most: maxWaiting, done: make(chan struct{})}
	b.changed = sync.NewCond(&b.mu)
	go b.run()
	return b
}

// Most has no more than so many exchanges wait, before any is brought: who brings many would only hold
// memory with them.
func (b *Behind) Most(n int) { b.most = n }

// Add brings an exchange. It waits while too much waits; an exchange whose bytes lie in a storage
// that its owner is about to give up is kept before Add returns.
func (b *Behind) Add(x *exchange.Exchange) {
	size, one := int64(0), brought{x: x}
	for _, l := range x.Legs {
		size += int64(len(l.Out))
		if l.In.Stored() || l.ResponseBody.Stored() {
			one.kept = make(chan struct{})
			continue
		}
		size += l.In.Len()
	}
	b.bring(one, size)
	if one.kept != nil {
		<-one.kept
	}
}

func (b *Behind) bring(one brought, size int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for len(b.waiting) > 0 && (len(b.waiting) >= b.most || b.bytes+size > maxWaitingBytes) {
		b.changed.Wait()
	}
	b.waiting = append(b.waiting, one)
	b.bytes += size
	b.changed.Broadcast()
}

// Close keeps all that waits. Nothing is brought any more.
func (b *Behind) Close() {
	b.mu.Lock()
	b.closed = true
	b.changed.Broadcast()
	b.mu.Unlock()
	<-b.done
}

// batch is what is kept at once.
type batch struct {
	all []brought
	add func() []error
}

// run prepares what was brought, while what was brought before is being kept.
func (b *Behind) run() {
	defer close(b.done)
	ready, ended := make(chan batch), make(chan struct{})
	go func() {
		defer close(ended)
		for one := range ready {
			b.keep(one)
		}
	}()
	for {
		b.mu.Lock()
		for len(b.waiting) == 0 && !b.closed {
			b.changed.Wait()
		}
		if !b.closed && !slices.ContainsFunc(b.waiting, brought.awaited) {
			b.mu.Unlock()
			time.Sleep(gather)
			b.mu.Lock()
		}
		one := batch{all: b.waiting}
		b.waiting, b.bytes = nil, 0
		b.changed.Broadcast()
		b.mu.Unlock()
		if len(one.all) == 0 {
			close(ready)
			<-ended
			return
		}
		all := make([]*exchange.Exchange, len(one.all))
		for i, x := range one.all {
			all[i] = x.x
		}
		one.add = Prepared(b.j, all)
		ready <- one
	}
}

func (b *Behind) keep(one batch) {
	for i, err := range one.add() {
		b.kept(one.all[i].x, err)
		if one.all[i].kept != nil {
			close(one.all[i].kept)
		}
	}
}
