// Package wire carries one HTTP/1.1 request and its answer over a connection
// that it dials and records: every byte above TLS, the handshake beneath it,
// and the time of each. Limits hold while reading. Nothing is sent twice, no
// header is re-spelled, no coding is undone unseen.
package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// Config says how to reach a service and what is accepted from it. A zero time
// or size means no limit.
type Config struct {
	Host, Port string
	TLS        bool

	ConnectTime, SendTime, AnswerTime, ReceiveTime time.Duration

	ReceiveLimit  int64 // bytes of body, transfer coding removed
	BufferLimit   int64 // the same, where the reply is taken in whole; 0: flowing
	InflatedLimit int64 // bytes of body, content coding removed

	ServerName             string // asked for and sent as SNI; "" the host
	MinVersion, MaxVersion uint16
	Ciphers                []uint16  // up to TLS 1.2; nil: those that are sound
	Protocols              []string  // ALPN
	KeyLog                 io.Writer // nil: none is kept
	Certificates           []tls.Certificate
	Choose                 func(*tls.CertificateRequestInfo) *tls.Certificate // where none is set and one is asked for; may be nil
	Judge                  func([]*x509.Certificate) *trust.Verdict

	Spill int64 // bytes of the answer beyond which it is kept on disk; 0: never

	Proxy   *Proxy // nil: the service itself is connected to
	Chunked bool   // the request's body is sent in chunks (RFC 9112 §7.1)
	Expect  bool   // the body waits for the interim answer 100 (RFC 9110 §10.1.1)

	Conn     net.Conn       // in the place of one that is dialled; nil: one is
	Until    exchange.Stage // go no further; None: to the end
	Resolver *net.Resolver  // nil: the system's
	Pool     *Pool          // nil: a fresh connection each time
	Scope    string         // kept connections are shared within it only: they were judged once
}

// Request is what is sent: the header fields in order and as spelled.
type Request struct {
	Purpose string // of its leg: "" the call itself, "redirect"
	Method  string
	Target  string // path and query
	Header  [][2]string
	Body    []byte
	Secret  []exchange.Span // secrets in the body
	// SecretHeader tells whether a field's value is a secret; nil: none is.
	SecretHeader func(name string) bool
}

// Error is why a call stopped on the wire. Kind is the id of the finding that
// it amounts to, as far as the wire alone can tell.
type Error struct {
	Stage     exchange.Stage
	Kind      string
	Err       error
	Verdict   *trust.Verdict // tls.certificate
	Alert     string         // the peer's alert, in its own words
	Limit     int64          // bytes or nanoseconds, whichever the kind is about
	Got       int64          // bytes that had been delivered or had left
	Announced int64          // bytes that were announced, or -1
	At        int64          // offset in the leg's In bytes at which it shows
}

func (e *Error) Error() string {
	if e.Err != nil {
		return e.Kind + ": " + e.Err.Error()
	}
	return e.Kind
}

func (e *Error) Unwrap() error { return e.Err }

// ErrTotalTime is the cause with which the caller cancels when the limit on
// the whole call has run out.
var ErrTotalTime = errors.New("the limit on the whole call ran out")

// long enough ago to end any read or write at once.
var past = time.Unix(1, 0)

// Do sends the request on a new leg and reads the answer into it. It begins
// and ends the stages from connect to receive; the stage that fails is left
// open, for the caller to stop with what is said in the *Error.
func Do(ctx context.Context, cfg Config, req Request, rec *exchange.Recorder) (*exchange.Leg, error) {
	t := &trip{ctx: ctx, cfg: cfg, req: req, rec: rec}
	t.newLeg(req.Purpose)
	err := t.run()
	if t.conn != nil {
		if err == nil && cfg.Pool != nil && t.reusable {
			cfg.Pool.put(cfg.poolKey(), t.conn, t.tlsInfo)
		} else {
			t.conn.Close()
			rec.Moment(exchange.Moment{Kind: exchange.Closed})
		}
	}
	return t.leg, err
}

// readSize is how much is read at a time, and so how far ahead of a limit.
const readSize = 16 << 10

var buffers = sync.Pool{New: func() any { return new([readSize]byte) }}

// trip is one crossing.
type trip struct {
	ctx      context.Context
	cfg      Config
	req      Request
	rec      *exchange.Recorder
	leg      *exchange.Leg
	conn     net.Conn
	tlsInfo  *exchange.TLSInfo
	reusable bool

	payload []byte // head and body, as written
	interim int    // in leg.In: where the interim answers end that came before the body left
}

