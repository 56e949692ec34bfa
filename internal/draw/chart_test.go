package draw

import (
	"encoding/xml"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAxesHaveRoundNumbers(t *testing.T) {
	for _, c := range []struct {
		lo, hi float64
		log    bool
		want   string
	}{
		{0, 9, false, "0 2 4 6 8 10"}, {0.7, 5.3, false, "0 1 2 3 4 5 6"}, {-3, 3, false, "-3 -2 -1 0 1 2 3"},
		{0.001, 0.0042, false, "0.0010 0.0015 0.0020 0.0025 0.0030 0.0035 0.0040 0.0045 0.0050"}, {7, 7, false, "6.0 6.5 7.0 7.5 8.0"},
		{12_000, 61_000, false, "10,000 20,000 30,000 40,000 50,000 60,000 70,000"}, {13, 4854, true, "10 100 1,000 10,000"},
		{1e11, 3e11, false, "1e+11 1.5e+11 2e+11 2.5e+11 3e+11"},
	} {
		s := scale{log: c.log}
		s.take(c.lo)
		s.take(c.hi)
		s.round()
		var names []string
		for _, tick := range s.ticks(8) {
			names = append(names, strings.ReplaceAll(tick.name, " ", ","))
			assert.InDelta(t, 0.5, s.of(tick.at), 0.5000001)
		}
		assert.Equal(t, c.want, strings.Join(names, " "))
	}
}

// A drawing has its words and signs, whatever the numbers are.
func TestChartsAreDrawnOfAnyNumbers(t *testing.T) {
	svg := func(d *Drawing) string {
		t.Helper()
		b, err := d.Write("x.svg")
		require.NoError(t, err)
		require.NoError(t, xml.Unmarshal(b, new(struct{})), string(b))
		assert.NotContains(t, string(b), "NaN")
		assert.NotContains(t, string(b), "Inf")
		_, err = d.Write("x.pdf")
		require.NoError(t, err)
		return string(b)
	}
	for _, values := range [][]float64{nil, {1}, {1, 1}, {math.NaN(), 2, math.Inf(1)}, {-1e300, 1e300}, {0, 0}, {1e-12, 2e-12}} {
		known := make([]bool, len(values))
		for i := range known {
			known[i] = true
		}
		assert.Contains(t, svg(Column("YearTable", "height <m>", values, known)), "height &lt;m&gt;")
	}
	gaps := svg(Column("YearTable", "height", []float64{1, 2, 0, 3, 0, 4, 5}, []bool{true, true, false, true, false, true, true}))
	assert.Equal(t, 2, strings.Count(gaps, "<polyline"), "what is not known is a gap")
	assert.Equal(t, 1, strings.Count(gaps, "<circle"), "and one between gaps a dot")
	times := svg(Latency("YearTable", []StageTimes{{"connect", time.Millisecond, 2 * time.Millisecond, 9 * time.Millisecond}}))
	for _, word := range []string{"milliseconds", "median", "95 of 100", "worst", "connect"} {
		assert.Contains(t, times, ">"+word+"<")
	}
	svg(Latency("none", nil))
	svg(Growth("none", "x", "y", nil))
	assert.Contains(t, svg(Growth("grows", "MB", "ms", []Grown{{"checked", []float64{1, 1000}, []float64{20, 4000}}})), "stroke-dasharray")
}

// A line of many points is as small as one of few, and has its least and its greatest.
func TestLongLinesAreThinned(t *testing.T) {
	const n = 200_000
	run := make([]Point, n)
	for i := range run {
		run[i] = Point{float64(i) * 600 / n, math.Sin(float64(i))}
	}
	run[77_777].Y, run[123_456].Y = -5, 9
	out := thinned(run)
	assert.Less(t, len(out), 12_000)
	assert.Contains(t, out, run[77_777])
	assert.Contains(t, out, run[123_456])
	assert.Equal(t, run[n-1], out[len(out)-1])
	few := run[:3]
	few[1].X, few[2].X = 1, 2
	assert.Equal(t, few, thinned(few))
}
