// Package revocation asks whether certificates of a chain were revoked: by the OCSP response
// that the server staples (RFC 6066 §8), by asking the responder that a certificate names (RFC
// 6960), or by the list that it names (RFC 5280 §5).
package revocation

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ocsp"

	"orenda/internal/exchange"
)

// Limits of what is read, and of how long one responder is waited for.
const (
	maxResponse = 64 << 10
	maxList     = 20 << 20
	patience    = 5 * time.Second
)

// Asker asks. Its zero value asks nobody, and judges what was stapled only.
type Asker struct {
	Client *http.Client // nil: nobody is asked
	Now    time.Time    // what time it is
}

// Client asks responders, by the proxy of the environment where there is one.
func Client() *http.Client {
	const most = 3
	return &http.Client{
		Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true},
		CheckRedirect: func(_ *http.Request, via []*http.Request) error {
			if len(via) >= most {
				return errors.New("it leads on and on")
			}
			return nil
		},
	}
}

// Standings are those of the certificates of a chain, leaf first, each with its issuer behind it.
// A root is its own authority and is left out.
func (a *Asker) Standings(ctx context.Context, chain []*x509.Certificate, stapled []byte) []exchange.Standing {
	var out []exchange.Standing
	for i, c := range chain {
		if bytes.Equal(c.RawSubject, c.RawIssuer) {
			continue
		}
		var issuer *x509.Certificate
		if at := slices.IndexFunc(chain, func(o *x509.Certificate) bool {
			return bytes.Equal(o.RawSubject, c.RawIssuer) && c.CheckSignatureFrom(o) == nil
		}); at >= 0 {
			issuer = chain[at]
		}
		if i > 0 {
			stapled = nil
		}
		out = append(out, a.standing(ctx, c, issuer, stapled))
	}
	return out
}

// standing is that of one certificate.
func (a *Asker) standing(ctx context.Context, c, issuer *x509.Certificate, stapled []byte) exchange.Standing {
	out := exchange.Standing{
		Subject: c.Subject.String(), Serial: c.SerialNumber.Text(16), State: exchange.StandingUnknown,
	}
	if issuer == nil {
		out.Why = "its issuer is not in the chain, and nobody else can be believed about it"
		return out
	}
	if len(stapled) > 0 {
		out.How = "stapled"
		if a.response(&out, stapled, c, issuer); out.State != exchange.StandingUnknown {
			return out
		}
	}
	if a.Client == nil {
		if out.Why == "" {
			out.Why = "the server stapled no answer about it"
		}
		return out
	}
	asked := isWeb(c.OCSPServer)
	for _, at := range asked {
		out.How, out.From, out.Why = "asked", at, ""
		question, err := ocsp.CreateRequest(c, issuer, nil)
		if err != nil {
			out.Why = err.Error()
			continue
		}
		b, err := a.get(ctx, http.MethodPost, at, question, maxResponse)
		if err != nil {
			out.State, out.Why = exchange.StandingUnreached, err.Error()
			continue
		}
		out.State = exchange.StandingUnknown
		if a.response(&out, b, c, issuer); out.State != exchange.StandingUnknown {
			return out
		}
	}
	lists := isWeb(c.CRLDistributionPoints)
	for _, at := range lists {
		b, err := a.get(ctx, http.MethodGet, at, nil, maxList)
		if err != nil {
			if out.Why == "" {
				out.How, out.From, out.State, out.Why = "list", at, exchange.StandingUnreached, err.Error()
			}
			continue
		}
		out.How, out.From, out.State, out.Why = "list", at, exchange.StandingUnknown, ""
		if a.list(&out, b, c, issuer); out.State != exchange.StandingUnknown {
			return out
		}
	}
	if len(asked)+len(lists) == 0 && out.Why == "" {
		out.State, out.Why = exchange.StandingNowhere, "it names no responder and no list"
	}
	return out
}

