package draw

import (
	"fmt"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/safe"
)

// Mark is a limit, or another size that is marked on the axis, in bytes.
type Mark struct {
	Label string // what it is
	Size  int64  // in bytes
}

// Limits draws the sizes of the kept replies to an operation against the limits
// that are set, on an axis that grows by factors, with the limit that would do.
func Limits(title string, sizes diagnose.Sizes, marks []Mark) *Drawing {
	d := &Drawing{W: page, Title: safe.Line(title)}
	y := margin + 16
	d.text(margin, y, 17, true, Ink, fit(safe.Line(title), 17, true, page-2*margin))
	y += 20
	words := sizes.Words()
	if sizes.Count > 0 {
		words = fmt.Sprintf("%d kept replies   ·   %s", sizes.Count, words)
	}
	d.text(margin, y, 10.5, false, Soft, words)
	y += 30
	would, why := sizes.Proposal()
	all := marks
	if would > 0 {
		all = append(all[:len(all):len(all)], Mark{"would do", would})
	}
	var at []int64
	for _, m := range all {
		at = append(at, m.Size)
	}
	scale := sizes.ScaleOf(at...)
	const height, bins = 150.0, 72
	left, w := margin, page-2*margin
	counts := sizes.Bins(scale, bins)
	most := 1
	for _, c := range counts {
		most = max(most, c)
	}
	base := y + height
	step := w / bins
	for i, c := range counts {
		if c > 0 {
			h := max(height*float64(c)/float64(most), 2)
			d.rect(left+float64(i)*step+0.6, base-h, step-1.2, h, Ink)
		}
	}
	d.rect(left, base, w, 0.8, Soft)
	for n := int64(1); n > 0 && n <= 1<<50; n *= 16 {
		if x := scale.At(n); x > 0 && x < 1 {
			d.rect(left+x*w, base, 0.8, 5, Soft)
			d.text(left+x*w-8, base+16, 9, false, Soft, short(n))
		}
	}
	y = base + 38
	var squares []Shape
	for _, m := range all {
		x := left + scale.At(m.Size)*w
		ink := Ink
		note := ""
		if n := sizes.Over(m.Size); m.Label != "would do" {
			note = "refuses none of them"
			if n > 0 {
				ink = Accent
				note = fmt.Sprintf("refuses %d of them", n)
			}
		}
		d.rect(x-0.6, base-height-6, 1.2, height+6, ink)
		d.rect(x-0.6, base+1, 1.2, y-base-8, Faint)
		squares = append(squares, &Rect{x - 3, y - 7, 6, 6, ink})
		label := strings.TrimSpace(fmt.Sprintf("%s  %s   %s", safe.Line(m.Label), endpoint.FormatSize(m.Size), note))
		if x > left+w/2 {
			d.Shapes = append(d.Shapes, &Text{X: x - 8, Y: y - 1, Size: 10.5, Fill: ink, Right: true, S: label})
		} else {
			d.text(x+8, y-1, 10.5, false, ink, label)
		}
		y += 19
	}
	d.Shapes = append(d.Shapes, squares...)
	y += 12
	for _, l := range wrap("Proposed: "+why+".", 10.5, w) {
		d.text(left, y, 10.5, false, Ink, l)
		y += 15
	}
	d.H = y + margin/2
	d.Shapes = append([]Shape{&Rect{0, 0, d.W, d.H, White}}, d.Shapes...)
	return d
}

// short is a power of 16 as an axis has it.
func short(n int64) string {
	for _, u := range []struct {
		n    int64
		name string
	}{{1 << 40, "Ti"}, {1 << 30, "Gi"}, {1 << 20, "Mi"}, {1 << 10, "Ki"}} {
		if n >= u.n {
			return fmt.Sprintf("%d %s", n/u.n, u.name)
		}
	}
	return fmt.Sprint(n)
}

// MarksOf are the limits of the receive stage that settings put.
func MarksOf(s *endpoint.Settings) []Mark {
	var out []Mark
	for _, key := range []string{"receive-limit", "buffer-limit", "inflated-limit"} {
		v := s.Get(key)
		if key == "buffer-limit" && (!v.IsSet() || s.Text("intake") != "whole") {
			continue
		}
		if n, err := s.Size(key); err == nil && n > 0 && (key != "inflated-limit" || v.IsSet()) {
			out = append(out, Mark{v.Key.Label(), n})
		}
	}
	return out
}
