package diagnose

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/pattern"
	"orenda/internal/trust"
)

func (c *Case) tls() *exchange.TLSInfo {
	if l := c.leg(); l != nil {
		return l.Conn.TLS
	}
	return nil
}

func notTLS(c *Case) []exchange.Finding {
	e := c.onWire("tls.not-tls")
	if e == nil {
		return nil
	}
	info := c.tls()
	f := exchange.Finding{
		Title:    fmt.Sprintf("%s does not speak TLS", c.host()),
		Evidence: c.inAddress(),
		Program:  "use an http address, or the port on which the service speaks TLS",
	}
	if bytes.HasPrefix(info.HelloIn, []byte("HTTP/")) {
		f.Why = fmt.Sprintf("It answered the TLS hello with plain HTTP: %s.", cut(firstLine(info.HelloIn), 80))
		f.Remedies = c.withScheme("http")
	} else {
		f.Why = fmt.Sprintf("It answered the TLS hello with something that is not a TLS record: % x.",
			info.HelloIn[:min(len(info.HelloIn), 16)])
		if line := firstLine(info.HelloIn); line != "" && inPrint(line) {
			f.Why = fmt.Sprintf("It answered the TLS hello with %q.", cut(line, 80))
		}
		f.Certainty = exchange.Likely
		if is := namedPeer(info.HelloIn); is != "" {
			f.Why += " " + is
			f.Program = "check the port in its endpoint address"
		}
	}
	return one(f)
}

func firstLine(b []byte) string {
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return strings.TrimSpace(string(line))
}

// inPrint tells whether a text can be shown as it is.
func inPrint(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < ' ' || r > '~' }) < 0
}

func versionRefused(c *Case) []exchange.Finding {
	e := c.onWire("tls.version-refused")
	if e == nil {
		return nil
	}
	low, high := c.Settings.Text("tls-min"), c.Settings.Text("tls-max")
	offered, down := "TLS "+low+" to "+high, "1.0"
	if low == high {
		offered = "TLS " + low
	}
	if low > "1.2" {
		down = "1.2"
	}
	return one(exchange.Finding{
		Title: "no common TLS version",
		Why: fmt.Sprintf("%s was offered, and the service accepts no such version (%v). `orenda trust versions` asks "+
			"it for each.", offered, e.Err),
		Evidence: []exchange.Evidence{c.inSettings("tls-min", 0, 3), c.inSettings("tls-max", 0, 3)},
		Remedies: c.remedies("accept TLS "+down+" and later for this endpoint", []string{"tls-min"}, down),
		Program:  "enable the TLS version that the service speaks, or have the service brought up to date",
	})
}

func cipherRefused(c *Case) []exchange.Finding {
	e := c.onWire("tls.cipher-refused")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: "no common cipher suite", Why: fmt.Sprintf("The service ended the handshake: %v. Most often that "+
			"means that it accepts none of the suites offered.", e.Err),
		Certainty: exchange.Likely, Evidence: c.inAddress(), Program: "enable a cipher suite that the service accepts",
	})
}

func clientCertificateRequired(c *Case) []exchange.Finding {
	e := c.onWire("tls.client-certificate-required")
	page := c.certificatePage()
	if e == nil && !page {
		return nil
	}
	f := exchange.Finding{
		Title:   "the service asks for a client certificate, and none is set",
		Why:     "It ended the call because no certificate was sent.",
		Program: "give your program a client certificate from an authority that the service accepts",
	}
	if e != nil {
		f.Why = fmt.Sprintf(
			"It asked for a certificate, none was sent, and it ended the call with the alert %q.",
			e.Alert,
		)
		f.Evidence = c.inAddress()
	} else {
		f.Why = "The front server answered with a page that says that no certificate was sent."
		f.Evidence = c.inHead("")
	}
	info := c.tls()
	if info != nil && len(info.Issuers) > 0 {
		f.Why += " It accepts certificates from " + list(info.Issuers, 3) + "."
	}
	for _, id := range c.Identities {
		if id.Certificate == nil {
			continue
		}
		fits := info != nil && slices.Contains(info.Issuers, id.Certificate.Issuer.String())
		title := "send the certificate of " + id.Name
		if fits {
			title += ": it comes from an authority that the service accepts"
		}
		changes := []exchange.Change{c.changeHere("client-identity", id.Name)}
		if place := c.place(); place != "" {
			changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: place})
		}
		r := exchange.NewRemedy(title, changes...)
		if fits {
			f.Remedies = append([]exchange.Remedy{r}, f.Remedies...)
		} else if info == nil || len(info.Issuers) == 0 {
			f.Remedies = append(f.Remedies, r)
		}
	}
	given := exchange.NewRemedy("send a client certificate: name its file now",
		c.changeHere("client-identity", exchange.NewIdentity))
	if place := c.place(); place != "" {
		given = exchange.NewRemedy(given.Title, c.changeHere("client-identity", exchange.NewIdentity),
			exchange.Change{Where: "user", Key: "allow." + exchange.NewIdentity, To: place})
	}
	given.Needs = exchange.NeedCertificate
	f.Remedies = append(f.Remedies, given)
	return one(f)
}

