package draw

import (
	"fmt"
	"math"
	"time"

	"orenda/internal/safe"
)

// Column draws the numbers of a table's column in the order of its rows. Cells that hold
// none are left out: the line has a gap there.
func Column(title, name string, values []float64, known []bool) *Drawing {
	c := newChart(title, "row", safe.Line(name))
	for i, v := range values {
		if known[i] && !math.IsNaN(v) && !math.IsInf(v, 0) {
			c.x.take(float64(i + 1))
			c.y.take(v)
		}
	}
	c.axes()
	var run []Point
	flush := func() {
		switch len(run) {
		case 0:
		case 1:
			c.d.Shapes = append(c.d.Shapes, &Dot{run[0].X, run[0].Y, 1.5, Ink})
		default:
			c.d.Shapes = append(c.d.Shapes, &Line{thinned(run), 1, Ink, false})
		}
		run = nil
	}
	for i, v := range values {
		if !known[i] || math.IsNaN(v) || math.IsInf(v, 0) {
			flush()
			continue
		}
		run = append(run, c.at(float64(i+1), v))
	}
	flush()
	return c.d
}

// thinned is a line with no more points than can be told apart: of those that stand at one place
// from left to right, the first, the least, the greatest and the last.
func thinned(run []Point) (out []Point) {
	const apart = 0.25 // points
	for from := 0; from < len(run); {
		to, low, high := from, from, from
		for ; to < len(run) && run[to].X-run[from].X < apart; to++ {
			if run[to].Y < run[low].Y {
				low = to
			}
			if run[to].Y > run[high].Y {
				high = to
			}
		}
		last := -1
		for _, i := range []int{from, min(low, high), max(low, high), to - 1} {
			if i > last {
				out, last = append(out, run[i]), i
			}
		}
		from = to
	}
	return out
}

// StageTimes are the times that a stage took over many calls.
type StageTimes struct {
	Stage               string        // its name
	Median, Most, Worst time.Duration // half of them took no longer; 95 of 100; the longest
}

// Latency draws what each stage took over the kept calls of an operation.
func Latency(title string, all []StageTimes) *Drawing {
	c := newChart(title, "", "milliseconds")
	bars := []struct {
		label string
		fill  Colour
		of    func(StageTimes) time.Duration
	}{
		{"median", Ink, func(s StageTimes) time.Duration { return s.Median }},
		{"95 of 100", Soft, func(s StageTimes) time.Duration { return s.Most }},
		{"worst", Faint, func(s StageTimes) time.Duration { return s.Worst }},
	}
	c.x, c.y.lo, c.y.set = scale{lo: -0.5, hi: float64(len(all)) - 0.5, set: true}, 0, true
	for i, s := range all {
		c.x.names = append(c.x.names, named{float64(i), s.Stage})
		for _, b := range bars {
			c.y.take(float64(b.of(s)) / float64(time.Millisecond))
		}
	}
	c.axes()
	step := c.at(1, 0).X - c.at(0, 0).X
	wide := min(step/4, 18)
	for i, s := range all {
		for k, b := range bars {
			top := c.at(float64(i), float64(b.of(s))/float64(time.Millisecond))
			x := top.X + (float64(k)-1.5)*wide
			c.d.rect(x, top.Y, wide-1, c.bottom-top.Y, b.fill)
		}
	}
	for _, b := range bars {
		c.key(b.label, func(x, y float64) { c.d.rect(x+4, y-7, 8, 8, b.fill) })
	}
	return c.d
}

// Grown is what something took at several sizes.
type Grown struct {
	Name string    // of it
	X, Y []float64 // sizes, and what it took; above nought
}

// Growth draws how cost grows with size: both axes are logarithmic, so that what grows as fast as its
// input goes up with the dashed line.
func Growth(title, x, y string, all []Grown) *Drawing {
	c := newChart(title, x, y)
	c.x.log, c.y.log = true, true
	for _, g := range all {
		for i := range g.X {
			c.x.take(g.X[i])
			c.y.take(g.Y[i])
		}
	}
	c.axes()
	if len(all) > 0 && len(all[0].X) > 0 && c.x.hi > c.x.lo {
		first := all[0]
		each := first.Y[len(first.Y)-1] / first.X[len(first.X)-1]
		from := max(c.x.lo, c.y.lo/each)
		to := min(c.x.hi, c.y.hi/each)
		if from < to {
			c.d.Shapes = append(c.d.Shapes, &Line{[]Point{c.at(from, from*each), c.at(to, to*each)}, 1, Soft, true})
		}
	}
	for i, g := range all {
		fill, radius := []Colour{Ink, Soft, Accent}[i%3], 2.6+0.6*float64(i%3)
		line := make([]Point, len(g.X))
		for n := range g.X {
			line[n] = c.at(g.X[n], g.Y[n])
		}
		c.d.Shapes = append(c.d.Shapes, &Line{line, 1.4, fill, false})
		for _, p := range line {
			c.d.Shapes = append(c.d.Shapes, &Dot{p.X, p.Y, radius, fill})
		}
		c.key(g.Name, func(x, y float64) {
			c.d.Shapes = append(c.d.Shapes, &Line{[]Point{{x, y - 3.5}, {x + 16, y - 3.5}}, 1.4, fill, false},
				&Dot{x + 8, y - 3.5, radius, fill})
		})
	}
	return c.d
}

// Weight is what one form of a message takes.
type Weight struct {
	Label string // the form
	Bytes int64  // that it takes
}

// Overhead draws what the forms of a message take, against the values that are in it.
func Overhead(title string, all []Weight) *Drawing {
	d := &Drawing{W: page, Title: safe.Line(title)}
	y := margin + 16
	d.text(margin, y, 17, true, Ink, fit(safe.Line(title), 17, true, page-2*margin))
	y += 34
	most := int64(1)
	for _, w := range all {
		most = max(most, w.Bytes)
	}
	const label, row = 150.0, 24.0
	room := page - 2*margin - label - 90
	for i, w := range all {
		d.text(margin, y+11, 10.5, false, Ink, w.Label)
		fill := Soft
		if i == 0 {
			fill = Ink
		}
		long := max(room*float64(w.Bytes)/float64(most), 1)
		d.rect(margin+label, y, long, 14, fill)
		d.text(margin+label+long+8, y+11, 10.5, false, Soft, fmt.Sprintf("%d B · %.0f %%", w.Bytes,
			100*float64(w.Bytes)/float64(most)))
		y += row
	}
	d.H = y + margin/2
	d.Shapes = append([]Shape{&Rect{0, 0, d.W, d.H, White}}, d.Shapes...)
	return d
}
