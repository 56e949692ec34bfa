package call

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/smallstep/pkcs7"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/trust"
	"orenda/internal/wire"
)

// readMaterial reads the certificates and keys that settings name.
func (c *securing) readMaterial(ctx context.Context) error {
	s := &c.plan.Settings
	for _, list := range []struct {
		key string
		to  *[]*x509.Certificate
	}{{"trust", &c.material.trusted}, {"intermediates", &c.material.intermediates}} {
		for _, path := range s.List(list.key) {
			certs, err := c.certificates(path)
			if err != nil {
				return &endpoint.FileError{Key: endpoint.KeyOf(list.key), Path: path, Err: err}
			}
			*list.to = append(*list.to, certs...)
		}
	}
	for _, suite := range s.List("ciphers") {
		if _, err := endpoint.Cipher(suite); err != nil {
			v := s.Get("ciphers")
			return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
		}
	}
	if c.plan.SkipVerify && (s.Text("token") != "none" || s.Text("http-auth") != "none") && c.url != nil &&
		c.url.Scheme == "https" {
		return endpoint.ErrSecretUnverified
	}
	if err := c.openKeyLog(); err != nil {
		return err
	}
	return c.client(ctx)
}

func (c *base) certificates(path string) ([]*x509.Certificate, error) {
	if c.plan.ReadFile == nil {
		return nil, errors.New("no file can be read here")
	}
	b, err := c.plan.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return trust.Read(b)
}

// openKeyLog opens the file that the session's keys are added to.
func (c *securing) openKeyLog() error {
	v := c.plan.Settings.Get("key-log")
	if v.Text == "" || c.plan.Until == exchange.Security {
		return nil
	}
	fail := func(err error) error { return &endpoint.FileError{Key: v.Key, Path: v.Text, Err: err} }
	if v.Source != "this call" && c.plan.KeyLogOK != nil && !c.plan.KeyLogOK(v.Text) {
		return &endpoint.KeyLogNewError{Path: v.Text}
	}
	f, err := os.OpenFile(v.Text, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fail(err)
	}
	c.material.keyLog = f
	return nil
}

// keyPair reads a certificate with its key, which is in the same file where key
// is "". bad is the file that cannot be used.
func keyPair(
	read func(string) ([]byte, error),
	cert, key, password string,
) (pair tls.Certificate, bad string, err error) {
	if read == nil {
		return pair, cert, errors.New("no file can be read here")
	}
	cb, err := read(cert)
	if err != nil {
		return pair, cert, err
	}
	var kb []byte
	if key != "" {
		if kb, err = read(key); err != nil {
			return pair, key, err
		}
	}
	pair, err = trust.Client(cb, kb, password)
	if _, sealed := errors.AsType[*trust.PasswordError](err); sealed && key != "" {
		return pair, key, err // the key is what needs the password
	}
	return pair, cert, err
}

// pairOf is the certificate of an identity with its key, or with the signer that has it.
func pairOf(ctx context.Context, id *identity.Identity, secret string) (tls.Certificate, string, error) {
	if id.Signer == "" {
		return keyPair(os.ReadFile, id.Certificate, id.Key, secret)
	}
	b, err := os.ReadFile(id.Certificate)
	if err != nil {
		return tls.Certificate{}, id.Certificate, err
	}
	pair, err := trust.WithSigner(b, id.SignWith(ctx, secret))
	return pair, id.Certificate, err
}

