package call_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/trust"
)

// touched listens, and counts who connects.
func touched(t *testing.T) (address string, count *atomic.Int64) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	count = &atomic.Int64{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			count.Add(1)
			_ = c.Close()
		}
	}()
	return l.Addr().String(), count
}

// identityUses are the settings by which an identity is used, with what else must be
// set for it. A new one gets a row here: the test below asks for it.
func identityUses(proxy string) map[string][]string {
	return map[string][]string{
		"identity":        {"token", "text"},
		"sign-identity":   {"sign", "body"},
		"client-identity": nil,
		"proxy-identity":  {"proxy", "http://" + proxy},
		"session":         nil,
	}
}

// A workspace may be a stranger's: an identity is used for nothing at a place that was
// not approved, whether it holds a secret, or a certificate and its key.
func TestNoUseOfAnIdentityWithoutApproval(t *testing.T) {
	p := newPKI(t)
	p.issue("desk", trust.Wish{Name: "desk", Client: true, By: p.root})
	service, atService := touched(t)
	proxy, atProxy := touched(t)
	in := &identity.LogIn{Address: "http://" + service + "/gate", Body: "<in/>", Gives: "assertion"}
	t.Setenv("DESK_SECRET", "slack water")
	uses := identityUses(proxy)
	for _, k := range endpoint.Keys {
		if !k.OfPerson {
			continue
		}
		more, ok := uses[k.Name]
		require.True(t, ok, "%s uses an identity: give it a row in identityUses", k.Name)
		for _, id := range []identity.Identity{
			{Name: "desk", User: "desk", Secret: "env:DESK_SECRET", LogIn: in},
			{Name: "desk", User: "desk", Certificate: p.file("desk.pem"), Key: p.file("desk.key"), LogIn: in},
			{Name: "desk", User: "desk", Secret: "env:DESK_SECRET", LogIn: in,
				Certificate: p.file("desk.pem"), Key: p.file("desk.key")},
		} {
			plan := to(t, service, append([]string{k.Name, "desk"}, more...)...)
			plan.Identity = func(string) (*identity.Identity, error) { return &id, nil }
			asked := 0
			plan.Allowed = func(string, string, string, string) bool { asked++; return false }
			x := run(t, plan)
			require.Equal(t, "security.identity-host-new", x.Findings[0].ID, "%s: %v", k.Name, ids(x))
			assert.Equal(t, exchange.OutcomeStopped, x.Outcome, k.Name)
			assert.Equal(t, k.Name, x.Findings[0].Evidence[0].Key, "the setting that names it is shown")
			assert.Positive(t, asked, k.Name)
		}
	}
	time.Sleep(50 * time.Millisecond)
	assert.Zero(t, atService.Load(), "nothing went to the service")
	assert.Zero(t, atProxy.Load(), "nothing went to the proxy")
}

// Parts of a description are fetched from its own host, and from those that the person
// names; a part that is left out is told.
func TestPartsOfADescriptionStayWithItsHost(t *testing.T) {
	asked := 0
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		_, _ = io.WriteString(w, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:o"/>`)
	}))
	t.Cleanup(other.Close)
	_, port, err := net.SplitHostPort(other.Listener.Addr().String())
	require.NoError(t, err)
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:d">`+
			`<types><xs:schema targetNamespace="urn:d"><xs:import namespace="urn:o" schemaLocation="http://localhost:`+port+`/o.xsd"/></xs:schema></types>`+
			`<service name="S"/></definitions>`)
	}))
	t.Cleanup(own.Close)
	p := call.Plan{Agent: "test", ReadFile: os.ReadFile}
	f, err := call.Fetch(t.Context(), own.URL+"/d?wsdl", p, nil)
	require.NoError(t, err)
	assert.Zero(t, asked)
	assert.Contains(t, fmt.Sprint(f.Contract.Unread, f.Contract.Schemas.Problems), "--also localhost allows it")
	p.Also = []string{"localhost"}
	_, err = call.Fetch(t.Context(), own.URL+"/d?wsdl", p, nil)
	require.NoError(t, err)
	assert.Equal(t, 1, asked)
}
