package draw

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// sheet is a drawing that grows downwards.
type sheet struct {
	*Drawing
	y float64
}

func newSheet(title, under string) *sheet {
	s := &sheet{&Drawing{W: page, Title: safe.Line(title)}, margin + 16}
	s.text(margin, s.y, 17, true, Ink, fit(safe.Line(title), 17, true, page-2*margin))
	s.y += 20
	for _, l := range wrap(safe.Line(under), 10.5, page-2*margin) {
		s.text(margin, s.y, 10.5, false, Soft, l)
		s.y += 15
	}
	s.y += 14
	return s
}

// done is the drawing, on its ground.
func (s *sheet) done() *Drawing {
	s.H = s.y + margin/2
	s.Shapes = append([]Shape{&Rect{0, 0, s.W, s.H, White}}, s.Shapes...)
	return s.Drawing
}

// sign draws an outcome so that it reads in black and white: a full square passed, a hollow one
// stopped.
func (s *sheet) sign(x, y, size float64, passed bool) {
	if passed {
		s.rect(x, y, size, size, Ink)
		return
	}
	s.rect(x, y, size, size, Accent)
	s.rect(x+size/4, y+size/4, size/2, size/2, White)
}

// Tried is one of many calls.
type Tried struct {
	Name   string // what it was
	Sent   bool   // it was sent
	Passed bool   // it was answered as it should be
	Says   string // what was said to it, or why it was unexpected
	TookNs int64  // nanoseconds
}

// Sounding draws what was sent in a sounding, in its order on the scale, and what was said to it.
func Sounding(title, sentence string, all []Tried) *Drawing {
	s := newSheet(title, sentence)
	step := min((page-2*margin)/float64(max(len(all), 1)), 22)
	for i, one := range all {
		s.sign(margin+float64(i)*step, s.y, min(step-4, 14), one.Passed)
	}
	s.y += 34
	for _, one := range all {
		s.sign(margin, s.y-8, 9, one.Passed)
		s.text(margin+18, s.y, 10.5, true, Ink, fit(safe.Line(one.Name), 10.5, true, 150))
		s.text(margin+180, s.y, 10.5, false, Soft, fit(safe.Line(one.Says), 10.5, false, page-2*margin-180))
		s.y += 16
	}
	return s.done()
}

// maxDrawn is how many rows a drawing has at most.
const maxDrawn = 400

// Muster draws a run of a muster: its outcomes, and what each case took.
func Muster(title, under string, all []Tried) *Drawing {
	s := newSheet(title, under)
	most := int64(1)
	for _, c := range all {
		most = max(most, c.TookNs)
	}
	const name, room = 210.0, 130.0
	for _, c := range all[:min(len(all), maxDrawn)] {
		if c.Sent {
			s.sign(margin, s.y-8, 9, c.Passed)
		}
		s.text(margin+18, s.y, 10, false, Ink, fit(safe.Line(c.Name), 10, false, name-24))
		s.rect(margin+name, s.y-7, max(room*float64(c.TookNs)/float64(most), 0.5), 7, Soft)
		text := strings.TrimSpace(exchange.Took(c.TookNs) + "   " + c.Says)
		s.text(margin+name+room+10, s.y, 10, false, Soft, fit(safe.Line(text), 10, false, page-2*margin-name-room-10))
		s.y += 15
	}
	if left := len(all) - maxDrawn; left > 0 {
		s.text(margin, s.y, 10, false, Soft, fmt.Sprintf("and %d more", left))
		s.y += 15
	}
	return s.done()
}

// Traffic draws exchanges, newest first, by their causes: a row for each, with its marks in time.
func Traffic(title string, list []*exchange.Exchange) *Drawing {
	if len(list) == 0 {
		return newSheet(title, "no exchange is kept that fits").done()
	}
	from, to := list[len(list)-1].Started, list[0].Started
	clock := func(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }
	s := newSheet(title, fmt.Sprintf("%d exchanges, %s to %s", len(list), clock(from), clock(to)))
	span := max(to.Sub(from), 1)
	const label, height = 230.0, 16.0
	room, bins := page-2*margin-label, 60
	for _, row := range folded(list) {
		counts, most := make([]int, bins), 1
		for _, x := range row.of {
			i := min(int(float64(x.Started.Sub(from))/float64(span)*float64(bins)), bins-1)
			counts[max(i, 0)]++
			most = max(most, counts[max(i, 0)])
		}
		s.sign(margin, s.y-8, 9, row.passed)
		s.text(margin+18, s.y, 10.5, false, Ink, fit(fmt.Sprintf("%d × %s", len(row.of), safe.Line(row.title)), 10.5,
			false, label-28))
		fill := Accent
		if row.passed {
			fill = Ink
		}
		step := room / float64(bins)
		for i, n := range counts {
			if n > 0 {
				h := max(height*float64(n)/float64(most), 3)
				s.rect(margin+label+float64(i)*step+0.5, s.y+3-h, step-1, h, fill)
			}
		}
		s.rect(margin+label, s.y+3, room, 0.6, Faint)
		s.y += 24
	}
	return s.done()
}

type cause struct {
	title  string
	passed bool
	of     []*exchange.Exchange
}

// folded are exchanges by their causes: what passed first, then as they first come.
func folded(list []*exchange.Exchange) []*cause {
	out := []*cause{{title: "passed", passed: true}}
	by := map[string]*cause{}
	for _, x := range list {
		if x.Outcome == exchange.OutcomePassed {
			out[0].of = append(out[0].of, x)
			continue
		}
		title := string(x.Outcome)
		if f := x.Cause(); f != nil {
			title = cmp.Or(f.Stage.String()+": "+f.Title, title)
		}
		if by[title] == nil {
			by[title] = &cause{title: title}
			out = append(out, by[title])
		}
		by[title].of = append(by[title].of, x)
	}
	if len(out[0].of) == 0 {
		return out[1:]
	}
	return out
}
