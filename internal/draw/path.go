package draw

import (
	"fmt"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/safe"
)

const (
	margin = 36.0
	page   = 720.0
	row    = 24.0
)

// Path draws the path of an exchange: its stages with their times and sizes,
// where it stopped and why.
//
//revive:disable-next-line:cyclomatic one drawing, from top to bottom
func Path(x *exchange.Exchange) *Drawing {
	d := &Drawing{W: page, Title: safe.Line(title(x))}
	y := margin + 16
	d.text(margin, y, 17, true, Ink, fit(safe.Line(title(x)), 17, true, page-2*margin))
	y += 20
	sub := fmt.Sprintf("%s   ·   %s   ·   %s", x.Ending(), x.Started.UTC().Format("2006-01-02 15:04:05 UTC"), x.ID)
	d.text(margin, y, 10.5, false, Soft, sub)
	y += 26

	const nameX, noteX = margin + 46, margin + 128
	barX, barW := page-margin-190, 138.0
	d.text(barX, y, 9, false, Soft, "when")
	d.Shapes = append(d.Shapes, &Text{X: page - margin, Y: y, Size: 9, Fill: Soft, Right: true, S: "took"})
	y += 10
	total := float64(max(x.TotalNs, 1))
	for i, s := range exchange.Stages {
		if i == 4 || i == 7 || i == 9 {
			y += 7 // the path goes in four groups
		}
		st := x.Stage(s)
		stopped := st.State == exchange.Stopped || st.State == exchange.Cancelled
		reached := st.State == exchange.Passed || st.State == exchange.Warned
		if stopped {
			d.rect(margin-8, y, page-2*margin+16, row, Ground)
			d.rect(margin-8, y, 3, row, Accent)
		}
		tick, ink := Faint, Soft
		switch {
		case stopped:
			tick, ink = Accent, Ink
		case reached:
			tick, ink = Ink, Ink
		}
		if reached || stopped {
			d.rect(margin+4, y+5, 6, row-10, tick)
		} else { // an empty tick
			d.rect(margin+4, y+5, 6, row-10, Faint)
			d.rect(margin+5, y+6, 4, row-12, White)
		}
		base := y + row/2 + 4
		d.Shapes = append(
			d.Shapes,
			&Text{X: margin + 34, Y: base, Size: 11, Fill: Soft, Right: true, S: fmt.Sprint(i + 1)},
		)
		d.text(nameX, base, 11, stopped, ink, s.String())
		note := st.Note
		if stopped && note == "" {
			note = "stopped here"
		}
		d.text(noteX, base, 11, false, ink, fit(safe.Line(note), 11, false, barX-noteX-14))
		if st.DurationNs > 0 {
			from := barX + barW*float64(st.StartedNs)/total
			w := max(barW*float64(st.DurationNs)/total, 1.2)
			d.rect(barX, y+row/2-0.4, barW, 0.8, Faint)
			d.rect(from, y+row/2-3.5, min(w, barX+barW-from), 7, tick)
			d.Shapes = append(
				d.Shapes,
				&Text{X: page - margin, Y: base, Size: 10, Fill: Soft, Right: true, S: exchange.Took(st.DurationNs)},
			)
		}
		y += row
	}
	y += 16
	for i, f := range x.Findings {
		if f.Severity == exchange.Note || i > 3 {
			continue
		}
		y = finding(d, y, f, i == 0 && x.Outcome != exchange.OutcomePassed)
	}
	if x.Outcome == exchange.OutcomePassed && x.Result != "" {
		d.text(margin, y+10, 11, false, Ink, fit("Answer: "+safe.Line(x.Result), 11, false, page-2*margin))
		y += 24
	}
	d.H = y + margin/2
	d.Shapes = append([]Shape{&Rect{0, 0, d.W, d.H, White}}, d.Shapes...)
	return d
}

func finding(d *Drawing, y float64, f exchange.Finding, cause bool) float64 {
	w := page - 2*margin - 14
	ink := Soft
	if cause {
		ink = Accent
	}
	top := y
	y += 14
	d.text(margin+14, y, 12, true, Ink, fit(safe.Line(f.Title), 12, true, w-120))
	d.Shapes = append(d.Shapes, &Text{X: page - margin, Y: y, Size: 9.5, Fill: Soft, Right: true, S: f.ID})
	for _, l := range wrap(safe.Line(f.Why), 10.5, w) {
		y += 15
		d.text(margin+14, y, 10.5, false, Ink, l)
	}
	for i, e := range f.Evidence {
		if i == 3 {
			break
		}
		y += 16
		where := strings.ReplaceAll(string(e.In), "-", " ")
		if e.In != exchange.InSettings && e.In != exchange.InCertificate {
			where += fmt.Sprintf(", line %d", e.Line)
		}
		d.text(margin+14, y, 9.5, false, Soft, where)
		d.text(margin+130, y, 9.5, false, Ink, fit(safe.Line(e.Excerpt), 9.5, false, w-116))
	}
	if f.Program != "" {
		for _, l := range wrap("In your program: "+safe.Line(f.Program), 10.5, w) {
			y += 16
			d.text(margin+14, y, 10.5, false, Soft, l)
		}
	}
	d.rect(margin, top+3, 2.4, y-top+1, ink)
	return y + 18
}

func title(x *exchange.Exchange) string {
	s := x.Operation
	if x.Draft != "" {
		s += " · " + x.Draft
	}
	if x.Endpoint != "" {
		s += " over " + x.Endpoint
	}
	if x.Environment != "" {
		s += " in " + x.Environment
	}
	return s
}
