package call_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
)

// An assertion is asked for by the standard: nobody writes a body for it.
func TestAnAssertionByWSTrust(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", standin.Password)
	for _, kind := range []string{identity.WSTrust13, identity.WSTrust14} {
		p, dir := manifests(t, h)
		p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
		p.Settings.Set("session", "desk")
		in := &identity.LogIn{Address: "http://" + h.Plain + "/gate", Kind: kind, Type: "text/xml"}
		user := standin.User
		p.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: "desk", User: user, Secret: "env:DESK_WORD", LogIn: in}, nil
		}
		var kept []*exchange.Exchange
		p.Keep = func(x *exchange.Exchange) { kept = append(kept, x) }
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
		assert.Contains(t, string(x.Leg().Readable()), "<clerk>"+standin.User+"</clerk>")
		require.Len(t, kept, 1)
		asked := string(kept[0].Leg().RequestBody)
		assert.Contains(t, asked, "AppliesTo")
		assert.Contains(t, asked, "PasswordDigest", "no text without TLS")
		assert.Equal(t, "log-in", kept[0].Kind)
		assert.NotContains(t, string(kept[0].Redact(nil).Leg().In.Bytes()), "SignatureValue>MII", "the assertion is a secret")
		user = "mate"
		x = run(t, p)
		assert.Equal(t, "security.log-in-failed", x.Cause().ID)
	}
}

// A bearer token by client credentials: asked for once, renewed when it ends, and its refusal told
// in the token service's words.
func TestABearerTokenByClientCredentials(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", "tide & slack")
	var asked atomic.Int64
	life := 3600
	tokens := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		user, word, _ := r.BasicAuth()
		w.Header().Set("Content-Type", "application/json")
		if user != "desk" || word != "tide+%26+slack" || !strings.Contains(string(b), "grant_type=client_credentials") {
			w.WriteHeader(http.StatusUnauthorized)
			fmt.Fprint(w, `{"error":"invalid_client","error_description":"the desk is not known"}`)
			return
		}
		assert.Contains(t, string(b), "scope=berths.read")
		fmt.Fprintf(w, `{"access_token":"t-%d","token_type":"Bearer","expires_in":%d}`, asked.Add(1), life)
	}))
	defer tokens.Close()
	var sent []string
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		sent = append(sent, r.Header.Get("Authorization"))
		r.URL.Path = "/berths"
		h.ServeHTTP(w, r)
	}))
	defer gate.Close()
	p := berths(t, h, "/berths")
	p.Settings.Set("address", gate.URL+"/berths")
	p.Settings.Set("session", "desk")
	p.Sessions = &call.Sessions{}
	user := "desk"
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: user, Secret: "env:DESK_WORD",
			LogIn: &identity.LogIn{Kind: identity.OAuth2, Address: tokens.URL + "/token", Scope: "berths.read"}}, nil
	}
	for range 2 {
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
		assert.NotContains(t, string(x.Redact(nil).Leg().Out), "t-1")
	}
	assert.Equal(t, []string{"Bearer t-1", "Bearer t-1"}, sent)
	life, p.Sessions = 5, &call.Sessions{} // it ends before it is there
	for range 2 {
		require.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
	}
	assert.Equal(t, []string{"Bearer t-2", "Bearer t-3"}, sent[2:])
	user, p.Sessions = "mate", nil
	x := run(t, p)
	assert.Equal(t, "security.log-in-failed", x.Cause().ID)
	assert.Contains(t, x.Cause().Why, "invalid_client: the desk is not known")
	assert.NotContains(t, fmt.Sprint(x.Redact(nil)), "tide &")

	id := &identity.Identity{}
	require.Error(t, id.Set("log-in.kind", "oauth1"))
	require.NoError(t, id.Set("log-in.kind", "oauth2"))
}
