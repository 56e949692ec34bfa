// Package journal keeps exchanges. What is kept holds no secret: it is cut out
// before anything is written. The store on disk is in journal/disk, apart, so
// that those who only need the interface do not link a database.
package journal

import (
	"errors"
	"slices"
	"strings"
	"sync"

	"orenda/internal/exchange"
)

// Query says which exchanges are wanted, newest first.
type Query struct {
	Workspace string // "" all
	Operation string
	Endpoint  string
	Kind      string // "call", "fetch" or "" all
	Most      int    // 0: 200
}

// ErrNotFound means that no exchange of that id is kept.
var ErrNotFound = errors.New("no such exchange is kept")

// Journal keeps exchanges.
type Journal interface {
	// Add keeps an exchange, in the place of one with the same id; when it returns,
	// the exchange survives the process.
	Add(x *exchange.Exchange) error
	// List gives exchanges without their bytes, newest first.
	List(q Query) ([]*exchange.Exchange, error)
	// Get gives an exchange whole. A unique beginning of an id will do, and
	// "last" is the newest.
	Get(id string) (*exchange.Exchange, error)
	// ReplySizes are the sizes of the newest kept replies to an operation in
	// bytes, the newest first: 10 000 at most, announced ones included.
	ReplySizes(operation string) []int64
	// Passed is the newest kept call of an operation over an endpoint of a
	// workspace that passed, without its bytes, or nil.
	Passed(workspace, operation, endpoint string) *exchange.Exchange
	// Repaired are the newest kept calls that passed after a change, where the
	// attempt before had failed with a finding as its cause.
	Repaired(finding string) []*exchange.Exchange
	// Version changes whenever the journal has.
	Version() int64
	Close() error
}

// Memory is a journal that ends with the process.
type Memory struct {
	mu   sync.Mutex
	kept []*exchange.Exchange // the oldest first

	version int64
}

// Add implements Journal.
func (m *Memory) Add(x *exchange.Exchange) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := x.Redact(nil)
	for _, l := range c.Legs {
		l.Beginning()
	}
	if i := slices.IndexFunc(m.kept, func(o *exchange.Exchange) bool { return o.ID == c.ID }); i >= 0 {
		m.kept[i] = c
	} else {
		m.kept = append(m.kept, c)
	}
	m.version++
	return nil
}

// Matches tells whether an exchange is wanted.
func (q Query) Matches(x *exchange.Exchange) bool {
	return (q.Workspace == "" || x.Workspace == q.Workspace) && (q.Operation == "" || x.Operation == q.Operation) &&
		(q.Endpoint == "" || x.Endpoint == q.Endpoint) && (q.Kind == "" || q.Kind == "call" && x.Kind == "" || q.Kind == x.Kind)
}

// List implements Journal.
func (m *Memory) List(q Query) ([]*exchange.Exchange, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []*exchange.Exchange
	for _, x := range slices.Backward(m.kept) {
		if q.Matches(x) {
			out = append(out, x.WithoutBytes())
		}
		if q.Most > 0 && len(out) == q.Most {
			break
		}
	}
	return out, nil
}

// Get implements Journal.
func (m *Memory) Get(id string) (*exchange.Exchange, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range slices.Backward(m.kept) {
		if id == "last" || strings.HasPrefix(x.ID, id) {
			return x, nil
		}
	}
	return nil, ErrNotFound
}

// ReplySizes implements Journal.
func (m *Memory) ReplySizes(operation string) (out []int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range slices.Backward(m.kept) {
		if n := ReplySize(x); x.Operation == operation && n > 0 && len(out) < MostSizes {
			out = append(out, n)
		}
	}
	return out
}

// Passed implements Journal.
func (m *Memory) Passed(workspace, operation, endpoint string) *exchange.Exchange {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range slices.Backward(m.kept) {
		if (Query{workspace, operation, endpoint, "call", 0}).Matches(x) && x.Outcome == exchange.OutcomePassed {
			return x.WithoutBytes()
		}
	}
	return nil
}

// Repaired implements Journal.
func (m *Memory) Repaired(finding string) (out []*exchange.Exchange) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, x := range slices.Backward(m.kept) {
		if x.Outcome != exchange.OutcomePassed || len(x.Changes) == 0 || x.Kind != "" {
			continue
		}
		for _, before := range slices.Backward(m.kept[:i]) {
			if (Query{x.Workspace, x.Operation, x.Endpoint, "call", 0}).Matches(before) {
				if c := before.Cause(); c != nil && c.ID == finding && len(out) < MostRepaired {
					out = append(out, x.WithoutBytes())
				}
				break
			}
		}
	}
	return out
}

// MostRepaired is how many calls Repaired gives at most.
const MostRepaired = 5

// MostSizes is how many sizes ReplySizes gives at most.
const MostSizes = 10000

// Version implements Journal.
func (m *Memory) Version() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.version
}

// Close implements Journal.
func (m *Memory) Close() error { return nil }

// ReplySize is the size of a reply in bytes, as announced where it was cut off.
func ReplySize(x *exchange.Exchange) int64 {
	l := x.Leg()
	if l == nil || !l.Response.Complete {
		return 0
	}
	return max(l.Response.BodySize, l.Response.Declared)
}
