package draw

import (
	"fmt"

	"orenda/internal/compare"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// Compare draws the paths of two calls above each other, and in what they differ, the most
// telling first.
func Compare(a, b *exchange.Exchange, r *compare.Report) *Drawing {
	d := &Drawing{W: page, Title: "in what two calls differ"}
	y := margin + 16
	d.text(margin, y, 17, true, Ink, fit(safe.Line(title(b)), 17, true, page-2*margin))
	y += 30
	for i, x := range []*exchange.Exchange{a, b} {
		y = d.reach(string(rune('a'+i)), x, y)
	}
	y += 8
	d.text(margin, y, 10.5, false, Soft,
		fmt.Sprintf("%d differences, %d set aside", len(r.Differences)-r.SetAside, r.SetAside))
	y += 22
	const most, valueX = 12, margin + 24
	shown := 0
	for _, diff := range r.Differences {
		if diff.Aside {
			continue
		}
		if shown++; shown > most {
			continue
		}
		d.text(margin, y, 11, true, Ink, fit(safe.Line(diff.Path), 11, true, page-2*margin-140))
		d.Shapes = append(d.Shapes, &Text{X: page - margin, Y: y, Size: 9.5, Fill: Soft, Right: true,
			S: string(diff.Where) + ", " + string(diff.Kind)})
		for i, p := range []*compare.Place{diff.A, diff.B} {
			y += 15
			text, ink := "not there", Soft
			if p != nil {
				text, ink = safe.Line(p.Value), Ink
			}
			d.text(margin+8, y, 10.5, false, Soft, string(rune('a'+i)))
			d.text(valueX, y, 10.5, false, ink, fit(text, 10.5, false, page-margin-valueX))
		}
		if diff.Why != "" {
			y += 15
			d.text(valueX, y, 10, false, Soft, fit(safe.Line(diff.Why), 10, false, page-margin-valueX))
		}
		y += 22
	}
	if shown > most {
		d.text(margin, y, 10.5, false, Soft, fmt.Sprintf("and %d more", shown-most))
		y += 20
	}
	d.H = y + margin/2
	d.Shapes = append([]Shape{&Rect{0, 0, d.W, d.H, White}}, d.Shapes...)
	return d
}

// reach draws how far a call came in one line: eleven ticks in four groups.
func (d *Drawing) reach(label string, x *exchange.Exchange, y float64) float64 {
	d.text(margin, y, 11, true, Ink, label)
	at := margin + 20
	for i, s := range exchange.Stages {
		if i == 4 || i == 7 || i == 9 {
			at += 8
		}
		switch x.Stage(s).State {
		case exchange.Passed, exchange.Warned:
			d.rect(at, y-9, 7, 10, Ink)
		case exchange.Stopped, exchange.Cancelled:
			d.rect(at, y-9, 7, 10, Accent)
			d.rect(at+2.6, y-9, 1.8, 10, White) // read without colour too
		default:
			d.rect(at, y-9, 7, 10, Faint)
			d.rect(at+1, y-8, 5, 8, White)
		}
		at += 11
	}
	text := x.Started.UTC().Format("2006-01-02 15:04:05 UTC") + "   " + x.Ending() + "   " + x.ID
	d.text(at+14, y, 10.5, false, Ink, fit(safe.Line(text), 10.5, false, page-margin-at-14))
	return y + 20
}
