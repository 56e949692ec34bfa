// Package relay passes another program's calls on to a service, and goes through
// each as through a call made here: what the program really sends, what it really
// gets, and why it fails.
package relay

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/http1"
	"orenda/internal/safe"
	"orenda/internal/spool"
	"orenda/internal/wire"
)

// Limits of what is taken from a program.
const (
	maxBody  = 4 << 30
	maxOpen  = 64      // connections at a time
	inMemory = 8 << 20 // bytes of a request beyond which it is kept on disk

	takeTime = time.Minute // for the program to take the next piece of an answer
)

// Options say where a relay passes calls on to, and how.
type Options struct {
	Listen string   // "" a free port on 127.0.0.1
	To     *url.URL // the service; the path of a request goes with it, unless it is /

	Plan func(w *call.Imported) call.Plan // how the service is reached, and what a call is held against
	Keep func(*exchange.Exchange)         // told of each exchange, from several goroutines; may be nil
	// Answer answers a request here, with a whole HTTP response; ok is false where it is passed
	// on. Either is done after a while. It may be nil.
	Answer func(w *call.Imported) (response []byte, after time.Duration, ok bool)
	// TurnedAway is told why a request was not taken, of which no exchange is made: its head or its chunks
	// cannot be read, it did not come whole, the program does not trust the certificate. It may be nil.
	TurnedAway func(why string)
	Idle       time.Duration // for the next bytes of a request; 0: ten seconds
	Head       time.Duration // for the whole head of a request; 0: twice Idle

	ListenTLS   string           // for programs that call over TLS; "" none
	Certificate *tls.Certificate // that it shows there

	// Beyond lets it listen beyond loopback: over TLS, and plain too where Plain is set. Those who
	// may call are then said by Allow, or have to know the Secret.
	Beyond, Plain bool
	Allow         []netip.Prefix // whose connections are taken; none: everybody's
	Names         []string       // hosts by which programs reach it besides its addresses

	// Answers has answers that come later come through the relay too: it puts its address in
	// the place of ReplyTo and FaultTo (WS-Addressing).
	Answers bool

	Forward *Forward // it is a forward proxy, and To is nil; nil: it leads to To

	// Change changes a request on its way, from several goroutines; it may be nil.
	Change func(w *call.Imported)

	// Secret is the first part of the path that a program must know, "" none: where the
	// relay adds something by which the service takes the program for the person.
	Secret string
}

// NewSecret is a part of a path that nobody guesses: 128 random bits.
func NewSecret() string { return strings.ToLower(rand.Text()) }

// Relay is a listener that passes calls on until it is closed.
type Relay struct {
	o      atomic.Pointer[Options]
	l, tls net.Listener // tls may be nil
	ending atomic.Bool  // no more connections are taken, and those that wait are ended
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup
	room   chan struct{}

	answers answers // that come later

	mu    sync.Mutex
	conns map[net.Conn]time.Time // when it began to wait for a request; zero while one is under way
}

