package call

import (
	"crypto/x509"
	"fmt"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// notes puts what was seen on the wire into the stages' short notes and facts.
func (c *network) notes() {
	l := c.leg
	c.rec.Update(func(x *exchange.Exchange) {
		noteConnect(x.Stage(exchange.Connect), &l.Conn)
		if l.Conn.TLS != nil {
			c.noteTLS(x, l.Conn.TLS)
		}
		if n := len(l.Out); n > 0 {
			st := x.Stage(exchange.Send)
			all := endpoint.Bytes(l.Request.Size + l.Request.WireSize)
			st.Facts.Set("handed over", fmt.Sprintf("%s of %s bytes", endpoint.Bytes(int64(n)), all))
			if st.Note == "" {
				st.Note = endpoint.Bytes(int64(n)) + " B"
			}
		}
		if l.Response.Complete {
			noteReceive(x.Stage(exchange.Receive), l)
		}
	})
}

func noteConnect(st *exchange.StageRecord, conn *exchange.Connection) {
	if len(conn.Resolved) > 0 {
		st.Facts.Set("resolved", strings.Join(conn.Resolved, ", "))
	}
	if conn.Origin != "" {
		st.Facts.Set("its addresses", conn.Origin)
	}
	for _, t := range conn.Tried {
		result := "connected"
		if t.Error != "" {
			result = t.Error
		}
		st.Facts.Set("tried "+t.Address, result)
	}
	if conn.Proxy != "" {
		st.Facts.Set("through the proxy", conn.Proxy)
	}
	if st.Note == "" && conn.Remote != "" {
		st.Note = conn.Remote
	}
}

func (c *network) noteTLS(x *exchange.Exchange, t *exchange.TLSInfo) {
	st := x.Stage(exchange.TLS)
	if steps := handshake(x); steps != "" {
		st.Facts.Set("handshake", steps)
	}
	if t.Version != "" {
		c.noteSession(st, t)
	}
	for i, raw := range t.Chain {
		if cert, err := x509.ParseCertificate(raw); err == nil {
			noteCertificate(st, cert, i+1, len(t.Chain))
		}
	}
	if t.CertSent && len(c.material.certs) > 0 {
		st.Facts.Set("client certificate", c.material.certs[0].Leaf.Subject.String())
	}
	if t.CertAsked {
		st.Facts.Set("asks for a client certificate", orAny(strings.Join(t.Issuers, "; ")))
	}
	if t.Alert != "" {
		st.Facts.Set("alert", t.Alert)
	}
}

// noteSession tells what the two sides agreed on, and whether the chain is trusted.
func (c *network) noteSession(st *exchange.StageRecord, t *exchange.TLSInfo) {
	version := strings.TrimPrefix(t.Version, "TLS ")
	st.Facts.Set("version", t.Version)
	st.Facts.Set("cipher", t.Cipher)
	if st.Note == "" {
		st.Note = version
	}
	if t.Protocol != "" {
		st.Facts.Set("protocol", t.Protocol)
	}
	if t.Stapled > 0 {
		st.Facts.Set("OCSP stapled", fmt.Sprintf("%d bytes", t.Stapled))
	}
	for i := range t.Standing {
		one := &t.Standing[i]
		st.Facts.Set("standing of "+one.Subject, one.String())
	}
	if t.Timestamps > 0 {
		st.Facts.Set("transparency", fmt.Sprintf("%d signed certificate timestamps", t.Timestamps))
	}
	switch {
	case c.plan.SkipVerify: // nothing was checked: it is not called trusted anywhere
		st.Facts.Set("verdict", "not verified: whatever certificate was shown is accepted for this call")
		st.Note = version + " · not verified"
	case t.Trusted != "":
		st.Facts.Set("verdict", "trusted: "+t.Trusted)
		st.Note = version + " · trusted"
	}
}

// noteCertificate tells of the n-th certificate of a chain.
func noteCertificate(st *exchange.StageRecord, cert *x509.Certificate, n, of int) {
	p := ""
	if of > 1 {
		p = fmt.Sprintf("%d ", n)
	}
	const date = "2006-01-02"
	st.Facts.Set(p+"certificate", cert.Subject.String())
	st.Facts.Set(p+"issued by", cert.Issuer.String())
	st.Facts.Set(p+"for", strings.Join(trust.Names(cert), ", "))
	st.Facts.Set(p+"valid", cert.NotBefore.UTC().Format(date)+" to "+cert.NotAfter.UTC().Format(date))
	st.Facts.Set(p+"key", trust.KeyWords(cert))
	st.Facts.Set(p+"SHA-256", trust.Grouped(trust.Fingerprint(cert)))
}

func noteReceive(st *exchange.StageRecord, l *exchange.Leg) {
	h := &l.Response
	st.Facts.SetAt("status", h.Line, exchange.InResponseHead, exchange.Span{Length: int64(len(h.Line))})
	if f := h.Field("Content-Type"); f != nil {
		st.Facts.SetAt("content type", f.Value, exchange.InResponseHead, f.Span)
	}
	size := endpoint.Bytes(h.BodySize) + " bytes"
	note := endpoint.Bytes(h.BodySize)
	if h.Declared >= 0 && h.Declared != h.BodySize && h.Coding == "" { // what is unpacked has another size
		size = fmt.Sprintf("%s accepted of %s announced", endpoint.Bytes(h.BodySize), endpoint.Bytes(h.Declared))
		note += " of " + endpoint.Bytes(h.Declared)
	}
	st.Facts.Set("body", size)
	if h.Coding != "" {
		st.Facts.Set("compressed", fmt.Sprintf("%s, %s bytes as they came", h.Coding, endpoint.Bytes(h.WireSize)))
	}
	if h.Chunked {
		st.Facts.Set("chunks", fmt.Sprint(len(l.ChunkEnds)))
	}
	st.Note = note + " B"
}

// steps are the moments of a handshake, in words.
//
//nolint:gochecknoglobals // a table: it is never written to
var steps = map[exchange.MomentKind]string{
	exchange.HelloSent:     "hello",
	exchange.HelloReceived: "answered",
	exchange.ChainReceived: "chain",
	exchange.CertAsked:     "certificate asked for",
	exchange.Alert:         "alert",
	exchange.Handshaken:    "done",
}

// handshake lists them with their times since the stage began.
func handshake(x *exchange.Exchange) string {
	from := x.Stage(exchange.TLS).StartedNs
	var out []string
	for _, m := range x.Moments {
		if word := steps[m.Kind]; word != "" && m.Leg == len(x.Legs) {
			out = append(out, fmt.Sprintf("%s %.1f ms", word, float64(m.At-from)/1e6))
		}
	}
	return strings.Join(out, " · ")
}

func orAny(s string) string {
	if s == "" {
		return "from any authority"
	}
	return s
}
