package wire

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"orenda/internal/exchange"
)

const (
	together = 64 << 10 // a request up to this size is written before reading begins
	piece    = 64 << 10 // larger ones are written in pieces of this size
	mostHead = 64 << 10 // bytes of response head that are accepted
	linger   = time.Second
)

// oneLine keeps a field's value from beginning another field.
var oneLine = strings.NewReplacer("\r", " ", "\n", " ")

// compose writes the request head.
func (t *trip) compose() {
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
	h := exchange.Head{Line: line, Proto: "HTTP/1.1", Declared: int64(len(t.req.Body)), BodySize: int64(len(t.req.Body)), WireSize: int64(len(t.req.Body)), Complete: true, BodyWhole: true}
	h.Fields = make([]exchange.Header, 0, len(header))
	var secrets []exchange.Span
	for _, f := range header {
		f[1] = oneLine.Replace(f[1])
		at := int64(b.Len())
		b.WriteString(f[0] + ": " + f[1] + "\r\n")
		h.Fields = append(h.Fields, exchange.Header{Name: f[0], Value: f[1], Span: exchange.Span{Offset: at, Length: int64(b.Len()) - at - 2}})
		if t.req.SecretHeader != nil && t.req.SecretHeader(f[0]) {
			secrets = append(secrets, exchange.Span{Offset: at + int64(len(f[0])) + 2, Length: int64(len(f[1]))})
		}
	}
	b.WriteString("\r\n")
	h.Size = int64(b.Len())
	body := t.req.Body
	if t.cfg.Chunked {
		h.Chunked, h.Declared = true, -1
		writeChunks(&b, body, t.req.Secret, &secrets)
		h.WireSize = int64(b.Len()) - h.Size
		t.payload = b.Bytes()
	} else {
		for _, s := range t.req.Secret {
			secrets = append(secrets, exchange.Span{Offset: s.Offset + h.Size, Length: s.Length})
		}
		t.payload = bytes.Join([][]byte{b.Bytes(), body}, nil)
		body = t.payload[h.Size:]
	}
	t.rec.Update(func(*exchange.Exchange) {
		t.leg.Request, t.leg.SecretSpans, t.leg.BodySecrets = h, secrets, t.req.Secret
		t.leg.RequestBody = body
	})
}

// chunk is the size of the chunks in which a request is sent.
const chunk = 8 << 10

// writeChunks frames a body (RFC 9112 §7.1). A secret that a border cuts
// through becomes two.
func writeChunks(b *bytes.Buffer, body []byte, secret []exchange.Span, out *[]exchange.Span) {
	for from := 0; from < len(body); from += chunk {
		p := body[from:min(from+chunk, len(body))]
		fmt.Fprintf(b, "%x\r\n", len(p))
		for _, s := range secret {
			start, end := max(s.Offset, int64(from)), min(s.Offset+s.Length, int64(from+len(p)))
			if start < end {
				*out = append(*out, exchange.Span{Offset: int64(b.Len()) + start - int64(from), Length: end - start})
			}
		}
		b.Write(p)
		b.WriteString("\r\n")
	}
	b.WriteString("0\r\n\r\n")
}

// converse sends the request and reads the answer.
func (t *trip) converse() error {
	t.compose()
	t.rec.Begin(exchange.Send)
	if t.cfg.Expect && len(t.req.Body) > 0 {
		if answered, err := t.await(); answered || err != nil {
			return err
		}
	}
	sent := make(chan error, 1)
	if len(t.payload) <= together || t.cfg.Conn != nil {
		sent <- t.write()
	} else {
		go func() { sent <- t.write() }()
	}
	return t.receive(sent)
}

// write hands the request to the system, piece by piece.
func (t *trip) write() error {
	for done := len(t.leg.Out); done < len(t.payload); {
		p := t.payload[done:min(done+piece, len(t.payload))]
		if t.cfg.SendTime > 0 {
			_ = t.conn.SetWriteDeadline(time.Now().Add(t.cfg.SendTime))
		}
		if t.ctx.Err() != nil {
			_ = t.conn.SetDeadline(past)
		}
		n, err := t.conn.Write(p)
		if done += n; n > 0 {
			t.rec.Out(t.leg, t.payload, done)
		}
		if err != nil {
			// The reason is often on its way: an alert, a 413.
			_ = t.conn.SetReadDeadline(time.Now().Add(linger))
			return err
		}
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.HandedOver, Stage: exchange.Send})
	t.rec.End(exchange.Send, exchange.Passed, "")
	if len(t.payload) <= together || !t.answering() {
		t.rec.Begin(exchange.Wait)
	}
	if t.cfg.AnswerTime > 0 {
		_ = t.conn.SetReadDeadline(time.Now().Add(t.cfg.AnswerTime))
	}
	if t.ctx.Err() != nil {
		_ = t.conn.SetDeadline(past)
	}
	return nil
}