// client reads the client's certificate and key.
func (c *securing) client(ctx context.Context) error {
	s := &c.plan.Settings
	cert, key, name := s.Text("client-cert"), s.Text("client-key"), s.Text("client-identity")
	read, password := c.plan.ReadFile, ""
	what := "client-cert"
	var own *identity.Identity // whose certificate it is
	if name != "" {
		id, secret, err := c.identityHere(ctx, name)
		if err != nil {
			return err
		}
		password = secret
		if cert == "" {
			cert, what, own = id.Certificate, "client-identity", id
		}
	}
	if cert == "" || c.plan.fetch != nil && c.url.Scheme == "http" { // nobody asks for it there
		return nil
	}
	pair, bad, err := tls.Certificate{}, "", error(nil)
	if own != nil {
		pair, bad, err = pairOf(ctx, own, password)
	} else {
		pair, bad, err = keyPair(read, cert, key, password)
	}
	if _, sealed := errors.AsType[*trust.PasswordError](err); sealed && c.plan.Peek {
		return nil // nothing is opened where only is looked
	}
	if err != nil {
		if what == "client-cert" && bad == key {
			what = "client-key"
		}
		return &endpoint.FileError{Key: endpoint.KeyOf(what), Path: bad, Err: err}
	}
	if why := trust.Unfit(pair.Leaf, time.Now()); why != "" {
		c.unfit = why
		if now := time.Now(); now.After(pair.Leaf.NotAfter) || now.Before(pair.Leaf.NotBefore) {
			return &endpoint.CertificateDateError{
				Subject: pair.Leaf.Subject.String(),
				Why:     why,
				Key:     endpoint.KeyOf(what),
			}
		}
	}
	c.rec.Fact(
		exchange.TLS,
		"client certificate",
		pair.Leaf.Subject.String()+" · issued by "+pair.Leaf.Issuer.String()+" · until "+pair.Leaf.NotAfter.UTC().
			Format("2006-01-02"),
	)
	c.material.certs = append(c.material.certs, pair)
	return nil
}

// lookInto finds out more about a certificate that was not accepted: the issuer
// that was not sent, and the time that it is at the peer.
func (c *network) lookInto(ctx context.Context, err error) {
	we, ok := errors.AsType[*wire.Error](err)
	if !ok || we.Reason != wire.Certificate || we.Verdict == nil {
		return
	}
	for _, f := range we.Verdict.Faults {
		switch f.Reason {
		case trust.ChainIncomplete:
			c.completeChain(ctx, f.Cert)
		case trust.Expired, trust.NotYetValid:
			c.askTime(ctx)
		case trust.NameDiffers:
			if !c.plan.probing {
				c.otherwise(ctx, f.Cert)
			}
		}
	}
}

const (
	issuerTime = 4 * time.Second
	maxIssuer  = 64 << 10
	maxHops    = 3
)

// completeChain fetches the issuers that a server did not send, from where its
// certificate says that they are (RFC 5280 §4.2.2.1): over http, as they are
// signed themselves, and to a private address only from one.
func (c *network) completeChain(ctx context.Context, last *x509.Certificate) {
	ctx, cancel := context.WithTimeout(ctx, issuerTime)
	defer cancel()
	client := &http.Client{
		Transport:     &http.Transport{Proxy: c.viaProxy, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	fetched := []*x509.Certificate{}
	for range maxHops {
		next := (*x509.Certificate)(nil)
		for _, at := range last.IssuingCertificateURL[:min(len(last.IssuingCertificateURL), 3)] {
			u, err := url.Parse(at)
			if err != nil || u.Scheme != "http" || private(u.Hostname()) && !private(c.crossed.url.Hostname()) {
				continue
			}
			cert, err := fetchIssuer(ctx, client, u)
			if err != nil {
				c.rec.Fact(exchange.TLS, "issuer from "+at, err.Error())
				continue
			}
			if last.CheckSignatureFrom(cert) == nil {
				c.rec.Fact(exchange.TLS, "issuer from "+at, cert.Subject.String())
				next = cert
				break
			}
		}
		if next == nil {
			break
		}
		fetched = append(fetched, next)
		if last = next; last.CheckSignatureFrom(last) == nil {
			break
		}
	}
	if len(fetched) == 0 {
		return
	}
	var chain []*x509.Certificate
	for _, raw := range c.leg.Conn.TLS.Chain {
		if cert, err := x509.ParseCertificate(raw); err == nil {
			chain = append(chain, cert)
		}
	}
	c.material.intermediates = append(c.material.intermediates, fetched...)
	c.fetched, c.completes = fetched, true
	for _, f := range c.judge(chain, c.leg.Conn.TLS.ServerName).Faults {
		if f.Reason <= trust.AuthorityUnknown {
			c.completes = false
		}
	}
	c.rec.Update(func(*exchange.Exchange) {
		for _, cert := range append(chain, fetched...) {
			c.leg.Conn.TLS.Completed = append(c.leg.Conn.TLS.Completed, cert.Raw)
		}
	})
}

func (c *network) viaProxy(*http.Request) (*url.URL, error) {
	if c.proxy == nil {
		return nil, nil
	}
	u := &url.URL{Scheme: c.proxy.Scheme, Host: net.JoinHostPort(c.proxy.Host, c.proxy.Port)}
	if c.proxy.User != "" {
		u.User = url.UserPassword(c.proxy.User, c.proxy.Password)
	}
	return u, nil
}

func fetchIssuer(ctx context.Context, client *http.Client, u *url.URL) (*x509.Certificate, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, err
	}
	resp, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxIssuer))
	if err != nil || resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %s", resp.Status)
	}
	if certs, err := trust.Read(b); err == nil {
		return certs[0], nil
	}
	p7, err := pkcs7.Parse(b)
	if err != nil || len(p7.Certificates) == 0 {
		return nil, errors.New("what is there is no certificate")
	}
	return p7.Certificates[0], nil
}

