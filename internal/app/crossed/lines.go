// Package crossed gives the bytes of an exchange as lines, in the order in which they crossed the
// wire: offsets only, so that a reply of many megabytes costs little. The strip shows all of
// them, the path those of a stage.
package crossed

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/http1"
	"orenda/internal/safe"
)

// Line is a piece of the bytes of one direction, or a note.
type Line struct {
	leg        int32
	dir        exchange.Direction
	from, to   int64 // in the leg's Out or In
	at         int64 // time, on the first line of a piece; else -1
	note       string
	stage      exchange.Stage // None: the one that the bytes go through
	mark, stop bool
}

// Lines turns an exchange into lines, and goes on where it left off while more comes in.
type Lines struct {
	id      string
	lines   []Line
	run     *run   // the part that is on disk
	moments int    // how many of the exchange's moments were taken
	leg     int    // of the newest bytes that came in
	taken   int64  // how many of them were taken
	only    []part // the bytes that are taken; nil: all
	marked  []int  // the lines that findings speak of, without those on disk
	judged  judged // what these were made of
}

// part is a run of the bytes of one direction.
type part struct {
	leg      int
	dir      exchange.Direction
	from, to int64 // in the leg's Out or In
}

// judged tells whether lines were marked for what there is now.
type judged struct {
	lines    int
	findings *exchange.Finding // the first of them
	count    int               // of them
}

// Bytes that an excerpt has: of the beginning of each direction, and on either side of a place.
const (
	beginning = 16 << 10
	around    = 8 << 10
)

// Excerpt is of an exchange as much as one screen needs, however large it is: the beginnings, what
// findings speak of, and while it is under way what came last. Lines between tell how much is
// left out.
func Excerpt(x *exchange.Exchange) *Lines {
	ix := &Lines{id: x.ID, only: []part{}}
	for i, l := range x.Legs {
		ix.only = append(ix.only, part{i + 1, exchange.Out, 0, l.Request.Size + beginning},
			part{i + 1, exchange.In, 0, l.BodyAt() + beginning})
		if n := l.In.Len(); x.Outcome == exchange.OutcomeUnderWay {
			ix.only = append(ix.only, part{i + 1, exchange.In, n - around, n})
		}
	}
	for _, f := range x.Findings {
		for _, e := range f.Evidence {
			if dir, at, ok := place(x, e); ok {
				ix.only = append(ix.only, part{e.Leg, dir, at - around, at + around})
			}
		}
	}
	slices.SortFunc(ix.only, func(a, b part) int { return cmp.Compare(a.from, b.from) })
	ix.Follow(x)
	return ix
}

// Count is the number of lines.
func (ix *Lines) Count() int { return len(ix.lines) + ix.run.count() }

// At is the i-th line.
func (ix *Lines) At(x *exchange.Exchange, i int) Line {
	n := ix.run.count()
	switch {
	case n == 0 || i < ix.run.after:
		return ix.lines[i]
	case i < ix.run.after+n:
		var one Line
		_ = x.Legs[ix.run.leg-1].In.Use(func(all []byte) error {
			one = ix.run.line(all, i-ix.run.after)
			return nil
		})
		return one
	}
	return ix.lines[i-n]
}

// noted are the moments that are told in a line of their own.
//
//nolint:gochecknoglobals // a table: it is never written to
var noted = map[exchange.MomentKind]struct {
	words string
	stage exchange.Stage
	stop  bool
}{
	exchange.Lookup:        {"looked up", exchange.Connect, false},
	exchange.DialFailed:    {"no connection:", exchange.Connect, true},
	exchange.Connected:     {"connected to", exchange.Connect, false},
	exchange.Reused:        {"kept connection to", exchange.Connect, false},
	exchange.HelloSent:     {"TLS: hello, for", exchange.TLS, false},
	exchange.HelloReceived: {"TLS: the server answers", exchange.TLS, false},
	exchange.ChainReceived: {"TLS: it shows", exchange.TLS, false},
	exchange.CertAsked:     {"TLS: it asks for a certificate,", exchange.TLS, false},
	exchange.Handshaken:    {"TLS:", exchange.TLS, false},
	exchange.Alert:         {"alert:", exchange.TLS, true},
	exchange.HandedOver:    {"handed over", exchange.Send, false},
	exchange.LimitFell:     {"the limit falls here", exchange.Receive, true},
	exchange.Closed:        {"closed", exchange.Receive, false},
}

// widest is the longest line; what is longer is broken.
const widest = 2000

