package diagnose

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/trust"
	"orenda/internal/wire"
)

// Rules of connect, tls, send and wait.
//
//nolint:gochecknoglobals // a table: it is never written to
var reachRules = []Rule{
	{"connect.name-unknown", exchange.Stop, exchange.Yours, nameUnknown},
	{"connect.refused", exchange.Stop, exchange.Unknown, refused},
	{"connect.timed-out", exchange.Stop, exchange.Between, connectTimedOut},
	{"connect.unreachable", exchange.Stop, exchange.Between, unreachable},
	{"connect.proxy-refused", exchange.Stop, exchange.Between, proxyRefused},
	{"connect.proxy-invalid", exchange.Stop, exchange.Yours, proxyInvalid},
	{"connect.proxy-new", exchange.Stop, exchange.Yours, proxyNew},

	{"tls.not-tls", exchange.Stop, exchange.Yours, notTLS},
	{"tls.version-refused", exchange.Stop, exchange.Between, versionRefused},
	{"tls.cipher-refused", exchange.Stop, exchange.Between, cipherRefused},
	{"tls.client-certificate-required", exchange.Stop, exchange.Yours, clientCertificateRequired},
	{"tls.client-certificate-refused", exchange.Stop, exchange.Yours, clientCertificateRefused},
	{"tls.self-signed", exchange.Stop, exchange.Yours, certificate(trust.SelfSigned)},
	{"tls.chain-incomplete", exchange.Stop, exchange.Theirs, certificate(trust.ChainIncomplete)},
	{"tls.chain-broken", exchange.Stop, exchange.Theirs, certificate(trust.ChainBroken)},
	{"tls.authority-unknown", exchange.Stop, exchange.Yours, certificate(trust.AuthorityUnknown)},
	{"tls.expired", exchange.Stop, exchange.Theirs, certificate(trust.Expired)},
	{"tls.not-yet-valid", exchange.Stop, exchange.Theirs, certificate(trust.NotYetValid)},
	{"tls.name-differs", exchange.Stop, exchange.Unknown, certificate(trust.NameDiffers)},
	{"tls.revoked", exchange.Stop, exchange.Theirs, certificate(trust.Revoked)},
	{"tls.usage-differs", exchange.Stop, exchange.Theirs, certificate(trust.UsageDiffers)},
	{"tls.key-weak", exchange.Stop, exchange.Theirs, certificate(trust.KeyWeak)},
	{"tls.name-unrecognized", exchange.Stop, exchange.Unknown, nameUnrecognized},
	{"tls.protocol-refused", exchange.Stop, exchange.Yours, protocolRefused},
	{"tls.not-verified", exchange.Warn, exchange.Yours, notVerified},
	{"tls.client-certificate-chosen", exchange.Note, exchange.Yours, clientCertificateChosen},
	{"tls.standing-unknown", exchange.Warn, exchange.Unknown, standingUnknown},
	{"tls.expires-soon", exchange.Note, exchange.Theirs, expiresSoon},
	{"tls.keys-logged", exchange.Warn, exchange.Yours, keysLogged},
	{"tls.timed-out", exchange.Stop, exchange.Between, tlsTimedOut},
	{"tls.closed", exchange.Stop, exchange.Unknown, tlsClosed},
	{"tls.certificate-unreadable", exchange.Stop, exchange.Theirs, certificateUnreadable},
	{"tls.alert", exchange.Stop, exchange.Theirs, tlsAlert},

	{"send.header-replaced", exchange.Warn, exchange.Yours, headerReplaced},
	{"send.reset", exchange.Stop, exchange.Theirs, sendReset},
	{"send.timed-out", exchange.Stop, exchange.Theirs, sendTimedOut},
	{"send.plain-to-tls", exchange.Stop, exchange.Yours, plainToTLS},

	{"wait.timed-out", exchange.Stop, exchange.Theirs, waitTimedOut},
	{"wait.answer-missing", exchange.Stop, exchange.Unknown, answerMissing},
	{"wait.answer-early", exchange.Note, exchange.Theirs, answerEarly},
	{"wait.closed", exchange.Stop, exchange.Theirs, waitClosed},
	{"wait.not-recorded", exchange.Stop, exchange.Unknown, notRecorded},
}

func (c *Case) inAddress() []exchange.Evidence {
	if c.Settings == nil {
		return nil
	}
	return []exchange.Evidence{c.inSettings("address", 0, len(c.Settings.Text("address")))}
}