// newLeg opens the next crossing.
func (t *trip) newLeg(purpose string) {
	t.leg = t.rec.NewLeg(purpose)
	if t.cfg.Spill > 0 {
		t.rec.Update(func(*exchange.Exchange) {
			t.leg.Spill, t.leg.SpillMost = t.cfg.Spill, max(t.cfg.ReceiveLimit, t.cfg.InflatedLimit)+t.cfg.ReceiveLimit/8+1<<20
		})
	}
}

func (t *trip) run() error {
	if err := t.reach(); err != nil {
		return err
	}
	stop := context.AfterFunc(t.ctx, func() { _ = t.conn.SetDeadline(past) })
	defer stop()
	if t.cfg.Until != exchange.None && t.cfg.Until <= exchange.TLS {
		return nil
	}
	return t.converse()
}

// reach connects, or takes a connection that was kept.
func (t *trip) reach() error {
	if t.cfg.Pool != nil {
		if conn, info := t.cfg.Pool.take(t.cfg.poolKey()); conn != nil {
			t.conn, t.tlsInfo = conn, info
			t.rec.Begin(exchange.Connect)
			t.rec.Update(func(*exchange.Exchange) {
				t.leg.Conn.Reused, t.leg.Conn.TLS = true, info
				t.leg.Conn.Remote, t.leg.Conn.Local = conn.RemoteAddr().String(), conn.LocalAddr().String()
			})
			t.rec.Moment(exchange.Moment{Kind: exchange.Reused, Stage: exchange.Connect, Text: t.leg.Conn.Remote})
			t.rec.End(exchange.Connect, exchange.Passed, "kept connection")
			if t.cfg.TLS {
				t.rec.End(exchange.TLS, exchange.Passed, "kept connection")
			} else {
				t.rec.End(exchange.TLS, exchange.Skipped, "not used")
			}
			return nil
		}
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

// connect reaches the service, or the proxy in front of it.
func (t *trip) connect(ctx context.Context) (err error) {
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Host = net.JoinHostPort(t.cfg.Host, t.cfg.Port) })
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

// fail makes an *Error, unless the whole call was cancelled or ran out of time.
func (t *trip) fail(stage exchange.Stage, kind string, err error) *Error {
	e := &Error{Stage: stage, Kind: kind, Err: err, Announced: -1}
	if settled(t.ctx) != nil {
		if context.Cause(t.ctx) == ErrTotalTime {
			e.Kind = timeOutOf[stage]
			e.Err = ErrTotalTime
		} else {
			e.Kind, e.Err = "cancelled", context.Canceled
		}
	}
	return e
}

// timeOutOf is the time-out finding of each stage.
var timeOutOf = map[exchange.Stage]string{
	exchange.Connect: "connect.timed-out", exchange.TLS: "tls.timed-out", exchange.Send: "send.timed-out",
	exchange.Wait: "wait.timed-out", exchange.Receive: "receive.timed-out",
}

func isTimeout(err error) bool {
	var ne net.Error
	return errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded) || errors.As(err, &ne) && ne.Timeout()
}

// settled is ctx.Err, but for a deadline that has passed and whose timer has
// not run yet: a socket with the same deadline may give up before it.
func settled(ctx context.Context) error {
	if d, ok := ctx.Deadline(); ok && !time.Now().Before(d) {
		<-ctx.Done()
	}
	return ctx.Err()
}

