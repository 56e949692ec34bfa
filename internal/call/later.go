package call

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/http1"
	"orenda/internal/soap"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// replyHere is the value of reply-to by which a free port of this machine is listened on.
const replyHere = "here"

// later is where an answer is waited for that comes over a connection of its own
// (WS-Addressing 1.0 Core §2, SOAP binding §5): a listener, for one call.
type later struct {
	l       net.Listener
	tls     *tls.Config // nil: it is called without TLS
	trust   string      // the file that whoever calls it over TLS has to trust
	address string      // that the service is told
	path    string      // of it
	most    int64       // bytes of an answer

	mu   sync.Mutex
	id   string // of the message that is answered
	seen []exchange.CalledBack
	came chan arrived
}

// arrived is an answer as it came: a request of the service's.
type arrived struct {
	raw   []byte
	head  *exchange.Head
	line  string
	at    time.Time
	piece [][2]int64 // where the body stands in raw
	from  string     // host and port of who called
}

// openLater listens as settings say; nil, nil where no answer is to come later.
func openLater(p *Plan) (*later, error) {
	s := &p.Settings
	to, listen := s.Text("reply-to"), s.Text("reply-listen")
	if to == "" {
		return nil, nil
	}
	invalid := func(key string, err error) error {
		v := s.Get(key)
		return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
	}
	b := &later{address: to, came: make(chan arrived, 1), most: 64 << 20}
	if n, err := s.Size("receive-limit"); err == nil && n > 0 {
		b.most = n
	}
	if to == replyHere {
		b.path = "/" + strings.ToLower(rand.Text())
		if listen == "" {
			listen = "127.0.0.1:0"
		}
	} else {
		u, err := url.Parse(to)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			return nil, invalid("reply-to", errors.New("it is here, or an http or https address"))
		}
		if b.path = u.EscapedPath(); b.path == "" {
			b.path = "/"
		}
		if host, port := endpoint.HostPort(u); listen == "" && endpoint.IsLoopback(host) {
			listen = net.JoinHostPort(host, port)
		}
		if listen == "" {
			return nil, invalid("reply-to", errors.New("it is not of this machine alone: say where to listen "+
				"with reply-listen"))
		}
	}
	host, _, _ := net.SplitHostPort(listen)
	if v := s.Get("reply-listen"); !endpoint.IsLoopback(host) && v.Source != "this call" {
		return nil, invalid("reply-listen", errors.New("a workspace may not listen beyond this machine; give it "+
			"for this call (--reply-listen)"))
	}
	if err := b.secure(p, host); err != nil {
		return nil, invalid("reply-tls", err)
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, invalid("reply-listen", err)
	}
	b.l = l
	if to == replyHere {
		b.address = map[bool]string{false: "http://", true: "https://"}[b.tls != nil] + l.Addr().String() + b.path
	}
	go b.accept()
	return b, nil
}

// secure has it listen over TLS, where that is set: with a certificate for the host that the service is
// told and for the one that is listened on.
func (b *later) secure(p *Plan, listens string) error {
	how, host := p.Settings.Text("reply-tls"), listens
	if b.address != replyHere {
		u, err := url.Parse(b.address)
		if err != nil {
			return err
		}
		if host = u.Hostname(); how == "as-addressed" && u.Scheme == "https" {
			how = "always"
		}
	}
	if how != "always" {
		return nil
	}
	if p.Listening == nil {
		return errors.New("there is no local authority here that signs for it; a workspace's calls have one")
	}
	c, file, err := p.Listening(host)
	b.tls, b.trust = &tls.Config{Certificates: []tls.Certificate{c}, MinVersion: tls.VersionTLS12}, file
	return err
}

// close ends it; nil is allowed.
func (b *later) close() {
	if b != nil {
		b.l.Close()
	}
}

func (b *later) accept() {
	const atOnce = 32 // each may hold an answer in memory
	free := make(chan struct{}, atOnce)
	for {
		free <- struct{}{}
		c, err := b.l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer func() { <-free }()
			b.take(c)
		}()
	}
}

// await says which message is answered here.
func (b *later) await(id string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.id = id
}

func (b *later) awaits() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.id
}

// note keeps what was seen, up to a number.
func (b *later) note(s exchange.CalledBack) {
	const most = 50
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.seen) < most {
		b.seen = append(b.seen, s)
	}
}

