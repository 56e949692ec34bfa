// Package journal keeps exchanges. What is kept holds no secret: it is cut out
// before anything is written. The store on disk is in journal/disk, apart, so
// that those who only need the interface do not link a database.
package journal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"orenda/internal/diagnose"
	"orenda/internal/exchange"
)

// Query says which exchanges are wanted, newest first.
type Query struct {
	Workspace string // "" all
	Operation string // "" all
	Endpoint  string // "" all
	Kind      string // "call", "fetch" or "" all
	Max       int    // 0: 200
	Before    string // kept before this one, by its whole id; "" the newest too
}

// ErrNotFound means that no exchange of that id is kept.
var ErrNotFound = errors.New("no such exchange is kept")

// ErrTaken means that another exchange is kept under the same id.
var ErrTaken = errors.New("another exchange is kept under this id, and stays")

// PartError is a part of an id that names no single exchange.
type PartError struct {
	Part string   // that was typed, or could not be found
	Many []string // ids that have it, two at least; none: the part is too short
}

func (e *PartError) Error() string {
	if e.Many == nil {
		return fmt.Sprintf(
			"%q is too short: type %d characters of an id or more, or last",
			e.Part,
			exchange.MinIDPart,
		)
	}
	return fmt.Sprintf(
		"several exchanges have %s in their id: %s; type more of it",
		e.Part,
		strings.Join(e.Many, ", "),
	)
}

// Pick is the id that a part of one stands for, of those that hold it: the one
// that is it, or that ends with it, or the only one.
func Pick(part string, holding []string) (string, error) {
	if slices.Contains(holding, part) {
		return part, nil
	}
	if len(part) < exchange.MinIDPart {
		return "", &PartError{Part: part}
	}
	var ending []string
	for _, id := range holding {
		if strings.HasSuffix(id, part) {
			ending = append(ending, id)
		}
	}
	switch {
	case len(holding) == 0:
		return "", ErrNotFound
	case len(ending) == 1:
		return ending[0], nil
	case len(holding) == 1:
		return holding[0], nil
	}
	return "", &PartError{Part: part, Many: holding[:min(len(holding), 5)]}
}

// TailOf is how many characters of the end of an id tell it from others, those
// with the same last exchange.MinIDPart characters.
func TailOf(id string, others []string) int {
	n := min(exchange.MinIDPart, len(id))
	for n < len(id) && slices.ContainsFunc(others, func(o string) bool {
		return o != id && strings.HasSuffix(o,
			id[len(id)-n:])
	}) {
		n++
	}
	return n
}

// Journal keeps exchanges.
type Journal interface {
	// Add keeps an exchange; when it returns, the exchange survives the process. One
	// that is kept already, with the same id and content, stays; other content
	// under an id that is taken is ErrTaken, and what was there stays.
	Add(x *exchange.Exchange) error
	// Judge gives a kept exchange the findings that x has now: checks were made.
	// What crossed the wire, and all else, stays as it was kept.
	Judge(x *exchange.Exchange) error
	// List gives exchanges without their bytes, newest first.
	List(q Query) ([]*exchange.Exchange, error)
	// Count is how many exchanges a query would give without its Max.
	Count(q Query) (int, error)
	// Get gives an exchange whole. Any part of its id will do that no other has,
	// exchange.MinIDPart characters or more, and "last" is the newest. What is not
	// to be had is ErrNotFound, or a *PartError.
	Get(id string) (*exchange.Exchange, error)
	// Tail is how many characters of the end of a kept id are enough for Get.
	Tail(id string) int
	// ReplySizes are the sizes of the newest kept replies to an operation in bytes, of
	// the service of like, or of every service where that is nil; announced ones where a
	// reply was cut off.
	ReplySizes(operation string, like *exchange.Exchange) []int64
	// Passed is the newest kept call of an operation over an endpoint of a
	// workspace that passed, without its bytes, or nil.
	Passed(workspace, operation, endpoint string) *exchange.Exchange
	// Repaired are the newest kept calls that passed after a change, where the
	// attempt before had failed with a finding as its cause.
	Repaired(finding string) []*exchange.Exchange
	// Holding tells which of some exchanges hold all words of a text, or words that begin so,
	// by their ids.
	Holding(ctx context.Context, text string, among []*exchange.Exchange) (map[string]bool, error)
	// After gives what was kept after a place, in the order in which it was kept, without
	// bytes, with the place of the last; 1000 at most. Last is the place of the newest.
	After(place int64) ([]*exchange.Exchange, int64, error)
	Last() (int64, error)
	// News tells, once, what happened to the journal itself: that it was damaged, and
	// another begun. "" is nothing.
	News() string
	// Version changes whenever the journal has.
	Version() int64
	Close() error
}

// Mark is what a person set on an exchange: what is marked is not pruned.
type Mark struct {
	Pinned bool   `json:"pinned,omitempty"` // it stays
	Note   string `json:"note,omitempty"`   // in the person's words
}

// Size is how much a journal keeps.
type Size struct {
	Count  int       `json:"count"`            // exchanges
	Bytes  int64     `json:"bytes"`            // on disk
	Oldest time.Time `json:"oldest,omitempty"` // when the oldest began; zero: there is none
}

