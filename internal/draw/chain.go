package draw

import (
	"crypto/x509"
	"fmt"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/trust"
)

// Chain draws certificates from the leaf to the root, each with its names, its
// key and its dates as a bar against today; the first sent of them came from the
// server, the others complete the chain.
//
//revive:disable-next-line:function-length one drawing, from top to bottom
func Chain(title string, chain []*x509.Certificate, sent int, findings []exchange.Finding, now time.Time) *Drawing {
	d := &Drawing{W: page, Title: safe.Line(title)}
	y := margin + 16
	d.text(margin, y, 17, true, Ink, fit(safe.Line(title), 17, true, page-2*margin))
	y += 20
	d.text(margin, y, 10.5, false, Soft, "as seen on "+now.UTC().Format("2006-01-02 15:04 UTC"))
	y += 24
	from, until := now, now
	for _, c := range chain {
		if c.NotBefore.Before(from) {
			from = c.NotBefore
		}
		if c.NotAfter.After(until) {
			until = c.NotAfter
		}
	}
	wrong := map[int]bool{}
	for _, f := range findings {
		for _, e := range f.Evidence {
			if e.In == exchange.InCertificate {
				wrong[e.Line-1] = true
			}
		}
	}
	span := max(until.Sub(from).Seconds(), 1)
	left, w := margin+20, page-2*margin-20
	for i, c := range chain {
		top := y
		ink := Ink
		if wrong[i] {
			ink = Accent
		}
		kind := "server"
		switch {
		case i >= sent:
			kind = "not sent; completes the chain"
		case i > 0:
			kind = "sent along"
		}
		y += 16
		d.text(left, y, 12.5, true, ink, fit(safe.Line(c.Subject.String()), 12.5, true, w-170))
		d.Shapes = append(d.Shapes, &Text{X: page - margin, Y: y, Size: 9.5, Fill: Soft, Right: true, S: kind})
		for _, l := range [][2]string{
			{"issued by", c.Issuer.String()}, {"for", strings.Join(trust.Names(c), ", ")},
			{"key", trust.KeyWords(c) + ", signed with " + c.SignatureAlgorithm.String()}, {"uses", trust.Uses(c)},
			{"SHA-256", trust.Grouped(trust.Fingerprint(c))},
		} {
			if l[1] == "" {
				continue
			}
			y += 14
			d.text(left, y, 9.5, false, Soft, l[0])
			d.text(left+62, y, 9.5, false, Ink, fit(safe.Line(l[1]), 9.5, false, w-62))
		}
		y += 12
		x := func(t time.Time) float64 { return left + 62 + (w-62)*t.Sub(from).Seconds()/span }
		d.rect(left+62, y+3, w-62, 0.8, Faint)
		d.rect(x(c.NotBefore), y, max(x(c.NotAfter)-x(c.NotBefore), 1.5), 7, ink)
		d.rect(x(now)-0.6, y-3, 1.2, 13, Accent)
		y += 20
		d.text(
			left+62,
			y,
			9,
			false,
			Soft,
			fmt.Sprintf(
				"valid %s to %s: %s",
				c.NotBefore.UTC().Format("2006-01-02"),
				c.NotAfter.UTC().Format("2006-01-02"),
				trust.Left(c, now),
			),
		)
		d.rect(margin, top+4, 3, y-top-2, ink)
		if i < len(chain)-1 {
			d.rect(margin+1, y+2, 1, 18, Faint)
		}
		y += 18
	}
	y += 4
	for i, f := range findings {
		if f.Severity != exchange.Note {
			y = finding(d, y, f, i == 0)
		}
	}
	if len(findings) == 0 {
		d.text(margin, y+6, 11, true, Ink, "Nothing is wrong with it.")
		y += 22
	}
	d.H = y + margin/2
	d.Shapes = append([]Shape{&Rect{0, 0, d.W, d.H, White}}, d.Shapes...)
	return d
}