func (t *trip) dial(ctx context.Context, host, port string) (net.Conn, error) {
	addrs := []string{host}
	if net.ParseIP(host) == nil {
		resolver := t.cfg.Resolver
		if resolver == nil {
			resolver = net.DefaultResolver
		}
		found, err := resolver.LookupHost(ctx, host)
		if err != nil {
			if isTimeout(err) && settled(ctx) != nil {
				e := t.fail(exchange.Connect, "connect.timed-out", err)
				e.Limit = int64(t.cfg.ConnectTime)
				return nil, e
			}
			return nil, t.fail(exchange.Connect, "connect.name-unknown", err)
		}
		addrs = found
		t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Resolved = found })
		t.rec.Moment(exchange.Moment{Kind: exchange.Lookup, Stage: exchange.Connect, Text: host + " is " + strings.Join(found, ", ")})
	}
	var last error
	for i, a := range addrs {
		to := net.JoinHostPort(a, port)
		t.rec.Moment(exchange.Moment{Kind: exchange.Dialing, Stage: exchange.Connect, Text: to})
		began := time.Now()
		one, cancel := ctx, context.CancelFunc(func() {})
		if deadline, ok := ctx.Deadline(); ok && i < len(addrs)-1 {
			// Each address has its share of the time that is left.
			one, cancel = context.WithDeadline(ctx, began.Add(time.Until(deadline)/time.Duration(len(addrs)-i)))
		}
		conn, err := (&net.Dialer{}).DialContext(one, "tcp", to)
		cancel()
		tried := exchange.Tried{Address: to, TookNs: int64(time.Since(began))}
		if err != nil {
			tried.Error = dialWords(err)
		}
		t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.Tried = append(t.leg.Conn.Tried, tried) })
		if err == nil {
			t.rec.Update(func(*exchange.Exchange) {
				t.leg.Conn.Local, t.leg.Conn.Remote = conn.LocalAddr().String(), conn.RemoteAddr().String()
			})
			t.rec.Moment(exchange.Moment{Kind: exchange.Connected, Stage: exchange.Connect, Text: to})
			return conn, nil
		}
		t.rec.Moment(exchange.Moment{Kind: exchange.DialFailed, Stage: exchange.Connect, Text: to + ": " + tried.Error})
		last = err
	}
	kind := "connect.unreachable"
	switch {
	case errors.Is(last, syscall.ECONNREFUSED):
		kind = "connect.refused"
	case isTimeout(last) || errors.Is(last, syscall.ETIMEDOUT):
		kind = "connect.timed-out"
	}
	e := t.fail(exchange.Connect, kind, last)
	e.Limit = int64(t.cfg.ConnectTime)
	return nil, e
}

// dialWords is a dial error without the parts that are said elsewhere.
func dialWords(err error) string {
	var se syscall.Errno
	switch {
	case errors.As(err, &se):
		return se.Error()
	case isTimeout(err):
		return "no answer in time"
	}
	var oe *net.OpError
	if errors.As(err, &oe) {
		return oe.Err.Error()
	}
	return err.Error()
}

// beneath records the first bytes of both directions below TLS.
type beneath struct {
	net.Conn
	rec  *exchange.Recorder
	info *exchange.TLSInfo
	done bool
}

const mostBeneath = 4096

func (b *beneath) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	if n > 0 && !b.done {
		first := len(b.info.HelloIn) == 0
		if room := mostBeneath - len(b.info.HelloIn); room > 0 {
			b.rec.Update(func(*exchange.Exchange) { b.info.HelloIn = append(b.info.HelloIn, p[:min(n, room)]...) })
		}
		if first {
			b.rec.Moment(exchange.Moment{Kind: exchange.HelloReceived, Stage: exchange.TLS, N: int64(n)})
		}
	}
	return n, err
}

