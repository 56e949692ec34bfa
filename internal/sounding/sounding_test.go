package sounding

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"orenda/internal/exchange"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// service answers by a rule about lengths or numbers, and counts.
type service struct {
	takes func(v Variant) bool
	says  func(v Variant) string
	calls int
}

func (s *service) send(_ context.Context, v Variant) (Answer, error) {
	s.calls++
	a := Answer{Accepted: s.takes(v), Exchange: fmt.Sprint("x", s.calls), Took: time.Millisecond}
	if !a.Accepted {
		a.Says, a.Call = "refused", &exchange.Exchange{ID: a.Exchange}
		if s.says != nil {
			a.Says = s.says(v)
		}
		a.Locked = LockedOut(0, a.Says)
	}
	return a, nil
}

func TestEdgesAreFound(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		least := r.IntN(8)
		most := least + 1 + r.IntN(50)
		base := least + r.IntN(most-least+1)
		if base == 0 {
			base = 1
		}
		s := &service{takes: func(v Variant) bool { n := len(v.Text); return n >= least && n <= most }}
		got, err := Sound(t.Context(), Options{Field: "sign", By: "length", Base: strings.Repeat("A", base), Budget: 100}, s.send)
		require.NoError(t, err)
		assert.True(t, got.Steady)
		assert.Equal(t, s.calls, got.Calls)
		edges := map[string][2]string{}
		for _, e := range got.Edges {
			edges[e.Side] = [2]string{e.Accepted, e.Refused}
			assert.Len(t, e.Exchanges, 2)
		}
		want := map[string][2]string{}
		if least > 0 {
			want["least"] = [2]string{strconv.Itoa(least), strconv.Itoa(least - 1)}
		}
		if most < max(4*base, 64) {
			want["greatest"] = [2]string{strconv.Itoa(most), strconv.Itoa(most + 1)}
		}
		assert.Equal(t, want, edges, "%d–%d from %d", least, most, base)
	}
}

func TestNumbersDatesAndCounts(t *testing.T) {
	number := func(v Variant) float64 { f, _ := strconv.ParseFloat(v.Text, 64); return f }
	for _, c := range []struct {
		o     Options
		takes func(v Variant) bool
		want  string
	}{
		{Options{By: "value", Base: "12"}, func(v Variant) bool { return number(v) >= 8 && number(v) <= 400 }, "at least 8; 7 is refused"},
		{Options{By: "value", Base: "1.50"}, func(v Variant) bool { return number(v) <= 2.25 }, "at most 2.25; 2.26 is refused"},
		{Options{By: "date", Base: "2027-03-01"}, func(v Variant) bool { return v.Text >= "2027-01-15" }, "at least 2027-01-15; 2027-01-14 is refused"},
		{Options{By: "count", Base: "x"}, func(v Variant) bool { return v.Count <= 7 }, "at most 7 times; 8 is refused"},
		{Options{By: "length", Base: "abc", To: "200"}, func(Variant) bool { return true }, "no edge was found"},
	} {
		c.o.Budget, c.o.Field = 100, "f"
		s := &service{takes: c.takes}
		got, err := Sound(t.Context(), c.o, s.send)
		require.NoError(t, err)
		assert.Contains(t, got.Sentence, c.want)
	}
}

func TestWhatIsNotSteadyOrNotAllowed(t *testing.T) {
	turn := 0
	s := &service{takes: func(Variant) bool { turn++; return turn%2 == 1 }}
	got, err := Sound(t.Context(), Options{By: "length", Base: "abc", Budget: 40}, s.send)
	require.NoError(t, err)
	assert.False(t, got.Steady)
	assert.Contains(t, got.Sentence, "not steady")

	s = &service{takes: func(v Variant) bool { return len(v.Text) > 2 }}
	got, err = Sound(t.Context(), Options{By: "length", Base: "abcdefgh", Budget: 4}, s.send)
	require.NoError(t, err)
	assert.Equal(t, 4, got.Calls)
	require.Len(t, got.Edges, 1)
	assert.True(t, got.Edges[0].Open)
	assert.Contains(t, got.Stopped, "budget")

	s = &service{takes: func(v Variant) bool { return len(v.Text) > 2 }, says: func(Variant) string { return "too many tries, account locked" }}
	got, err = Sound(t.Context(), Options{By: "length", Base: "abcdefgh", Budget: 40}, s.send)
	require.NoError(t, err)
	assert.Equal(t, 3, got.Calls, "nothing more is sent after a lock-out")
	assert.Contains(t, got.Stopped, "no more tries")

	s = &service{takes: func(Variant) bool { return false }}
	got, err = Sound(t.Context(), Options{By: "length", Base: "abc", Budget: 40}, s.send)
	require.NoError(t, err)
	require.NotNil(t, got.Failed)
	assert.Equal(t, "x1", got.Failed.ID)
	assert.Len(t, got.Samples, 2)
	for _, o := range []Options{{By: "nothing", Base: "a"}, {By: "length"}, {By: "value", Base: "x"}, {By: "date", Base: "x"},
		{By: "length", Base: "abc", From: "9"}, {By: "characters"}} {
		o.Budget = 40
		_, err = Sound(t.Context(), o, s.send)
		assert.Error(t, err, "%+v", o)
	}
}

func TestCharacters(t *testing.T) {
	s := &service{takes: func(v Variant) bool {
		return !v.Absent && !v.Nil && v.Text != "" && !strings.ContainsAny(v.Text, " -ЖÉ")
	}, says: func(v Variant) string {
		return fmt.Sprintf("“%s” is not taken, it has %d characters", v.Text, len(v.Text))
	}}
	got, err := Sound(t.Context(), Options{By: "characters", Base: "SKAL4", Budget: 40}, s.send)
	require.NoError(t, err)
	taken := map[string]bool{}
	for _, c := range got.Characters {
		taken[c.Of] = c.Taken
	}
	assert.Equal(t, map[string]bool{
		"letters": true, "digits": true, "hyphen": false, "space": false, "lower case": true, "accents": false,
		"other scripts": false, "white space around": false, "empty": false, "absent": false, "nil": false,
	}, taken)
	assert.Len(t, got.Kinds, 2, "numbers and input are taken out")
}
