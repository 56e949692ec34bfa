package call_test

import (
	"crypto"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/standin"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// listening is a server that keeps what it was sent, and answers with reply.
func listening(t *testing.T, reply func(sent []byte) string) (address string, got *[]byte) {
	got = new([]byte)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*got, _ = io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, reply(*got))
	}))
	t.Cleanup(srv.Close)
	return srv.URL, got
}

func someBerths([]byte) string {
	return `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`
}

func withWord(t *testing.T, p *call.Plan, word string) {
	file := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(file, []byte(word), 0o600))
	p.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, User: "desk", Secret: "file:" + file}, nil
	}
	p.Settings.Set("identity", "desk")
}

// Each part of the user name token is left out, moved or made wrong as it is set.
func TestTheTokenIsMadeAsItIsSet(t *testing.T) {
	h := harbour(t)
	at, got := listening(t, someBerths)
	p := berths(t, h, "/")
	p.Settings.Set("address", at)
	p.Settings.Set("token", "digest")
	withWord(t, &p, "slack water at noon")
	for _, c := range []struct {
		set      []string
		has, not string
	}{
		{[]string{"token-nonce", "none"}, "Created>", "Nonce"},
		{[]string{"token-created", "none"}, "Nonce", "Created>"},
		{[]string{"token-nonce", "AAAA", "token-created", "yesterday"}, `>AAAA</wsse:Nonce>`, ""},
		{[]string{"security-actor", "urn:quay"}, `soap:actor="urn:quay"`, ""},
		{[]string{"must-understand", "false"}, "wsse:Security", "mustUnderstand"},
		{[]string{"clock-offset", "-48h"}, time.Now().UTC().Add(-48 * time.Hour).Format("2006-01-02T15"), ""},
	} {
		q := p
		for i := 0; i+1 < len(c.set); i += 2 {
			q.Settings.Set(c.set[i], c.set[i+1])
		}
		x := run(t, q)
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%v: %+v", c.set, x.Findings)
		assert.Contains(t, string(*got), c.has, "%v", c.set)
		if c.not != "" {
			assert.NotContains(t, string(*got), c.not, "%v", c.set)
		}
	}
	p.Settings.Set("clock-offset", "soon")
	assert.Equal(t, "binding.value-invalid", run(t, p).Cause().ID)
}

// A key that is derived from the password signs, and the password stays here.
func TestAKeyFromThePasswordSigns(t *testing.T) {
	h := harbour(t)
	at, got := listening(t, someBerths)
	p := berths(t, h, "/")
	p.Settings.Set("address", at)
	for k, v := range map[string]string{"token": "digest", "timestamp": "5m", "sign": "body,timestamp,token",
		"sign-key": "password", "signature": "sha1"} {
		p.Settings.Set(k, v)
	}
	withWord(t, &p, "slack water at noon")
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	d, err := xmltree.Parse(*got, xmltree.Limits{})
	require.NoError(t, err)
	e := soap.Read(d)
	tok := e.Header.Child(wssec.WSSE, "Security").Child(wssec.WSSE, "UsernameToken")
	salt, err := base64.StdEncoding.DecodeString(tok.Child(wssec.WSSE11, "Salt").Text())
	require.NoError(t, err)
	key := (&wssec.Derived{Salt: salt, Iterations: 1000}).Key("slack water at noon")
	all := wssec.Verify(e, wssec.Keys{Secret: key})
	require.Len(t, all, 1)
	assert.True(t, all[0].Holds(), all[0].Why)
	assert.True(t, all[0].Covers(e.Body))
	p.Settings.Set("token", "none")
	assert.Equal(t, "binding.value-invalid", run(t, p).Cause().ID)
}