// place is where the call goes, as approvals have it.
func (c *Case) place() string {
	u, err := url.Parse(c.address())
	if err != nil || u.Hostname() == "" {
		return ""
	}
	host, port := endpoint.HostPort(u)
	return u.Scheme + "://" + host + ":" + port
}

// pinRemedy trusts a public key.
func (c *Case) pinRemedy(cert *x509.Certificate) exchange.Remedy {
	pin := trust.PublicKeyPin(cert)
	r := exchange.NewRemedy(
		"pin its public key: a renewed certificate with the same key is trusted too",
		exchange.Change{
			Where: "workspace",
			Key:   "endpoint." + c.X.Endpoint + ".pin",
			To:    append(slices.Clone(c.Settings.List("pin")), pin),
		},
	)
	r.Ask = "compare the public key's SHA-256 with one that the service's people give you: " + trust.Grouped(pin)
	return r
}

// clocks compares this machine's clock with the peer's, where that was asked.
func (c *Case) clocks(f trust.Fault) string {
	if c.PeerTime.IsZero() {
		return ""
	}
	said := c.PeerTime.UTC().Format("2006-01-02 15:04 UTC")
	if c.PeerTime.After(f.Cert.NotBefore) && c.PeerTime.Before(f.Cert.NotAfter) {
		return fmt.Sprintf(
			" The server's own clock says %s, at which the certificate is valid: one of the two clocks is wrong, "+
				"likely this machine's.",
			said,
		)
	}
	return fmt.Sprintf(
		" The server's own clock says %s: it is the certificate that is wrong, not this machine's clock.",
		said,
	)
}

func (c *Case) whoseClock(f trust.Fault) exchange.Side {
	if !c.PeerTime.IsZero() && c.PeerTime.After(f.Cert.NotBefore) && c.PeerTime.Before(f.Cert.NotAfter) {
		return exchange.Yours
	}
	return exchange.Theirs
}

func nameUnrecognized(c *Case) []exchange.Finding {
	e := c.onWire("tls.name-unrecognized")
	if e == nil {
		return nil
	}
	v := c.Settings.Get("server-name")
	f := exchange.Finding{
		Title: "the server does not know the name that it was asked for",
		Why: fmt.Sprintf(
			"It was asked for %s (server name indication), and it answered with the alert %q.",
			c.tls().ServerName,
			e.Alert,
		),
		Evidence: append(
			c.inAddress(),
			c.inSettings("server-name", 0, len(v.Text)),
		), Program: "call the service by its name, not by an address or another name; check its server name setting",
	}
	if v.IsSet() && v.Text != "" {
		f.Remedies = c.remedies("ask for the address's host again", []string{"server-name"}, "")
	}
	return one(f)
}

func protocolRefused(c *Case) []exchange.Finding {
	e := c.onWire("tls.protocol-refused")
	if e == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the server speaks none of the protocols offered",
			Why: fmt.Sprintf("It was offered %s, and it answered with the "+
				"alert %q.", c.Settings.Text("alpn"), e.Alert),
			Evidence: []exchange.Evidence{
				c.inSettings("alpn", 0, 1),
			},
			Remedies: append(
				c.remedies("offer http/1.1", []string{"alpn"}, "http/1.1"),
				c.remedies("offer none", []string{"alpn"}, "none")...),
			Program: "offer http/1.1",
		},
	)
}

// notVerified says aloud that any certificate was accepted.
func notVerified(c *Case) []exchange.Finding {
	if !c.SkipVerify || c.tls() == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "ANY CERTIFICATE WAS ACCEPTED for this call",
			Why: "What the server showed was not checked, so anybody may have answered. It holds for this call " +
				"alone.",
			Evidence: c.inAddress(),
			Program:  "never switch the checking of certificates off; trust the right one",
		},
	)
}

