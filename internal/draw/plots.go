package draw

import (
	"bytes"
	"fmt"
	"image/color"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"orenda/internal/safe"
)

// Plot is a drawing with axes. It is legible in black and white.
type Plot struct {
	p    *plot.Plot
	w, h vg.Length
}

// Write gives the plot in the format that a file name's ending asks for, .svg or .pdf.
func (p *Plot) Write(name string) ([]byte, error) {
	_, format, ok := strings.Cut(strings.ToLower(name[max(len(name)-4, 0):]), ".")
	if !ok || format != "svg" && format != "pdf" {
		return nil, fmt.Errorf("a drawing is written as .svg or .pdf, not as %s", name)
	}
	c, err := draw.NewFormattedCanvas(p.w, p.h, format)
	if err != nil {
		return nil, err
	}
	const rim = 18 // points
	p.p.Draw(draw.Crop(draw.New(c), rim, -rim, rim, -rim))
	var b bytes.Buffer
	_, err = c.WriteTo(&b)
	return b.Bytes(), err
}

func begun(title string) *Plot {
	p := plot.New()
	p.Title.Text = safe.Line(title)
	p.Title.Padding = vg.Points(10)
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = ink(Faint), ink(Faint)
	p.Add(grid)
	return &Plot{p, page * vg.Points(1), 320 * vg.Points(1)}
}

func ink(c Colour) color.Color {
	return color.RGBA{uint8(c >> 16), uint8(c >> 8), uint8(c), 255}
}

// Column draws the numbers of a table's column in the order of its rows. Cells that hold
// none are left out: the line has a gap there.
func Column(title, name string, values []float64, known []bool) (*Plot, error) {
	out := begun(title)
	out.p.X.Label.Text, out.p.Y.Label.Text = "row", safe.Line(name)
	var run plotter.XYs
	flush := func() error {
		if len(run) == 0 {
			return nil
		}
		l, err := plotter.NewLine(run)
		if err != nil {
			return err
		}
		l.Color, l.Width = ink(Ink), vg.Points(1)
		out.p.Add(l)
		if len(run) == 1 {
			s, err := plotter.NewScatter(run)
			if err != nil {
				return err
			}
			s.Color = ink(Ink)
			out.p.Add(s)
		}
		run = nil
		return nil
	}
	for i, v := range values {
		if !known[i] {
			if err := flush(); err != nil {
				return nil, err
			}
			continue
		}
		run = append(run, plotter.XY{X: float64(i + 1), Y: v})
	}
	return out, flush()
}

// StageTimes are the times that a stage took over many calls.
type StageTimes struct {
	Stage               string        // its name
	Median, Most, Worst time.Duration // half of them took no longer; 95 of 100; the longest
}

// Latency draws what each stage took over the kept calls of an operation.
func Latency(title string, all []StageTimes) (*Plot, error) {
	out := begun(title)
	out.p.Y.Label.Text = "milliseconds"
	out.p.Legend.Top = true
	names := make([]string, 0, len(all))
	for _, s := range all {
		names = append(names, s.Stage)
	}
	out.p.NominalX(names...)
	out.p.X.Min, out.p.X.Max = -0.6, float64(len(all))-0.4
	const wide = 12
	for i, of := range []struct {
		label string
		fill  Colour
		pick  func(StageTimes) time.Duration
	}{
		{"median", Ink, func(s StageTimes) time.Duration { return s.Median }},
		{"95 of 100", Soft, func(s StageTimes) time.Duration { return s.Most }},
		{"worst", Faint, func(s StageTimes) time.Duration { return s.Worst }},
	} {
		values := make(plotter.Values, 0, len(all))
		for _, s := range all {
			values = append(values, float64(of.pick(s))/float64(time.Millisecond))
		}
		bars, err := plotter.NewBarChart(values, vg.Points(wide))
		if err != nil {
			return nil, err
		}
		bars.Color, bars.LineStyle.Width = ink(of.fill), vg.Points(0.4)
		bars.Offset = vg.Points(float64(i-1) * wide)
		out.p.Add(bars)
		out.p.Legend.Add(of.label, bars)
	}
	out.p.Y.Max *= 1.2 // room for what the colours mean
	return out, nil
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
