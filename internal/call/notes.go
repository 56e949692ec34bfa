package call

import (
	"crypto/x509"
	"fmt"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// notes puts what was seen on the wire into the stages' short notes and facts.
func (c *network) notes() {
	l := c.leg
	c.rec.Update(func(x *exchange.Exchange) {
		conn := x.Stage(exchange.Connect)
		if len(l.Conn.Resolved) > 0 {
			conn.Facts.Set("resolved", strings.Join(l.Conn.Resolved, ", "))
		}
		for _, t := range l.Conn.Tried {
			result := "connected"
			if t.Error != "" {
				result = t.Error
			}
			conn.Facts.Set("tried "+t.Address, result)
		}
		if l.Conn.Proxy != "" {
			conn.Facts.Set("through the proxy", l.Conn.Proxy)
		}
		if conn.Note == "" && l.Conn.Remote != "" {
			conn.Note = l.Conn.Remote
		}
		if t := l.Conn.TLS; t != nil {
			st := x.Stage(exchange.TLS)
			if steps := handshake(x); steps != "" {
				st.Facts.Set("handshake", steps)
			}
			if t.Version != "" {
				st.Facts.Set("version", t.Version)
				st.Facts.Set("cipher", t.Cipher)
				if st.Note == "" {
					st.Note = strings.TrimPrefix(t.Version, "TLS ")
				}
				if t.Protocol != "" {
					st.Facts.Set("protocol", t.Protocol)
				}
				if t.Stapled > 0 {
					st.Facts.Set("OCSP stapled", fmt.Sprintf("%d bytes", t.Stapled))
				}
				if t.Timestamps > 0 {
					st.Facts.Set("transparency", fmt.Sprintf("%d signed certificate timestamps", t.Timestamps))
				}
				if t.Trusted != "" {
					st.Facts.Set("verdict", "trusted: "+t.Trusted)
					st.Note = strings.TrimPrefix(t.Version, "TLS ") + " · trusted"
				}
			}
			for i, raw := range t.Chain {
				cert, err := x509.ParseCertificate(raw)
				if err != nil {
					continue
				}
				p := ""
				if len(t.Chain) > 1 {
					p = fmt.Sprintf("%d ", i+1)
				}
				st.Facts.Set(p+"certificate", cert.Subject.String())
				st.Facts.Set(p+"issued by", cert.Issuer.String())
				st.Facts.Set(p+"for", strings.Join(trust.Names(cert), ", "))
				st.Facts.Set(
					p+"valid",
					cert.NotBefore.UTC().Format("2006-01-02")+" to "+cert.NotAfter.UTC().Format("2006-01-02"),
				)
				st.Facts.Set(p+"key", trust.KeyWords(cert))
				st.Facts.Set(p+"SHA-256", trust.Grouped(trust.Fingerprint(cert)))
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
		if n := len(l.Out); n > 0 {
			st := x.Stage(exchange.Send)
			st.Facts.Set(
				"handed over",
				fmt.Sprintf(
					"%s of %s bytes",
					diagnose.Bytes(int64(n)),
					diagnose.Bytes(l.Request.Size+l.Request.BodySize),
				),
			)
			if st.Note == "" {
				st.Note = diagnose.Bytes(int64(n)) + " B"
			}
		}
		if h := &l.Response; h.Complete {
			st := x.Stage(exchange.Receive)
			st.Facts.SetAt("status", h.Line, exchange.InResponseHead, exchange.Span{Length: int64(len(h.Line))})
			if f := h.Field("Content-Type"); f != nil {
				st.Facts.SetAt("content type", f.Value, exchange.InResponseHead, f.Span)
			}
			size := diagnose.Bytes(h.BodySize) + " bytes"
			note := diagnose.Bytes(h.BodySize)
			if h.Declared >= 0 && h.Declared != h.BodySize {
				size = fmt.Sprintf(
					"%s accepted of %s announced",
					diagnose.Bytes(h.BodySize),
					diagnose.Bytes(h.Declared),
				)
				note += " of " + diagnose.Bytes(h.Declared)
			}
			st.Facts.Set("body", size)
			if h.Coding != "" {
				st.Facts.Set(
					"compressed",
					fmt.Sprintf("%s, %s bytes as they came", h.Coding, diagnose.Bytes(h.WireSize)),
				)
			}
			if h.Chunked {
				st.Facts.Set("chunks", fmt.Sprint(len(l.ChunkEnds)))
			}
			st.Note = note + " B"
		}
	})
}

// steps are the moments of a handshake, in words.
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
