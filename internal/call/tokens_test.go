package call_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
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

// deskIdentity logs in at the gate for an assertion that a key of the kind confirms.
func deskIdentity(h *standin.Harbour, dir, keyType string) *identity.Identity {
	id := &identity.Identity{Name: "desk", User: standin.User, Secret: "env:DESK_WORD",
		LogIn: &identity.LogIn{Address: "http://" + h.Plain + "/gate", Kind: identity.WSTrust13, Type: "text/xml", KeyType: keyType}}
	if keyType == identity.KeyPublic {
		id.Certificate = filepath.Join(dir, "clerk.pem")
	}
	return id
}

// An assertion may be bound to a key: of the identity's certificate, or one that both agree on. What is sent
// is signed by that key, and the service holds it against the assertion.
func TestAnAssertionThatAKeyConfirms(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", standin.Password)
	for keyType, method := range map[string]string{identity.KeyPublic: "rsa-sha256", identity.KeySymmetric: "hmac-sha256"} {
		p, dir := manifests(t, h)
		p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
		p.Settings.Set("session", "desk")
		p.Settings.Set("timestamp", "5m")
		p.Identity = func(string) (*identity.Identity, error) { return deskIdentity(h, dir, keyType), nil }
		var kept []*exchange.Exchange
		p.Keep = func(x *exchange.Exchange) { kept = append(kept, x) }
		p.Sessions = &call.Sessions{}
		for range 2 { // the key is kept with the assertion
			x := run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s: %+v", keyType, x.Findings)
			assert.Contains(t, string(x.Leg().RequestBody), method)
			assert.Contains(t, string(x.Leg().RequestBody), "#SAMLID")
			assert.Contains(t, x.Stage(exchange.Security).Facts.Get("signed"), "with the key of the assertion")
		}
		require.Len(t, kept, 1)
		asked, came := kept[0].Leg().RequestBody, kept[0].Leg().ResponseBody.Bytes()
		assert.Contains(t, string(asked), map[string]string{identity.KeyPublic: "/PublicKey", identity.KeySymmetric: "/SymmetricKey"}[keyType])
		for _, m := range regexp.MustCompile(`BinarySecret[^>]*>([^<]+)<`).FindAllSubmatch(append(asked, came...), -1) {
			cut := kept[0].Redact(nil)
			assert.NotContains(t, string(cut.Leg().Out)+string(cut.Leg().In.Bytes()), string(m[1]), "a key is a secret")
		}

		p.Settings.Set("sign", "body")
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "the parts that are set are signed by it: %+v", x.Findings)

		// Borne without the key, it is refused.
		stolen := filepath.Join(dir, "stolen.xml")
		require.NoError(t, os.WriteFile(stolen, regexp.MustCompile(`(?s)<saml:Assertion.*</saml:Assertion>`).Find(came), 0o600))
		p.Settings.Set("session", "")
		p.Settings.Set("sign")
		p.Settings.Set("token-file", stolen)
		x = run(t, p)
		require.Equal(t, exchange.OutcomeStopped, x.Outcome)
		assert.Contains(t, fmt.Sprint(x.Findings), "signed by the key that the assertion names")
	}
}

// A token service that agrees on no key, or on one that cannot be used, is told so; so is one that wants
// a key where none was asked for.
func TestKeysOfAssertionsThatCannotBeUsed(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", standin.Password)
	assertion := `<s:Assertion xmlns:s="urn:oasis:names:tc:SAML:2.0:assertion" ID="a1" Version="2.0"><s:Subject><s:NameID>ines</s:NameID>` +
		`<s:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:%s"/></s:Subject></s:Assertion>`
	holder, bearer := fmt.Sprintf(assertion, "holder-of-key"), fmt.Sprintf(assertion, "bearer")
	proof := func(inner string) string { return "<t:RequestedProofToken>" + inner + "</t:RequestedProofToken>" }
	for _, c := range []struct{ keyType, assertion, more, want string }{
		{identity.KeyBearer, holder, "", "log-in.key-type says which kind of key"},
		{identity.KeySymmetric, holder, "", "agreed on no key"},
		{identity.KeySymmetric, holder, proof("<t:BinarySecret>?</t:BinarySecret>"), "cannot be used"},
		{identity.KeySymmetric, holder, proof("<t:BinarySecret></t:BinarySecret>"), "the proof key is empty"},
		{identity.KeySymmetric, holder, proof("<x:EncryptedKey xmlns:x='urn:x'/>"), "comes as EncryptedKey"},
		{identity.KeySymmetric, holder, proof("<t:ComputedKey>urn:other</t:ComputedKey>"), "computed by urn:other"},
		{identity.KeySymmetric, holder, proof("<t:ComputedKey>http://docs.oasis-open.org/ws-sx/ws-trust/200512/CK/PSHA1</t:ComputedKey>"),
			"gives no entropy"},
		{"", strings.Replace(bearer, "bearer", "sender-vouches", 1), "", "confirmed by sender-vouches"},
		{identity.KeySymmetric, holder, proof("<t:BinarySecret>c2hhcmVkIHdvcmQgb2YgdGhlIGdhdGU=</t:BinarySecret>"), ""},
	} {
		gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/xml")
			fmt.Fprint(w, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>`+
				`<t:RequestSecurityTokenResponse xmlns:t="http://docs.oasis-open.org/ws-sx/ws-trust/200512"><t:RequestedSecurityToken>`+
				c.assertion+`</t:RequestedSecurityToken>`+c.more+`</t:RequestSecurityTokenResponse></e:Body></e:Envelope>`)
		}))
		p, dir := manifests(t, h)
		p.Settings.Set("session", "desk")
		p.Identity = func(string) (*identity.Identity, error) {
			id := deskIdentity(h, dir, c.keyType)
			id.LogIn.Address = gate.URL + "/gate"
			return id, nil
		}
		x := run(t, p)
		gate.Close()
		if c.want == "" {
			assert.Contains(t, string(x.Leg().RequestBody), "hmac-sha256", "%+v", x.Findings)
			continue
		}
		require.Equal(t, "security.log-in-failed", x.Cause().ID, c.want)
		assert.Contains(t, x.Cause().Why, c.want)
	}
	p, dir := manifests(t, h)
	p.Settings.Set("session", "desk")
	p.Identity = func(string) (*identity.Identity, error) {
		id := deskIdentity(h, dir, identity.KeyPublic)
		id.Certificate = ""
		return id, nil
	}
	x := run(t, p)
	assert.Contains(t, x.Cause().Why, "needs an identity with a certificate")
	assert.ErrorContains(t, (&identity.Identity{}).Set("log-in.key-type", "proof"), "bearer, public-key or symmetric-key")
}