func headerReplaced(c *Case) []exchange.Finding {
	var out []exchange.Finding
	for _, r := range c.Replaced {
		out = append(out, exchange.Finding{
			Title: fmt.Sprintf("an extra header replaces %s", r[0]),
			Why: fmt.Sprintf(
				"It was sent as %q; without the extra header it would be %q.",
				cut(r[2], 120),
				cut(r[1], 120),
			),
			Evidence: []exchange.Evidence{c.inSettings("header", 0, 1)},
		})
	}
	return out
}

func (c *Case) host() string {
	if l := c.leg(); l != nil {
		return l.Conn.Host
	}
	return ""
}

// limitWords is a time limit as it is set.
func limitWords(c *Case, key string) string { return c.Settings.Text(key) }

// moreTime raises a time limit to four times what it is.
func (c *Case) moreTime(key string) []exchange.Remedy {
	d, err := c.Settings.Duration(key)
	if err != nil || d <= 0 {
		return nil
	}
	to := (4 * d).String()
	return c.remedies(fmt.Sprintf("raise the %s to %s", endpoint.KeyOf(key).Label(), to), []string{key}, to)
}

// fell is the time limit that ran out at a stage: its own, or that on the whole call.
func fell(e *wire.Error, own string) string {
	if e.Err == wire.ErrTotalTime {
		return "total-time"
	}
	return own
}

// within says in words how long was waited.
func (c *Case) within(e *wire.Error, own string) string {
	if fell(e, own) != own {
		return "before the whole call had to end"
	}
	return "within " + limitWords(c, own)
}

// total tells whether the limit on the whole call ran out, in words.
func (c *Case) total(e *wire.Error) string {
	if e.Err == wire.ErrTotalTime {
		return fmt.Sprintf(" The limit on the whole call, %s, ran out here.", c.Settings.Text("total-time"))
	}
	return ""
}

func (c *Case) withScheme(scheme string) []exchange.Remedy {
	v := c.Settings.Get("address")
	_, rest, ok := strings.Cut(v.Text, "://")
	if !ok {
		return nil
	}
	return []exchange.Remedy{exchange.NewRemedy("call it over "+scheme, c.changeHere("address", scheme+"://"+rest))}
}

func sendReset(c *Case) []exchange.Finding {
	e := c.onWire("send.reset")
	if e == nil {
		return nil
	}
	f := exchange.Finding{
		Title: "the service closed the connection while the request was leaving",
		Why: fmt.Sprintf(
			"%s of %s bytes had been handed over; then the connection broke (%v), and no answer came.",
			endpoint.Bytes(e.Got),
			endpoint.Bytes(e.Announced),
			e.Err,
		),
		Evidence: c.inAddress(),
		Program:  "check whether the message is larger than the service accepts",
	}
	if l := c.leg(); l != nil {
		f.Evidence = []exchange.Evidence{
			{
				In:      exchange.InRequestBody,
				Leg:     len(c.X.Legs),
				Offset:  max(e.Got-l.Request.Size, 0),
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: "here the sending ended",
			},
		}
	}
	return one(f)
}

func sendTimedOut(c *Case) []exchange.Finding {
	e := c.onWire("send.timed-out")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: "the service stopped reading the request",
		Why: fmt.Sprintf(
			"%s of %s bytes had been handed over; then nothing more was taken %s.%s",
			endpoint.Bytes(e.Got),
			endpoint.Bytes(e.Announced),
			c.within(e, "send-time"),
			c.total(e),
		),
		Evidence: []exchange.Evidence{
			c.inSettings(fell(e, "send-time"), 0, 1),
		}, Remedies: c.moreTime(fell(e, "send-time")), Program: "nothing; the service does not take the message in",
	})
}

