// Package wire carries one HTTP/1.1 request and its answer over a connection
// that it dials and records: every byte above TLS, the handshake beneath it,
// and the time of each. Limits hold while reading. Nothing is sent twice, no
// header is re-spelled, no coding is undone unseen.
package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/spool"
	"orenda/internal/trust"
)

// Config says how to reach a service and what is accepted from it. A zero time
// or size means no limit.
type Config struct {
	Host string // name or address
	Port string // decimal
	TLS  bool   // it is called over TLS

	ConnectTime time.Duration // for the name, the connection and the handshake
	SendTime    time.Duration // for each piece of the request
	AnswerTime  time.Duration // from the end of the request to the first byte
	ReceiveTime time.Duration // between two pieces of the answer

	ReceiveLimit  int64 // bytes of body, transfer coding removed
	BufferLimit   int64 // the same, where the reply is taken in whole; 0: flowing
	InflatedLimit int64 // bytes of body, content coding removed

	ServerName   string            // asked for and sent as SNI; "" the host
	MinVersion   uint16            // of TLS; 0: what Go takes
	MaxVersion   uint16            // of TLS; 0: what Go takes
	Ciphers      []uint16          // up to TLS 1.2; nil: those that are sound
	Protocols    []string          // ALPN
	KeyLog       io.Writer         // nil: none is kept
	Certificates []tls.Certificate // the client's; the first is sent where one is asked for
	// Choose finds a certificate where none is set and one is asked for; may be nil.
	Choose func(*tls.CertificateRequestInfo) *tls.Certificate
	// Judge says what is wrong with a chain; nil: every one is taken.
	Judge func([]*x509.Certificate) *trust.Verdict
	// Standing asks whether the certificates of a chain that Judge took were revoked; nil:
	// nobody is asked. stapled is the OCSP response of the handshake.
	Standing func(ctx context.Context, chain []*x509.Certificate, stapled []byte) []exchange.Standing

	Spill int64 // bytes of the answer beyond which it is kept on disk; 0: never

	Proxy *Proxy // nil: the service itself is connected to
	// Pass is given the final answer as it comes, its head first, to where it ends; last
	// with what completes it. It must not keep the bytes. nil: nobody is.
	Pass func(b []byte, last bool)

	Chunked bool        // the request's body is sent in chunks (RFC 9112 §7.1)
	Trailer [][2]string // fields behind the last chunk: names and values
	Expect  bool        // the body waits for the interim answer 100 (RFC 9110 §10.1.1)

	Conn     net.Conn       // in the place of one that is dialled; nil: one is
	Until    exchange.Stage // go no further; None: to the end
	Resolver *net.Resolver  // nil: the system's
	// ConnectTo is a host and port that is connected to in the place of Host and Port; "" none.
	ConnectTo string
	// IP is the version of IP: "4" or "6" demanded, "prefer-4" or "prefer-6" tried first; "" any.
	IP   string
	Pool *Pool // nil: a fresh connection each time
	// Principal says on whose behalf the connection is used: everything of HTTP that
	// tells one caller from another. Kept connections are not shared across it.
	Principal string
	// TrustedBy says by what rules the peer's certificate is judged. A kept
	// connection was judged once, so it is not shared across it either.
	TrustedBy string
}

// Request is what is sent: the header fields in order and as spelled.
type Request struct {
	Purpose string      // of its leg: "" the call itself, "redirect"
	Method  string      // POST, GET
	Target  string      // path and query
	Header  [][2]string // names and values
	Body    []byte      // without transfer coding
	// Plain is what Body is a content coding of (RFC 9110 §8.4), and what is recorded as the request's
	// body; nil: Body itself.
	Plain       []byte
	PlainSecret []exchange.Span // secrets in Plain
	// Front is room for the head right before Body, in the same memory: its capacity
	// reaches to Body's end. It is written once. nil: there is none, and Body is copied.
	Front []byte
	// Rest follows Body where that is only the beginning of what is too large for memory.
	// It is sent, and not recorded. With it, nothing is sent in chunks.
	Rest   exchange.Body
	Secret []exchange.Span // secrets in Body
	// SecretHeader tells whether a field's value is a secret; nil: none is.
	SecretHeader func(name string) bool
}

// expiredDeadline is long enough ago to end any read or write at once.
func expiredDeadline() time.Time { return time.Unix(1, 0) }

// Do sends the request on a new leg and reads the answer into it. It begins
// and ends the stages from connect to receive; the stage that fails is left
// open, for the caller to stop with what is said in the *Error.
func Do(ctx context.Context, cfg Config, req Request, rec *exchange.Recorder) (*exchange.Leg, error) {
	t := &roundTrip{ctx: ctx, cfg: cfg, req: req, rec: rec}
	t.newLeg(req.Purpose)
	err := t.run()
	if t.conn != nil {
		if err == nil && cfg.Pool != nil && t.reusable {
			cfg.Pool.put(t.poolKey(), t.conn, t.leg.Conn.TLS)
		} else {
			t.conn.Close()
			rec.Moment(exchange.Moment{Kind: exchange.Closed, Text: t.whoEnded()})
		}
	}
	return t.leg, err
}

