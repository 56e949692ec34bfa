package wire

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"orenda/internal/exchange"
)

// body takes transfer coding off while bytes come, and holds the limits.
type body struct {
	t       *trip
	head    *exchange.Head
	pos     int // in leg.In: what has been looked at
	stopped bool

	limit int64
	kind  string // finding when the limit falls

	err error // why what came could not be kept

	start int   // in leg.In: where the body begins, or its first chunk
	left  int64 // of the chunk or of the declared length; -1: until the end
	state chunkState
}

type chunkState uint8

const (
	chunkSize chunkState = iota
	chunkData
	chunkEnd
	trailers
	finished
)

func newBody(t *trip, head *exchange.Head, pos int) *body {
	b := &body{t: t, head: head, pos: pos, start: pos, left: head.Declared}
	b.limit, b.kind = t.cfg.ReceiveLimit, "receive.over-limit"
	if t.cfg.BufferLimit > 0 && (b.limit == 0 || t.cfg.BufferLimit < b.limit) {
		b.limit, b.kind = t.cfg.BufferLimit, "receive.over-buffer"
	}
	return b
}

func (b *body) none() bool {
	s := b.head.Status
	return s == 204 || s == 304 || b.t.req.Method == "HEAD"
}

// deliver appends what stands at an offset of leg.In to the body, up to the
// limit; it is false where that falls.
func (b *body) deliver(at int, p []byte) bool {
	leg := b.t.leg
	whole := true
	if room := b.limit - int64(len(leg.ResponseBody)); b.limit > 0 && int64(len(p)) > room {
		p, whole = p[:max(room, 0)], false
	}
	b.t.rec.Update(func(*exchange.Exchange) {
		if at == b.start+len(leg.ResponseBody) && !(b.head.Chunked && leg.Spool != nil) {
			end := at + len(p)
			leg.ResponseBody = leg.In[b.start:end:end] // in one piece so far: it is what came
		} else if err := leg.AddBody(p); err != nil {
			b.err = &notKept{err}
		}
		leg.Response.BodySize = int64(len(leg.ResponseBody))
		leg.Response.WireSize = leg.Response.BodySize
	})
	return whole
}

func (b *body) read() error {
	t := b.t
	if b.none() {
		return b.done(true)
	}
	for {
		over, finished, err := b.step()
		if err != nil {
			b.stopped = true
			return err
		}
		if b.err != nil {
			b.stopped = true
			return t.readError(b.err, t.leg.Response.BodySize, b.head.Declared)
		}
		if over {
			b.stopped = true
			t.rec.Moment(exchange.Moment{Kind: exchange.LimitFell, Stage: exchange.Receive, Offset: int64(b.pos), N: b.limit})
			e := t.fail(exchange.Receive, b.kind, nil)
			e.Limit, e.Got, e.Announced = b.limit, t.leg.Response.BodySize, b.head.Declared
			return e
		}
		if finished {
			return b.done(true)
		}
		t.idle()
		n, err := t.more()
		if n > 0 {
			continue
		}
		if errors.Is(err, io.EOF) && b.left < 0 && !b.head.Chunked {
			return b.done(false) // the end of the connection is the end of the body
		}
		if a := remoteAlert(err); a != "" {
			return t.lateAlert(exchange.Receive, a, err)
		}
		b.stopped = true
		t.rec.Update(func(*exchange.Exchange) { t.leg.Truncated = true })
		return t.readError(err, t.leg.Response.BodySize, b.head.Declared)
	}
}

// step works through what has come and not been looked at.
func (b *body) step() (over, done bool, err error) {
	in := b.t.leg.In
	if !b.head.Chunked {
		p := in[b.pos:]
		if b.left >= 0 && int64(len(p)) > b.left {
			p = p[:b.left]
		}
		at := b.pos
		b.pos += len(p)
		if b.left >= 0 {
			b.left -= int64(len(p))
		}
		if len(p) > 0 && !b.deliver(at, p) {
			return true, false, nil
		}
		return false, b.left == 0, nil
	}
	for {
		p := in[b.pos:]
		switch b.state {
		case chunkSize:
			end := bytes.IndexByte(p, '\n')
			if end < 0 {
				if len(p) > 4096 {
					return false, false, b.bad("a chunk size is not ended")
				}
				return false, false, nil
			}
			text, _, _ := strings.Cut(strings.TrimSpace(string(p[:end])), ";")
			n, perr := strconv.ParseUint(strings.TrimSpace(text), 16, 63)
			if perr != nil {
				return false, false, b.bad(fmt.Sprintf("%q is not a chunk size", text))
			}
			b.pos += end + 1
			b.left, b.state = int64(n), chunkData
			if n == 0 {
				b.state = trailers
			}
			if len(b.t.leg.ResponseBody) == 0 {
				b.start = b.pos
			}
		case chunkData:
			if len(p) == 0 {
				return false, false, nil
			}
			if int64(len(p)) > b.left {
				p = p[:b.left]
			}
			at := b.pos
			b.pos += len(p)
			b.left -= int64(len(p))
			if !b.deliver(at, p) {
				return true, false, nil
			}
			if b.left == 0 {
				b.state = chunkEnd
			}
		case chunkEnd:
			if len(p) == 0 || p[0] == '\r' && len(p) == 1 {
				return false, false, nil
			}
			n := 1
			if p[0] == '\r' {
				n = 2
			}
			if p[n-1] != '\n' {
				return false, false, b.bad("a chunk is longer than its size says")
			}
			b.pos += n
			end := int64(b.pos)
			b.t.rec.Update(func(*exchange.Exchange) { b.t.leg.ChunkEnds = append(b.t.leg.ChunkEnds, end) })
			b.state = chunkSize
		case trailers:
			end := bytes.IndexByte(p, '\n')
			if end < 0 {
				if len(p) > mostHead {
					return false, false, b.bad("the trailer is too long")
				}
				return false, false, nil
			}
			b.pos += end + 1
			if len(bytes.TrimSpace(p[:end])) == 0 {
				b.state = finished
			}
		case finished:
			return false, true, nil
		}
	}
}

