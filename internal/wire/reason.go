package wire

import (
	"context"
	"errors"
	"net"
	"os"
	"slices"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// Reason is why a call ended on the wire, as far as the wire alone can tell. What
// it amounts to for the person is a finding: see the table in diagnose.
type Reason uint8

// The reasons, in the order of the stages.
const (
	Unknown   Reason = iota
	Cancelled        // by the caller

	NameUnknown    // the host's name has no address
	Refused        // nobody listens there
	ConnectTimeout // no connection in time
	Unreachable    // no way there
	ProxyRefused   // the proxy is not there, or does not pass the call on

	NotTLS                    // what answers speaks no TLS
	VersionRefused            // no TLS version in common
	CipherRefused             // no cipher suite in common
	Certificate               // the judgement on the peer's chain: Error.Verdict
	ClientCertificateRequired // the peer wants one, and none was sent
	ClientCertificateRefused  // the peer does not take the one that was sent
	NameUnrecognized          // the peer does not know the name that was asked for
	ProtocolRefused           // no application protocol (ALPN) in common
	AlertReceived             // any other alert: Error.Alert
	HandshakeTimeout          // no end of the handshake in time
	HandshakeClosed           // the peer closed without an alert
	CertificateUnreadable     // a certificate of the peer cannot be parsed
	SignerFailed              // the client's key is with a signer, which gave no signature
	HandshakeBroken           // anything else that ended the handshake

	SendReset     // the peer closed while the request was leaving
	SendTimeout   // the peer stopped reading
	LengthDiffers // of a request that another program made: fewer bytes than it declared

	AnswerTimeout // nothing came in time
	AnswerClosed  // the peer closed before it answered
	AnswerUnknown // of an exchange that was recorded elsewhere: no answer is in the record
	LaterTimeout  // it took the message, and the answer that was to come later did not

	NotHTTP           // what came is no HTTP
	HeadTooLarge      // more than http1.MaxHead bytes of heads
	OverLimit         // larger than Config.ReceiveLimit
	OverBuffer        // larger than Config.BufferLimit
	InflatedOverLimit // larger than Config.InflatedLimit without its content coding
	Truncated         // ended before its time
	Stalled           // nothing more came in time
	ReceiveTimeout    // bytes were still coming when the time for the whole call was over
	BadChunk          // the chunks are broken
	BadCompression    // the content coding is broken, or not known
	NotKept           // what came could not be stored
	ReadTimeout       // the whole call ran out of time while the answer was read
	VerifyTimeout     // or while it was verified
)

// reasonNames are how reasons are kept.
//
//nolint:gochecknoglobals // a table: it is never written to
var reasonNames = [...]string{
	Unknown:                   "unknown",
	Cancelled:                 "cancelled",
	NameUnknown:               "name-unknown",
	Refused:                   "refused",
	ConnectTimeout:            "connect-timeout",
	Unreachable:               "unreachable",
	ProxyRefused:              "proxy-refused",
	NotTLS:                    "not-tls",
	VersionRefused:            "version-refused",
	CipherRefused:             "cipher-refused",
	Certificate:               "certificate",
	ClientCertificateRequired: "client-certificate-required",
	ClientCertificateRefused:  "client-certificate-refused",
	NameUnrecognized:          "name-unrecognized",
	ProtocolRefused:           "protocol-refused",
	AlertReceived:             "alert-received",
	HandshakeTimeout:          "handshake-timeout",
	HandshakeClosed:           "handshake-closed",
	CertificateUnreadable:     "certificate-unreadable",
	SignerFailed:              "signer-failed",
	HandshakeBroken:           "handshake-broken",
	SendReset:                 "send-reset",
	SendTimeout:               "send-timeout",
	LengthDiffers:             "length-differs",
	AnswerTimeout:             "answer-timeout",
	AnswerClosed:              "answer-closed",
	AnswerUnknown:             "answer-unknown",
	LaterTimeout:              "later-timeout",
	NotHTTP:                   "not-http",
	HeadTooLarge:              "head-too-large",
	OverLimit:                 "over-limit",
	OverBuffer:                "over-buffer",
	InflatedOverLimit:         "inflated-over-limit",
	Truncated:                 "truncated",
	Stalled:                   "stalled",
	ReceiveTimeout:            "receive-timeout",
	BadChunk:                  "bad-chunk",
	BadCompression:            "bad-compression",
	NotKept:                   "not-kept",
	ReadTimeout:               "read-timeout",
	VerifyTimeout:             "verify-timeout",
}

// Name is the reason as it is kept in a record.
func (r Reason) Name() string { return reasonNames[r] }

// ReasonOf is the reason of that name; Unknown where there is none.
func ReasonOf(name string) Reason {
	return Reason(max(slices.Index(reasonNames[:], name), 0))
}

// Error is why a call stopped on the wire.
type Error struct {
	Stage     exchange.Stage // at which it stopped
	Reason    Reason         // as a type
	Err       error          // what the system or a library said; may be nil
	Verdict   *trust.Verdict // of Certificate
	Alert     string         // the peer's alert, in the words of RFC 8446 §6
	Limit     int64          // bytes or nanoseconds, whichever the reason is about
	Got       int64          // bytes that had been delivered or had left
	Announced int64          // bytes that were announced, or -1
	At        int64          // offset in the leg's In at which it shows
}

func (e *Error) Error() string {
	if e.Err != nil {
		return e.Stage.String() + ": " + e.Err.Error()
	}
	return e.Stage.String() + ": stopped"
}

func (e *Error) Unwrap() error { return e.Err }

// ErrTotalTime is the cause with which the caller cancels when the limit on
// the whole call has run out.
var ErrTotalTime = errors.New("the limit on the whole call ran out")

// timeoutOf is the reason of a stage in which the time ran out.
func timeoutOf(s exchange.Stage) Reason {
	switch s {
	case exchange.Read:
		return ReadTimeout
	case exchange.Verify:
		return VerifyTimeout
	case exchange.Connect:
		return ConnectTimeout
	case exchange.TLS:
		return HandshakeTimeout
	case exchange.Send:
		return SendTimeout
	case exchange.Wait:
		return AnswerTimeout
	}
	return ReceiveTimeout
}

// OutOfTime is the error of a stage at which the limit on the whole call ran out.
func OutOfTime(s exchange.Stage) *Error {
	return &Error{Stage: s, Reason: timeoutOf(s), Err: ErrTotalTime, Announced: -1}
}

// fail makes an *Error, unless the whole call was cancelled or ran out of time.
func (t *roundTrip) fail(stage exchange.Stage, reason Reason, err error) *Error {
	e := &Error{Stage: stage, Reason: reason, Err: err, Announced: -1}
	if ended(t.ctx) != nil {
		if errors.Is(context.Cause(t.ctx), ErrTotalTime) {
			e.Reason, e.Err = timeoutOf(stage), ErrTotalTime
		} else {
			e.Reason, e.Err = Cancelled, context.Canceled
		}
	}
	return e
}

func isTimeout(err error) bool {
	var ne net.Error
	if errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded) {
		return true
	}
	return errors.As(err, &ne) && ne.Timeout()
}

// ended is ctx.Err, but for a deadline that has passed and whose timer has not run
// yet: a socket with the same deadline may give up before it.
func ended(ctx context.Context) error {
	if d, ok := ctx.Deadline(); ok && !time.Now().Before(d) {
		<-ctx.Done()
	}
	return ctx.Err()
}