// Listen opens a relay.
func Listen(o Options) (*Relay, error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	o.Idle = cmp.Or(o.Idle, 10*time.Second)
	o.Head = cmp.Or(o.Head, 2*o.Idle)
	if err := o.mayListen(); err != nil {
		return nil, err
	}
	if o.Forward != nil {
		o.To = &url.URL{Scheme: "http", Host: "forward.invalid"}
	}
	if o.To == nil || o.To.Host == "" || o.To.Scheme != "http" && o.To.Scheme != "https" {
		return nil, errors.New("the service is named by an http or https address")
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	r := &Relay{l: l, room: make(chan struct{}, maxOpen), conns: map[net.Conn]time.Time{}}
	r.o.Store(&o)
	r.ctx, r.cancel = context.WithCancel(context.Background())
	if o.ListenTLS != "" && o.Certificate != nil {
		t, err := net.Listen("tcp", o.ListenTLS)
		if err != nil {
			l.Close()
			return nil, err
		}
		r.tls = tls.NewListener(
			t,
			&tls.Config{Certificates: []tls.Certificate{*o.Certificate}, MinVersion: tls.VersionTLS12},
		)
		r.wg.Add(1)
		go r.accept(r.tls)
	}
	r.wg.Add(1)
	go r.accept(r.l)
	return r, nil
}

// mayListen tells whether it may listen where it is to.
func (o *Options) mayListen() error {
	for at, overTLS := range map[string]bool{o.Listen: false, o.ListenTLS: true} {
		if at == "" {
			continue
		}
		host, _, err := net.SplitHostPort(at)
		switch {
		case err == nil && endpoint.IsLoopback(host):
		case err != nil || !o.Beyond:
			return fmt.Errorf("a relay listens on loopback only, not on %s", at)
		case !overTLS && !o.Plain:
			return fmt.Errorf("%s is beyond loopback: without TLS it listens there only where that is said", at)
		case len(o.Allow) == 0 && o.Secret == "":
			return fmt.Errorf("%s is beyond loopback: say who may call, by networks or by a path that nobody "+
				"guesses", at)
		}
	}
	return nil
}

// Update has calls from now on go by other options; calls under way, and where it listens, stay.
func (r *Relay) Update(o Options) {
	was := r.o.Load()
	o.Listen, o.ListenTLS, o.Certificate = was.Listen, was.ListenTLS, was.Certificate
	if o.Secret != "" && was.Secret != "" {
		o.Secret = was.Secret // programs know it
	}
	o.Idle, o.Head = cmp.Or(o.Idle, was.Idle), cmp.Or(o.Head, was.Head)
	r.o.Store(&o)
}

// Open is how many connections of programs are open.
func (r *Relay) Open() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.conns)
}

// Drain takes no more connections, lets calls under way end, and then closes: at the latest when
// ctx ends.
func (r *Relay) Drain(ctx context.Context) {
	r.ending.Store(true)
	r.l.Close()
	if r.tls != nil {
		r.tls.Close()
	}
	look := time.NewTicker(10 * time.Millisecond)
	defer look.Stop()
	for ctx.Err() == nil {
		r.mu.Lock()
		for c, since := range r.conns {
			if !since.IsZero() { // it waits for a request
				c.Close()
			}
		}
		left := len(r.conns)
		r.mu.Unlock()
		if left == 0 {
			break
		}
		select {
		case <-look.C:
		case <-ctx.Done():
		}
	}
	r.Close()
}

// allowed tells whether a program at an address may call.
func (o *Options) allowed(a net.Addr) bool {
	if len(o.Allow) == 0 {
		return true
	}
	at, err := netip.ParseAddrPort(a.String())
	return err == nil && slices.ContainsFunc(o.Allow, func(p netip.Prefix) bool {
		return p.Contains(at.Addr().Unmap())
	})
}

// connectionOptions are the names of fields that are for the next hop alone, in lower
// case: those that Connection lists (RFC 9110 §7.6.1).
func connectionOptions(fields []exchange.Header) map[string]bool {
	out := map[string]bool{}
	for _, f := range fields {
		if strings.EqualFold(f.Name, "Connection") {
			for option := range strings.SplitSeq(f.Value, ",") {
				out[strings.ToLower(strings.TrimSpace(option))] = true
			}
		}
	}
	return out
}

// isOurs tells whether a Host is one by which programs reach the relay: an address of
// this machine's own, or the service's, which a program may take for its address. A
// page whose name was made to lead here has another.
func (r *Relay) isOurs(host string) bool {
	u := url.URL{Host: host}
	o := r.o.Load()
	name := strings.ToLower(u.Hostname())
	if endpoint.IsLoopback(name) || strings.EqualFold(name, o.To.Hostname()) {
		return true
	}
	return o.Beyond && (net.ParseIP(name) != nil || slices.ContainsFunc(o.Names, func(n string) bool {
		return strings.EqualFold(n, name)
	}))
}

// Address is where programs call: its path is the service's.
func (r *Relay) Address() string {
	u := url.URL{Scheme: "http", Host: r.l.Addr().String(), Path: r.o.Load().To.Path}
	if r.o.Load().Secret != "" {
		u.Path = "/" + r.o.Load().Secret + u.Path
	}
	return u.String()
}

// ListensAt are the host and port of each listener: the plain one, and the one over TLS.
func (r *Relay) ListensAt() []string {
	out := []string{r.l.Addr().String()}
	if r.tls != nil {
		out = append(out, r.tls.Addr().String())
	}
	return out
}

