package muster

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"iter"
)

// Results are what came of cases, in their order. One that was as expected takes some 60 bytes: only
// what is unexpected is held with all that it says.
type Results struct {
	name  func(place int) string // of the case; nil: no name is held in brief
	all   []brief
	whole []Result          // what is not held in brief
	words []string          // operations, endpoints, and why cases were not run, each once
	index map[string]uint16 // in words, from 1
}

// brief is a result that says nothing of its own.
type brief struct {
	place               uint32   // of its case in the muster
	whole               uint32   // in whole, from 1; 0: the rest of brief holds
	id                  [26]byte // of the exchange (exchange.NewID); zero: it was not sent
	operation, endpoint uint16   // in words, from 1; 0: ""
	why                 uint16   // the one reason, in words, from 1; 0: none
	outcome, against    uint8    // in outcomes and againsts
	leftOut             bool
	totalNs             int64
}

//nolint:gochecknoglobals // a table: it is never written to
var outcomes = [...]Outcome{NotRun, AsExpected, Unexpected}

//nolint:gochecknoglobals // a table: it is never written to
var againsts = [...]string{"", "newlyFailed", "mended"}

// Len is how many there are.
func (r *Results) Len() int { return len(r.all) }

// At is the result of an index from 0.
func (r *Results) At(i int) Result {
	b := &r.all[i]
	if b.whole > 0 {
		return r.whole[b.whole-1]
	}
	out := Result{
		Outcome: outcomes[b.outcome], Why: []string{}, TotalNs: b.totalNs, Against: againsts[b.against],
		Operation: r.word(b.operation), Endpoint: r.word(b.endpoint), LeftOut: b.leftOut,
	}
	if r.name != nil {
		out.Name = r.name(int(b.place))
	}
	if b.id[0] != 0 {
		out.Exchange = string(b.id[:])
	}
	if b.why > 0 {
		out.Why = append(out.Why, r.word(b.why))
	}
	return out
}

// All goes through them.
func (r *Results) All() iter.Seq[Result] {
	return func(yield func(Result) bool) {
		for i := range r.all {
			if !yield(r.At(i)) {
				return
			}
		}
	}
}

// Add puts one more behind them, whole.
func (r *Results) Add(one Result) {
	r.whole = append(r.whole, one)
	r.all = append(r.all, brief{whole: uint32(len(r.whole))})
}

// put sets the result of a case, whose name r.name knows.
func (r *Results) put(i int, one Result) {
	b, fits := r.inBrief(&one)
	if !fits {
		r.whole = append(r.whole, one)
		b = brief{whole: uint32(len(r.whole))}
	}
	b.place = uint32(i)
	r.all[i] = b
}

// inBrief is a result in brief, where it fits.
func (r *Results) inBrief(one *Result) (b brief, fits bool) {
	if one.Outcome == Unexpected || one.Cause != "" || len(one.Why) > 1 ||
		one.Exchange != "" && len(one.Exchange) != len(b.id) || one.Exchange != "" && len(one.Why) > 0 {
		return b, false
	}
	copy(b.id[:], one.Exchange)
	b.totalNs, b.leftOut, fits = one.TotalNs, one.LeftOut, true
	for i, o := range outcomes {
		if o == one.Outcome {
			b.outcome = uint8(i)
		}
	}
	for i, a := range againsts {
		if a == one.Against {
			b.against = uint8(i)
		}
	}
	why := ""
	if len(one.Why) > 0 {
		why = one.Why[0]
	}
	for _, w := range []struct {
		text string
		to   *uint16
	}{{one.Operation, &b.operation}, {one.Endpoint, &b.endpoint}, {why, &b.why}} {
		if w.text != "" {
			*w.to = r.intern(w.text)
			fits = fits && *w.to > 0
		}
	}
	return b, fits
}

// intern is the number of a text; 0: there are too many.
func (r *Results) intern(text string) uint16 {
	const most = 1 << 12
	n, known := r.index[text]
	if !known && len(r.words) < most {
		if r.index == nil {
			r.index = map[string]uint16{}
		}
		r.words = append(r.words, text)
		n = uint16(len(r.words))
		r.index[text] = n
	}
	return n
}

func (r *Results) word(n uint16) string {
	if n == 0 {
		return ""
	}
	return r.words[n-1]
}

// drop takes those away that are not wanted.
func (r *Results) drop(out func(*Result) bool) {
	kept := r.all[:0]
	for i := range r.all {
		if one := r.At(i); !out(&one) {
			kept = append(kept, r.all[i])
		}
	}
	r.all = kept
}

// MarshalJSON writes them as an array.
func (r Results) MarshalJSON() ([]byte, error) {
	var out bytes.Buffer
	err := EachResult(&out, r.All(), "")
	return out.Bytes(), err
}

var errNoResults = errors.New("these are no results of cases")

// Last is what came of the cases of a run before, by their names.
type Last struct {
	results Results
	names   map[string]int32
}

// ReadLast reads what EachResult wrote.
func ReadLast(from io.Reader) (*Last, error) {
	l := &Last{names: map[string]int32{}}
	d := json.NewDecoder(from)
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return l, errors.Join(err, errNoResults)
	}
	for d.More() {
		var one Result
		if err := d.Decode(&one); err != nil {
			return l, err
		}
		l.add(one)
	}
	return l, nil
}

func (l *Last) add(one Result) {
	l.names[one.Name] = int32(l.results.Len())
	l.results.all = append(l.results.all, brief{})
	l.results.put(l.results.Len()-1, one)
}

// Get is the result of a case, where there is one.
func (l *Last) Get(name string) (Result, bool) {
	if l == nil {
		return Result{}, false
	}
	i, known := l.names[name]
	if !known {
		return Result{}, false
	}
	r := l.results.At(int(i))
	r.Name = name
	return r, true
}

// Map is all of them, held at once.
func (l *Last) Map() map[string]Result {
	out := map[string]Result{}
	if l != nil {
		for name := range l.names {
			out[name], _ = l.Get(name)
		}
	}
	return out
}
