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
	// Add keeps an exchange; when it returns, the exchange survives the process.
	Add(x *exchange.Exchange) error
	// List gives exchanges without their bytes, newest first.
	List(q Query) ([]*exchange.Exchange, error)
	// Get gives an exchange whole. A unique beginning of an id will do, and
	// "last" is the newest.
	Get(id string) (*exchange.Exchange, error)
	// ReplySizes are the sizes of the newest kept replies to an operation in
	// bytes, the newest first: 10 000 at most, announced ones included.
	ReplySizes(operation string) []int64
	// Version changes whenever the journal has.
	Version() int64
	Close() error
}

// Memory is a journal that ends with the process.
type Memory struct {
	mu   sync.Mutex
	kept []*exchange.Exchange
}

// Add implements Journal.
func (m *Memory) Add(x *exchange.Exchange) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := x.Redact(nil)
	for _, l := range c.Legs {
		l.Beginning()
	}
	m.kept = append(m.kept, c)
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

// MostSizes is how many sizes ReplySizes gives at most.
const MostSizes = 10000

// Version implements Journal.
func (m *Memory) Version() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return int64(len(m.kept))
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