func plainToTLS(c *Case) []exchange.Finding {
	l := c.leg()
	if l == nil || l.Conn.TLS != nil {
		return nil
	}
	f := exchange.Finding{Program: "use an https address"}
	switch h := c.response(); {
	case c.onWire("receive.not-http") != nil && isAlert(l.In.Range(0, 2)):
		f.Why = "It answered with a TLS alert instead of HTTP."
		f.Evidence = []exchange.Evidence{
			{
				In:      exchange.InResponseHead,
				Leg:     len(c.X.Legs),
				Length:  min(l.In.Len(), 7),
				Line:    1,
				Column:  1,
				Excerpt: fmt.Sprintf("% x", l.In.Range(0, 7)),
			},
		}
	case h != nil && h.Status == 400 && bytes.Contains(bytes.ToLower(l.ResponseBody.Range(0, 4096)), []byte("https")):
		f.Why = fmt.Sprintf("It answered %q: %s", h.Line, quoteTitle(l.ResponseBody.Bytes()))
		f.Evidence = c.inHead("")
	default:
		return nil
	}
	f.Title, f.Remedies = fmt.Sprintf("%s speaks TLS, and was called without", c.host()), c.withScheme("https")
	return one(f)
}

// isAlert tells whether bytes begin as an alert of TLS does (RFC 8446 §5.1, §6).
func isAlert(b []byte) bool { return len(b) == 2 && b[0] == 0x15 && b[1] == 3 }

func waitTimedOut(c *Case) []exchange.Finding {
	e := c.onWire("wait.timed-out")
	if e == nil {
		return nil
	}
	since := time.Duration(0)
	if st := c.X.Stage(exchange.Wait); st != nil {
		since = time.Duration(st.DurationNs)
	}
	if c.GivenUp {
		since = c.Waited
	}
	since = since.Round(time.Millisecond)
	nothing := fmt.Sprintf("nothing came for %s", since)
	if line := c.interim(); line != "" {
		nothing = fmt.Sprintf("%q came, which is no answer yet, and no more", line)
	}
	raise := "raise its time limit for the answer"
	if fell(e, "answer-time") != "answer-time" {
		raise = "raise its limit on the whole call"
	}
	if c.GivenUp {
		return one(exchange.Finding{
			Title: "no answer began before the program gave up",
			Why: fmt.Sprintf("The request was handed over whole; then %s. The program closed the connection.",
				nothing),
			Evidence: c.inAddress(), Program: raise + ", or ask why the service takes so long",
		})
	}
	return one(exchange.Finding{
		Title:    "no answer began " + c.within(e, "answer-time"),
		Why:      fmt.Sprintf("The request was handed over whole; then %s.%s", nothing, c.total(e)),
		Evidence: []exchange.Evidence{c.inSettings(fell(e, "answer-time"), 0, 1)},
		Remedies: c.moreTime(fell(e, "answer-time")),
		Program:  raise + ", or ask why the service takes so long",
	})
}

func waitClosed(c *Case) []exchange.Finding {
	e := c.onWire("wait.closed")
	if e == nil {
		return nil
	}
	if line := c.interim(); line != "" {
		return one(exchange.Finding{
			Title: "the service closed the connection without an answer",
			Why: fmt.Sprintf("The request was handed over whole; %q came, which is no answer yet, and no more.",
				line),
			Evidence: c.inAddress(), Program: askLog,
		})
	}
	return one(exchange.Finding{
		Title: "the service closed the connection without an answer",
		Why: "The request was handed over whole; the connection was closed before a byte came back. A crash, a " +
			"proxy without a service behind it, or a plain port that was called with TLS or the reverse look like " +
			"this.",
		Evidence: c.inAddress(), Program: askLog,
	})
}

// notRecorded is a call in an archive that holds no answer to it.
func notRecorded(c *Case) []exchange.Finding {
	e := c.onWire("wait.not-recorded")
	if e == nil {
		return nil
	}
	f := exchange.Finding{
		Title: "the archive holds no answer to it",
		Why: "What became of the call cannot be told from it: it may not have reached the service, have been " +
			"broken off, or have been given up.",
		Evidence: c.inAddress(),
		Program:  "trace the call on its way, with a relay or a capture: then it is seen where it ended",
	}
	if said := e.Err.Error(); said != "" {
		f.Why += fmt.Sprintf(" It says: “%s”.", cut(said, 120))
	}
	return one(f)
}

// interim is the status line of the last interim answer (RFC 9110 §15.2) where nothing came behind it; "" none did.
func (c *Case) interim() string {
	l := c.leg()
	if l == nil || l.Response.Complete {
		return ""
	}
	line := ""
	for text := range strings.Lines(string(l.In.Range(0, l.In.Len()))) {
		if strings.HasPrefix(text, "HTTP/1.") {
			line = strings.TrimSpace(text)
		}
	}
	return cut(line, 80)
}
