package diagnose

import (
	"fmt"
	"math"
	"slices"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Sizes sums up the kept replies to an operation, in bytes.
type Sizes struct {
	All     []int64 // ascending
	Count   int     // how many
	Largest int64   // in bytes
	P99     int64   // 99 of 100 replies are no larger
	Median  int64   // in bytes
}

// SizesOf sums sizes up.
func SizesOf(sizes []int64) Sizes {
	s := Sizes{All: slices.Sorted(slices.Values(sizes)), Count: len(sizes)}
	if s.Count > 0 {
		s.Largest = s.All[s.Count-1]
		s.P99 = s.All[(s.Count*99+99)/100-1]
		s.Median = s.All[(s.Count-1)/2]
	}
	return s
}

// Words say how large they are. Of fewer than a hundred the hundredth part is
// none.
func (s Sizes) Words() string {
	switch {
	case s.Count == 0:
		return "no reply was kept"
	case s.All[0] == s.Largest:
		return endpoint.Bytes(s.Largest) + " bytes"
	case s.Count < 100:
		return fmt.Sprintf("from %s to %s bytes", endpoint.Bytes(s.All[0]), endpoint.Bytes(s.Largest))
	}
	return fmt.Sprintf(
		"half up to %s bytes, 99 of 100 up to %s, the largest %s",
		endpoint.Bytes(s.Median),
		endpoint.Bytes(s.P99),
		endpoint.Bytes(s.Largest),
	)
}

// Over is how many of them are larger than a limit.
func (s Sizes) Over(limit int64) int {
	i, _ := slices.BinarySearch(s.All, limit+1)
	return s.Count - i
}

// Proposal is the limit that would do, with the reasoning in words.
func (s Sizes) Proposal() (limit int64, why string) {
	if s.Count == 0 {
		return 0, "no reply was kept that a limit could be told from"
	}
	limit = endpoint.RoundLimit(s.Largest)
	reason := "the next power of two that leaves a ninth to spare"
	if limit == endpoint.RoundLimit(0) {
		reason = "the least that is proposed, and leaves more than a ninth to spare"
	}
	return limit, fmt.Sprintf(
		"the kept replies (%d): %s; %s is %s",
		s.Count,
		s.Words(),
		endpoint.FormatSize(limit),
		reason,
	)
}

// sizes are those of the call's operation.
func (c *Case) sizes() Sizes {
	if c.History == nil || c.X == nil {
		return Sizes{}
	}
	return SizesOf(c.History.ReplySizes(c.X.Operation, c.X))
}

// Refusal is where a program with other limits would have refused a reply.
type Refusal struct {
	Key    string // the setting whose limit falls
	Limit  int64  // in bytes
	Actual int64  // what the reply has of it
	At     int64  // offset in the reply's body, codings removed, where the program would have stopped
	Words  string // in a sentence
}

// ReplySize is the size of a reply's body in bytes: what came, or what was announced
// where a limit cut it off and the announcement can be believed. What was announced
// and never came is no measure of what a limit should be.
func ReplySize(x *exchange.Exchange) int64 {
	h := &x.Leg().Response
	cause := x.Cause()
	if cause == nil || h.Declared > MaxAnnounced ||
		cause.ID != "receive.over-limit" && cause.ID != "receive.over-buffer" {
		return h.BodySize
	}
	return max(h.BodySize, h.Declared)
}

// WouldRefuse tells what a program with these settings would have said to a
// reply that was received: each limit that the reply goes beyond, in the order
// in which the program would have met them; none where it would have taken it.
func WouldRefuse(x *exchange.Exchange, s *endpoint.Settings) []Refusal {
	l := x.Leg()
	if l == nil || !l.Response.Complete {
		return nil
	}
	var out []Refusal
	wire, body := max(l.Response.WireSize, ReplySize(x)), l.ResponseBody.Len()
	if l.Response.Coding == "" {
		wire = ReplySize(x)
	}
	body = max(body, l.Response.BodySize)
	over := func(key string, actual int64) {
		limit, err := s.Size(key)
		if err != nil || limit <= 0 || actual <= limit {
			return
		}
		out = append(
			out,
			Refusal{
				key,
				limit,
				actual,
				limit,
				fmt.Sprintf(
					"its %s of %s bytes falls: the reply is %s bytes",
					endpoint.KeyOf(key).Label(),
					endpoint.Bytes(limit),
					endpoint.Bytes(actual),
				),
			},
		)
	}
	receive, _ := s.Size("receive-limit")
	buffer, _ := s.Size("buffer-limit")
	whole := s.Text("intake") == "whole"
	if whole && s.Switch("strict-buffer") && buffer != receive {
		out = append(
			out,
			Refusal{
				"buffer-limit",
				buffer,
				receive,
				0,
				fmt.Sprintf(
					"it refuses its own settings before it calls: its buffer limit is %s and its receive limit %s "+
						"bytes",
					endpoint.Bytes(buffer),
					endpoint.Bytes(receive),
				),
			},
		)
	}
	over("receive-limit", wire)
	if whole && buffer < receive {
		over("buffer-limit", wire)
	}
	if l.Response.Coding != "" {
		over("inflated-limit", body)
	}
	slices.SortStableFunc(out, func(a, b Refusal) int { return int(min(max(a.At-b.At, -1), 1)) })
	_ = l.ResponseBody.Use(func(all []byte) error {
		out = append(out, readerRefusals(all, s)...)
		return nil
	})
	return out
}

// Scale puts sizes on an axis that grows by factors, from a little below the
// smallest to a little above the largest of them and of the marks.
type Scale struct{ low, high float64 }

// ScaleOf is the scale that holds the sizes and the marks.
func (s Sizes) ScaleOf(marks ...int64) Scale {
	low, high := math.Inf(1), 1.0
	for _, n := range append(slices.Clone(marks), s.Largest) {
		if n > 0 {
			low, high = min(low, float64(n)), max(high, float64(n))
		}
	}
	if s.Count > 0 {
		low = min(low, float64(max(s.All[0], 1)))
	}
	if math.IsInf(low, 1) {
		low = 1
	}
	return Scale{math.Log2(low) - 0.5, math.Log2(high) + 0.5}
}

// At is the place of a size on the axis, from 0 to 1.
func (sc Scale) At(n int64) float64 {
	return min(max((math.Log2(float64(max(n, 1)))-sc.low)/(sc.high-sc.low), 0), 1)
}

// Bins counts the sizes in n ranges of the axis.
func (s Sizes) Bins(sc Scale, n int) []int {
	out := make([]int, n)
	for _, size := range s.All {
		out[min(int(sc.At(size)*float64(n)), n-1)]++
	}
	return out
}