// soon is how long before its end a certificate is told of.
const soon = 30 * 24 * time.Hour

func expiresSoon(c *Case) []exchange.Finding {
	info := c.tls()
	if info == nil || len(info.Chain) == 0 || c.verdict() != nil {
		return nil
	}
	for i, raw := range info.Chain {
		cert, err := x509.ParseCertificate(raw)
		if err != nil || i > 5 {
			break
		}
		if left := cert.NotAfter.Sub(c.Now); left > 0 && left < soon {
			return one(
				exchange.Finding{
					Title: "the server's certificate ends soon",
					Why: fmt.Sprintf(
						"%s: %s, on %s.",
						cut(cert.Subject.String(), 60),
						trust.Left(cert, c.Now),
						cert.NotAfter.UTC().Format("2006-01-02"),
					),
					Evidence: c.inCertificate(trust.Fault{Index: i, Cert: cert}),
					Program:  "be ready for the new certificate, if your program trusts this one and not its authority",
				},
			)
		}
	}
	return nil
}

func keysLogged(c *Case) []exchange.Finding {
	path := c.Settings.Text("key-log")
	if path == "" || c.tls() == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title:    "the session's keys were written to a file",
			Why:      "Whoever reads " + path + " can read everything that crossed.",
			Evidence: []exchange.Evidence{c.inSettings("key-log", 0, len(path))},
		},
	)
}

// certificatePage tells whether a front server's 400 page asks for a certificate.
func (c *Case) certificatePage() bool {
	h := c.response()
	if h == nil || h.Status != 400 && h.Status != 403 && h.Status != 496 {
		return false
	}
	body := strings.ToLower(string(c.leg().ResponseBody.Range(0, 4096)))
	return !c.certificateSent() &&
		(strings.Contains(body, "no required ssl certificate") || strings.Contains(body, "client certificate"))
}

// certificateSent tells whether a client certificate was sent.
func (c *Case) certificateSent() bool {
	info := c.tls()
	return info != nil && info.CertSent
}

// refusalPage is what a page says of the client certificate that was sent; "" where none
// does.
func (c *Case) refusalPage() string {
	h := c.response()
	if h == nil || h.Status != 400 && h.Status != 401 && h.Status != 403 && h.Status != 495 || c.isAnswer() ||
		!c.certificateSent() {
		return ""
	}
	body := c.leg().ResponseBody.Range(0, 16<<10)
	if !certificateWords.Match(body) {
		return ""
	}
	return orNone(quoteTitle(body))
}

// certificateWords are those of pages that refuse a client certificate.
var certificateWords = pattern.New(
	`(?i)(ssl|tls|client) certificate (error|.{0,60}(refused|rejected|invalid|expired|` +
		`revoked|not (trusted|accepted|valid|allowed)))|` +
		`(refused|rejected|invalid|untrusted|expired|unknown) (ssl |tls |client ){1,2}certificate`,
)

func clientCertificateChosen(c *Case) []exchange.Finding {
	if c.Chosen == "" {
		return nil
	}
	return one(exchange.Finding{
		Title: "the client certificate of " + c.Chosen + " was chosen",
		Why: "The service asked for one, none is set, and it is the only one of yours that fits and that may go " +
			"there.",
		Evidence: []exchange.Evidence{c.inSettings("client-identity", 0, 1)},
		Remedies: []exchange.Remedy{
			exchange.NewRemedy("set it for this endpoint", c.changeHere("client-identity", c.Chosen)),
		},
		Program: "set the client certificate",
	})
}

func clientCertificateRefused(c *Case) []exchange.Finding {
	why, evidence := "", []exchange.Evidence{c.inSettings("client-cert", 0, 1)}
	if e := c.onWire("tls.client-certificate-refused"); e != nil {
		why = fmt.Sprintf("A certificate was sent, and the service answered with the alert %q.", e.Alert)
	} else if page := c.refusalPage(); page != "" {
		why = "A certificate was sent, and the front server answered with a page that refuses it: " + page + "."
		evidence = append(c.inHead(""), evidence...)
	} else {
		return nil
	}
	if info := c.tls(); info != nil && len(info.Issuers) > 0 {
		why += " It accepts certificates from " + list(info.Issuers, 3) + "."
	}
	return one(exchange.Finding{
		Title: "the service refused the client certificate", Why: why,
		Evidence: evidence,
		Program:  "use a certificate that is valid and comes from an authority that the service accepts",
	})
}