// Tokens of others are put in from files, and are secrets.
func TestTokensFromFiles(t *testing.T) {
	h := harbour(t)
	at, got := listening(t, someBerths)
	dir := t.TempDir()
	file := func(name, content string) string {
		f := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(f, []byte(content), 0o600))
		return f
	}
	assertion := func(until time.Time) string {
		return fmt.Sprintf(
			`<?xml version="1.0"?><s:Assertion xmlns:s="urn:oasis:names:tc:SAML:2.0:assertion" ID="a-9"><s:Issuer>urn:gate</s:Issuer><ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignatureValue>ZWJiYW5kZmxvb2Q=</ds:SignatureValue></ds:Signature><s:Conditions NotOnOrAfter="%s"/></s:Assertion>`,
			until.UTC().Format(time.RFC3339),
		)
	}
	p := berths(t, h, "/")
	p.Settings.Set("address", at)
	p.Settings.Set(
		"token-file",
		file("a.xml", assertion(time.Now().Add(time.Hour))),
		file("pass.xml", `<pass xmlns="urn:quay">berth-77-1234</pass>`),
	)
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Empty(t, ids(x))
	assert.Contains(t, string(*got), `ID="a-9"`)
	assert.Contains(t, string(*got), "berth-77-1234")
	assert.NotContains(t, string(*got), "<?xml version=\"1.0\"?><s:")
	masked := x.Redact(nil)
	all := fmt.Sprintf("%s %s %+v", masked.Leg().Out, masked.Leg().RequestBody, masked.Report(true))
	for _, secret := range []string{"ZWJiYW5kZmxvb2Q=", "berth-77-1234"} {
		assert.NotContains(t, all, secret)
	}
	assert.Contains(t, x.Stage(exchange.Security).Facts.Get("assertion"), "SAML 2.0 of urn:gate")

	p.Settings.Set("token-file", file("old.xml", assertion(time.Now().Add(-time.Hour))))
	x = run(t, p)
	assert.Equal(t, "security.assertion-expired", x.Findings[0].ID)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "it is sent: how the service answers is to be seen")
	for name, content := range map[string]string{"broken": "<a>", "bomb": `<!DOCTYPE a [<!ENTITY b "x">]><a>&b;</a>`,
		"no id": `<s:Assertion xmlns:s="urn:oasis:names:tc:SAML:2.0:assertion"/>`, "empty": ""} {
		p.Settings.Set("token-file", file("bad.xml", content))
		assert.Equal(t, "security.key-unreadable", run(t, p).Cause().ID, name)
	}
	p.Settings.Set("token-file", filepath.Join(dir, "none"))
	assert.Equal(t, "security.key-unreadable", run(t, p).Cause().ID)
}

// A reply that confirms the signature that was sent, another, or one of nobody's.
func TestSignatureConfirmation(t *testing.T) {
	h := harbour(t)
	p, dir := manifests(t, h)
	for k, v := range map[string]string{"sign": "body,timestamp", "sign-identity": "ines", "timestamp": "5m",
		"reply-trust": filepath.Join(dir, "desk.pem")} {
		p.Settings.Set(k, v)
	}
	value := regexp.MustCompile(`<ds:SignatureValue>([^<]*)<`)
	for say, want := range map[string]string{"%s": "", "AAAA": "verify.confirmation-differs",
		"none": "verify.confirmation-differs"} {
		at, _ := listening(t, func(sent []byte) string {
			attr := ""
			if say != "none" {
				attr = ` Value="` + strings.Replace(say, "%s", string(value.FindSubmatch(sent)[1]), 1) + `"`
			}
			reply := `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Header><wsse:Security xmlns:wsse="` + wssec.WSSE + `"><c:SignatureConfirmation xmlns:c="` + wssec.WSSE11 + `"` + attr + `/></wsse:Security></soap:Header><soap:Body><FileManifestResponse xmlns="urn:skerry:manifests"><receipt>M-1</receipt><tonnes>1</tonnes><clerk>x</clerk></FileManifestResponse></soap:Body></soap:Envelope>`
			out, err := wssec.Sign(
				[]byte(reply),
				&wssec.Signing{
					Key:       h.Desk.Key,
					Cert:      h.Desk.Cert,
					Hash:      crypto.SHA256,
					Reference: wssec.Direct,
					Parts:     []string{"body", "Envelope/Header/Security/SignatureConfirmation"},
				},
			)
			assert.NoError(t, err)
			return string(out)
		})
		p.Settings.Set("address", at)
		x := run(t, p)
		if want == "" {
			assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
			assert.NotEmpty(t, x.Stage(exchange.Verify).Facts.Get("signature confirmed"))
			continue
		}
		assert.Equal(t, exchange.Verify, x.StoppedAt)
		assert.NotEmpty(t, found(t, x, want).Why)
	}
}