// Addresses are all addresses at which programs call: plain, and over TLS where it
// listens there.
func (r *Relay) Addresses() []string {
	out := []string{r.Address()}
	if r.tls != nil {
		u, err := url.Parse(r.Address())
		if err == nil {
			u.Scheme, u.Host = "https", r.tls.Addr().String()
			out = append(out, u.String())
		}
	}
	return out
}

// Close ends the relay and waits for it.
func (r *Relay) Close() {
	r.cancel()
	r.l.Close()
	if r.tls != nil {
		r.tls.Close()
	}
	r.mu.Lock()
	for c := range r.conns {
		c.Close()
	}
	r.mu.Unlock()
	r.wg.Wait()
}

func (r *Relay) accept(l net.Listener) {
	defer r.wg.Done()
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		if !r.o.Load().allowed(c.RemoteAddr()) {
			c.Close()
			continue
		}
		select {
		case r.room <- struct{}{}:
		default:
			r.makeRoom()
			select {
			case r.room <- struct{}{}:
			case <-r.ctx.Done():
				c.Close()
				return
			}
		}
		r.wait(c, time.Now())
		r.wg.Add(1)
		go func() {
			defer r.wg.Done()
			r.serve(c)
			c.Close()
			r.mu.Lock()
			delete(r.conns, c)
			r.mu.Unlock()
			<-r.room
		}()
	}
}

// wait notes since when a connection waits for a request; the zero time: it does not.
func (r *Relay) wait(c net.Conn, since time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.conns[c] = since
}

// makeRoom ends the connection that has waited longest for a request to come, or to
// come whole: whoever is slow does not keep others out.
func (r *Relay) makeRoom() {
	r.mu.Lock()
	defer r.mu.Unlock()
	var longest net.Conn
	for c, since := range r.conns {
		if !since.IsZero() && (longest == nil || since.Before(r.conns[longest])) {
			longest = c
		}
	}
	if longest != nil {
		longest.Close()
	}
}

// serve passes on what comes over a connection, one request after the other. Where
// the program keeps it, one to the service is kept for it alone: some ways to log
// in are bound to a connection.
func (r *Relay) serve(c net.Conn) {
	r.serveAt(&patient{Conn: c, idle: r.o.Load().Idle}, nil)
}

// pass passes one request on. more is true where another may follow.
func (r *Relay) pass(c *patient, in *bufio.Reader, pool *wire.Pool, at *url.URL) (more bool) {
	w, keep, err := r.read(in, c, at)
	var tunnel errConnect
	if errors.As(err, &tunnel) {
		r.tunnel(c, in, tunnel.host)
		return false
	}
	if err != nil {
		r.turnAway(c, err)
		return false
	}
	r.wait(c.tracked(), time.Time{})
	defer w.Close()
	o := r.o.Load() // one call goes by one of them
	plan := r.planOf(o, w)
	p := &passing{to: c.Conn, w: w.Imported}
	w.Pass = p.pass
	if o.Answer != nil && !w.later {
		response, after, ok := o.Answer(w.Imported)
		late := time.NewTimer(after)
		defer late.Stop()
		select {
		case <-late.C:
		case <-r.ctx.Done():
			return false
		}
		if ok {
			r.answerHere(o, c.Conn, plan, w.Imported, response)
			return false
		}
	}
	plan.Pool = pool
	x := call.Relay(r.ctx, plan, w.Imported)
	o.tell(w, x)
	defer x.Close()
	p.rest()
	l := x.Leg()
	if p.passed == 0 && w.Left == nil {
		why := "the service did not answer"
		if f := x.Cause(); f != nil {
			why = f.Title + ". " + f.Why
		}
		answer(c, "502 Bad Gateway", "orenda relay: "+why)
		return false
	}
	return w.Left == nil && keep && !r.ending.Load() && w.Came == w.Declared && ends(l, w.Method)
}

// planOf is how a request is passed on, and held against; it is changed first, where that is wanted.
func (r *Relay) planOf(o *Options, w *taken) call.Plan {
	if w.later { // it goes to the program, to which nothing of the service belongs
		plan := o.Plan(w.Imported)
		return call.Plan{Agent: plan.Agent, Endpoint: plan.Endpoint, Workspace: plan.Workspace, Operation: "answer"}
	}
	if o.Change != nil {
		o.Change(w.Imported)
	}
	if o.Answers {
		r.throughHere(w.Imported)
	}
	return o.Plan(w.Imported)
}

