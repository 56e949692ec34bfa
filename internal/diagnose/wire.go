package diagnose

import (
	"errors"
	"slices"

	"orenda/internal/wire"
)

// wireFindings says which finding a reason of the wire amounts to. What the wire
// saw is a reason; what it means to the person is a finding. A new reason is a row
// here and a rule. TestEveryReasonOfTheWireHasAFinding holds them together.
func wireFinding(r wire.Reason) string {
	return map[wire.Reason]string{
		wire.NameUnknown:    "connect.name-unknown",
		wire.Refused:        "connect.refused",
		wire.ConnectTimeout: "connect.timed-out",
		wire.Unreachable:    "connect.unreachable",
		wire.ProxyRefused:   "connect.proxy-refused",

		wire.NotTLS:                    "tls.not-tls",
		wire.VersionRefused:            "tls.version-refused",
		wire.CipherRefused:             "tls.cipher-refused",
		wire.Certificate:               "", // each fault of the verdict is one: see certificate
		wire.ClientCertificateRequired: "tls.client-certificate-required",
		wire.ClientCertificateRefused:  "tls.client-certificate-refused",
		wire.NameUnrecognized:          "tls.name-unrecognized",
		wire.ProtocolRefused:           "tls.protocol-refused",
		wire.AlertReceived:             "tls.alert",
		wire.HandshakeTimeout:          "tls.timed-out",
		wire.HandshakeClosed:           "tls.closed",
		wire.HandshakeBroken:           "tls.closed",
		wire.SignerFailed:              "security.signer-failed",
		wire.CertificateUnreadable:     "tls.certificate-unreadable",

		wire.SendReset:     "send.reset",
		wire.SendTimeout:   "send.timed-out",
		wire.LengthDiffers: "send.length-differs",

		wire.AnswerTimeout: "wait.timed-out",
		wire.AnswerClosed:  "wait.closed",
		wire.AnswerUnknown: "wait.not-recorded",
		wire.LaterTimeout:  "wait.answer-missing",

		wire.NotHTTP:           "receive.not-http",
		wire.HeadTooLarge:      "receive.head-too-large",
		wire.OverLimit:         "receive.over-limit",
		wire.OverBuffer:        "receive.over-buffer",
		wire.InflatedOverLimit: "receive.inflated-over-limit",
		wire.Truncated:         "receive.truncated",
		wire.Stalled:           "receive.stalled",
		wire.ReceiveTimeout:    "receive.timed-out",
		wire.BadChunk:          "receive.bad-chunk",
		wire.BadCompression:    "receive.bad-compression",
		wire.NotKept:           "receive.not-kept",
		wire.ReadTimeout:       "read.timed-out",
		wire.VerifyTimeout:     "verify.timed-out",
	}[r]
}

// onWire is the wire's error where that amounts to one of the findings.
func (c *Case) onWire(ids ...string) *wire.Error {
	if c.Err == nil {
		return nil
	}
	if e, ok := errors.AsType[*wire.Error](c.Err); ok && slices.Contains(ids, wireFinding(e.Reason)) {
		return e
	}
	return nil
}

// verdict is the wire's error where it is the judgement on the peer's chain.
func (c *Case) verdict() *wire.Error {
	if e, ok := errors.AsType[*wire.Error](c.Err); ok && e.Reason == wire.Certificate {
		return e
	}
	return nil
}
