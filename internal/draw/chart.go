package draw

import (
	"math"
	"strconv"
	"strings"

	"orenda/internal/safe"
)

// chart is a drawing with two axes. It is legible in black and white.
type chart struct {
	d                        *Drawing
	x, y                     scale
	xName, yName             string
	left, top, right, bottom float64 // of the room between the axes, in points
	keyAt                    float64 // left of the next word of the key
}

// scale is what an axis goes over.
type scale struct {
	lo, hi float64
	set    bool    // something was taken
	log    bool    // logarithmic
	names  []named // what stands at it in the place of numbers
}

// named is a place of an axis that has a name.
type named struct {
	at   float64
	name string
}

// take makes the scale go over a value.
func (s *scale) take(v float64) {
	if !s.set {
		s.lo, s.hi, s.set = v, v, true
	}
	s.lo, s.hi = min(s.lo, v), max(s.hi, v)
}

// of is where a value stands, from 0 to 1.
func (s *scale) of(v float64) float64 {
	if s.log {
		return math.Log(v/s.lo) / math.Log(s.hi/s.lo)
	}
	return (v - s.lo) / (s.hi - s.lo)
}

const (
	chartHeight = 320.0
	small       = 9 // points, of the words at an axis
)

func newChart(title, xName, yName string) *chart {
	d := &Drawing{W: page, H: chartHeight, Title: safe.Line(title)}
	d.rect(0, 0, d.W, d.H, White)
	d.text(margin, margin, 17, true, Ink, fit(d.Title, 17, true, page-2*margin))
	return &chart{d: d, xName: xName, yName: yName, left: margin + 44, top: 74, right: page - margin,
		bottom: chartHeight - 52, keyAt: max(margin+44, margin+width(yName, small, false)+24)}
}

// axes draws them, once it is known what they go over.
func (c *chart) axes() {
	c.y.round()
	if c.x.names == nil {
		c.x.widen()
	}
	c.d.text(margin, c.top-12, small, false, Soft, fit(c.yName, small, false, page/3))
	c.d.Shapes = append(c.d.Shapes,
		&Text{X: c.right, Y: c.bottom + 32, Size: small, Fill: Soft, Right: true, S: c.xName})
	for _, t := range c.y.ticks(6) {
		y := c.at(c.x.lo, t.at).Y
		c.d.rect(c.left, y-0.25, c.right-c.left, 0.5, Faint)
		c.d.Shapes = append(c.d.Shapes, &Text{X: c.left - 6, Y: y + 3, Size: small, Fill: Soft, Right: true, S: t.name})
	}
	for _, t := range c.x.ticks(10) {
		x := c.at(t.at, c.y.lo).X
		if c.x.names == nil {
			c.d.rect(x-0.25, c.bottom, 0.5, 4, Soft)
		}
		c.d.text(x-width(t.name, small, false)/2, c.bottom+16, small, false, Soft, t.name)
	}
	c.d.rect(c.left, c.bottom-0.4, c.right-c.left, 0.8, Soft)
}

// at is the place of a pair of values.
func (c *chart) at(x, y float64) Point {
	return Point{c.left + c.x.of(x)*(c.right-c.left), c.bottom - c.y.of(y)*(c.bottom-c.top)}
}

// key says what a sign means, in a line above the axes.
func (c *chart) key(name string, sign func(x, y float64)) {
	sign(c.keyAt, c.top-12)
	c.d.text(c.keyAt+22, c.top-12, small, false, Ink, name)
	c.keyAt += 22 + width(name, small, false) + 18
}

// widen makes room where there is none between the least and the greatest.
func (s *scale) widen() {
	switch {
	case !s.set && s.log:
		s.lo, s.hi = 1, 10
	case !s.set:
		s.lo, s.hi = 0, 1
	case s.lo == s.hi && s.log:
		s.lo, s.hi = s.lo/2, s.hi*2
	case s.lo == s.hi:
		by := max(math.Abs(s.lo)/10, 0.5)
		s.lo, s.hi = s.lo-by, s.hi+by
	}
}

// round makes the scale begin and end at round numbers.
func (s *scale) round() {
	s.widen()
	if s.log {
		s.lo, s.hi = math.Pow(10, math.Floor(math.Log10(s.lo))), math.Pow(10, math.Ceil(math.Log10(s.hi)))
		return
	}
	step := s.step(6)
	s.lo, s.hi = math.Floor(s.lo/step+1e-9)*step, math.Ceil(s.hi/step-1e-9)*step
}

// step is a round number, 1, 2 or 5 of some power of ten, of which no more than so many fit.
func (s *scale) step(most int) float64 {
	raw := (s.hi - s.lo) / float64(most)
	power := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, n := range []float64{1, 2, 5} {
		if raw <= n*power*(1+1e-9) {
			return n * power
		}
	}
	return 10 * power
}

// ticks are the places of an axis that are named: about so many at most.
func (s *scale) ticks(most int) (out []named) {
	if s.names != nil {
		return s.names
	}
	if s.log {
		for p := math.Ceil(math.Log10(s.lo) - 1e-9); p <= math.Log10(s.hi)+1e-9; p++ {
			v := math.Pow(10, p)
			out = append(out, named{v, thousands(strconv.FormatFloat(v, 'f', int(max(-p, 0)), 64))})
		}
		return out
	}
	step := s.step(most)
	digits := int(max(0, -math.Floor(math.Log10(step))))
	for n := math.Ceil(s.lo/step - 1e-9); n <= math.Floor(s.hi/step+1e-9); n++ {
		v := n*step + 0 // no minus before nought
		name := thousands(strconv.FormatFloat(v, 'f', digits, 64))
		if math.Abs(v) >= 1e9 || digits > 6 {
			name = strconv.FormatFloat(v, 'g', 4, 64)
		}
		out = append(out, named{v, name})
	}
	return out
}

// thousands sets blanks between them.
func thousands(s string) string {
	whole, rest, _ := strings.Cut(s, ".")
	for i := len(whole) - 3; i > 0 && whole[i-1] != '-'; i -= 3 {
		whole = whole[:i] + " " + whole[i:]
	}
	if rest != "" {
		whole += "." + rest
	}
	return whole
}
