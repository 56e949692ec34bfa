// Package draw makes drawings of exchanges that go into a ticket or a letter.
// A drawing is shapes; the same shapes go to SVG, where text stays text, and
// to PDF, where the fonts are embedded.
package draw

import (
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
)

// Colour is 0xRRGGBB.
type Colour uint32

// The few colours of all drawings: ink in three strengths, one accent, one
// ground.
const (
	Ink    Colour = 0x1c2733
	Soft   Colour = 0x5b6875
	Faint  Colour = 0xc9d1d8
	Ground Colour = 0xf3f5f7
	Accent Colour = 0xb4471f
	White  Colour = 0xffffff
)

// Shape is a *Rect, a *Text, a *Line or a *Dot.
type Shape interface{ shape() }

// Point is a place, in points from the left and from the top.
type Point struct{ X, Y float64 }

// Line goes from point to point.
type Line struct {
	Points []Point // two or more
	Width  float64 // in points
	Fill   Colour  // colour
	Dashed bool    // with gaps
}

// Dot is a filled circle.
type Dot struct {
	X, Y, R float64 // its middle, and its radius, in points
	Fill    Colour  // colour
}

// Rect is a filled rectangle, in points.
type Rect struct {
	X, Y, W, H float64 // left, in points; top, in points; width, in points; height, in points
	Fill       Colour  // colour
}

// Text is one line of text; X, Y is the left (or right) end of its base line.
type Text struct {
	X, Y, Size float64 // left, in points; base line, in points; of the type, in points
	Bold       bool    // heavier
	Fill       Colour  // colour
	Right      bool    // X is the right end
	S          string  // what it says
}

func (*Rect) shape() {}
func (*Text) shape() {}
func (*Line) shape() {}
func (*Dot) shape()  {}

// Drawing is a page.
type Drawing struct {
	W, H   float64 // points
	Title  string  // for those who cannot see it
	Shapes []Shape // from the ground up
}

func (d *Drawing) rect(x, y, w, h float64, fill Colour) {
	d.Shapes = append(d.Shapes, &Rect{x, y, w, h, fill})
}

func (d *Drawing) text(x, y, size float64, bold bool, fill Colour, s string) {
	d.Shapes = append(d.Shapes, &Text{X: x, Y: y, Size: size, Bold: bold, Fill: fill, S: s})
}

//nolint:gochecknoglobals // made once, when it is first asked for
var faces = sync.OnceValue(func() [2]font.Face {
	var out [2]font.Face
	for i, ttf := range [][]byte{goregular.TTF, gobold.TTF} {
		f, err := opentype.Parse(ttf)
		if err != nil {
			panic(err) // the fonts are compiled in
		}
		if out[i], err = opentype.NewFace(f, &opentype.FaceOptions{Size: 100, DPI: 72}); err != nil {
			panic(err)
		}
	}
	return out
})

//nolint:gochecknoglobals // a table: it is never written to
var measuring sync.Mutex // a face is not for several goroutines

// width is the width of a text in points.
func width(s string, size float64, bold bool) float64 {
	f := faces()[0]
	if bold {
		f = faces()[1]
	}
	measuring.Lock()
	defer measuring.Unlock()
	return float64(font.MeasureString(f, s)) / 64 * size / 100
}

// fit cuts a text so that it is no wider than w.
func fit(s string, size float64, bold bool, w float64) string {
	s = strings.Join(strings.Fields(s), " ")
	if width(s, size, bold) <= w {
		return s
	}
	r := []rune(s)
	lo, hi := 0, len(r)
	for lo < hi {
		mid := (lo + hi + 1) / 2
		if width(string(r[:mid])+"…", size, bold) <= w {
			lo = mid
		} else {
			hi = mid - 1
		}
	}
	return string(r[:lo]) + "…"
}

// wrap breaks a text into lines no wider than w.
func wrap(s string, size float64, w float64) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(s) {
		next := strings.TrimSpace(line + " " + word)
		if line != "" && width(next, size, false) > w {
			out = append(out, fit(line, size, false, w))
			next = word
		}
		line = next
	}
	if line != "" {
		out = append(out, fit(line, size, false, w))
	}
	return out
}