func (c *Case) inCertificate(f trust.Fault) []exchange.Evidence {
	return []exchange.Evidence{
		{
			In:     exchange.InCertificate,
			Leg:    len(c.X.Legs),
			Offset: 0,
			Length: int64(len(f.Cert.Raw)),
			Line:   f.Index + 1,
			Column: 1,
			Excerpt: cut(
				fmt.Sprintf(
					"%s · issued by %s · SHA-256 %s",
					f.Cert.Subject,
					f.Cert.Issuer,
					trust.Grouped(trust.Fingerprint(f.Cert)),
				),
				300,
			),
		},
	}
}

// certificate makes the rule of one reason of a verdict.
func certificate(r trust.Reason) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		e := c.verdict()
		if e == nil || e.Verdict == nil {
			return nil
		}
		for _, fault := range e.Verdict.Faults {
			if fault.Reason == r {
				f := certificateTexts[r](c, fault)
				f.Evidence = c.inCertificate(fault)
				return one(f)
			}
		}
		return nil
	}
}

// trustRemedy puts a certificate on this endpoint's trust list.
func (c *Case) trustRemedy(title string, cert *x509.Certificate) exchange.Remedy {
	r := exchange.NewRemedy(
		title,
		exchange.Change{
			Where: "workspace",
			Key:   "endpoint." + c.X.Endpoint + ".trust",
			From:  c.Settings.Text("trust"),
			To:    string(trust.PEM(cert)),
		},
	)
	r.Ask = "compare the fingerprint with one that the service's people give you: SHA-256 " + trust.Grouped(
		trust.Fingerprint(cert),
	)
	return r
}

// trustLeafAlone puts the server's own certificate on the trust list, whoever issued it.
func (c *Case) trustLeafAlone() []exchange.Remedy {
	if t := c.tls(); t != nil && len(t.Chain) > 0 {
		if l, err := x509.ParseCertificate(t.Chain[0]); err == nil {
			return []exchange.Remedy{c.trustRemedy("trust the server's certificate alone", l)}
		}
	}
	return nil
}

// whichCertificate names a certificate by its place in the chain.
func whichCertificate(f trust.Fault) string {
	if f.Index > 0 {
		return "a certificate in the server's chain"
	}
	return "the server's certificate"
}

