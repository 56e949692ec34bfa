package wire

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"syscall"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/http1"
)

// readSize is how much is read at a time, and so how far ahead of a limit.
const readSize = 16 << 10

//nolint:gochecknoglobals // a pool of buffers has no state that anybody sees
var buffers = sync.Pool{New: func() any { return new([readSize]byte) }}

// more reads once and records what came.
func (t *roundTrip) more() (int, error) {
	buf := buffers.Get().(*[readSize]byte)
	defer buffers.Put(buf)
	n, err := t.conn.Read(buf[:])
	if n > 0 {
		if kerr := t.rec.In(t.leg, buf[:n]); kerr != nil {
			return 0, &notKept{kerr}
		}
	}
	t.peerEnded = t.peerEnded || errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)
	return n, err
}

// notKept is an answer that could not be kept on disk.
type notKept struct{ error }

func (e *notKept) Unwrap() error { return e.error }

// unread is what came behind the interim answers.
func (t *roundTrip) unread() []byte { return t.leg.In.Range(t.interim, t.leg.In.Len()) }

// answer reads head and body. The body is nil where no head was complete.
func (t *roundTrip) answer() (*body, error) {
	for heard := false; ; heard = true {
		head, err := t.readHead(heard)
		if err != nil {
			return nil, err
		}
		if head.Status >= 100 && head.Status < 200 && head.Status != 101 { // interim answers (RFC 9110 §15.2)
			if t.interim += head.Size; t.interim > http1.MaxHead {
				return nil, t.headTooLarge(t.interim)
			}
			continue
		}
		t.rec.Update(func(*exchange.Exchange) { t.leg.Response, t.leg.HeadAt = *head, t.interim })
		t.rec.Moment(exchange.Moment{Kind: exchange.HeadComplete, Stage: exchange.Receive, Text: head.Line})
		t.passed = t.interim
		b := newBody(t, head, t.interim+head.Size)
		return b, b.read()
	}
}

func (t *roundTrip) headTooLarge(got int64) error {
	e := t.fail(exchange.Receive, HeadTooLarge, nil)
	e.Limit, e.Got = http1.MaxHead, got
	return e
}

// evidenceTime is how long more is waited for of something that is no HTTP.
const evidenceTime = 200 * time.Millisecond

// readHead reads the next head; heard tells whether the answer has begun before.
func (t *roundTrip) readHead(heard bool) (*exchange.Head, error) {
	for {
		in := t.unread()
		if len(in) > 0 {
			if !heard {
				heard = true
				t.rec.Moment(exchange.Moment{Kind: exchange.FirstByte, Stage: exchange.Wait})
				t.rec.End(exchange.Wait, exchange.Passed, "")
				t.rec.Begin(exchange.Receive)
			}
			if n := min(len(in), 5); string(in[:n]) != "HTTP/"[:n] {
				_ = t.conn.SetReadDeadline(time.Now().Add(evidenceTime))
				_, _ = t.more()
				return nil, t.fail(exchange.Receive, NotHTTP, nil)
			}
			if end := http1.HeadEnd(in); end > 0 {
				h, err := http1.Response(in[:end])
				if err != nil {
					return nil, t.fail(exchange.Receive, NotHTTP, err)
				}
				return h, nil
			}
			if len(in) > http1.MaxHead {
				return nil, t.headTooLarge(int64(len(in)))
			}
			t.deadline(t.conn.SetReadDeadline, t.cfg.ReceiveTime)
		}
		if n, err := t.more(); n == 0 {
			return nil, t.noHead(len(in) > 0, err)
		}
	}
}

// noHead says why no head came; begun tells whether one had begun.
func (t *roundTrip) noHead(begun bool, err error) error {
	stage := exchange.Wait
	if begun {
		stage = exchange.Receive
	}
	if alert, words, is := remoteAlert(err); is {
		return t.lateAlert(stage, alert, words, err)
	}
	if begun {
		return t.readError(err, int64(len(t.unread())), -1)
	}
	reason := AnswerClosed
	if isTimeout(err) {
		reason = AnswerTimeout
	}
	e := t.fail(stage, reason, err)
	e.Limit = int64(t.cfg.AnswerTime)
	return e
}

func (t *roundTrip) readError(err error, got, announced int64) error {
	reason := Truncated
	if isTimeout(err) {
		reason = Stalled
	}
	if _, ok := errors.AsType[*notKept](err); ok {
		reason = NotKept
	}
	e := t.fail(exchange.Receive, reason, err)
	e.Got, e.Announced, e.Limit = got, announced, int64(t.cfg.ReceiveTime)
	e.At = t.leg.In.Len()
	if errors.Is(err, syscall.ECONNRESET) {
		e.Err = fmt.Errorf("the connection was reset: %w", err)
	}
	return e
}