// Follow takes what came since.
func (ix *Lines) Follow(x *exchange.Exchange) {
	if ix.id != x.ID || ix.moments > len(x.Moments) {
		*ix = Lines{id: x.ID}
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
		default:
			if n := noted[m.Kind]; n.words != "" {
				text := strings.TrimSpace(n.words + " " + safe.Line(m.Text))
				ix.lines = append(ix.lines, Line{leg: int32(m.Leg), at: m.At, note: text, stop: n.stop,
					stage: cmp.Or(m.Stage, n.stage)})
			}
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
func (ix *Lines) came(m exchange.Moment, l *exchange.Leg) {
	if ix.leg != m.Leg {
		ix.leg, ix.taken = m.Leg, m.Offset
	}
	m.Offset, m.N = ix.taken, m.Offset+m.N-ix.taken
	ix.taken += m.N
	if ix.only == nil && l.In.Stored() && ix.spilled(m, l) {
		return
	}
	ix.piece(m, exchange.In, l.In)
}

// spilled takes a piece of what is on disk.
func (ix *Lines) spilled(m exchange.Moment, l *exchange.Leg) bool {
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

// piece takes a piece of one direction, or the parts of it that are wanted.
func (ix *Lines) piece(m exchange.Moment, dir exchange.Direction, of exchange.Body) {
	if ix.only == nil {
		ix.bytes(m, dir, of)
		return
	}
	end := m.Offset + m.N
	for _, p := range ix.only {
		from, to := max(p.from, m.Offset), min(p.to, end)
		if p.leg != m.Leg || p.dir != dir || from >= to {
			continue
		}
		some := m
		some.Offset, some.N = from, to-from
		ix.leftOut(some, dir)
		ix.bytes(some, dir, of)
		m.Offset = to // what two parts have is taken once
	}
}

// leftOut tells how much stands between the last line of a direction and a piece.
func (ix *Lines) leftOut(m exchange.Moment, dir exchange.Direction) {
	for i := range slices.Backward(ix.lines) {
		l := &ix.lines[i]
		if int(l.leg) != m.Leg || l.dir != dir || l.to == 0 {
			continue
		}
		if gap := m.Offset - l.to; gap > 0 {
			stage := exchange.Receive
			if dir == exchange.Out {
				stage = exchange.Send
			}
			ix.lines = append(ix.lines, Line{leg: int32(m.Leg), at: -1, stage: stage,
				note: fmt.Sprintf("… %s B", endpoint.Bytes(gap))})
		}
		return
	}
}

func (ix *Lines) bytes(m exchange.Moment, dir exchange.Direction, of exchange.Body) {
	src := of.Range(m.Offset, m.Offset+m.N)
	end := m.Offset + int64(len(src))
	at := m.At
	for from := m.Offset; from < end; {
		to := end
		if n := bytes.IndexByte(src[from-m.Offset:], '\n'); n >= 0 {
			to = from + int64(n) + 1
		}
		to = min(to, from+widest)
		ix.lines = append(ix.lines, Line{leg: int32(m.Leg), dir: dir, from: from, to: to, at: at})
		from, at = to, -1
	}
}

// marks marks the lines that findings speak of, where these or the lines are others than before.
func (ix *Lines) marks(x *exchange.Exchange) {
	now := judged{lines: ix.Count(), count: len(x.Findings)}
	if now.count > 0 {
		now.findings = &x.Findings[0]
	}
	if now == ix.judged {
		return
	}
	ix.judged = now
	for _, i := range ix.marked {
		ix.lines[i].mark = false
	}
	ix.marked = ix.marked[:0]
	var spans []part
	for _, f := range x.Findings {
		for _, e := range f.Evidence {
			dir, from, ok := place(x, e)
			if !ok {
				continue
			}
			spans = append(spans, part{e.Leg, dir, from, from + max(e.Length, 1)})
			if r := ix.run; r != nil && int(r.leg) == e.Leg && dir == exchange.In && from >= r.starts[0].off &&
				from < r.end {
				_ = x.Legs[r.leg-1].In.Use(func(all []byte) error {
					r.marked[r.of(all, from)] = true
					return nil
				})
			}
		}
	}
	if spans == nil {
		return
	}
	for i := range ix.lines {
		l := &ix.lines[i]
		if l.to > l.from && slices.ContainsFunc(spans, func(p part) bool {
			return int(l.leg) == p.leg && l.dir == p.dir && l.from < p.to && l.to > p.from
		}) {
			l.mark = true
			ix.marked = append(ix.marked, i)
		}
	}
}

// place leads from evidence to the raw bytes it stands in.
func place(x *exchange.Exchange, e exchange.Evidence) (exchange.Direction, int64, bool) {
	if e.Leg < 1 || e.Leg > len(x.Legs) || e.Offset < 0 {
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
		return exchange.In, l.HeadAt + e.Offset, true
	case exchange.InResponseBody:
		if l.Response.Coding != "" {
			return 0, 0, false
		}
		if !l.Response.Chunked {
			return exchange.In, l.BodyAt() + e.Offset, true
		}
		at := int64(0)
		_ = l.In.Use(func(all []byte) error {
			at = raw(all, l.BodyAt(), e.Offset)
			return nil
		})
		return exchange.In, at, true
	}
	return 0, 0, false
}

// raw leads from an offset in a chunked body, which begins at pos, to the byte
// as it crossed.
func raw(src []byte, pos, offset int64) int64 {
	var c http1.Chunks
	for pos < int64(len(src)) {
		p, err := c.Next(src[pos:])
		if err != nil || p.Skip+p.Data == 0 {
			break
		}
		pos += int64(p.Skip)
		if p.Data > 0 && offset < int64(p.Data) {
			return pos + offset
		}
		offset -= int64(p.Data)
		pos += int64(p.Data)
	}
	return pos
}

// Of is the first line of a stage, and the line behind its last; the same twice where there is
// none. Message and security are the body as it left, read and verify the body as it came.
func (ix *Lines) Of(x *exchange.Exchange, stage exchange.Stage) (from, to int) {
	from, to = -1, -1
	for i := range ix.lines {
		if !ix.lines[i].of(x, stage) {
			continue
		}
		at := i
		if n := ix.run.count(); n > 0 && i >= ix.run.after {
			at += n
		}
		if from < 0 {
			from = at
		}
		to = at + 1
	}
	if r := ix.run; r.count() > 0 && stage >= exchange.Receive {
		if from < 0 || from > r.after {
			from = r.after
		}
		to = max(to, r.after+r.count())
	}
	return max(from, 0), max(to, 0)
}

// of tells whether a line belongs to a stage.
func (l *Line) of(x *exchange.Exchange, stage exchange.Stage) bool {
	if l.leg < 1 || int(l.leg) > len(x.Legs) {
		return false
	}
	if l.note != "" {
		return l.stage == stage
	}
	leg := x.Legs[l.leg-1]
	body := l.dir == exchange.Out && l.from >= leg.Request.Size || l.dir == exchange.In && l.from >= leg.BodyAt()
	switch stage {
	case exchange.Message, exchange.Security:
		return l.dir == exchange.Out && body && leg.Purpose == ""
	case exchange.Send:
		return l.dir == exchange.Out
	case exchange.Receive:
		return l.dir == exchange.In
	case exchange.Read, exchange.Verify:
		return l.dir == exchange.In && body
	}
	return false
}

// Marked is the first marked line from one on, from the top again after the
// last; -1 where there is none.
func (ix *Lines) Marked(from int) int {
	var all []int
	n := ix.run.count()
	for _, i := range ix.marked {
		if n > 0 && i >= ix.run.after {
			i += n
		}
		all = append(all, i)
	}
	if n > 0 {
		for j := range ix.run.marked {
			all = append(all, ix.run.after+j)
		}
	}
	slices.Sort(all)
	for _, i := range all {
		if i >= from {
			return i
		}
	}
	if len(all) > 0 {
		return all[0]
	}
	return -1
}

// OnDisk is how many bytes of the exchange are on disk: searching these takes its time.
func (ix *Lines) OnDisk() int64 {
	if ix.run.count() == 0 {
		return 0
	}
	return ix.run.end
}

// Hits tells how many lines hold a text, and how many of them up to one; of very many it is not
// counted, and total is 0.
func (ix *Lines) Hits(x *exchange.Exchange, text []byte, upTo int) (nth, total int) {
	const most = 200_000
	if ix.Count() > most || ix.run.count() > 0 {
		return 0, 0
	}
	for i := range ix.lines {
		if bytes.Contains(bytesOf(x, &ix.lines[i]), text) {
			if total++; i <= upTo {
				nth++
			}
		}
	}
	return nth, total
}

// Search gives a search that may run apart from the program's loop: from the line after hit
// to the end, then from the beginning. It gives -1 where nothing is found.
func (ix *Lines) Search(x *exchange.Exchange, text []byte, hit int) func() int {
	lines, find := slices.Clip(ix.lines), bytes.Clone(text)
	if ix.run.count() == 0 {
		return func() int {
			for i := range lines {
				at := (hit + 1 + i) % len(lines)
				if bytes.Contains(bytesOf(x, &lines[at]), find) {
					return at
				}
			}
			return -1
		}
	}
	r, l := *ix.run, x.Legs[ix.run.leg-1]
	explicit := func(from, to int) int {
		for i := max(from, 0); i < min(to, len(lines)); i++ {
			if bytes.Contains(bytesOf(x, &lines[i]), find) {
				return i
			}
		}
		return -1
	}
	begin := r.starts[0].off
	look := func(all []byte) int {
		for pass := range 2 {
			from := hit + 1
			if pass == 1 {
				from = 0
			}
			if i := explicit(from, r.after); i >= 0 {
				return i
			}
			off := begin
			if from > r.after && from-r.after < r.count() {
				off = r.line(all, from-r.after).from
			}
			if from <= r.after+r.count() {
				if n := bytes.Index(all[off:r.end], find); n >= 0 {
					return r.after + r.of(all, off+int64(n))
				}
			}
			if i := explicit(max(r.after, from-r.count()), len(lines)); i >= 0 {
				return i + r.count()
			}
		}
		return -1
	}
	return func() int {
		at := -1
		_ = l.In.Use(func(all []byte) error {
			at = look(all)
			return nil
		})
		return at
	}
}