//nolint:gochecknoglobals // a table: it is never written to
var certificateTexts = map[trust.Reason]func(*Case, trust.Fault) exchange.Finding{
	trust.SelfSigned: func(c *Case, f trust.Fault) exchange.Finding {
		return exchange.Finding{
			Title: "the server's certificate is self-signed, and not trusted here",
			Why: fmt.Sprintf(
				"%s is its own issuer: no authority confirms it, and it is on no trust list of this endpoint.",
				cut(f.Cert.Subject.String(), 80),
			),
			Remedies: []exchange.Remedy{
				c.trustRemedy("trust this certificate for this endpoint", f.Cert),
				c.pinRemedy(f.Cert),
			},
			Program: "add this certificate to the list that your program trusts for this endpoint",
		}
	},
	trust.ChainIncomplete: func(c *Case, f trust.Fault) exchange.Finding {
		out := exchange.Finding{
			Title: "the server did not send its whole chain", Certainty: exchange.Likely,
			Why: fmt.Sprintf("%s was issued by %s, which was not sent and is not trusted here.",
				cut(f.Cert.Subject.String(), 80), cut(f.Detail, 80)),
			Program: "have the service send the intermediate certificate, or add it to what your program trusts",
		}
		if n := len(c.Fetched); n > 0 {
			first, last := c.Fetched[0], c.Fetched[n-1]
			out.Certainty = exchange.Certain
			out.Why += fmt.Sprintf(
				" It was fetched from where the certificate says that it is: %s, SHA-256 %s.",
				cut(first.Subject.String(), 80),
				trust.Grouped(trust.Fingerprint(first)),
			)
			if c.Completes {
				out.Why += " With it the chain leads to an authority that is trusted here."
				out.Remedies = append(out.Remedies, exchange.NewRemedy(
					"complete the chain with it, for this endpoint",
					exchange.Change{
						Where: "workspace",
						Key:   "endpoint." + c.X.Endpoint + ".intermediates",
						To:    string(trust.PEM(c.Fetched...)),
					},
				))
			} else {
				out.Remedies = append(out.Remedies, c.trustRemedy("trust the authority "+cut(last.Subject.CommonName,
					40), last))
			}
		}
		out.Remedies = append(out.Remedies, c.trustRemedy("trust the certificate that was sent", f.Cert))
		return out
	},
	trust.ChainBroken: func(c *Case, f trust.Fault) exchange.Finding {
		return exchange.Finding{
			Title:    whichCertificate(f) + " breaks a rule of chains",
			Why:      fmt.Sprintf("%s: %s.", cut(f.Cert.Subject.String(), 80), cut(f.Detail, 240)),
			Remedies: c.trustLeafAlone(),
			Program:  "nothing; the service's people must send the right chain: other programs refuse this one too",
		}
	},
	trust.AuthorityUnknown: func(c *Case, f trust.Fault) exchange.Finding {
		out := exchange.Finding{
			Title: "the server's certificate comes from an authority that is not trusted here",
			Why: fmt.Sprintf("It was issued by %s, which is on no trust list of this endpoint.",
				cut(f.Detail, 160)),
			Remedies: []exchange.Remedy{c.trustRemedy("trust "+cut(f.Cert.Subject.CommonName, 40), f.Cert)},
			Program:  "add this authority to the list that your program trusts",
		}
		if f.Index > 0 {
			out.Remedies = append(out.Remedies, c.trustLeafAlone()...)
		}
		return out
	},
	trust.Expired: func(c *Case, f trust.Fault) exchange.Finding {
		r := exchange.NewRemedy(
			"accept this certificate for this endpoint although it has expired",
			c.changeHere("accept-expired", trust.Fingerprint(f.Cert)),
		)
		r.Ask = "an expired certificate is accepted from now on: SHA-256 " + trust.Grouped(trust.Fingerprint(f.Cert))
		return exchange.Finding{
			Title: whichCertificate(f) + " has expired",
			Why:   fmt.Sprintf("%s: %s.%s", cut(f.Cert.Subject.String(), 60), f.Detail, c.clocks(f)),
			Side:  c.whoseClock(f),
			Remedies: []exchange.Remedy{
				r,
			},
			Program: "nothing; the service's people must renew the certificate (or this machine's clock is wrong)",
		}
	},
	trust.NotYetValid: func(c *Case, f trust.Fault) exchange.Finding {
		r := exchange.NewRemedy(
			"accept this certificate for this endpoint although it is not valid yet",
			c.changeHere("accept-expired", trust.Fingerprint(f.Cert)),
		)
		r.Ask = "a certificate outside its dates is accepted from now on: SHA-256 " + trust.Grouped(
			trust.Fingerprint(f.Cert),
		)
		return exchange.Finding{
			Title: whichCertificate(f) + " is not valid yet",
			Why:   fmt.Sprintf("%s: %s.%s", cut(f.Cert.Subject.String(), 60), f.Detail, c.clocks(f)),
			Side:  c.whoseClock(f),
			Remedies: []exchange.Remedy{
				r,
			},
			Program: "check this machine's clock first; else the service's people must replace the certificate",
		}
	},
	trust.NameDiffers: func(c *Case, f trust.Fault) exchange.Finding {
		asked := c.tls().ServerName
		out := exchange.Finding{Title: "the server's certificate is for another name",
			Why: fmt.Sprintf("The name that was called is %s; the certificate is "+
				"for %s.", asked, orNone(cut(f.Detail, 200))),
			Program: "call the service by a name that is in its certificate"}
		switch {
		case net.ParseIP(asked) != nil && slices.Contains(f.Cert.DNSNames, asked):
			out.Why = fmt.Sprintf("The address that was called, %s, stands in it as a name (DNS); it has to stand "+
				"there as an address (IP).", asked)
			out.Side = exchange.Theirs
		case len(f.Cert.DNSNames)+len(f.Cert.IPAddresses) == 0 && f.Cert.Subject.CommonName != "":
			out.Why += " Programs no longer look for the name there (RFC 9525)."
			out.Side = exchange.Theirs
		}
		if c.OtherName != nil {
			out.Why += fmt.Sprintf(
				" The host has several: asked for no name, it shows one for %s.",
				list(c.OtherName, 4),
			)
		}
		if names := trust.Names(f.Cert); len(names) > 0 && !strings.Contains(names[0], " ") {
			r := exchange.NewRemedy(
				"accept the name "+names[0]+" for this endpoint",
				c.changeHere("accept-name", names[0]),
			)
			r.Ask = fmt.Sprintf("%s will be believed to be %s", names[0], asked)
			out.Remedies = append(out.Remedies, r)
		}
		return out
	},
	trust.UsageDiffers: func(_ *Case, f trust.Fault) exchange.Finding {
		return exchange.Finding{
			Title:   "the server's certificate is not for servers",
			Why:     fmt.Sprintf("%s: %s.", cut(f.Cert.Subject.String(), 60), f.Detail),
			Program: "nothing; the service's people must put a certificate for servers in its place",
		}
	},
	trust.Revoked: func(c *Case, f trust.Fault) exchange.Finding {
		return exchange.Finding{
			Title:    "the server's certificate was revoked",
			Why:      fmt.Sprintf("%s: %s.", cut(f.Cert.Subject.String(), 60), f.Detail),
			Evidence: append(c.inCertificate(f), c.inSettings("revocation", 0, 1)),
			Program:  "nothing; the service's people must put another certificate in its place",
		}
	},
	trust.KeyWeak: func(_ *Case, f trust.Fault) exchange.Finding {
		return exchange.Finding{
			Title:   whichCertificate(f) + " is too weak to be accepted",
			Why:     fmt.Sprintf("%s: %s.", cut(f.Cert.Subject.String(), 60), f.Detail),
			Program: "nothing; the service's people must replace the certificate",
		}
	},
}