// What is odd about a token that was refused stands first among what may be behind it.
func TestWhatIsOddAboutATokenThatWasRefused(t *testing.T) {
	h := harbour(t)
	f := fetch(t, "http://"+h.Plain+"/pilots?wsdl")
	p := call.Plan{
		Contract:  f.Contract,
		Operation: "OrderPilot",
		Endpoint:  "pilots",
		Agent:     "test",
		Port:      f.Contract.Port("PilotOrders"),
	}
	p.SetDraft(
		[]byte(
			`<OrderPilot xmlns="urn:skerry:pilots"><callSign>SKAL4</callSign><boarding>outer ground</boarding><at>2027-03-01T08:00:00Z</at></OrderPilot>`,
		),
	)
	for k, v := range map[string]string{"soap": "1.2", "address": "http://" + h.Plain + "/pilots", "token": "digest",
		"timestamp": "5m", "identity": "pilot"} {
		p.Settings.Set(k, v)
	}
	word := standin.Password
	p.Identity = func(name string) (*identity.Identity, error) {
		t.Setenv("PILOT_WORD", word)
		return &identity.Identity{Name: name, User: standin.User, Secret: "env:PILOT_WORD"}, nil
	}
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Contains(t, x.Stage(exchange.Security).Facts.Get("demand 1"), "digest password · set up")
	none := p
	none.Settings.Set("token", "none")
	x = run(t, none)
	assert.Contains(t, x.Stage(exchange.Security).Facts.Get("demand 1"), "digest password · missing")
	assert.Contains(
		t,
		found(t, x, "security.token-demanded").Why,
		"asks for a user name token with a digest password. Set up already: a timestamp.",
	)
	odd := func(q call.Plan, id, want string) {
		t.Helper()
		x := run(t, q)
		require.NotNil(t, x.Cause())
		require.Equal(t, id, x.Cause().ID, "%v", x.Cause().Why)
		require.NotEmpty(t, x.Cause().Hypotheses)
		assert.Equal(t, want, x.Cause().Hypotheses[0].ID)
		assert.Equal(t, exchange.Confirmed, x.Cause().Hypotheses[0].Verdict)
		assert.NotEmpty(t, x.Cause().Hypotheses[0].Answer)
	}
	q := p
	q.Settings.Set("clock-offset", "-2h")
	odd(q, "read.fault-security-expired", "clock")
	q = p
	q.Settings.Set("token-nonce", "no base64!")
	odd(q, "read.fault-security-invalid", "nonce")
	word = standin.Password + " "
	odd(p, "read.fault-security-refused", "white-space")
}

// A header for another receiver stands in the draft, and ours beside it.
func TestHeadersForSeveralReceivers(t *testing.T) {
	h := harbour(t)
	at, got := listening(t, someBerths)
	p := berths(t, h, "/")
	p.Settings.Set("address", at)
	p.Settings.Set("token", "digest")
	withWord(t, &p, "slack water at noon")
	p.SetDraft(
		[]byte(
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><w:Security xmlns:w="` +
				wssec.WSSE + `" s:actor="urn:gate"><w:UsernameToken><w:Username>gate</w:Username></w:UsernameToken></w:Security></s:Header><s:Body>` + find + `</s:Body></s:Envelope>`,
		),
	)
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Empty(t, ids(x), "%+v", x.Findings)
	assert.Equal(t, 2, strings.Count(string(*got), "Username>gate")+strings.Count(string(*got), "Username>desk"))
	p.Settings.Set("security-actor", "urn:gate")
	assert.Contains(t, ids(run(t, p)), "message.security-in-draft")
}
