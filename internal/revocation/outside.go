package revocation

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"syscall"
	"time"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Of is whether the certificates of a chain were revoked: as it was found out while shaking hands, else as it is
// asked for now. x is the handshake that showed the chain; nil: it lies in a file.
func Of(ctx context.Context, chain []*x509.Certificate, x *exchange.Exchange) []exchange.Standing {
	a := &Asker{Client: Client(), Now: time.Now()}
	if x != nil && x.Leg() != nil {
		l := x.Leg()
		if l.Conn.TLS != nil && l.Conn.TLS.Standing != nil {
			return l.Conn.TLS.Standing
		}
		host, _, _ := net.SplitHostPort(l.Conn.Remote)
		if x.Outcome != exchange.OutcomePassed && !endpoint.IsPrivate(net.ParseIP(host)) {
			a.Client = outside(a.Client)
		}
	}
	return a.Standings(ctx, chain, nil)
}

var errPrivate = errors.New("it is an address of this machine or of a private network, named by a certificate from " +
	"outside that is not trusted: it is not asked")

// outside asks as c does, but nobody on this machine or in a private network: a chain that nobody trusts may name
// any address. What goes through a proxy is the proxy's to judge.
func outside(c *http.Client) *http.Client {
	dial := &net.Dialer{Control: func(_, address string, _ syscall.RawConn) error {
		host, _, err := net.SplitHostPort(address)
		if ip := net.ParseIP(host); err != nil || ip == nil || endpoint.IsPrivate(ip) {
			return errPrivate
		}
		return nil
	}}
	out := *c
	out.Transport = either{
		direct: &http.Transport{DialContext: dial.DialContext, DisableKeepAlives: true},
		proxy:  c.Transport,
	}
	return &out
}

// either sends through a proxy where the environment names one for the address.
type either struct{ direct, proxy http.RoundTripper }

func (e either) RoundTrip(q *http.Request) (*http.Response, error) {
	if u, err := http.ProxyFromEnvironment(q); err != nil || u != nil {
		return e.proxy.RoundTrip(q)
	}
	return e.direct.RoundTrip(q)
}