// standingUnknown tells that it was asked whether a certificate was revoked, and nobody said.
func standingUnknown(c *Case) []exchange.Finding {
	l := c.leg()
	if l == nil || l.Conn.TLS == nil {
		return nil
	}
	for i := range l.Conn.TLS.Standing {
		s := &l.Conn.TLS.Standing[i]
		if s.State == exchange.StandingGood || s.State == exchange.StandingRevoked {
			continue
		}
		return one(exchange.Finding{
			Title:    "whether the server's certificate was revoked is not known",
			Why:      fmt.Sprintf("%s: %s.", cut(s.Subject, 60), strings.TrimSuffix(s.String(), ".")),
			Evidence: []exchange.Evidence{c.inSettings("revocation", 0, 1)},
			Remedies: []exchange.Remedy{exchange.NewRemedy("do not ask", c.changeHere("revocation", "off"))},
			Program:  "decide what your program does then: many go on",
		})
	}
	return nil
}

func tlsTimedOut(c *Case) []exchange.Finding {
	e := c.onWire("tls.timed-out")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the TLS handshake was not finished in time",
		Why:      "The connection was accepted, and then nothing more came." + c.total(e),
		Evidence: append(c.inAddress(), c.inSettings(fell(e, "connect-time"), 0, 1)),
		Remedies: c.moreTime(fell(e, "connect-time")),
		Program:  "check what stands between it and the service: a proxy or firewall may hold TLS back",
	})
}

func tlsClosed(c *Case) []exchange.Finding {
	e := c.onWire("tls.closed")
	if e == nil {
		return nil
	}
	how := fmt.Sprintf("%s.", upperFirst(fmt.Sprint(e.Err)))
	switch {
	case errors.Is(e.Err, syscall.ECONNRESET):
		how = "The connection was reset within the handshake."
	case errors.Is(e.Err, io.EOF), errors.Is(e.Err, io.ErrUnexpectedEOF):
		how = "The connection was closed within the handshake."
	}
	return one(exchange.Finding{
		ID: "tls.closed", Certainty: exchange.Likely,
		Title: "the handshake was dropped without a reason",
		Why: how + " Likely reasons, the commonest first: the server knows no host by the name that was asked for; " +
			"it speaks only other TLS versions; a firewall cut the connection.",
		Evidence: c.inAddress(), Program: "check the server name that it asks for, and the TLS versions it offers",
	})
}

func certificateUnreadable(c *Case) []exchange.Finding {
	e := c.onWire("tls.certificate-unreadable")
	if e == nil {
		return nil
	}
	return one(exchange.Finding{
		Title: "a certificate of the server cannot be read",
		Why: fmt.Sprintf(
			"Its bytes are not an X.509 certificate that Orenda can read: %v. It was not judged: neither "+
				"trust nor name nor date was looked at.",
			e.Err,
		),
		Evidence: c.inAddress(),
		Program: "tell the service's people: the certificate has to be issued again; other programs " +
			"may read it all the same",
	})
}

func tlsAlert(c *Case) []exchange.Finding {
	e := c.onWire("tls.alert")
	if e == nil {
		return nil
	}
	return one(
		exchange.Finding{
			Title:    "the service ended TLS with the alert “" + e.Alert + "”",
			Why:      "The alert is the service's own word for it.",
			Evidence: c.inAddress(),
			Program:  "ask the service's people what their log says at this time",
		},
	)
}