// tell tells of an exchange that was passed on: a forward proxy of what is no call by its size.
func (o *Options) tell(w *taken, x *exchange.Exchange) {
	if o.Forward != nil && !isCall(w) {
		size := max(w.Came, 0)
		if l := x.Leg(); l != nil {
			size += l.Response.BodySize
		}
		o.Forward.Other(x.Host(), size, true)
	} else if o.Keep != nil {
		o.Keep(x)
	}
}

// answerHere gives a program an answer that no service made, and tells of the exchange as of
// one that was passed on.
func (r *Relay) answerHere(o *Options, c net.Conn, plan call.Plan, w *call.Imported, response []byte) {
	w.Reply = response
	x := call.Explain(r.ctx, plan, w)
	x.Kind = "relay"
	x.Result = "answered by the relay: " + x.Result
	if o.Keep != nil {
		o.Keep(x)
	}
	x.Close()
	_ = c.SetWriteDeadline(time.Now().Add(takeTime))
	_, _ = c.Write(response)
}

// passing gives an answer on to the program that asked, as it comes. What completes it is
// held back until the exchange is kept: a program that has its answer is not lost sight of,
// whatever becomes of the relay.
type passing struct {
	to     net.Conn
	w      *call.Imported
	passed int64
	held   []byte
}

func (p *passing) pass(b []byte, last bool) {
	if last {
		p.held = append(p.held, b...)
		return
	}
	p.give(b)
}

// rest gives what was held back.
func (p *passing) rest() {
	if len(p.held) > 0 {
		p.give(p.held)
	}
}

func (p *passing) give(b []byte) {
	if p.w.Left != nil {
		return
	}
	_ = p.to.SetWriteDeadline(time.Now().Add(takeTime))
	n, err := p.to.Write(b)
	if p.passed += int64(n); err != nil {
		left := p.passed
		p.w.Left = &left
	}
}

// taken is a request that was taken from a program. What is too large for memory of it
// lies on disk until Close.
type taken struct {
	*call.Imported
	disk  *spool.Spool
	later bool // it is an answer that comes later, to a call that was passed on before
}

// Write takes more of the body.
func (w *taken) Write(p []byte) (int, error) {
	w.Came += int64(len(p))
	if w.disk == nil && len(w.Body)+len(p) <= inMemory {
		w.Body = append(w.Body, p...)
		return len(p), nil
	}
	if w.disk == nil {
		disk, err := spool.New("", maxBody+1)
		if err == nil {
			err = disk.Append(w.Body)
		}
		if err != nil {
			return 0, fmt.Errorf("the request cannot be kept on disk: %w", err)
		}
		w.disk = disk
	}
	return len(p), w.disk.Append(p)
}

// take takes as many bytes as were declared, or as come: into the place where they stay, and only what
// goes beyond what is believed by a buffer.
func (w *taken) take(in io.Reader) error {
	first := w.Body[:min(w.Declared, believed)]
	n, err := io.ReadFull(in, first)
	w.Body, w.Came = first[:n], int64(n)
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	if err != nil || w.Came == w.Declared {
		return err
	}
	_, err = io.CopyBuffer(w, io.LimitReader(in, w.Declared-w.Came), make([]byte, 64<<10))
	return err
}

// whole ends the body: of a large one the beginning is in memory.
func (w *taken) whole() {
	if w.disk != nil {
		all := exchange.StoredBody(w.disk)
		w.Body, w.Rest = all.Range(0, exchange.MaxKept), all.Part(exchange.MaxKept, all.Len())
	}
}

// Close gives up what lies on disk.
func (w *taken) Close() {
	if w.disk != nil {
		_ = w.disk.Close()
	}
}

