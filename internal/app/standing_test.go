package app

import (
	"crypto/tls"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
	"orenda/internal/identity"
	"orenda/internal/trust"
)

// Whether a certificate was revoked is found out with one key, and stands at it.
func TestWhetherACertificateWasRevokedIsFoundOut(t *testing.T) {
	responder := httptest.NewServer(http.NotFoundHandler())
	defer responder.Close()
	root, err := trust.Issue(trust.Wish{Name: "harbour root", Authority: true})
	require.NoError(t, err)
	leaf, err := trust.Issue(trust.Wish{Name: "quay", Hosts: []string{"127.0.0.1"}, By: root, StandsAt: responder.URL})
	require.NoError(t, err)
	s := httptest.NewUnstartedServer(http.NotFoundHandler())
	s.TLS = &tls.Config{Certificates: []tls.Certificate{leaf.TLS(root.Cert)}}
	s.StartTLS()
	defer s.Close()
	p := sit(t, 158, 47)
	p.at("/berths")
	require.NoError(t, p.m.s.SetSetting("address", s.URL))
	p.keys("T")
	p.sees("no handshake was seen here yet")
	until := func(text string) {
		require.Eventually(t, func() bool {
			p.tell(state.Wake{})
			return strings.Contains(p.text(), text)
		}, 10*time.Second, 10*time.Millisecond)
	}
	p.keys("f")
	until("quay")
	p.sees("find out whether it was revoked")
	p.keys("m")
	until("standing")
	p.sees("of 1 certificate it is not known whether it was revoked", "standing", "was not reached: it answers 404 Not Found")
}

// All that an identity can have is changed in its list.
func TestAnIdentityIsChangedWhole(t *testing.T) {
	p := sit(t, 158, 47)
	require.NoError(t, p.m.s.Home.SaveIdentity(identity.Identity{Name: "desk", User: "desk"}))
	p.keys("i", "enter")
	p.sees("the program that signs for it", "its keys for Kerberos", "where it logs in", "what confirms its assertion")
}