// askTime asks the peer what time it is, over a connection of its own that
// carries nothing, so that a wrong clock can be told from a wrong certificate.
func (c *network) askTime(ctx context.Context) {
	if !c.crossed.peerTime.IsZero() {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, issuerTime/2)
	defer cancel()
	cfg := c.config()
	cfg.Judge, cfg.Standing, cfg.Certificates, cfg.Pool, cfg.KeyLog = nil, nil, nil, nil, nil
	cfg.Until = exchange.None
	rec := exchange.NewRecorder(&exchange.Exchange{}, nil)
	leg, err := wire.Do(
		ctx,
		cfg,
		wire.Request{Method: "HEAD", Target: "/", Header: [][2]string{{"Host", c.url.Host}, {"Connection", "close"}}},
		rec,
	)
	if err != nil && !leg.Response.Complete {
		return
	}
	if at, err := http.ParseTime(leg.Response.Get("Date")); err == nil {
		c.crossed.peerTime = at
		c.rec.Fact(exchange.TLS, "the server's clock", at.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
}

// otherwise asks for no name at all: a host may show other certificates to those
// who ask otherwise.
func (c *network) otherwise(ctx context.Context, shown *x509.Certificate) {
	ctx, cancel := context.WithTimeout(ctx, issuerTime)
	defer cancel()
	check := &checking{plan: *c.plan, url: c.url}
	if other := shows(check.reach(ctx, c.url.String(), exchange.TLS, "server-name", noName)); other != nil &&
		!other.Equal(shown) {
		c.otherName = trust.Names(other)
		c.rec.Fact(exchange.TLS, "asked for no name", other.Subject.String()+" · for "+strings.Join(c.otherName, ", "))
	}
}

// private tells whether a host is this machine or of a private network.
func private(host string) bool {
	return host == "localhost" || endpoint.IsPrivate(net.ParseIP(host))
}

// choose finds the one client certificate that fits what the server asks for, of
// the identities that were allowed to go there. Where several fit, none is
// chosen: the person is asked.
func (c *network) choose(ask *tls.CertificateRequestInfo) *tls.Certificate {
	host, port := endpoint.HostPort(c.url)
	var found *tls.Certificate
	name := ""
	for _, id := range c.plan.Candidates() {
		if id.Certificate == "" || c.plan.Allowed == nil || !c.plan.Allowed(id.Name, c.url.Scheme, host, port) ||
			len(ask.AcceptableCAs) == 0 {
			continue
		}
		password := ""
		if id.Secret != "" {
			password, _ = id.Reveal(ask.Context())
		}
		pair, _, err := pairOf(ask.Context(), id, password)
		if err != nil || trust.Unfit(pair.Leaf, time.Now()) != "" || ask.SupportsCertificate(&pair) != nil {
			continue
		}
		if found != nil {
			return nil
		}
		found, name = &pair, id.Name
	}
	if found != nil {
		c.chosen = name
		c.material.certs = append(c.material.certs, *found)
	}
	return found
}