func (t *trip) handshake(ctx context.Context) error {
	info := &exchange.TLSInfo{ServerName: t.cfg.ServerName}
	if info.ServerName == "" {
		info.ServerName = t.cfg.Host
	}
	t.tlsInfo = info
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.TLS = info })
	under := &beneath{Conn: t.conn, rec: t.rec, info: info}
	var verdict *trust.Verdict
	conf := &tls.Config{
		ServerName: info.ServerName, MinVersion: t.cfg.MinVersion, MaxVersion: t.cfg.MaxVersion,
		NextProtos: t.cfg.Protocols, CipherSuites: t.cfg.Ciphers, KeyLogWriter: t.cfg.KeyLog,
		// The judgement is ours, so that every fault is told and not only the first.
		InsecureSkipVerify: true,
		VerifyConnection: func(cs tls.ConnectionState) error {
			chain := cs.PeerCertificates
			t.rec.Update(func(*exchange.Exchange) {
				info.Version, info.Cipher = tls.VersionName(cs.Version), tls.CipherSuiteName(cs.CipherSuite)
				info.Protocol, info.Stapled, info.Timestamps = cs.NegotiatedProtocol, len(cs.OCSPResponse), len(cs.SignedCertificateTimestamps)
				for _, c := range chain {
					info.Chain = append(info.Chain, c.Raw)
				}
			})
			t.rec.Moment(exchange.Moment{Kind: exchange.ChainReceived, Stage: exchange.TLS, N: int64(len(chain)), Text: fmt.Sprintf("%d certificates", len(chain))})
			if t.cfg.Judge == nil {
				return nil
			}
			verdict = t.cfg.Judge(chain)
			if len(verdict.Faults) > 0 {
				return verdict
			}
			t.rec.Update(func(*exchange.Exchange) { info.Trusted = verdict.By })
			return nil
		},
		// Always set: else a certificate may silently not be sent.
		GetClientCertificate: func(ask *tls.CertificateRequestInfo) (*tls.Certificate, error) {
			t.rec.Update(func(*exchange.Exchange) {
				info.CertAsked = true
				info.Issuers = issuers(ask.AcceptableCAs)
			})
			t.rec.Moment(exchange.Moment{Kind: exchange.CertAsked, Stage: exchange.TLS, Text: strings.Join(info.Issuers, "; ")})
			if len(t.cfg.Certificates) == 0 {
				if t.cfg.Choose != nil {
					if c := t.cfg.Choose(ask); c != nil {
						t.rec.Update(func(*exchange.Exchange) { info.CertSent = true })
						return c, nil
					}
				}
				return &tls.Certificate{}, nil
			}
			t.rec.Update(func(*exchange.Exchange) { info.CertSent = true })
			return &t.cfg.Certificates[0], nil
		},
	}
	conn := tls.Client(under, conf)
	t.rec.Moment(exchange.Moment{Kind: exchange.HelloSent, Stage: exchange.TLS, Text: info.ServerName})
	err := conn.HandshakeContext(ctx)
	under.done = true
	if err != nil {
		return t.tlsError(err, verdict, info)
	}
	t.conn = conn
	t.rec.Moment(exchange.Moment{Kind: exchange.Handshaken, Stage: exchange.TLS, Text: info.Version + " " + info.Cipher})
	return nil
}

func issuers(raw [][]byte) []string {
	var out []string
	for _, r := range raw[:min(len(raw), 50)] {
		out = append(out, nameOf(r))
	}
	return out
}

// remoteAlert is the peer's alert, where the error is one.
func remoteAlert(err error) string {
	var oe *net.OpError
	if errors.As(err, &oe) && oe.Op == "remote error" {
		return strings.TrimPrefix(oe.Err.Error(), "tls: ")
	}
	return ""
}

func (t *trip) tlsError(err error, verdict *trust.Verdict, info *exchange.TLSInfo) error {
	e := t.fail(exchange.TLS, "tls.closed", err)
	if e.Kind == "cancelled" || errors.Is(e.Err, ErrTotalTime) {
		return e
	}
	var notTLS tls.RecordHeaderError
	switch alert := remoteAlert(err); {
	case verdict != nil && len(verdict.Faults) > 0:
		e.Kind, e.Verdict = "tls.certificate", verdict
	case errors.As(err, &notTLS):
		e.Kind = "tls.not-tls"
	case alert != "":
		t.rec.Update(func(*exchange.Exchange) { info.Alert = alert })
		t.rec.Moment(exchange.Moment{Kind: exchange.Alert, Stage: exchange.TLS, Text: alert})
		e.Alert = alert
		e.Kind = alertKind(alert, info)
	case isTimeout(err):
		e.Kind, e.Limit = "tls.timed-out", int64(t.cfg.ConnectTime)
	case strings.Contains(err.Error(), "unsupported protocol version"), strings.Contains(err.Error(), "protocol version"):
		e.Kind = "tls.version-refused"
	case strings.Contains(err.Error(), "cipher suite"):
		e.Kind = "tls.cipher-refused"
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET):
		e.Kind = "tls.closed"
	default:
		e.Kind = "tls.broken"
	}
	return e
}

func alertKind(alert string, info *exchange.TLSInfo) string {
	switch alert {
	case "protocol version not supported":
		return "tls.version-refused"
	case "certificate required":
		return "tls.client-certificate-required"
	case "bad certificate", "unsupported certificate", "revoked certificate", "expired certificate", "unknown certificate", "unknown certificate authority", "access denied":
		if info.CertSent {
			return "tls.client-certificate-refused"
		}
		if info.CertAsked {
			return "tls.client-certificate-required"
		}
	case "handshake failure":
		if info.CertAsked && !info.CertSent {
			return "tls.client-certificate-required"
		}
		return "tls.cipher-refused"
	case "unrecognized name":
		return "tls.name-unrecognized"
	case "no application protocol":
		return "tls.protocol-refused"
	case "insufficient security level":
		return "tls.cipher-refused"
	}
	return "tls.alert"
}