// take reads one request of the service's, and answers it: 202 to any message, so that the service
// does not try again.
func (b *later) take(c net.Conn) {
	defer c.Close()
	const patience = 30 * time.Second
	_ = c.SetDeadline(time.Now().Add(patience))
	if b.tls != nil {
		secure := tls.Server(c, b.tls)
		if err := secure.Handshake(); err != nil {
			b.note(exchange.CalledBack{From: c.RemoteAddr().String(), At: time.Now().UTC(),
				Wrong: "its TLS handshake failed: " + err.Error()})
			return
		}
		c = secure
	}
	a, body, err := b.read(c)
	saw := exchange.CalledBack{From: c.RemoteAddr().String(), At: time.Now().UTC()}
	answer := func(status int) {
		fmt.Fprintf(c, "HTTP/1.1 %d %s\r\nContent-Length: 0\r\nConnection: "+
			"close\r\n\r\n", status, http.StatusText(status))
	}
	if a != nil {
		_, target, _ := strings.Cut(a.line, " ")
		saw.Path, _, _ = strings.Cut(target, " ")
	}
	switch {
	case err != nil:
		saw.Wrong = err.Error()
		answer(http.StatusBadRequest)
	case saw.Path != b.path:
		saw.Wrong = "another path"
		answer(http.StatusNotFound)
	default:
		saw.RelatesTo = relatesTo(body)
		if saw.RelatesTo != b.awaits() {
			saw.Wrong = "it relates to another message"
			answer(http.StatusAccepted)
			break
		}
		answer(http.StatusAccepted)
		b.note(saw)
		a.from = saw.From
		select {
		case b.came <- *a:
		default: // it came before
		}
		return
	}
	b.note(saw)
}

// read reads a request as it comes.
func (b *later) read(c net.Conn) (a *arrived, body []byte, err error) {
	in := bufio.NewReaderSize(c, 64<<10)
	var raw []byte
	more := func(n int) error {
		p, err := in.Peek(n)
		if k := in.Buffered(); k > len(p) {
			p, _ = in.Peek(k)
		}
		raw = append(raw, p...)
		_, _ = in.Discard(len(p))
		if len(p) > 0 {
			return nil
		}
		return err
	}
	n := -1
	for n < 0 {
		if len(raw) > http1.MaxHead {
			return nil, nil, http1.ErrTooLarge
		}
		if err := more(1); err != nil {
			return nil, nil, fmt.Errorf("it ended within its head: %w", err)
		}
		n = http1.HeadEnd(raw)
	}
	line, h, err := http1.Request(raw[:n])
	if err != nil {
		return nil, nil, err
	}
	a = &arrived{head: h, line: strings.Join([]string{line.Method, line.Target, line.Proto}, " "), at: time.Now()}
	whole := func(n int64) error {
		for int64(len(raw)) < n {
			if err := more(1); err != nil {
				return io.ErrUnexpectedEOF
			}
		}
		return nil
	}
	switch {
	case h.Chunked:
		var chunks http1.Chunks
		for at := n; !chunks.Done(); {
			p, err := chunks.Next(raw[at:])
			if err != nil {
				return a, nil, err
			}
			if p == (http1.Piece{}) {
				if err := more(1); err != nil || int64(len(raw)) > b.most {
					return a, nil, io.ErrUnexpectedEOF
				}
				continue
			}
			from := at + p.Skip
			if at = from + p.Data; p.Data > 0 {
				a.piece = append(a.piece, [2]int64{int64(from), int64(at)})
				body = append(body, raw[from:at]...)
			}
		}
	case h.Declared > b.most:
		return a, nil, fmt.Errorf("it announces %d bytes, the receive limit is %d", h.Declared, b.most)
	case h.Declared > 0:
		if err := whole(int64(n) + h.Declared); err != nil {
			return a, nil, err
		}
		a.piece = [][2]int64{{int64(n), int64(n) + h.Declared}}
		body = raw[n : int64(n)+h.Declared]
	}
	a.raw = raw
	return a, body, nil
}

// relatesTo is the id of the message that an envelope answers, "" it says none.
func relatesTo(body []byte) string {
	d, err := xmltree.ParseEncoded(body, "", xmltree.Limits{Depth: 256})
	if err != nil {
		return ""
	}
	e := soap.Read(d)
	if e == nil {
		return ""
	}
	for b := range e.Header.Children() {
		if b.Name().Local == "RelatesTo" && soap.IsAddressing(b.Name().Space) {
			return strings.TrimSpace(b.Text())
		}
	}
	return ""
}

// calledBack is what was seen at the listener; nil where there was none.
func (b *later) calledBack(acknowledged time.Time) *exchange.Later {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	out := &exchange.Later{
		Address: b.address,
		Listens: b.l.Addr().String(),
		Trust:   b.trust,
		Seen:    append([]exchange.CalledBack{}, b.seen...),
	}
	for _, s := range b.seen {
		out.Early = out.Early || s.Wrong == "" && !acknowledged.IsZero() && s.At.Before(acknowledged)
	}
	return out
}

// from begins a stage again: what it is from now on is that of the answer.
func (c *network) from(s exchange.Stage) {
	c.rec.Update(func(x *exchange.Exchange) { *x.Stage(s) = exchange.StageRecord{Stage: s} })
	c.rec.Begin(s)
}