// whoEnded tells who closed the connection.
func (t *roundTrip) whoEnded() string {
	switch {
	case t.peerEnded:
		return "by the server"
	case t.ctx.Err() != nil:
		return "here: the call was halted, or its time was over"
	}
	return "here"
}

// roundTrip is one request and its answer.
type roundTrip struct {
	ctx context.Context
	cfg Config
	key string // of the pool, "" not made yet
	// peerEnded tells that the peer closed the connection, or reset it.
	peerEnded bool
	req       Request
	rec       *exchange.Recorder
	leg       *exchange.Leg
	conn      net.Conn
	reusable  bool // the connection can carry another request

	payload []byte // head and body, as written
	rest    int64  // bytes of req.Rest that were written
	interim int64  // in leg.In: where the interim answers end that came so far
	passed  int64  // in leg.In: what was given to cfg.Pass
}

// noLimit is the most that is kept of an answer on disk, in bytes; inMemory is how much
// of what came is held in memory beside a body that has bytes of its own.
const (
	noLimit  = 1 << 40
	inMemory = 8 << 20
)

// newLeg opens the next leg.
func (t *roundTrip) newLeg(purpose string) {
	room := max(t.cfg.ReceiveLimit, t.cfg.InflatedLimit)
	if t.cfg.ReceiveLimit == 0 || t.cfg.InflatedLimit == 0 {
		room = noLimit
	}
	room = min(8*room+1<<20, noLimit) // for the framing, and for what is read ahead; it costs nothing
	spill := exchange.Spill{
		Beyond: t.cfg.Spill,
		Own:    inMemory,
		Open:   func() (exchange.Storage, error) { return spool.New("", room) },
	}
	t.leg = t.rec.NewLeg(purpose, spill)
}

func (t *roundTrip) run() error {
	if err := t.open(); err != nil {
		return err
	}
	stop := context.AfterFunc(t.ctx, func() { _ = t.conn.SetDeadline(expiredDeadline()) })
	defer stop()
	if t.cfg.Until != exchange.None && t.cfg.Until <= exchange.TLS {
		return nil
	}
	return t.sendAndReceive()
}

// open connects and shakes hands, or takes a connection that was kept.
func (t *roundTrip) open() error {
	if t.takeKept() {
		return nil
	}
	t.rec.Begin(exchange.Connect)
	ctx, cancel := t.ctx, context.CancelFunc(func() {})
	if t.cfg.ConnectTime > 0 {
		ctx, cancel = context.WithTimeout(ctx, t.cfg.ConnectTime)
	}
	defer cancel()
	if err := t.connect(ctx); err != nil {
		return err
	}
	t.rec.End(exchange.Connect, exchange.Passed, "")
	if !t.cfg.TLS {
		t.rec.End(exchange.TLS, exchange.Skipped, "not used")
		return nil
	}
	if t.cfg.Until == exchange.Connect {
		return nil
	}
	t.rec.Begin(exchange.TLS)
	if err := t.handshake(ctx); err != nil {
		return err
	}
	t.rec.End(exchange.TLS, exchange.Passed, "")
	return nil
}

// poolKey is the key of the connection, made once.
func (t *roundTrip) poolKey() string {
	if t.key == "" {
		t.key = t.cfg.poolKey()
	}
	return t.key
}

// takeKept takes a connection that was kept, where there is one.
func (t *roundTrip) takeKept() bool {
	if t.cfg.Pool == nil {
		return false
	}
	conn, info := t.cfg.Pool.take(t.poolKey())
	if conn == nil {
		return false
	}
	t.conn = conn
	t.rec.Begin(exchange.Connect)
	remote := conn.RemoteAddr().String()
	t.rec.Update(func(*exchange.Exchange) {
		t.leg.Conn.Reused, t.leg.Conn.TLS = true, info
		t.leg.Conn.Remote, t.leg.Conn.Local = remote, conn.LocalAddr().String()
	})
	t.rec.Moment(exchange.Moment{Kind: exchange.Reused, Stage: exchange.Connect, Text: remote})
	t.rec.End(exchange.Connect, exchange.Passed, "kept connection")
	if t.cfg.TLS {
		t.rec.End(exchange.TLS, exchange.Passed, "kept connection")
	} else {
		t.rec.End(exchange.TLS, exchange.Skipped, "not used")
	}
	return true
}

// connect reaches the service, or the proxy in front of it.
func (t *roundTrip) connect(ctx context.Context) (err error) {
	host := net.JoinHostPort(t.cfg.Host, t.cfg.Port)
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Host = host })
	switch {
	case t.cfg.Conn != nil:
		t.conn = t.cfg.Conn
		return nil
	case t.cfg.Proxy != nil:
		return t.throughProxy(ctx)
	}
	t.conn, err = t.dial(ctx, t.cfg.Host, t.cfg.Port)
	return err
}
