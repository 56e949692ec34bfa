package draw

import (
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// Grown is what something took at several sizes.
type Grown struct {
	Name string    // of it
	X, Y []float64 // sizes, and what it took; above nought
}

// Growth draws how cost grows with size: both axes are logarithmic, so that what grows as fast as its
// input goes up with the dashed line.
func Growth(title, x, y string, all []Grown) (*Plot, error) {
	out := begun(title)
	out.p.X.Label.Text, out.p.Y.Label.Text = x, y
	out.p.X.Scale, out.p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	out.p.X.Tick.Marker, out.p.Y.Tick.Marker = plot.LogTicks{Prec: -1}, plot.LogTicks{Prec: -1}
	out.p.Legend.Top, out.p.Legend.Left = true, true
	least, most := math.Inf(1), 0.0
	for i, g := range all {
		points := make(plotter.XYs, len(g.X))
		for n := range g.X {
			points[n] = plotter.XY{X: g.X[n], Y: g.Y[n]}
			least, most = min(least, g.X[n]), max(most, g.X[n])
		}
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return nil, err
		}
		fill := []Colour{Ink, Soft, Faint}[i%3]
		line.Color, dots.Color = ink(fill), ink(fill)
		line.Width, dots.Radius = vg.Points(1.4), vg.Points(2.6+float64(i))
		out.p.Add(line, dots)
		out.p.Legend.Add(g.Name, line, dots)
	}
	if len(all) > 0 && most > least {
		first := all[0]
		last := first.Y[len(first.Y)-1] / first.X[len(first.X)-1]
		straight, err := plotter.NewLine(plotter.XYs{{X: least, Y: last * least}, {X: most, Y: last * most}})
		if err != nil {
			return nil, err
		}
		straight.Color, straight.Dashes = ink(Faint), []vg.Length{vg.Points(4), vg.Points(4)}
		out.p.Add(straight)
	}
	return out, nil
}
