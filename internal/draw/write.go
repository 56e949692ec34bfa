package draw

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"

	"orenda/internal/safe"
)

// Write gives the drawing in the format that a file name's ending asks for,
// .svg or .pdf.
func (d *Drawing) Write(name string) ([]byte, error) {
	switch {
	case strings.HasSuffix(strings.ToLower(name), ".svg"):
		return d.SVG(), nil
	case strings.HasSuffix(strings.ToLower(name), ".pdf"):
		return d.PDF()
	}
	return nil, fmt.Errorf("a drawing is written as .svg or .pdf, not as %s", name)
}

// SVG gives the drawing as SVG 1.1.
func (d *Drawing) SVG() []byte {
	var b bytes.Buffer
	fmt.Fprintf(
		&b,
		//revive:disable-next-line:line-length-limit one literal
		`<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" viewBox="0 0 %.0f %.0f" font-family="Go, 'DejaVu Sans', 'Segoe UI', Helvetica, sans-serif">`+"\n",
		d.W,
		d.H,
		d.W,
		d.H,
	)
	fmt.Fprintf(&b, "<title>%s</title>\n", safe.XML(d.Title))
	for _, s := range d.Shapes {
		switch s := s.(type) {
		case *Rect:
			fmt.Fprintf(&b, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" fill="#%06x"/>`+"\n", s.X, s.Y, s.W,
				s.H, uint32(s.Fill))
		case *Line:
			fmt.Fprintf(&b, `<polyline points="`)
			for _, p := range s.Points {
				fmt.Fprintf(&b, "%.1f,%.1f ", p.X, p.Y)
			}
			dashes := ""
			if s.Dashed {
				dashes = fmt.Sprintf(` stroke-dasharray="%g"`, dash)
			}
			fmt.Fprintf(&b, `" fill="none" stroke="#%06x" stroke-width="%.1f" stroke-linejoin="round"%s/>`+"\n",
				uint32(s.Fill), s.Width, dashes)
		case *Dot:
			fmt.Fprintf(&b, `<circle cx="%.1f" cy="%.1f" r="%.1f" fill="#%06x"/>`+"\n", s.X, s.Y, s.R, uint32(s.Fill))
		case *Text:
			extra := ""
			if s.Bold {
				extra += ` font-weight="bold"`
			}
			if s.Right {
				extra += ` text-anchor="end"`
			}
			fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" font-size="%.1f" fill="#%06x"%s>%s</text>`+"\n", s.X, s.Y, s.Size,
				uint32(s.Fill), extra, safe.XML(s.S))
		}
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// PDF gives the drawing as a PDF of one page.
func (d *Drawing) PDF() ([]byte, error) { return Pages([]*Drawing{d}) }

// Pages gives drawings as a PDF, each on a page of its size.
func Pages(all []*Drawing) ([]byte, error) {
	if len(all) == 0 {
		return nil, errors.New("there is nothing to draw")
	}
	p := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: all[0].W, Ht: all[0].H}})
	p.SetAutoPageBreak(false, 0)
	p.SetMargins(0, 0, 0)
	p.SetTitle(all[0].Title, true)
	p.SetCreator("Orenda", true)
	p.AddUTF8FontFromBytes("go", "", goregular.TTF)
	p.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	for _, d := range all {
		p.AddPageFormat("P", fpdf.SizeType{Wd: d.W, Ht: d.H})
		d.onto(p)
	}
	var b bytes.Buffer
	if err := p.Output(&b); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// dash is how long the dashes of a line are, and the gaps between them, in points.
const dash = 4.0

// onto draws on the page that is open.
func (d *Drawing) onto(p *fpdf.Fpdf) {
	rgb := func(c Colour) (int, int, int) { return int(c >> 16 & 255), int(c >> 8 & 255), int(c & 255) }
	for _, s := range d.Shapes {
		switch s := s.(type) {
		case *Rect:
			p.SetFillColor(rgb(s.Fill))
			p.Rect(s.X, s.Y, s.W, s.H, "F")
		case *Line:
			p.SetDrawColor(rgb(s.Fill))
			p.SetLineWidth(s.Width)
			p.SetLineJoinStyle("round")
			p.SetDashPattern(nil, 0)
			if s.Dashed {
				p.SetDashPattern([]float64{dash, dash}, 0)
			}
			p.MoveTo(s.Points[0].X, s.Points[0].Y)
			for _, to := range s.Points[1:] {
				p.LineTo(to.X, to.Y)
			}
			p.DrawPath("D")
		case *Dot:
			p.SetFillColor(rgb(s.Fill))
			p.Circle(s.X, s.Y, s.R, "F")
		case *Text:
			style := ""
			if s.Bold {
				style = "B"
			}
			p.SetFont("go", style, s.Size)
			p.SetTextColor(rgb(s.Fill))
			x := s.X
			text := basic(safe.Line(s.S))
			if s.Right {
				x -= p.GetStringWidth(text)
			}
			p.Text(x, s.Y, text)
		}
	}
}

// basic replaces what lies beyond the basic plane, which the PDF writer does
// not know.
func basic(s string) string {
	return strings.Map(func(r rune) rune {
		if r > 0xffff {
			return '�'
		}
		return r
	}, s)
}