// await waits for the answer that comes later, where the service accepted the message without one:
// the second leg of the path, with its own wait and receive.
func (c *network) await(ctx context.Context) error {
	b := c.later
	if b == nil || c.leg == nil {
		return nil
	}
	h := &c.leg.Response
	c.acknowledged = time.Now()
	accepted := h.Status == http.StatusAccepted || h.Status == http.StatusNoContent ||
		h.Status == http.StatusOK && h.BodySize == 0
	if !accepted {
		return nil // it answered at once: an answer, or a refusal
	}
	c.rec.Fact(exchange.Send, "acknowledged", h.Line)
	c.from(exchange.Wait)
	limit := c.config().AnswerTime
	var late <-chan time.Time
	if limit > 0 {
		t := time.NewTimer(limit)
		defer t.Stop()
		late = t.C
	}
	var a arrived
	select {
	case a = <-b.came:
	case <-late:
		c.rec.End(exchange.Wait, exchange.Stopped, "nothing came to "+b.address)
		c.rec.Update(
			func(x *exchange.Exchange) { *x.Stage(exchange.Receive) = exchange.StageRecord{Stage: exchange.Receive} },
		)
		return &wire.Error{Stage: exchange.Wait, Reason: wire.LaterTimeout, Limit: int64(limit)}
	case <-ctx.Done():
		if context.Cause(ctx) == wire.ErrTotalTime {
			return &wire.Error{Stage: exchange.Wait, Reason: wire.LaterTimeout, Err: wire.ErrTotalTime}
		}
		return &wire.Error{Stage: exchange.Wait, Reason: wire.Cancelled, Err: ctx.Err()}
	}
	c.rec.Fact(exchange.Wait, "answer came from", a.from)
	c.rec.End(exchange.Wait, exchange.Passed, "")
	c.from(exchange.Receive)
	leg := c.rec.NewLeg("answer that came later", exchange.Spill{})
	c.rec.Update(func(*exchange.Exchange) {
		first := c.leg
		leg.Conn, leg.Request, leg.Out, leg.RequestBody = first.Conn, first.Request, first.Out, first.RequestBody
		leg.SecretSpans, leg.BodySecrets = first.SecretSpans, first.BodySecrets
		leg.Response = *a.head
		leg.Response.Line, leg.Response.Status = a.line, http.StatusOK
	})
	if err := c.rec.In(leg, a.raw); err != nil {
		return &wire.Error{Stage: exchange.Receive, Reason: wire.NotKept, Err: err}
	}
	size := int64(0)
	for _, p := range a.piece {
		size += p[1] - p[0]
		if err := c.rec.Delivered(leg, p[0], p[1]); err != nil {
			return &wire.Error{Stage: exchange.Receive, Reason: wire.NotKept, Err: err}
		}
	}
	c.rec.Update(func(*exchange.Exchange) {
		leg.Response.BodySize, leg.Response.BodyWhole, leg.Response.Complete = size, true, true
	})
	c.leg = leg
	c.rec.End(exchange.Receive, exchange.Passed, "")
	return nil
}

// listener opens the listener once more, and calls it by the address that the service is told: what is
// found so holds for this machine, and the answer says from where it was tried.
func (c *checking) listener(ctx context.Context) {
	b, err := openLater(&c.plan)
	if err != nil || b == nil {
		c.say("not-reached", "", "the listener could not be opened again: %v", err)
		return
	}
	defer b.close()
	from, err := b.try(ctx, c.plan.Resolver)
	switch {
	case err == nil:
		c.say("not-reached", "", "tried from %s, on this machine: %s leads to the listener. Whether it does from the "+
			"service's network, only a try there can tell: any HTTP call to it is seen here while a call waits",
			from, b.address)
	case from == "":
		c.say("not-reached", exchange.Confirmed, "tried from this machine: %v", err)
	default:
		c.say("not-reached", exchange.Confirmed, "tried from %s, on this machine: %v", from, err)
	}
}

// try calls the listener by its address, and gives the address that it was called from.
func (b *later) try(ctx context.Context, r *net.Resolver) (from string, err error) {
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	u, err := url.Parse(b.address)
	if err != nil {
		return "", err
	}
	conn, err := (&net.Dialer{Resolver: r}).DialContext(ctx, "tcp", net.JoinHostPort(endpoint.HostPort(u)))
	if err != nil {
		return "", err
	}
	defer conn.Close()
	from = conn.LocalAddr().String()
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	if u.Scheme == "https" { // whose certificate it is, is not the question: nothing is said to it but a random path
		conn = tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: u.Hostname()})
	}
	path := "/try-" + strings.ToLower(rand.Text())
	ask := fmt.Sprintf("GET %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", path, u.Host)
	if _, err := io.WriteString(conn, ask); err != nil {
		return from, fmt.Errorf("it takes no call: %w", err)
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(conn, http1.MaxHead))
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, s := range b.seen {
		if s.Path == path {
			return from, nil
		}
	}
	return from, fmt.Errorf("another program answers at %s", u.Host)
}
