package wire

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/http1"
)

const (
	inOneGo = 64 << 10 // a request up to this size is written before reading begins
	piece   = 64 << 10 // larger ones are written in pieces of this size
	// linger is how long is read after writing failed: the reason is often on its
	// way, an alert or a 413.
	linger = time.Second
)

// oneLine keeps a field's value from beginning another field.
func oneLine(s string) string {
	if !strings.ContainsAny(s, "\r\n") {
		return s
	}
	return strings.NewReplacer("\r", " ", "\n", " ").Replace(s)
}

// compose writes the request: its head, and its body with its transfer coding.
func (t *roundTrip) compose() {
	var b bytes.Buffer
	b.Grow(512)
	target := t.req.Target
	if target == "" {
		target = "/"
	}
	header := t.req.Header
	if p := t.cfg.Proxy; p != nil && p.speaksHTTP() && !t.cfg.TLS { // RFC 9112 §3.2.2
		target = "http://" + hostOf(t.cfg.Host, t.cfg.Port, "80") + target
		if p.User != "" {
			header = append(slices.Clip(header), [2]string{"Proxy-Authorization", p.authorization()})
		}
	}
	line := t.req.Method + " " + target + " HTTP/1.1"
	b.WriteString(line + "\r\n")
	size := int64(len(t.req.Body)) + t.req.Rest.Len()
	h := exchange.Head{
		Line:      line,
		Proto:     "HTTP/1.1",
		Declared:  size,
		BodySize:  size,
		WireSize:  size,
		Complete:  true,
		BodyWhole: true,
	}
	h.Fields = make([]exchange.Header, 0, len(header))
	var secrets []exchange.Span
	for _, f := range header {
		name, value := f[0], oneLine(f[1])
		at := int64(b.Len())
		b.WriteString(name + ": " + value + "\r\n")
		span := exchange.Span{Offset: at, Length: int64(b.Len()) - at - 2}
		h.Fields = append(h.Fields, exchange.Header{Name: name, Value: value, Span: span})
		if t.req.SecretHeader != nil && t.req.SecretHeader(name) {
			secrets = append(secrets, exchange.Span{Offset: at + int64(len(name)) + 2, Length: int64(len(value))})
		}
	}
	b.WriteString("\r\n")
	h.Size = int64(b.Len())
	body := t.req.Body
	if t.cfg.Chunked && t.req.Rest.IsZero() {
		h.Chunked, h.Declared = true, -1
		secrets = writeChunks(&b, body, t.req.Secret, secrets, t.cfg.Trailer)
		h.WireSize = int64(b.Len()) - h.Size
		t.payload = b.Bytes()
	} else {
		for _, s := range t.req.Secret {
			secrets = append(secrets, exchange.Span{Offset: s.Offset + h.Size, Length: s.Length})
		}
		t.payload = inFront(t.req.Front, b.Bytes(), body)
		body = t.payload[h.Size:]
	}
	inBody := t.req.Secret
	if t.req.Plain != nil {
		h.BodySize = int64(len(t.req.Plain))
		body, inBody = t.req.Plain, t.req.PlainSecret
	}
	t.rec.Update(func(*exchange.Exchange) {
		t.leg.Request, t.leg.SecretSpans, t.leg.BodySecrets = h, secrets, inBody
		t.leg.RequestBody = body
	})
}

// inFront is a head and its body in one: the head in the room before the body, where
// there is enough.
func inFront(front, head, body []byte) []byte {
	at := len(front) - len(head)
	if at < 0 || cap(front) < len(front)+len(body) {
		return bytes.Join([][]byte{head, body}, nil)
	}
	copy(front[at:], head)
	return front[at : len(front)+len(body)]
}

// chunk is the size of the chunks in which a request is sent.
const chunk = 8 << 10

// writeChunks frames a body (RFC 9112 §7.1), and adds the places of its secrets to
// those that are known. A secret that a border cuts through becomes two.
func writeChunks(
	b *bytes.Buffer, body []byte, secret, known []exchange.Span, trailer [][2]string,
) []exchange.Span {
	for from := 0; from < len(body); from += chunk {
		p := body[from:min(from+chunk, len(body))]
		fmt.Fprintf(b, "%x\r\n", len(p))
		for _, s := range secret {
			start, end := max(s.Offset, int64(from)), min(s.Offset+s.Length, int64(from+len(p)))
			if start < end {
				known = append(known, exchange.Span{Offset: int64(b.Len()) + start - int64(from), Length: end - start})
			}
		}
		b.Write(p)
		b.WriteString("\r\n")
	}
	b.WriteString("0\r\n")
	for _, f := range trailer {
		b.WriteString(f[0] + ": " + oneLine(f[1]) + "\r\n")
	}
	b.WriteString("\r\n")
	return known
}

