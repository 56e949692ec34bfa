// Package filter picks exchanges by words as one would say them: fault in berths since
// 14:00 over 1 s.
package filter

import (
	"context"
	"fmt"
	"strings"
	"time"
	"unicode"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Filter picks exchanges. All of its words must fit.
type Filter struct {
	Words string // as they were said
	parts []func(x *exchange.Exchange) bool
	bytes []string // words that are looked for in the bytes, where nothing else has them
}

// Parse reads a filter. now is when it is said: "since 14:00" is today, or yesterday
// where that is still to come.
//
//revive:disable-next-line:cyclomatic one switch over the words that there are
func Parse(words string, now time.Time) (*Filter, error) {
	f := &Filter{Words: words}
	all := strings.Fields(words)
	for i := 0; i < len(all); i++ {
		w := strings.ToLower(all[i])
		takes := w == "in" || w == "at" || w == "since" || w == "over" || w == "from"
		if takes && i+1 == len(all) {
			return nil, fmt.Errorf(
				"%q is followed by something: in berths, at tls, since 14:00, over 1 s, from relay",
				w,
			)
		}
		switch w {
		case "in":
			i++
			f.add(in(all[i]))
		case "at":
			i++
			s, err := exchange.ParseStage(strings.ToLower(all[i]))
			if err != nil {
				return nil, err
			}
			f.add(func(x *exchange.Exchange) bool { return x.StoppedAt == s })
		case "from":
			i++
			kind := strings.ToLower(all[i])
			f.add(func(x *exchange.Exchange) bool { return x.Kind == kind || x.Kind == "" && kind == "call" })
		case "since":
			i++
			t, err := since(all[i], now)
			if err != nil {
				return nil, err
			}
			f.add(func(x *exchange.Exchange) bool { return !x.Started.Before(t) })
		case "over":
			i++
			what := all[i]
			if i+1 < len(all) && isUnit(all[i+1]) {
				i++
				what += all[i]
			}
			fits, err := over(what)
			if err != nil {
				return nil, err
			}
			f.add(fits)
		case "passed", "stopped", "cancelled":
			f.add(func(x *exchange.Exchange) bool { return string(x.Outcome) == w })
		case "fault", "faults":
			f.add(isFault)
		default:
			f.text(w)
		}
	}
	return f, nil
}

func (f *Filter) add(part func(x *exchange.Exchange) bool) { f.parts = append(f.parts, part) }

// in fits the operation, the endpoint or the contract, or a part of one.
func in(name string) func(x *exchange.Exchange) bool {
	name = strings.ToLower(name)
	return func(x *exchange.Exchange) bool {
		for _, s := range []string{x.Operation, x.Endpoint, x.Contract} {
			if strings.Contains(strings.ToLower(s), name) {
				return true
			}
		}
		return false
	}
}

// isFault tells whether a fault came, or the call ended as with one.
func isFault(x *exchange.Exchange) bool {
	for _, f := range x.Findings {
		if strings.HasPrefix(f.ID, "read.fault-") {
			return true
		}
	}
	return strings.HasPrefix(x.Result, "fault: ")
}

func since(text string, now time.Time) (time.Time, error) {
	if d, err := endpoint.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
			if at.After(now) {
				at = at.AddDate(0, 0, -1)
			}
			return at, nil
		}
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	return now, fmt.Errorf("%q is no time: write 14:00, 2026-11-27 or 30m", text)
}

// isUnit tells whether a word is a unit that stands apart from its number.
func isUnit(s string) bool {
	_, noSize := endpoint.ParseSize("1" + s)
	_, noTime := endpoint.ParseDuration("1" + s)
	return s != "" && unicode.IsLetter(rune(s[0])) && (noSize == nil || noTime == nil)
}

// over fits what took longer, or whose reply is larger.
func over(text string) (func(x *exchange.Exchange) bool, error) {
	bare := strings.IndexFunc(text, unicode.IsLetter) < 0 // without a unit it may be either
	if limit, err := endpoint.ParseDuration(text); err == nil && limit >= 0 && !bare {
		return func(x *exchange.Exchange) bool { return x.TotalNs > int64(limit) }, nil
	}
	limit, err := endpoint.ParseSize(text)
	if err != nil || bare {
		return nil, fmt.Errorf("%q is neither a time nor a size: write over 1 s or over 64 KiB", text)
	}
	return func(x *exchange.Exchange) bool {
		l := x.Leg()
		return l != nil && l.Response.BodySize > limit
	}, nil
}

// text fits where a word stands in what lists show of an exchange; else its bytes decide.
func (f *Filter) text(word string) {
	f.bytes = append(f.bytes, word)
}

// shown is what lists show of an exchange.
func shown(x *exchange.Exchange) string {
	parts := []string{x.ID, x.Operation, x.Endpoint, x.Result, x.Kind, x.Environment}
	for _, f := range x.Findings {
		parts = append(parts, f.ID, f.Title)
	}
	return strings.ToLower(strings.Join(parts, "\n"))
}

// Fits tells whether an exchange is picked. holds tells whether a word stands in what
// crossed, and is asked only where that decides; nil: nobody knows.
func (f *Filter) Fits(x *exchange.Exchange, holds func(word string) bool) bool {
	for _, p := range f.parts {
		if !p(x) {
			return false
		}
	}
	if len(f.bytes) == 0 {
		return true
	}
	text := shown(x)
	for _, w := range f.bytes {
		if !strings.Contains(text, w) && (holds == nil || !holds(w)) {
			return false
		}
	}
	return true
}

// Kept is where exchanges are kept.
type Kept interface {
	// Holding tells which of some exchanges hold a word, by their ids.
	Holding(ctx context.Context, word string, among []*exchange.Exchange) (map[string]bool, error)
}

// Pick gives those of some kept exchanges that are picked.
func (f *Filter) Pick(ctx context.Context, k Kept, list []*exchange.Exchange) (out []*exchange.Exchange, err error) {
	asked := map[string]map[string]bool{}
	for _, x := range list {
		fits := f.Fits(x, func(word string) bool {
			if asked[word] == nil && err == nil {
				asked[word], err = k.Holding(ctx, word, list)
			}
			return asked[word][x.ID]
		})
		if err != nil {
			return nil, err
		}
		if fits {
			out = append(out, x)
		}
	}
	return out, nil
}

// AsksForBytes tells whether a word may have to be looked for in what crossed.
func (f *Filter) AsksForBytes() bool { return len(f.bytes) > 0 }
