package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"reflect"
	"slices"
	"strings"
	"syscall"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// maxHello is how many bytes from beneath TLS are recorded.
const maxHello = 4096

// recordingConn records the first bytes that come beneath TLS.
type recordingConn struct {
	net.Conn
	t    *roundTrip
	done bool // the handshake has ended
}

func (c *recordingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 && !c.done {
		info := c.t.leg.Conn.TLS
		first := len(info.HelloIn) == 0
		if room := maxHello - len(info.HelloIn); room > 0 {
			c.t.rec.Update(func(*exchange.Exchange) { info.HelloIn = append(info.HelloIn, p[:min(n, room)]...) })
		}
		if first {
			c.t.rec.Moment(exchange.Moment{Kind: exchange.HelloReceived, Stage: exchange.TLS, N: int64(n)})
		}
	}
	return n, err
}

// shaking is a handshake under way.
type shaking struct {
	t       *roundTrip
	info    *exchange.TLSInfo
	verdict *trust.Verdict
	signer  *trust.Signer // that has the client's key; nil: it was read, or none is sent
}

func (t *roundTrip) handshake(ctx context.Context) error {
	name := t.cfg.ServerName
	if name == "" {
		name = t.cfg.Host
	}
	s := &shaking{t: t, info: &exchange.TLSInfo{ServerName: name}}
	t.rec.Update(func(*exchange.Exchange) { t.leg.Conn.TLS = s.info })
	if lo, hi := t.cfg.MinVersion, t.cfg.MaxVersion; lo != 0 && hi != 0 && lo > hi {
		return t.fail(
			exchange.TLS,
			VersionRefused,
			errors.New("no version is left between the least and the greatest that are set"),
		)
	}
	under := &recordingConn{Conn: t.conn, t: t}
	conn := tls.Client(under, &tls.Config{
		ServerName: name, MinVersion: t.cfg.MinVersion, MaxVersion: t.cfg.MaxVersion,
		NextProtos: t.cfg.Protocols, CipherSuites: t.cfg.Ciphers, KeyLogWriter: t.cfg.KeyLog,
		// The judgement is ours, so that every fault is told and not only the first.
		InsecureSkipVerify: true,
		VerifyConnection:   s.verify,
		// Always set: else a certificate may silently not be sent.
		GetClientCertificate: s.clientCertificate,
	})
	t.rec.Moment(exchange.Moment{Kind: exchange.HelloSent, Stage: exchange.TLS, Text: name})
	err := conn.HandshakeContext(ctx)
	under.done, under.t = true, nil
	if err != nil {
		return s.failed(err)
	}
	if err := s.standing(ctx, conn.ConnectionState()); err != nil {
		return s.failed(err)
	}
	t.conn = conn
	text := s.info.Version + " " + s.info.Cipher
	t.rec.Moment(exchange.Moment{Kind: exchange.Handshaken, Stage: exchange.TLS, Text: text})
	return nil
}

func (s *shaking) verify(cs tls.ConnectionState) error {
	chain := cs.PeerCertificates
	s.t.rec.Update(func(*exchange.Exchange) {
		s.info.Version, s.info.Cipher = tls.VersionName(cs.Version), tls.CipherSuiteName(cs.CipherSuite)
		s.info.Protocol, s.info.Stapled = cs.NegotiatedProtocol, len(cs.OCSPResponse)
		s.info.Timestamps = len(cs.SignedCertificateTimestamps)
		for _, c := range chain {
			s.info.Chain = append(s.info.Chain, c.Raw)
		}
	})
	text := fmt.Sprintf("a chain of %d", len(chain))
	s.t.rec.Moment(exchange.Moment{Kind: exchange.ChainReceived, Stage: exchange.TLS, N: int64(len(chain)), Text: text})
	if s.t.cfg.Judge == nil {
		return nil
	}
	s.verdict = s.t.cfg.Judge(chain)
	if len(s.verdict.Faults) > 0 {
		return s.verdict
	}
	s.t.rec.Update(func(*exchange.Exchange) { s.info.Trusted = s.verdict.By })
	return nil
}

