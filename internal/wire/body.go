package wire

import (
	"errors"
	"io"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/http1"
)

// body takes transfer coding off while bytes come, and holds the limits.
type body struct {
	t       *roundTrip
	head    *exchange.Head
	pos     int64 // in leg.In: what has been looked at
	stopped bool  // by a limit, or by something wrong

	limit  int64  // bytes that are delivered at most; 0: no limit
	reason Reason // for which it stops there

	left   int64 // of the declared length; -1: until the end
	chunks http1.Chunks
}

// maxChunkEnds is how many borders between chunks are recorded.
const maxChunkEnds = 4096

func newBody(t *roundTrip, head *exchange.Head, pos int64) *body {
	b := &body{t: t, head: head, pos: pos, left: head.Declared, limit: t.cfg.ReceiveLimit, reason: OverLimit}
	if t.cfg.BufferLimit > 0 && (b.limit == 0 || t.cfg.BufferLimit < b.limit) {
		b.limit, b.reason = t.cfg.BufferLimit, OverBuffer
	}
	return b
}

// none tells whether there can be no body (RFC 9112 §6.3).
func (b *body) none() bool {
	s := b.head.Status
	return s == 204 || s == 304 || b.t.req.Method == "HEAD"
}

// deliver appends n bytes at the position to the body, up to the limit; it is
// false where that falls.
func (b *body) deliver(n int64) (whole bool, err error) {
	from, to, whole := b.pos, b.pos+n, true
	if room := b.limit - b.t.leg.ResponseBody.Len(); b.limit > 0 && n > room {
		to, whole = from+max(room, 0), false
	}
	b.pos += n
	if err := b.t.rec.Delivered(b.t.leg, from, to); err != nil {
		return false, b.t.readError(&notKept{err}, b.delivered(), b.head.Declared)
	}
	return whole, nil
}

func (b *body) delivered() int64 { return b.t.leg.ResponseBody.Len() }

// pass gives on what has been looked at; last tells that the body is complete with it.
func (b *body) pass(last bool) {
	if b.t.cfg.Pass == nil || b.pos == b.t.passed {
		return
	}
	b.t.cfg.Pass(b.t.leg.In.Range(b.t.passed, b.pos), last)
	b.t.passed = b.pos
}

func (b *body) read() error {
	if b.none() {
		b.pass(true)
		return b.done(true)
	}
	framed, err := b.receive()
	if err != nil {
		b.stopped = true
		return err
	}
	return b.done(framed)
}

// receive reads until the body ends. framed is false where only the end of the
// connection told its end.
func (b *body) receive() (framed bool, err error) {
	t := b.t
	for {
		whole, finished, err := b.step()
		b.pass(finished)
		if err != nil {
			return false, err
		}
		if !whole {
			t.rec.Moment(exchange.Moment{Kind: exchange.LimitFell, Stage: exchange.Receive, Offset: b.pos, N: b.limit})
			e := t.fail(exchange.Receive, b.reason, nil)
			e.Limit, e.Got, e.Announced = b.limit, b.delivered(), b.head.Declared
			return false, e
		}
		if finished {
			return true, nil
		}
		t.deadline(t.conn.SetReadDeadline, t.cfg.ReceiveTime)
		n, err := t.more()
		if n > 0 {
			continue
		}
		if errors.Is(err, io.EOF) && b.left < 0 && !b.head.Chunked {
			return false, nil // the end of the connection is the end of the body
		}
		if alert, words, is := remoteAlert(err); is {
			return false, t.lateAlert(exchange.Receive, alert, words, err)
		}
		t.rec.Update(func(*exchange.Exchange) { t.leg.Truncated = true })
		return false, t.readError(err, b.delivered(), b.head.Declared)
	}
}

// step works through what has come and not been looked at.
func (b *body) step() (whole, finished bool, err error) {
	if b.head.Chunked {
		return b.stepChunks()
	}
	n := b.t.leg.In.Len() - b.pos
	if b.left >= 0 {
		n = min(n, b.left)
		b.left -= n
	}
	whole = true
	if n > 0 {
		whole, err = b.deliver(n)
	}
	return whole, b.left == 0, err
}

func (b *body) stepChunks() (whole, finished bool, err error) {
	leg := b.t.leg
	in, base := leg.In.Range(b.pos, leg.In.Len()), b.pos
	for {
		p, err := b.chunks.Next(in[b.pos-base:])
		if err != nil {
			e := b.t.fail(exchange.Receive, BadChunk, err)
			e.At, e.Got = b.pos, b.delivered()
			return true, false, e
		}
		b.pos += int64(p.Skip)
		if p.Data > 0 {
			if whole, err := b.deliver(int64(p.Data)); err != nil || !whole {
				return whole, false, err
			}
		}
		if p.Ended && len(leg.ChunkEnds) < maxChunkEnds {
			end := b.pos
			b.t.rec.Update(func(*exchange.Exchange) { leg.ChunkEnds = append(leg.ChunkEnds, end) })
		}
		if b.chunks.Done() || p == (http1.Piece{}) {
			return true, b.chunks.Done(), nil
		}
	}
}

// done ends the receiving: it takes the content coding off (RFC 9110 §8.4).
func (b *body) done(framed bool) error {
	t := b.t
	if behind := t.leg.In.Len() - b.pos; framed && behind > 0 {
		t.rec.Update(func(*exchange.Exchange) { t.leg.Behind = behind })
	}
	closes := http1.Says(b.head.Get("Connection"), "close") || b.head.Proto == "HTTP/1.0"
	t.reusable = framed && !closes && b.pos == t.leg.In.Len()
	coding := strings.ToLower(strings.TrimSpace(b.head.Get("Content-Encoding")))
	if coding == "" || coding == "identity" || t.leg.ResponseBody.IsZero() {
		t.rec.Update(func(*exchange.Exchange) { t.leg.Response.BodyWhole = true })
		t.rec.End(exchange.Receive, exchange.Passed, "")
		return nil
	}
	if err := t.decode(coding); err != nil {
		b.stopped = true
		return err
	}
	t.rec.Update(func(*exchange.Exchange) { t.leg.Response.BodyWhole = true })
	t.rec.End(exchange.Receive, exchange.Passed, "")
	return nil
}