// sendAndReceive sends the request and reads the answer, which may come while the
// request still leaves.
func (t *roundTrip) sendAndReceive() error {
	t.compose()
	t.rec.Begin(exchange.Send)
	if t.cfg.Expect && len(t.req.Body) > 0 {
		if answered, err := t.awaitLeave(); answered || err != nil {
			return err
		}
	}
	sent := make(chan error, 1)
	if t.inOneGo() || t.cfg.Conn != nil {
		sent <- t.write()
	} else {
		go func() { sent <- t.write() }()
	}
	body, err := t.answer()
	if body != nil && (err == nil || body.stopped) {
		// The answer is what counts; a request still on its way is cut off.
		_ = t.conn.SetWriteDeadline(expiredDeadline())
	}
	if err != nil && body == nil && !t.inOneGo() {
		_ = t.conn.SetDeadline(expiredDeadline())
	}
	werr := <-sent
	if werr == nil {
		return err
	}
	if body != nil && t.leg.Response.Complete {
		t.rec.End(exchange.Send, exchange.Warned, "answered before all of it had left")
		t.reusable = false
		return err
	}
	return t.sendError(werr, err)
}

// inOneGo tells whether the request is written before reading begins.
func (t *roundTrip) inOneGo() bool { return len(t.payload) <= inOneGo && t.req.Rest.IsZero() }

// write hands the request to the system, piece by piece.
func (t *roundTrip) write() error {
	for done := len(t.leg.Out); done < len(t.payload); {
		p := t.payload[done:min(done+piece, len(t.payload))]
		t.deadline(t.conn.SetWriteDeadline, t.cfg.SendTime)
		n, err := t.conn.Write(p)
		if done += n; n > 0 {
			t.rec.Out(t.leg, t.payload, done)
		}
		if err != nil {
			_ = t.conn.SetReadDeadline(time.Now().Add(linger))
			return err
		}
	}
	if err := t.writeRest(); err != nil {
		_ = t.conn.SetReadDeadline(time.Now().Add(linger))
		return err
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.HandedOver, Stage: exchange.Send})
	t.rec.End(exchange.Send, exchange.Passed, "")
	if t.inOneGo() || !t.answering() {
		t.rec.Begin(exchange.Wait)
	}
	t.deadline(t.conn.SetReadDeadline, t.cfg.AnswerTime)
	return nil
}

// writeRest hands over what follows the payload, which is not held in memory.
func (t *roundTrip) writeRest() error {
	for t.rest < t.req.Rest.Len() {
		p := t.req.Rest.Range(t.rest, t.rest+piece)
		if len(p) == 0 {
			return exchange.ErrClosed
		}
		t.deadline(t.conn.SetWriteDeadline, t.cfg.SendTime)
		n, err := t.conn.Write(p)
		t.rec.Moment(exchange.Moment{
			Kind: exchange.BytesOut, Stage: exchange.Send, Offset: int64(len(t.payload)) + t.rest, N: int64(n),
		})
		if t.rest += int64(n); err != nil {
			return err
		}
	}
	return nil
}

// deadline gives a limit of time to what is done next; none stays one, and where
// the call was cancelled there is no time at all.
func (t *roundTrip) deadline(set func(time.Time) error, limit time.Duration) {
	if limit > 0 {
		_ = set(time.Now().Add(limit))
	}
	if t.ctx.Err() != nil {
		_ = t.conn.SetDeadline(expiredDeadline())
	}
}

// answering tells whether the answer began while the request was leaving.
func (t *roundTrip) answering() (yes bool) {
	t.rec.Update(func(*exchange.Exchange) { yes = !t.leg.In.IsZero() })
	return yes
}

// awaitLeave sends the head alone and waits for leave to send the body. A server
// that says nothing is not waited for long: many do not know of it. answered is
// true where the answer came instead of leave.
func (t *roundTrip) awaitLeave() (answered bool, err error) {
	head := int(t.leg.Request.Size)
	t.deadline(t.conn.SetWriteDeadline, t.cfg.SendTime)
	n, werr := t.conn.Write(t.payload[:head])
	t.rec.Out(t.leg, t.payload, n)
	if werr != nil {
		return false, t.sendError(werr, nil)
	}
	_ = t.conn.SetReadDeadline(time.Now().Add(linger))
	for {
		in := t.unread()
		if end := http1.HeadEnd(in); end > 0 {
			h, err := http1.Response(in[:end])
			if err == nil && h.Status >= 100 && h.Status < 200 {
				t.interim += int64(end)
				t.rec.Fact(exchange.Send, "interim answer", h.Line)
				return false, nil
			}
			t.rec.End(exchange.Send, exchange.Warned, "answered before the body had left")
			t.rec.Begin(exchange.Wait)
			_, err = t.answer()
			t.reusable = false
			return true, err
		}
		if k, err := t.more(); k == 0 && err != nil {
			if isTimeout(err) && len(in) == 0 && t.ctx.Err() == nil {
				t.rec.Fact(exchange.Send, "interim answer", "none came within a second; the body was sent all the same")
				return false, nil
			}
			t.rec.End(exchange.Send, exchange.Passed, "")
			t.rec.Begin(exchange.Wait)
			_, err = t.answer()
			return true, err
		}
	}
}

// sendError says why the request could not leave: with what the reading showed, as
// the peer may have said it before it closed.
func (t *roundTrip) sendError(werr, rerr error) error {
	if alert, words, is := remoteAlert(rerr); is {
		return t.lateAlert(exchange.Send, alert, words, rerr)
	}
	reason := SendReset
	if isTimeout(werr) {
		reason = SendTimeout
	}
	e := t.fail(exchange.Send, reason, werr)
	e.Got, e.Announced = int64(len(t.leg.Out))+t.rest, int64(len(t.payload))+t.req.Rest.Len()
	e.Limit = int64(t.cfg.SendTime)
	return e
}