// standing asks whether the certificates were revoked, where that is wanted.
func (s *shaking) standing(ctx context.Context, cs tls.ConnectionState) error {
	if s.t.cfg.Standing == nil {
		return nil
	}
	chain := cs.PeerCertificates
	if s.verdict != nil && len(s.verdict.Chain) > len(chain) {
		chain = s.verdict.Chain // with the issuers that were not sent
	}
	all := s.t.cfg.Standing(ctx, chain, cs.OCSPResponse)
	s.t.rec.Update(func(*exchange.Exchange) { s.info.Standing = all })
	bad := &trust.Verdict{}
	for _, one := range all {
		i := slices.IndexFunc(chain, func(c *x509.Certificate) bool { return c.SerialNumber.Text(16) == one.Serial })
		if one.State == exchange.StandingRevoked && i >= 0 {
			bad.Faults = append(bad.Faults, trust.Fault{
				Reason: trust.Revoked, Index: i, Cert: chain[i], Detail: one.String(),
			})
		}
	}
	if bad.Faults == nil {
		return nil
	}
	s.verdict = bad
	return bad
}

func (s *shaking) clientCertificate(ask *tls.CertificateRequestInfo) (*tls.Certificate, error) {
	names := issuers(ask.AcceptableCAs)
	s.t.rec.Update(func(*exchange.Exchange) { s.info.CertAsked, s.info.Issuers = true, names })
	text := strings.Join(names, "; ")
	s.t.rec.Moment(exchange.Moment{Kind: exchange.CertAsked, Stage: exchange.TLS, Text: text})
	var chosen *tls.Certificate
	switch {
	case len(s.t.cfg.Certificates) > 0:
		chosen = &s.t.cfg.Certificates[0]
	case s.t.cfg.Choose != nil:
		chosen = s.t.cfg.Choose(ask)
	}
	if chosen == nil {
		return &tls.Certificate{}, nil
	}
	s.signer, _ = chosen.PrivateKey.(*trust.Signer)
	s.t.rec.Update(func(*exchange.Exchange) { s.info.CertSent = true })
	return chosen, nil
}

// maxIssuers is how many authorities that a server accepts are read.
const maxIssuers = 50

func issuers(raw [][]byte) []string {
	var out []string
	for _, r := range raw[:min(len(raw), maxIssuers)] {
		out = append(out, nameOf(r))
	}
	return out
}

// unparsed begins the error of crypto/tls for a certificate that it cannot read: it has
// no type of its own for it.
const unparsed = "tls: failed to parse certificate from server: "

// failed says why a handshake ended.
func (s *shaking) failed(err error) error {
	e := s.t.fail(exchange.TLS, HandshakeBroken, err)
	if e.Reason == Cancelled || errors.Is(e.Err, ErrTotalTime) {
		return e
	}
	var notTLS tls.RecordHeaderError
	switch alert, words, is := remoteAlert(err); {
	case s.verdict != nil && len(s.verdict.Faults) > 0:
		e.Reason, e.Verdict = Certificate, s.verdict
	case s.signer != nil && s.signer.Err() != nil:
		e.Reason, e.Err = SignerFailed, s.signer.Err()
	case errors.As(err, &notTLS):
		e.Reason = NotTLS
	case is:
		s.t.rec.Update(func(*exchange.Exchange) { s.info.Alert = words })
		e.Alert, e.Reason = words, alertReason(alert, s.info)
	case isTimeout(err):
		e.Reason, e.Limit = HandshakeTimeout, int64(s.t.cfg.ConnectTime)
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET):
		e.Reason = HandshakeClosed
	case strings.HasPrefix(err.Error(), unparsed):
		e.Reason, e.Err = CertificateUnreadable, errors.New(strings.TrimPrefix(err.Error(), unparsed))
	default:
		e.Reason = s.t.refusedHere(s.info.HelloIn)
	}
	return e
}

// refusedHere is why this side did not go on with what a server chose, as its
// hello shows: a version, or a cipher suite, that was not offered.
func (t *roundTrip) refusedHere(hello []byte) Reason {
	version, cipher, ok := serverHello(hello)
	if !ok {
		return HandshakeBroken
	}
	lo, hi := t.cfg.MinVersion, t.cfg.MaxVersion
	if lo == 0 {
		lo = tls.VersionTLS12
	}
	if hi == 0 {
		hi = tls.VersionTLS13
	}
	if version < lo || version > hi {
		return VersionRefused
	}
	if version < tls.VersionTLS13 {
		offered := t.cfg.Ciphers
		for _, c := range tls.CipherSuites() {
			if t.cfg.Ciphers == nil {
				offered = append(offered, c.ID)
			}
		}
		if !slices.Contains(offered, cipher) {
			return CipherRefused
		}
	}
	return HandshakeBroken
}

