package strip

import (
	"bytes"

	"orenda/internal/exchange"
)

// line is one line of the strip: a piece of the bytes of one direction.
type line struct {
	leg        int32
	dir        exchange.Direction
	from, to   int64 // in the leg's Out or In
	at         int64 // time, on the first line of a piece; else -1
	note       string
	mark, stop bool
}

// index turns an exchange into lines, and goes on where it left off while more
// comes in. It holds offsets only, so that a reply of many megabytes costs
// little and any line is at hand.
type index struct {
	id      string
	lines   []line
	run     *run  // the part that is on disk
	moments int   // how many of the exchange's moments were taken
	leg     int   // of the newest bytes that came in
	taken   int64 // how many of them were taken
}

// count is the number of lines.
func (ix *index) count() int { return len(ix.lines) + ix.run.count() }

// at is the i-th line.
func (ix *index) at(x *exchange.Exchange, i int) line {
	n := ix.run.count()
	switch {
	case n == 0 || i < ix.run.after:
		return ix.lines[i]
	case i < ix.run.after+n:
		var one line
		_ = x.Legs[ix.run.leg-1].In.Use(func(all []byte) error {
			one = ix.run.line(all, i-ix.run.after)
			return nil
		})
		return one
	}
	return ix.lines[i-n]
}

// widest is the longest line; what is longer is broken.
const widest = 2000

func (ix *index) follow(x *exchange.Exchange) {
	if ix.id != x.ID || ix.moments > len(x.Moments) {
		*ix = index{id: x.ID}
	}
	for ; ix.moments < len(x.Moments); ix.moments++ {
		m := x.Moments[ix.moments]
		if m.Leg < 1 || m.Leg > len(x.Legs) {
			continue
		}
		l := x.Legs[m.Leg-1]
		switch m.Kind {
		case exchange.BytesOut:
			ix.piece(m, exchange.Out, exchange.NewBody(l.Out))
		case exchange.BytesIn:
			ix.came(m, l)
		case exchange.HandedOver:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "handed over"})
		case exchange.Connected:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "connected to " + m.Text})
		case exchange.Reused:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "kept connection to " + m.Text})
		case exchange.Handshaken:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "TLS: " + m.Text})
		case exchange.Alert:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "alert: " + m.Text, stop: true})
		case exchange.LimitFell:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "the limit falls here", stop: true})
		case exchange.Closed:
			ix.lines = append(ix.lines, line{leg: int32(m.Leg), at: m.At, note: "closed"})
		}
	}
	// In a record with very many the newest moment grows.
	for _, m := range x.Moments[max(len(x.Moments)-2, 0):] {
		if m.Kind == exchange.BytesIn && m.Leg == ix.leg && m.Offset+m.N > ix.taken && m.Leg <= len(x.Legs) {
			ix.came(m, x.Legs[m.Leg-1])
		}
	}
	ix.marks(x)
}

// came takes a piece of what came in.
func (ix *index) came(m exchange.Moment, l *exchange.Leg) {
	if ix.leg != m.Leg {
		ix.leg, ix.taken = m.Leg, m.Offset
	}
	m.Offset, m.N = ix.taken, m.Offset+m.N-ix.taken
	ix.taken += m.N
	if l.In.Stored() && ix.spilled(m, l) {
		return
	}
	ix.piece(m, exchange.In, l.In)
}

// spilled takes a piece of what is on disk.
func (ix *index) spilled(m exchange.Moment, l *exchange.Leg) bool {
	if ix.run == nil {
		ix.run = &run{
			leg:    int32(m.Leg),
			after:  len(ix.lines),
			starts: []start{{m.Offset, m.At}},
			pos:    m.Offset,
			looked: m.Offset,
			marked: map[int]bool{},
		}
	}
	if int(ix.run.leg) != m.Leg {
		return false
	}
	_ = l.In.Use(func(all []byte) error {
		ix.run.feed(all, m.Offset+m.N, m.At)
		return nil
	})
	return true
}

func (ix *index) piece(m exchange.Moment, dir exchange.Direction, of exchange.Body) {
	src := of.Range(m.Offset, m.Offset+m.N)
	end := m.Offset + int64(len(src))
	at := m.At
	for from := m.Offset; from < end; {
		to := end
		if n := bytes.IndexByte(src[from-m.Offset:], '\n'); n >= 0 {
			to = from + int64(n) + 1
		}
		to = min(to, from+widest)
		ix.lines = append(ix.lines, line{leg: int32(m.Leg), dir: dir, from: from, to: to, at: at})
		from, at = to, -1
	}
}

// marks marks the lines that findings speak of.
func (ix *index) marks(x *exchange.Exchange) {
	for i := range ix.lines {
		ix.lines[i].mark = false
	}
	for _, f := range x.Findings {
		for _, e := range f.Evidence {
			dir, from, ok := place(x, e)
			if !ok {
				continue
			}
			to := from + max(e.Length, 1)
			if r := ix.run; r != nil && int(r.leg) == e.Leg && dir == exchange.In && from >= r.starts[0].off &&
				from < r.end {
				_ = x.Legs[r.leg-1].In.Use(func(all []byte) error {
					r.marked[r.of(all, from)] = true
					return nil
				})
			}
			for i := range ix.lines {
				l := &ix.lines[i]
				if l.to > l.from && int(l.leg) == e.Leg && l.dir == dir && l.from < to && l.to > from {
					l.mark = true
				}
			}
		}
	}
}

// place leads from evidence to the raw bytes it stands in.
func place(x *exchange.Exchange, e exchange.Evidence) (exchange.Direction, int64, bool) {
	if e.Leg < 1 || e.Leg > len(x.Legs) {
		return 0, 0, false
	}
	l := x.Legs[e.Leg-1]
	switch e.In {
	case exchange.InRequestHead:
		return exchange.Out, e.Offset, true
	case exchange.InRequestBody:
		if l.Request.Chunked {
			return exchange.Out, raw(l.Out, l.Request.Size, e.Offset), true
		}
		return exchange.Out, l.Request.Size + e.Offset, true
	case exchange.InResponseHead:
		return exchange.In, e.Offset, true
	case exchange.InResponseBody:
		if l.Response.Coding != "" {
			return 0, 0, false
		}
		if !l.Response.Chunked {
			return exchange.In, l.Response.Size + e.Offset, true
		}
		at := int64(0)
		_ = l.In.Use(func(all []byte) error {
			at = raw(all, l.Response.Size, e.Offset)
			return nil
		})
		return exchange.In, at, true
	}
	return 0, 0, false
}

// raw leads from an offset in a chunked body, which begins at pos, to the byte
// as it crossed.
func raw(src []byte, pos, offset int64) int64 {
	for pos < int64(len(src)) {
		nl := bytes.IndexByte(src[pos:], '\n')
		if nl < 0 {
			break
		}
		size := int64(0)
		for _, c := range bytes.ToLower(bytes.TrimSpace(src[pos : pos+int64(nl)])) {
			switch {
			case c >= '0' && c <= '9':
				size = size<<4 + int64(c-'0')
			case c >= 'a' && c <= 'f':
				size = size<<4 + int64(c-'a'+10)
			default:
				goto done
			}
		}
	done:
		pos += int64(nl) + 1
		if offset < size || size == 0 {
			return pos + offset
		}
		offset -= size
		pos += size + 2
	}
	return pos
}