func (b *body) bad(why string) error {
	e := b.t.fail(exchange.Receive, "receive.bad-chunk", errors.New(why))
	e.At, e.Got = int64(b.pos), b.t.leg.Response.BodySize
	return e
}

// done takes the content coding off (RFC 9110 §8.4).
func (b *body) done(framed bool) error {
	t := b.t
	close := strings.EqualFold(b.head.Get("Connection"), "close") || b.head.Proto == "HTTP/1.0"
	t.reusable = framed && !close && b.pos == len(t.leg.In)
	coding := strings.ToLower(strings.TrimSpace(b.head.Get("Content-Encoding")))
	if coding == "" || coding == "identity" || len(t.leg.ResponseBody) == 0 {
		t.rec.Update(func(*exchange.Exchange) { t.leg.Response.BodyWhole = true })
		t.rec.End(exchange.Receive, exchange.Passed, "")
		return nil
	}
	var out []byte
	var over bool
	var err error
	if t.cfg.Spill > 0 {
		out, over, err = t.inflateToDisk(coding)
	} else {
		out, over, err = inflate(coding, t.leg.ResponseBody, t.cfg.InflatedLimit)
	}
	t.rec.Update(func(*exchange.Exchange) {
		t.leg.Response.Coding = coding
		t.leg.ResponseBody = out
		t.leg.Response.BodySize = int64(len(out))
		t.leg.Response.BodyWhole = err == nil && !over
	})
	if over {
		b.stopped = true
		e := t.fail(exchange.Receive, "receive.inflated-over-limit", nil)
		e.Limit, e.Got, e.Announced = t.cfg.InflatedLimit, int64(len(out)), t.leg.Response.WireSize
		return e
	}
	if err != nil {
		b.stopped = true
		e := t.fail(exchange.Receive, "receive.bad-compression", err)
		e.Got = int64(len(out))
		return e
	}
	t.rec.End(exchange.Receive, exchange.Passed, "")
	return nil
}

// inflateToDisk is inflate for an answer that is on disk, to a place beside it.
func (t *trip) inflateToDisk(coding string) (out []byte, over bool, err error) {
	l := t.leg
	packed := l.ResponseBody // a part of In, or held by the spool beside it
	held := l.BodySpool
	t.rec.Update(func(*exchange.Exchange) { l.ResponseBody, l.BodySpool = nil, nil })
	l.Spool.Calm(func() {
		held.Calm(func() {
			var r io.Reader
			if r, err = unpack(coding, packed); err != nil {
				out = packed
				return
			}
			buf := make([]byte, 256<<10)
			for {
				n, rerr := r.Read(buf)
				if limit := t.cfg.InflatedLimit; limit > 0 && int64(len(l.ResponseBody)+n) > limit {
					n, over = int(limit)-len(l.ResponseBody), true
				}
				t.rec.Update(func(*exchange.Exchange) { err = l.AddBody(buf[:n]) })
				if err != nil || over || rerr == io.EOF {
					break
				}
				if err = rerr; err != nil {
					break
				}
			}
			out = l.ResponseBody
		})
	})
	return out, over, err
}

// unpack takes a content coding off.
func unpack(coding string, in []byte) (r io.Reader, err error) {
	switch coding {
	case "gzip", "x-gzip":
		return gzip.NewReader(bytes.NewReader(in))
	case "deflate": // zlib by the standard, raw by many
		if r, err = zlib.NewReader(bytes.NewReader(in)); err != nil {
			r, err = flate.NewReader(bytes.NewReader(in)), nil
		}
		return r, err
	}
	return nil, fmt.Errorf("the content coding %q is not known", coding)
}

func inflate(coding string, in []byte, limit int64) (out []byte, over bool, err error) {
	r, err := unpack(coding, in)
	if err != nil {
		return in, false, err
	}
	var b bytes.Buffer
	if limit > 0 {
		r = io.LimitReader(r, limit+1)
	}
	_, err = b.ReadFrom(r)
	out = b.Bytes()
	if limit > 0 && int64(len(out)) > limit {
		return out[:limit], true, nil
	}
	return out, false, err
}