// response takes what an OCSP response says.
func (a *Asker) response(out *exchange.Standing, b []byte, c, issuer *x509.Certificate) {
	r, err := ocsp.ParseResponseForCert(b, c, issuer)
	if err != nil {
		out.Why = "the answer is no good: " + err.Error()
		return
	}
	if by := r.Certificate; by != nil && !bytes.Equal(by.Raw, issuer.Raw) {
		if !slices.Contains(by.ExtKeyUsage, x509.ExtKeyUsageOCSPSigning) { // RFC 6960 §4.2.2.2
			out.Why = "the answer is signed by a certificate that may not sign such answers"
			return
		}
		if a.Now.Before(by.NotBefore) || a.Now.After(by.NotAfter) {
			out.Why = "the answer is signed by a certificate that is out of its dates"
			return
		}
	}
	if !a.fresh(out, r.ThisUpdate, r.NextUpdate) {
		return
	}
	switch r.Status {
	case ocsp.Good:
		out.State = exchange.StandingGood
	case ocsp.Revoked:
		out.State, out.When, out.Reason = exchange.StandingRevoked, r.RevokedAt.UTC(), reason(r.RevocationReason)
	default:
		out.Why = "the responder does not know it"
	}
}

// list takes what a list says.
func (a *Asker) list(out *exchange.Standing, b []byte, c, issuer *x509.Certificate) {
	l, err := x509.ParseRevocationList(b)
	if err != nil {
		out.Why = "the list is no good: " + err.Error()
		return
	}
	if err := l.CheckSignatureFrom(issuer); err != nil {
		out.Why = "the list is not signed by the issuer"
		return
	}
	if !a.fresh(out, l.ThisUpdate, l.NextUpdate) {
		return
	}
	for _, e := range l.RevokedCertificateEntries {
		if e.SerialNumber.Cmp(c.SerialNumber) == 0 {
			out.State, out.When, out.Reason = exchange.StandingRevoked, e.RevocationTime.UTC(), reason(e.ReasonCode)
			return
		}
	}
	out.State = exchange.StandingGood
}

// fresh tells whether an answer is of now.
func (a *Asker) fresh(out *exchange.Standing, from, until time.Time) bool {
	const apart = 5 * time.Minute // of two clocks
	out.Until = until.UTC()
	switch {
	case a.Now.Add(apart).Before(from):
		out.Why = "the answer is from the future: " + from.UTC().Format(time.RFC3339)
	case !until.IsZero() && a.Now.Add(-apart).After(until):
		out.Why = "the answer is old: it was good until " + until.UTC().Format(time.RFC3339)
	default:
		return true
	}
	return false
}

func (a *Asker) get(ctx context.Context, method, at string, body []byte, most int64) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if method == http.MethodPost {
		q.Header.Set("Content-Type", "application/ocsp-request")
	}
	r, err := a.Client.Do(q)
	if errors.Is(err, context.DeadlineExceeded) {
		return nil, fmt.Errorf("it did not answer within %s", patience)
	}
	if err != nil {
		if of, ok := errors.AsType[*url.Error](err); ok {
			err = of.Err // where it went is said beside it
		}
		return nil, err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %s", r.Status)
	}
	b, err := io.ReadAll(io.LimitReader(r.Body, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("its answer is larger than %d bytes", most)
	}
	return b, err
}

// isWeb are the addresses that can be asked: a certificate may name directories too.
func isWeb(all []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(s string) bool {
		s = strings.ToLower(s)
		return !strings.HasPrefix(s, "http://") && !strings.HasPrefix(s, "https://")
	})
}

// reason is a reason code in words (RFC 5280 §5.3.1).
func reason(code int) string {
	words := []string{"no reason is given", "the key is compromised", "the authority is compromised",
		"what it says has changed", "it was replaced", "it is not used any more", "it is on hold", "",
		"it was taken from the list", "a privilege was withdrawn", "the authority for attributes is compromised"}
	if code < 0 || code >= len(words) || words[code] == "" {
		return fmt.Sprintf("reason %d", code)
	}
	return words[code]
}
