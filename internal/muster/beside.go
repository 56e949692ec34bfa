package muster

import (
	"cmp"
	"fmt"
	"strings"

	"orenda/internal/compare"
	"orenda/internal/exchange"
)

// Pair is a case that was sent to two services.
type Pair struct {
	Name        string               `json:"name"`        // of the case
	A           string               `json:"a"`           // id of the exchange with the one
	B           string               `json:"b"`           // and with the other
	Same        bool                 `json:"same"`        // both answered the same, but for what is set aside
	Differences []compare.Difference `json:"differences"` // in what their answers differ, the most telling first
	Why         string               `json:"why"`         // why they could not be held against each other; "" they were
}

// Beside holds the answers of one run against those of another one of the same cases: does the
// second service answer as the first one did? get gives an exchange by its id.
func Beside(a, b *Run, get func(id string) (*exchange.Exchange, error)) (out []Pair, err error) {
	for i := range a.Cases.Len() {
		one := a.Cases.At(i)
		if i >= b.Cases.Len() || one.Name != b.Cases.At(i).Name {
			return nil, fmt.Errorf("the runs have not the same cases: %s", one.Name)
		}
		p := Pair{
			Name: one.Name, A: one.Exchange, B: b.Cases.At(i).Exchange,
			Differences: []compare.Difference{},
		}
		if one.LeftOut {
			continue
		}
		if p.A == "" || p.B == "" {
			p.Why = "it was not sent to both"
			out = append(out, p)
			continue
		}
		x, err := get(p.A)
		if err != nil {
			return nil, err
		}
		y, err := get(p.B)
		if err != nil {
			return nil, err
		}
		if unsent := cmp.Or(notSent(x), notSent(y)); unsent != "" {
			p.Why = "it was not sent to both: " + unsent
			out = append(out, p)
			continue
		}
		for _, d := range compare.Sides(compare.Exchange(x), compare.Exchange(y), false).Differences {
			if ofAnswer(&d) {
				p.Differences = append(p.Differences, d)
			}
		}
		p.Same = len(p.Differences) == 0
		out = append(out, p)
	}
	return out, nil
}

// notSent is why a call never reached the wire, "" it did.
func notSent(x *exchange.Exchange) string {
	if len(x.Legs) > 0 {
		return ""
	}
	if f := x.Cause(); f != nil {
		return f.Title
	}
	return "it ended before"
}

// ofAnswer tells whether a difference is of what was answered.
func ofAnswer(d *compare.Difference) bool {
	return d.Where == exchange.InResponseBody || d.Kind == compare.Reach || d.Kind == compare.Status ||
		d.Where == exchange.InResponseHead && strings.EqualFold(d.Path, "Content-Type")
}