// ends tells whether the program knows where an answer ends without the end of the
// connection (RFC 9112 §6.3), which the service means to keep (§9.3).
func ends(l *exchange.Leg, method string) bool {
	h := &l.Response
	framed := h.Chunked || h.Declared >= 0 || h.Status == http.StatusNoContent || h.Status == http.StatusNotModified ||
		method == http.MethodHead
	return framed && !l.Truncated && h.BodyWhole && h.Proto == "HTTP/1.1" && !http1.Says(h.Get("Connection"), "close")
}

// patient gives the next bytes a time of their own, but no longer than to an end that
// may be set.
type patient struct {
	net.Conn
	idle time.Duration
	end  time.Time // zero: none
	of   net.Conn  // the connection that was accepted, where this one is within it; nil: this one
}

// tracked is the connection that was accepted.
func (p *patient) tracked() net.Conn {
	if p.of != nil {
		return p.of
	}
	return p.Conn
}

func (p *patient) Read(b []byte) (int, error) {
	until := time.Now().Add(p.idle)
	if !p.end.IsZero() && p.end.Before(until) {
		until = p.end
	}
	_ = p.SetReadDeadline(until)
	return p.Conn.Read(b)
}

// errNoWay means that a request does not know the secret part of the path.
var errNoWay = errors.New("nothing is here")

// known takes the secret part off a request's target.
func (r *Relay) known(target string) (rest string, ok bool) {
	if r.o.Load().Secret == "" {
		return target, true
	}
	want := "/" + r.o.Load().Secret
	if len(target) < len(want) || subtle.ConstantTimeCompare([]byte(target[:len(want)]), []byte(want)) == 0 {
		return "", false
	}
	rest = target[len(want):]
	if rest == "" || rest[0] == '?' {
		rest = "/" + rest
	}
	return rest, rest[0] == '/'
}

func answer(c net.Conn, status, text string) {
	text = safe.Line(text) + "\n" // it may quote the service, and is for a person
	_ = c.SetWriteDeadline(time.Now().Add(10 * time.Second))
	_, _ = fmt.Fprintf(
		c,
		"HTTP/1.1 %s\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
		status,
		len(text),
		text,
	)
}

// goesTo is where a request goes, and what stands in its way.
func (r *Relay) goesTo(line *http1.RequestLine, at *url.URL) (to *url.URL, err error) {
	o := r.o.Load()
	switch {
	case o.Forward == nil:
		ok := false
		if line.Target, ok = r.known(line.Target); !ok {
			return nil, errNoWay
		}
		return o.To, nil
	case at == nil && line.Method == http.MethodConnect:
		return nil, errConnect{line.Target}
	case at == nil:
		return origin(line.Target)
	}
	if to, err = at.Parse(line.Target); err != nil || to.Host != at.Host || to.Scheme != at.Scheme {
		return nil, errNotHere
	}
	return to, nil
}

// turnAway answers a request that is not taken, and tells of it.
func (r *Relay) turnAway(c *patient, err error) {
	told := r.o.Load().TurnedAway
	if errors.Is(err, io.EOF) || r.ending.Load() {
		return
	}
	var closed errHandshake
	switch {
	case errors.As(err, &closed): // there is nobody who reads an answer
	case errors.Is(err, errNoWay):
		answer(c, "404 Not Found", "orenda relay: nothing is here")
	default:
		answer(c, "400 Bad Request", "orenda relay: "+err.Error())
	}
	if told != nil {
		told(withoutQuoted(err.Error()))
	}
}

// withoutQuoted is why a request was not taken, without what is quoted of it where that may hold a secret: a field
// of which the colon is missing stands whole in the words.
func withoutQuoted(why string) string {
	if !exchange.SecretNames(nil).Within([]byte(why)) {
		return why
	}
	return quotedText.ReplaceAllString(why, `"…"`)
}

//nolint:gochecknoglobals // what never changes is compiled once
var quotedText = regexp.MustCompile(`"(\\.|[^"\\])*"?`)

// errHandshake is why a program and the relay did not come to speak with each other.
type errHandshake string

func (e errHandshake) Error() string { return string(e) }