// serverHello reads version and cipher suite of the hello that bytes from beneath
// TLS begin with (RFC 5246 §7.4.1.3, RFC 8446 §4.1.3).
func serverHello(b []byte) (version, cipher uint16, ok bool) {
	const (
		recordHead, messageHead, random = 5, 4, 32
		handshakeRecord, helloMessage   = 22, 2
		supportedVersions               = 43
	)
	if len(b) < recordHead+messageHead || b[0] != handshakeRecord || b[recordHead] != helloMessage {
		return 0, 0, false
	}
	b = b[recordHead+messageHead:]
	if len(b) < 2+random+1 {
		return 0, 0, false
	}
	version = binary.BigEndian.Uint16(b)
	b = b[2+random:]
	session := int(b[0])
	if len(b) < 1+session+3 {
		return 0, 0, false
	}
	b = b[1+session:]
	cipher = binary.BigEndian.Uint16(b)
	b = b[3:]
	if len(b) < 2 {
		return version, cipher, true
	}
	for b = b[2:]; len(b) >= 4; { // extensions
		kind, size := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if len(b) < 4+size {
			break
		}
		if kind == supportedVersions && size == 2 {
			version = binary.BigEndian.Uint16(b[4:])
		}
		b = b[4+size:]
	}
	return version, cipher, true
}

// The alerts that are told apart (RFC 8446 §6.2).
const (
	handshakeFailure       = 40
	badCertificate         = 42
	unsupportedCertificate = 43
	certificateRevoked     = 44
	certificateExpired     = 45
	certificateUnknown     = 46
	unknownAuthority       = 48
	accessDenied           = 49
	protocolVersion        = 70
	insufficientSecurity   = 71
	unrecognizedName       = 112
	certificateRequired    = 116
	noApplicationProtocol  = 120
)

// remoteAlert is the peer's alert, where the error is one: its number and its
// words. The library gives its number a type of its own, which is a byte.
func remoteAlert(err error) (alert uint8, words string, is bool) {
	var oe *net.OpError
	if !errors.As(err, &oe) || oe.Op != "remote error" || oe.Err == nil {
		return 0, "", false
	}
	words = strings.TrimPrefix(oe.Err.Error(), "tls: ")
	if v := reflect.ValueOf(oe.Err); v.Kind() == reflect.Uint8 {
		return uint8(v.Uint()), words, true
	}
	return 0, words, true
}

func alertReason(alert uint8, info *exchange.TLSInfo) Reason {
	switch alert {
	case protocolVersion:
		return VersionRefused
	case certificateRequired:
		return ClientCertificateRequired
	case badCertificate, unsupportedCertificate, certificateRevoked, certificateExpired, certificateUnknown,
		unknownAuthority, accessDenied:
		if info.CertSent {
			return ClientCertificateRefused
		}
		if info.CertAsked {
			return ClientCertificateRequired
		}
	case handshakeFailure:
		if info.CertAsked && !info.CertSent {
			return ClientCertificateRequired
		}
		return CipherRefused
	case insufficientSecurity:
		return CipherRefused
	case unrecognizedName:
		return NameUnrecognized
	case noApplicationProtocol:
		return ProtocolRefused
	}
	return AlertReceived
}

// lateAlert is an alert after the handshake; with TLS 1.3 a client certificate
// is refused that way (RFC 8446 §4.4.2.4).
func (t *roundTrip) lateAlert(stage exchange.Stage, alert uint8, words string, err error) error {
	e := t.fail(stage, AlertReceived, err)
	if info := t.leg.Conn.TLS; info != nil {
		// On a connection that was kept this is the leg's own copy.
		t.rec.Update(func(*exchange.Exchange) { info.Alert = words })
		e.Reason = alertReason(alert, info)
	}
	t.rec.Moment(exchange.Moment{Kind: exchange.Alert, Stage: stage, Text: words})
	e.Alert = words
	return e
}
