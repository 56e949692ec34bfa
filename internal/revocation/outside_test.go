package revocation

import (
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// A chain from outside that nobody trusts leads to no address of this machine or of a private network.
func TestAnUntrustedChainLeadsNowhereInside(t *testing.T) {
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.WriteHeader(http.StatusTeapot)
	}))
	defer s.Close()
	root, err := trust.Issue(trust.Wish{Name: "root", Authority: true})
	require.NoError(t, err)
	leaf, err := trust.Issue(trust.Wish{Name: "quay", By: root, StandsAt: s.URL})
	require.NoError(t, err)
	chain := []*x509.Certificate{leaf.Cert, root.Cert}
	shown := func(remote string, outcome exchange.Outcome) *exchange.Exchange {
		return &exchange.Exchange{Outcome: outcome, Legs: []*exchange.Leg{{Conn: exchange.Connection{Remote: remote, TLS: &exchange.TLSInfo{}}}}}
	}
	for _, c := range []struct {
		x    *exchange.Exchange
		asks bool
	}{
		{shown("203.0.113.5:443", exchange.OutcomeStopped), false},
		{shown("203.0.113.5:443", exchange.OutcomePassed), true},
		{shown("10.1.2.3:443", exchange.OutcomeStopped), true}, // it is inside itself
		{nil, true}, // a file of the person's
	} {
		before := asked.Load()
		all := Of(t.Context(), chain, c.x)
		require.Len(t, all, 1)
		assert.Equal(t, exchange.StandingUnreached, all[0].State)
		assert.Equal(t, c.asks, asked.Load() > before, all[0].Why)
		if !c.asks {
			assert.Contains(t, all[0].Why, "it is not asked")
		}
	}
	known := shown("203.0.113.5:443", exchange.OutcomeStopped)
	known.Legs[0].Conn.TLS.Standing = []exchange.Standing{{State: exchange.StandingRevoked}}
	assert.Equal(t, exchange.StandingRevoked, Of(t.Context(), chain, known)[0].State)
}
