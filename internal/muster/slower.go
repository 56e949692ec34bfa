package muster

import (
	"math"
	"slices"
)

// Slower is an operation whose calls took longer than in the last run, by a test for the difference.
type Slower struct {
	Operation string  `json:"operation"` // that was called
	Endpoint  string  `json:"endpoint"`  // over which
	BeforeNs  int64   `json:"beforeNs"`  // median of the last run, nanoseconds
	NowNs     int64   `json:"nowNs"`     // median of this one
	Chance    float64 `json:"chance"`    // that the two differ as much by chance alone
}

// When an operation counts as slower: so many calls in both runs, no more than this chance of being
// the same, and by this factor at least.
const (
	leastCalls  = 8
	mostChance  = 0.01
	leastFactor = 1.2
)

// SlowerThan are the operations that took longer than in the last run: by the test of Mann and
// Whitney, which asks nothing of how times are distributed, on one side.
func (r *Run) SlowerThan(last *Last) (out []Slower) {
	type of struct{ operation, endpoint string }
	before, now := map[of][]int64{}, map[of][]int64{}
	var order []of
	for c := range r.Cases.All() {
		k := of{c.Operation, c.Endpoint}
		was, known := last.Get(c.Name)
		sent := c.Exchange != "" && was.Exchange != "" && c.Exchange != was.Exchange
		if !known || !sent || (of{was.Operation, was.Endpoint}) != k {
			continue
		}
		if now[k] == nil {
			order = append(order, k)
		}
		before[k], now[k] = append(before[k], was.TotalNs), append(now[k], c.TotalNs)
	}
	for _, k := range order {
		a, b := before[k], now[k]
		if len(a) < leastCalls {
			continue
		}
		s := Slower{k.operation, k.endpoint, median(a), median(b), chanceNotGreater(a, b)}
		if s.Chance <= mostChance && float64(s.NowNs) >= leastFactor*float64(s.BeforeNs) {
			out = append(out, s)
		}
	}
	return out
}

func median(all []int64) int64 {
	s := slices.Clone(all)
	slices.Sort(s)
	return s[len(s)/2]
}

// chanceNotGreater is the chance that b is as much greater than a where both are of the same kind:
// the one-sided test of Mann and Whitney by its normal approximation, ties counted.
func chanceNotGreater(a, b []int64) float64 {
	type one struct {
		v  int64
		of int
	}
	all := make([]one, 0, len(a)+len(b))
	for _, v := range a {
		all = append(all, one{v, 0})
	}
	for _, v := range b {
		all = append(all, one{v, 1})
	}
	slices.SortFunc(all, func(x, y one) int { return int(max(min(x.v-y.v, 1), -1)) })
	n1, n2, n := float64(len(a)), float64(len(b)), float64(len(all))
	ranks, ties := 0.0, 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].v == all[i].v {
			j++
		}
		t := float64(j - i)
		for k := i; k < j; k++ {
			if all[k].of == 1 {
				ranks += float64(i+j+1) / 2
			}
		}
		ties += t*t*t - t
		i = j
	}
	u := ranks - n2*(n2+1)/2
	sd := math.Sqrt(n1 * n2 / 12 * (n + 1 - ties/(n*(n-1))))
	if sd == 0 {
		return 1
	}
	return math.Erfc((u-n1*n2/2-0.5)/sd/math.Sqrt2) / 2
}

// Before is the last run as a run, for Beside: the same cases in the same order.
func (r *Run) Before(last *Last) *Run {
	out := &Run{Muster: r.Muster}
	for c := range r.Cases.All() {
		was, _ := last.Get(c.Name)
		was.Name, was.LeftOut = c.Name, c.LeftOut
		out.Cases.Add(was)
	}
	return out
}
