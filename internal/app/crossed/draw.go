package crossed

import (
	"bytes"
	"fmt"
	"strings"

	"orenda/internal/app/ui"
	"orenda/internal/exchange"
)

// Look is how a line is drawn.
type Look struct {
	Width  int  // in cells
	Side   int  // characters scrolled to the right
	Reveal bool // secrets are shown
	Hit    bool // the line was searched for
}

// Draw is the i-th line: its time, its way, its text.
func (ix *Lines) Draw(x *exchange.Exchange, i int, look Look) string {
	w := look.Width
	one := ix.At(x, i)
	l := &one
	at := ""
	if l.at >= 0 {
		at = fmt.Sprintf("%.1f ms", float64(l.at)/1e6)
	}
	lead := fmt.Sprintf("%11s  ", at)
	if l.note != "" {
		text := ui.Soft("·  " + ui.Cut(l.note, w-24))
		if l.stop {
			text = ui.Accent("◂  " + ui.Cut(l.note, w-24))
		}
		return ui.Soft(lead) + text
	}
	dir := "out"
	if l.dir == exchange.In {
		dir = "in "
	}
	if l.at < 0 {
		dir = "   "
	}
	b := masked(x, l, look.Reveal)
	text := strings.TrimRight(string(b), "\r\n")
	if look.Side > 0 {
		r := []rune(text)
		text = string(r[min(look.Side, len(r)):])
	}
	room := w - 20
	tail := ""
	if l.mark {
		tail = ui.Accent(" ◂ evidence")
		room -= 11
	}
	cut := ui.Cut(text, room)
	if l.mark || look.Hit {
		cut = ui.Strong(cut)
	} else if l.dir == exchange.Out {
		cut = ui.Soft(cut)
	}
	return ui.Soft(lead+dir+"  ") + cut + tail
}

// bytesOf are the bytes of a line.
func bytesOf(x *exchange.Exchange, l *Line) []byte {
	if l.leg < 1 || int(l.leg) > len(x.Legs) {
		return nil
	}
	if l.dir == exchange.In {
		return x.Legs[l.leg-1].In.Range(l.from, l.to)
	}
	if src := x.Legs[l.leg-1].Out; l.to <= int64(len(src)) {
		return src[l.from:l.to]
	}
	return nil
}

// masked are the bytes of a line with the secrets in them hidden.
func masked(x *exchange.Exchange, l *Line, reveal bool) []byte {
	b := bytesOf(x, l)
	if reveal || l.dir != exchange.Out {
		return b
	}
	for _, s := range x.Legs[l.leg-1].SecretSpans {
		if s.Offset < l.to && s.Offset+s.Length > l.from {
			b = bytes.Clone(b)
			for k := max(s.Offset, l.from); k < min(s.Offset+s.Length, l.to); k++ {
				b[k-l.from] = exchange.Masked
			}
		}
	}
	return b
}
