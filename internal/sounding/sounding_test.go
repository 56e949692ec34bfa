package sounding

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/learned"

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

// How long an answer takes is found by halving, in steps of some nine per cent; what is not
// steady there is told.
func TestTimesAreFound(t *testing.T) {
	for _, takes := range []time.Duration{3 * time.Millisecond, 340 * time.Millisecond, 12 * time.Second} {
		s := &service{takes: func(v Variant) bool { return v.Limit > takes }}
		got, err := Sound(t.Context(), Options{By: "time", Limit: time.Minute, Budget: 40}, s.send)
		require.NoError(t, err)
		require.Len(t, got.Edges, 1)
		assert.Contains(t, got.Sentence, "at least ")
		last := got.Samples[len(got.Samples)-3] // the last before both sides were sent once more
		assert.InEpsilon(t, float64(takes), float64(time.Millisecond)*math.Exp2(float64(last.At)/timeSteps), 0.12)
	}
	n := 0
	s := &service{takes: func(v Variant) bool { n++; return v.Limit > time.Second && n < 9 || v.Limit == time.Minute }}
	got, err := Sound(t.Context(), Options{By: "time", Limit: time.Minute, Budget: 40}, s.send)
	require.NoError(t, err)
	assert.False(t, got.Steady)
	_, err = Sound(t.Context(), Options{By: "time", Budget: 40}, s.send)
	assert.ErrorContains(t, err, "answer-time")
}

// What was learned is contradicted by what was taken outside, or refused inside with the same
// words, and by nothing else.
// Each way to send is tried with the same message, the plain one first.
func TestWaysToSendAreTried(t *testing.T) {
	var sent []string
	refuse := "in chunks"
	r, err := Sound(t.Context(), Options{By: bySending, Budget: 40}, func(_ context.Context, v Variant) (Answer, error) {
		sent = append(sent, v.Label)
		if strings.HasPrefix(v.Label, refuse) {
			return Answer{Says: "411 Length Required"}, nil
		}
		return Answer{Accepted: true}, nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"with its length", "in chunks", "in chunks, with a trailer", "after leave to (Expect)",
		"compressed (gzip)"}, sent)
	assert.Equal(t, "taken: with its length, after leave to (Expect), compressed (gzip); "+
		"refused: in chunks, in chunks, with a trailer", r.Sentence)
	refuse = "with"
	sent = nil
	r, err = Sound(t.Context(), Options{By: bySending, Budget: 40}, func(_ context.Context, v Variant) (Answer, error) {
		sent = append(sent, v.Label)
		return Answer{Says: "no"}, nil
	})
	require.NoError(t, err)
	assert.Len(t, sent, 1, "what is refused as it stands tells nothing of the ways to send it")
	assert.Contains(t, r.Sentence, "not accepted")
}

func TestLearnedIsContradicted(t *testing.T) {
	r := &Result{By: "length", Steady: true, Edges: []Edge{
		{Side: "least", Accepted: "4", Refused: "3", Says: "at least four letters", Exchanges: []string{"a", "b"}},
		{Side: "greatest", Accepted: "9", Refused: "10", Says: "at most 9 letters, not 'SKALSKALSK'", Exchanges: []string{"c", "d"}},
	}}
	e := r.Learned()
	require.NotNil(t, e)
	assert.Equal(t, []string{"a", "b", "c", "d"}, e.Exchanges)
	call := func(sign, fault string) *exchange.Exchange {
		x := &exchange.Exchange{Outcome: exchange.OutcomePassed}
		if fault != "" {
			x.Outcome, x.StoppedAt = exchange.OutcomeStopped, exchange.Read
			x.Stage(exchange.Read).Facts.Set("fault reason", fault)
		}
		x.Legs = []*exchange.Leg{{RequestBody: []byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>` +
			`<LookUp><who><sign>` + sign + `</sign></who></LookUp></e:Body></e:Envelope>`)}}
		return x
	}
	for _, c := range []struct{ sign, fault, want string }{
		{"SKAL", "", ""}, {"SKA", "", `"SKA" (3 characters) was accepted`}, {"SKALSKALSKAL", "", `"SKALSKALSKAL" (12 characters) was accepted`},
		{"SKA", "at least four letters", ""}, {"SKAL", "at least four letters", `"SKAL" (4 characters) was refused with “at least four letters”`},
		{"SKALS", "no such sign", ""}, {"SKALSK", "at most 7 letters, not 'SKALSK'", `"SKALSK" (6 characters) was refused with “at most 7 letters, not 'SKALSK'”`},
	} {
		assert.Equal(t, c.want, e.Against("who/sign", call(c.sign, c.fault)), c.sign)
	}
	assert.Empty(t, e.Against("who/other", call("SKA", "")))
	r.Edges[0].Open = true
	assert.Nil(t, r.Learned(), "an edge that lies somewhere is none")
	e = &learned.Edges{By: "value", Least: "0.5", Greatest: "400"}
	assert.Equal(t, "400.01 was accepted", e.Against("who/sign", call("400.01", "")))
	assert.Empty(t, e.Against("who/sign", call("4e2", "")))
	assert.Empty(t, e.Against("who/sign", call("many", "")))
	e = &learned.Edges{By: "date", Least: "2027-01-01"}
	assert.Equal(t, "2026-12-31 was accepted", e.Against("who/sign", call("2026-12-31", "")))
}