// began is why nothing came over a connection: io.EOF where the program said nothing.
func began(first []byte, err error) error {
	var header tls.RecordHeaderError
	var alert *net.OpError
	switch {
	case err == nil && first[0] == 0x16: // a handshake record (RFC 8446 §5.1)
		return errors.New("that is no request line: the program speaks TLS to the address that is for plain HTTP")
	case err == nil:
		return nil
	case errors.As(err, &header):
		return errHandshake("the program speaks plain HTTP to the address that is for TLS")
	case errors.As(err, &alert) && alert.Op == "remote error":
		why := "the program broke off TLS: " + alert.Err.Error()
		if strings.Contains(why, "certificate") {
			why += "; it has to trust the file of the local authority"
		}
		return errHandshake(why)
	}
	return io.EOF
}

// read takes a request as it comes: its fields in order and as they are spelled.
// keep is true where the program keeps the connection.
func (r *Relay) read(in *bufio.Reader, c *patient, at *url.URL) (w *taken, keep bool, err error) {
	first, err := in.Peek(1)
	if err = began(first, err); err != nil { // io.EOF: a program that keeps the connection may be quiet
		return nil, false, err
	}
	c.end = time.Now().Add(r.o.Load().Head)
	line, head, err := readHead(in)
	if err != nil {
		return nil, false, err
	}
	c.end = time.Time{}
	forward := r.o.Load().Forward != nil
	w = &taken{Imported: &call.Imported{Declared: head.Declared, Method: line.Method}}
	to := r.answers.place(line.Target)
	if w.later = to != nil; !w.later && r.o.Load().Answers && strings.HasPrefix(line.Target, answersPath) {
		return nil, false, errNoWay
	}
	if !w.later {
		if to, err = r.goesTo(&line, at); err != nil {
			return nil, false, err
		}
	}
	if w.URL = r.target(line.Target); forward || w.later {
		w.URL = to.String()
	}
	keep = line.Proto == "HTTP/1.1"
	keep, expects, err := r.fields(w, head, to, keep)
	if err != nil {
		return nil, false, err
	}
	if line.Proto == "HTTP/1.0" && !slices.ContainsFunc(w.Header, isHost) { // it goes on as HTTP/1.1, which demands one
		w.Header = slices.Insert(w.Header, 0, [2]string{"Host", to.Host})
	}
	if expects {
		_, _ = io.WriteString(c, "HTTP/1.1 100 Continue\r\n\r\n")
	}
	if err := body(in, w, head.Chunked); err != nil {
		w.Close()
		return nil, false, err
	}
	if !keep {
		w.Header = append(w.Header, [2]string{"Connection", "close"})
	}
	return w, keep, nil
}

func isHost(f [2]string) bool { return strings.EqualFold(f[0], "Host") }

// fields takes the fields of a request that go on to the service. keep is whether the program keeps
// the connection, expects whether it waits for leave to send the body.
func (r *Relay) fields(w *taken, head *exchange.Head, to *url.URL, keeps bool) (keep, expects bool, err error) {
	keep = keeps
	forward, named := r.o.Load().Forward != nil, connectionOptions(head.Fields)
	for _, f := range head.Fields {
		name, value := f.Name, f.Value
		switch strings.ToLower(name) {
		case "host":
			if !forward && !r.isOurs(value) {
				return false, false, fmt.Errorf("the host %.80q is not this relay", value)
			}
			value = to.Host
		case "origin": // a browser sends it with what a page posts (RFC 6454 §7)
			if !forward {
				return false, false, fmt.Errorf("a web page from elsewhere, %.80q, may not call through here", value)
			}
		case "sec-fetch-site": // and this with whatever it asks for (W3C Fetch Metadata §2.4)
			if !forward {
				return false, false, fmt.Errorf("a web page (Sec-Fetch-Site: %.40q) may not call through here", value)
			}
		case "content-length":
			if head.Declared > maxBody {
				return false, false, fmt.Errorf("a length of %.40q is not taken", value)
			}
		case "expect":
			expects = strings.EqualFold(value, "100-continue")
			continue
		case "connection":
			keep = !http1.Says(value, "close") && (keep || http1.Says(value, "keep-alive"))
			continue // between the program and here
		case "transfer-encoding", "proxy-connection", "keep-alive", "upgrade", "te", "trailer",
			"proxy-authorization", "proxy-authenticate":
			continue // for the next hop alone (RFC 9110 §7.6.1)
		}
		if named[strings.ToLower(name)] {
			continue
		}
		w.Header = append(w.Header, [2]string{name, value})
	}
	return keep, expects, nil
}