// Keeper is a journal on disk: what it keeps is searched, marked and pruned.
type Keeper interface {
	Journal
	// Search gives exchanges that hold all words of a text, or words that begin so, newest first.
	Search(ctx context.Context, text string, most int) ([]*exchange.Exchange, error)
	// Mark pins an exchange, or writes a note on it; the zero value takes the mark away.
	Mark(id string, m Mark) error
	Marks() (map[string]Mark, error)
	Size() (Size, error)
	// Prune takes away what is older than a time, and of the rest the oldest until no more
	// than so many bytes are kept; 0 sets no limit. What is marked stays, and so does the
	// newest. only tells how many that would be.
	Prune(before time.Time, most int64, only bool) (int, error)
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
	if i := m.at(c.ID); i >= 0 {
		was, err := m.kept[i].Marshal()
		is, ierr := c.Marshal()
		if err == nil && ierr == nil && bytes.Equal(was, is) {
			return nil
		}
		return ErrTaken
	}
	m.kept = append(m.kept, c)
	m.version++
	return nil
}

// at is the place of an exchange, -1 where it is not kept.
func (m *Memory) at(id string) int {
	return slices.IndexFunc(m.kept, func(o *exchange.Exchange) bool { return o.ID == id })
}

// Judge implements Journal.
func (m *Memory) Judge(x *exchange.Exchange) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	i := m.at(x.ID)
	if i < 0 {
		return ErrNotFound
	}
	judged := m.kept[i].Clone()
	judged.Findings = x.Redact(nil).Findings
	m.kept[i] = judged
	m.version++
	return nil
}

// After implements Journal.
func (m *Memory) After(place int64) (out []*exchange.Exchange, last int64, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := int(place); i < len(m.kept) && len(out) < MaxAfter; i++ {
		out = append(out, m.kept[i].WithoutBytes())
	}
	return out, place + int64(len(out)), nil
}

// Last implements Journal.
func (m *Memory) Last() (int64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return int64(len(m.kept)), nil
}

// MaxAfter is how many After gives at most.
const MaxAfter = 1000

// News implements Journal: nothing happens to memory.
func (*Memory) News() string { return "" }

// Matches tells whether an exchange is wanted.
func (q Query) Matches(x *exchange.Exchange) bool {
	return (q.Workspace == "" || x.Workspace == q.Workspace) && (q.Operation == "" || x.Operation == q.Operation) &&
		(q.Endpoint == "" || x.Endpoint == q.Endpoint) && (q.Kind == "" || q.Kind == "call" && x.Kind == "" ||
		q.Kind == x.Kind)
}

// List implements Journal.
func (m *Memory) List(q Query) ([]*exchange.Exchange, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []*exchange.Exchange
	for _, x := range slices.Backward(m.before(q)) {
		if q.Matches(x) {
			out = append(out, x.WithoutBytes())
		}
		if q.Max > 0 && len(out) == q.Max {
			break
		}
	}
	return out, nil
}

// before are those that a query may give.
func (m *Memory) before(q Query) []*exchange.Exchange {
	if at := m.at(q.Before); at >= 0 {
		return m.kept[:at]
	}
	return m.kept
}

// Count implements Journal.
func (m *Memory) Count(q Query) (n int, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range m.before(q) {
		if q.Matches(x) {
			n++
		}
	}
	return n, nil
}

// Get implements Journal.
func (m *Memory) Get(id string) (*exchange.Exchange, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if id == "last" && len(m.kept) > 0 {
		return m.kept[len(m.kept)-1], nil
	}
	id, err := Pick(id, m.holding(id))
	if err != nil {
		return nil, err
	}
	return m.kept[m.at(id)], nil
}

// holding are the ids that have a part in them.
func (m *Memory) holding(part string) (ids []string) {
	for _, x := range m.kept {
		if strings.Contains(x.ID, part) {
			ids = append(ids, x.ID)
		}
	}
	return ids
}

// Holding implements Journal.
func (m *Memory) Holding(_ context.Context, text string, among []*exchange.Exchange) (map[string]bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string]bool{}
	for _, x := range among {
		if i := m.at(x.ID); i >= 0 && Holds(m.kept[i], text) {
			out[x.ID] = true
		}
	}
	return out, nil
}

// Tail implements Journal.
func (m *Memory) Tail(id string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return TailOf(id, m.holding(id[max(len(id)-exchange.MinIDPart, 0):]))
}

// SameService tells whether an exchange is with the service of another one: by the same
// contract of the same workspace, or, where none is known, over the same endpoint. No
// other: every one is.
func SameService(x, like *exchange.Exchange) bool {
	return like == nil || x.Workspace == like.Workspace && x.Contract == like.Contract &&
		(x.Contract != "" || x.Endpoint == like.Endpoint)
}

// ReplySizes implements Journal.
func (m *Memory) ReplySizes(operation string, like *exchange.Exchange) (out []int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range slices.Backward(m.kept) {
		if n := ReplySize(x); x.Operation == operation && n > 0 && len(out) < MaxSizes && SameService(x, like) {
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
		q := Query{Workspace: workspace, Operation: operation, Endpoint: endpoint, Kind: "call"}
		if q.Matches(x) && x.Outcome == exchange.OutcomePassed {
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
			q := Query{Workspace: x.Workspace, Operation: x.Operation, Endpoint: x.Endpoint, Kind: "call"}
			if q.Matches(before) {
				if c := before.Cause(); c != nil && c.ID == finding && len(out) < MaxRepaired {
					out = append(out, x.WithoutBytes())
				}
				break
			}
		}
	}
	return out
}

// MaxRepaired is how many calls Repaired gives at most.
const MaxRepaired = 5

// MaxSizes is how many sizes ReplySizes gives at most.
const MaxSizes = 10000

// Version implements Journal.
func (m *Memory) Version() int64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.version
}

// Close implements Journal.
func (m *Memory) Close() error { return nil }

// ReplySize is the size of a reply in bytes, as diagnose.ReplySize has it.
func ReplySize(x *exchange.Exchange) int64 {
	if l := x.Leg(); l == nil || !l.Response.Complete {
		return 0
	}
	return diagnose.ReplySize(x)
}