// answering tells whether the answer began while the request was leaving.
func (t *trip) answering() (yes bool) {
	t.rec.Update(func(x *exchange.Exchange) { yes = len(t.leg.In) > 0 })
	return yes
}

// await sends the head alone and waits for leave to send the body. A server
// that says nothing is not waited for long: many do not know of it. answered is
// true where the answer came instead of leave.
func (t *trip) await() (answered bool, err error) {
	head := int(t.leg.Request.Size)
	if t.cfg.SendTime > 0 {
		_ = t.conn.SetWriteDeadline(time.Now().Add(t.cfg.SendTime))
	}
	n, werr := t.conn.Write(t.payload[:head])
	t.rec.Out(t.leg, t.payload, n)
	if werr != nil {
		return false, t.sendError(werr, nil)
	}
	_ = t.conn.SetReadDeadline(time.Now().Add(linger))
	for {
		in := t.leg.In[t.interim:]
		if end := headEnd(in); end > 0 {
			h, err := parseHead(in[:end])
			if err == nil && h.Status >= 100 && h.Status < 200 {
				t.interim += end
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

// receive reads the answer while the request may still be leaving.
func (t *trip) receive(sent chan error) error {
	body, err := t.answer()
	if body != nil && (err == nil || body.stopped) {
		// The answer is what counts; a request still on its way is cut off.
		_ = t.conn.SetWriteDeadline(past)
	}
	if err != nil && body == nil && len(t.payload) > together {
		_ = t.conn.SetDeadline(past)
	}
	werr := <-sent
	if werr != nil {
		if body != nil && t.leg.Response.Complete {
			t.rec.End(exchange.Send, exchange.Warned, "answered before all of it had left")
			t.reusable = false
			return err
		}
		return t.sendError(werr, err)
	}
	return err
}

func (t *trip) sendError(werr, rerr error) error {
	kind := "send.reset"
	if isTimeout(werr) {
		kind = "send.timed-out"
	}
	e := t.fail(exchange.Send, kind, werr)
	e.Got, e.Announced, e.Limit = int64(len(t.leg.Out)), int64(len(t.payload)), int64(t.cfg.SendTime)
	if a := remoteAlert(rerr); a != "" {
		return t.lateAlert(exchange.Send, a, rerr)
	}
	return e
}

// lateAlert is an alert after the handshake; with TLS 1.3 a client certificate
// is refused that way (RFC 8446 §4.4.2.4).
func (t *trip) lateAlert(stage exchange.Stage, alert string, err error) error {
	e := t.fail(stage, "tls.alert", err)
	if t.tlsInfo != nil {
		t.rec.Update(func(*exchange.Exchange) { t.tlsInfo.Alert = alert })
		e.Kind = alertKind(alert, t.tlsInfo)
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.Alert, Stage: stage, Text: alert})
	e.Alert = alert
	return e
}

// more reads once and records what came.
func (t *trip) more() (int, error) {
	buf := buffers.Get().(*[readSize]byte)
	defer buffers.Put(buf)
	n, err := t.conn.Read(buf[:])
	if n > 0 {
		if kerr := t.rec.In(t.leg, buf[:n]); kerr != nil {
			return 0, &notKept{kerr}
		}
	}
	return n, err
}

// notKept is an answer that could not be kept on disk.
type notKept struct{ error }

func (e *notKept) Unwrap() error { return e.error }

// answer reads head and body. The body is nil where no head was complete.
func (t *trip) answer() (*body, error) {
	from := t.interim
	for {
		head, err := t.readHead(from)
		if err != nil {
			return nil, err
		}
		if head.Status >= 100 && head.Status < 200 && head.Status != 101 {
			from += int(head.Size) // interim responses (RFC 9110 §15.2)
			continue
		}
		t.rec.Update(func(*exchange.Exchange) { t.leg.Response = *head })
		t.rec.Moment(exchange.Moment{Kind: exchange.HeadComplete, Stage: exchange.Receive, Text: head.Line})
		b := newBody(t, head, from+int(head.Size))
		return b, b.read()
	}
}

func (t *trip) readHead(from int) (*exchange.Head, error) {
	for first := from == t.interim; ; {
		in := t.leg.In[from:]
		if len(in) > 0 {
			if first {
				first = false
				t.rec.Moment(exchange.Moment{Kind: exchange.FirstByte, Stage: exchange.Wait})
				t.rec.End(exchange.Wait, exchange.Passed, "")
				t.rec.Begin(exchange.Receive)
			}
			if n := min(len(in), 5); string(in[:n]) != "HTTP/"[:n] {
				// Something that is no HTTP: take a little more of it as evidence.
				_ = t.conn.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
				_, _ = t.more()
				return nil, t.fail(exchange.Receive, "receive.not-http", nil)
			}
			if end := headEnd(in); end > 0 {
				h, err := parseHead(in[:end])
				if err != nil {
					return nil, t.fail(exchange.Receive, "receive.not-http", err)
				}
				return h, nil
			}
			if len(in) > mostHead {
				e := t.fail(exchange.Receive, "receive.head-too-large", nil)
				e.Limit, e.Got = mostHead, int64(len(in))
				return nil, e
			}
			t.idle()
		}
		n, err := t.more()
		if n > 0 {
			continue
		}
		stage := exchange.Wait
		if len(in) > 0 {
			stage = exchange.Receive
		}
		if a := remoteAlert(err); a != "" {
			return nil, t.lateAlert(stage, a, err)
		}
		if stage == exchange.Wait {
			kind := "wait.closed"
			if isTimeout(err) {
				kind = "wait.timed-out"
			}
			e := t.fail(stage, kind, err)
			e.Limit = int64(t.cfg.AnswerTime)
			return nil, e
		}
		return nil, t.readError(err, int64(len(in)), -1)
	}
}

// idle renews the limit on the time between two pieces of the answer.
func (t *trip) idle() {
	if t.cfg.ReceiveTime > 0 {
		_ = t.conn.SetReadDeadline(time.Now().Add(t.cfg.ReceiveTime))
	}
	if t.ctx.Err() != nil {
		_ = t.conn.SetDeadline(past)
	}
}

func (t *trip) readError(err error, got, announced int64) error {
	kind := "receive.truncated"
	if isTimeout(err) {
		kind = "receive.stalled"
	}
	if _, ok := errors.AsType[*notKept](err); ok {
		kind = "receive.not-kept"
	}
	e := t.fail(exchange.Receive, kind, err)
	e.Got, e.Announced, e.Limit = got, announced, int64(t.cfg.ReceiveTime)
	e.At = int64(len(t.leg.In))
	if errors.Is(err, syscall.ECONNRESET) {
		e.Err = fmt.Errorf("the connection was reset: %w", err)
	}
	return e
}

// headEnd is the length of a head, its empty line included, or 0.
func headEnd(b []byte) int {
	if i := bytes.Index(b, []byte("\r\n\r\n")); i >= 0 {
		return i + 4
	}
	if i := bytes.Index(b, []byte("\n\n")); i >= 0 {
		return i + 2
	}
	return 0
}

// parseHead reads a response head, with the place of each line (RFC 9112 §4, §5).
func parseHead(b []byte) (*exchange.Head, error) {
	text := string(b)
	h := &exchange.Head{Size: int64(len(b)), Declared: -1, Complete: true, Fields: make([]exchange.Header, 0, strings.Count(text, "\n"))}
	at := 0
	for n := 0; at < len(text); n++ {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			break
		}
		line := strings.TrimSuffix(text[at:at+end], "\r")
		span := exchange.Span{Offset: int64(at), Length: int64(len(line))}
		at += end + 1
		switch {
		case n == 0:
			h.Line = line
			proto, rest, _ := strings.Cut(line, " ")
			code, _, _ := strings.Cut(rest, " ")
			status, err := strconv.Atoi(code)
			if err != nil || status < 100 || status > 999 {
				return nil, fmt.Errorf("the status line %q holds no status", line)
			}
			h.Proto, h.Status = proto, status
		case line == "":
		case (line[0] == ' ' || line[0] == '\t') && len(h.Fields) > 0: // obsolete folding
			f := &h.Fields[len(h.Fields)-1]
			f.Value += " " + strings.TrimSpace(line)
			f.Span.Length = span.Offset + span.Length - f.Span.Offset
		default:
			name, value, ok := strings.Cut(line, ":")
			if !ok {
				name, value = "", line
			}
			h.Fields = append(h.Fields, exchange.Header{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value), Span: span})
		}
	}
	if v := h.Get("Content-Length"); v != "" {
		if n, err := strconv.ParseInt(v, 10, 64); err == nil && n >= 0 {
			h.Declared = n
		}
	}
	if strings.Contains(strings.ToLower(h.Get("Transfer-Encoding")), "chunked") {
		h.Chunked, h.Declared = true, -1
	}
	return h, nil
}