// readHead reads a head; io.EOF where nobody said anything.
func readHead(in *bufio.Reader) (line http1.RequestLine, head *exchange.Head, err error) {
	var b []byte
	for lines := 0; ; {
		l, err := in.ReadSlice('\n')
		if b = append(b, l...); len(b) > http1.MaxHead || errors.Is(err, bufio.ErrBufferFull) {
			return line, nil, http1.ErrTooLarge
		}
		if err != nil && lines == 0 {
			return line, nil, io.EOF // nobody said anything
		}
		if err != nil {
			return line, nil, fmt.Errorf("the head was cut off: %w", err)
		}
		text := strings.TrimRight(string(l), "\r\n")
		switch {
		case text == "" && lines == 0: // before the request line (RFC 9112 §2.2)
			b = b[:0]
			continue
		case text == "":
			return http1.Request(b)
		case lines == 0:
			if _, err := http1.ParseRequestLine(text); err != nil {
				return line, nil, err
			}
		}
		lines++
	}
}

// target is where a request goes.
func (r *Relay) target(said string) string {
	u, err := url.Parse(said)
	if err != nil {
		u = &url.URL{Path: "/"}
	}
	to := *r.o.Load().To
	if u.Path != "" && u.Path != "/" {
		to.Path, to.RawPath = u.Path, u.RawPath
	}
	if u.RawQuery != "" {
		to.RawQuery = u.RawQuery
	}
	return to.String()
}

// body reads what a request carries, and counts what it declared.
func body(in *bufio.Reader, w *taken, chunked bool) error {
	defer w.whole()
	switch {
	case chunked:
		if err := dechunk(in, w); err != nil {
			return err
		}
		w.Declared = w.Came
		w.Header = append(w.Header, [2]string{"Content-Length", strconv.FormatInt(w.Came, 10)})
	case w.Declared > 0:
		w.Body = make([]byte, 0, min(w.Declared, believed))
		if err := w.take(in); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			var ne net.Error
			if !errors.As(err, &ne) {
				return err
			}
		}
		if w.Came == w.Declared {
			w.Came += beyond(in)
		}
	case w.Declared == 0:
	default:
		w.Came, w.Undeclared = -1, beyond(in) > 0
	}
	return nil
}

// believed is for how many bytes of a declared length there is room before they come.
const believed = 64 << 10

// beyond is how many bytes stand after the declared end that begin no other
// request.
func beyond(in *bufio.Reader) int64 {
	n := in.Buffered()
	if n == 0 {
		return 0
	}
	rest, _ := in.Peek(n)
	word, _, _ := strings.Cut(string(rest[:min(n, 16)]), " ")
	if len(word) >= 3 && word == strings.ToUpper(word) &&
		strings.IndexFunc(word, func(r rune) bool { return r < 'A' || r > 'Z' }) < 0 {
		return 0
	}
	if strings.Trim(string(rest), "\r\n") == "" { // what old programs put after a body (RFC 9112 §2.2)
		return 0
	}
	return int64(n)
}

// dechunk reads a body in chunks (RFC 9112 §7.1).
func dechunk(in *bufio.Reader, out *taken) error {
	out.Body = []byte{}
	var chunks http1.Chunks
	for size := 1; !chunks.Done(); {
		p, err := in.Peek(size)
		if have := in.Buffered(); have > len(p) {
			p, _ = in.Peek(have)
		}
		piece, cerr := chunks.Next(p)
		switch {
		case cerr != nil:
			return fmt.Errorf("the chunk is not taken: %w", cerr)
		case out.Came > maxBody-int64(piece.Data)-chunks.Left():
			return fmt.Errorf("a body of more than %d bytes is not taken", int64(maxBody))
		case piece == (http1.Piece{}) && err != nil:
			return fmt.Errorf("the chunks were cut off: %w", err)
		case piece == (http1.Piece{}):
			size = len(p) + 1 // more must come
			continue
		}
		if _, err := out.Write(p[piece.Skip : piece.Skip+piece.Data]); err != nil {
			return err
		}
		if _, err := in.Discard(piece.Skip + piece.Data); err != nil {
			return err
		}
		size = 1
	}
	return nil
}
