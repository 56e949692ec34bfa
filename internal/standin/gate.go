package standin

//revive:disable:line-length-limit an answer is one line

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"time"

	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

const (
	gatePath = "/gate"
	wsTrust  = "http://docs.oasis-open.org/ws-sx/ws-trust/200512"
	gateName = "urn:skerry:gate"
	gateLife = 5 * time.Minute
)

// Gate is the harbour's token service (WS-Trust 1.3 §4): to those who show a user
// name and a password it gives an assertion about them, signed by its own key.
type Gate struct {
	Cert    *x509.Certificate // that signs its assertions
	key     *rsa.PrivateKey
	checker *wssec.Checker
}

func newGate() (*Gate, error) {
	key, cert, err := rsaPair("harbour gate", nil)
	return &Gate{
		cert,
		key,
		&wssec.Checker{
			Types:    []wssec.PasswordType{wssec.Text, wssec.Digest},
			Window:   5 * time.Minute,
			Password: func(u string) (string, bool) { return Password, u == User },
		},
	}, err
}

// answer issues an assertion, or refuses.
func (g *Gate) answer(body []byte, now time.Time) ([]byte, int) {
	refuse := func(f *fault) ([]byte, int) { return faultEnvelope(soap.V11, f), http.StatusInternalServerError }
	d, err := xmltree.Parse(body, xmltree.Limits{Depth: 200})
	e := soap.Read(d)
	if err != nil || e == nil || !e.Payload.Is(wsTrust, "RequestSecurityToken") {
		return refuse(&fault{code: "Client", reason: "a RequestSecurityToken is due"})
	}
	user, no := g.checker.Check(e)
	if no != nil {
		return refuse(&fault{code: no.Code, reason: no.Why, secure: true})
	}
	assertion, err := g.Issue(user, now, gateLife)
	if err != nil {
		return refuse(&fault{code: "Server", reason: err.Error()})
	}
	reply, _ := soap.Build(
		soap.V11,
		nil,
		[]byte(
			`    <t:RequestSecurityTokenResponseCollection xmlns:t="`+wsTrust+`"><t:RequestSecurityTokenResponse><t:RequestedSecurityToken>`+string(
				assertion,
			)+`</t:RequestedSecurityToken></t:RequestSecurityTokenResponse></t:RequestSecurityTokenResponseCollection>`,
		),
	)
	return reply, http.StatusOK
}

// Issue makes an assertion about a user, for a while.
func (g *Gate) Issue(user string, now time.Time, life time.Duration) ([]byte, error) {
	var r [10]byte
	_, _ = rand.Read(r[:])
	at := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	return wssec.SignAssertion(
		[]byte(
			`<saml:Assertion xmlns:saml="`+wssec.SAML2+`" ID="a-`+hex.EncodeToString(
				r[:],
			)+`" Version="2.0" IssueInstant="`+at(
				now,
			)+`"><saml:Issuer>`+gateName+`</saml:Issuer><saml:Subject><saml:NameID>`+xmltree.EscapeText(
				user,
			)+
				`</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"/></saml:Subject><saml:Conditions NotBefore="`+at(
				now.Add(-time.Minute),
			)+`" NotOnOrAfter="`+at(
				now.Add(life),
			)+`"/></saml:Assertion>`,
		),
		g.key,
		g.Cert,
	)
}

// admits is whom an assertion in the header is about; why it is not taken, where
// there is one that is not.
func (g *Gate) admits(e *soap.Envelope, now time.Time) (name, code, why string) {
	n := e.Header.Child(wssec.WSSE, "Security").Child(wssec.SAML2, "Assertion")
	if n.IsZero() {
		return "", "", ""
	}
	a, err := wssec.ReadAssertion(n)
	if err != nil {
		return "", "InvalidSecurityToken", err.Error()
	}
	s := wssec.VerifyAssertion(e, n, wssec.Keys{})
	switch {
	case !s.Holds():
		why := s.Why
		for _, r := range s.References {
			if r.Why != "" {
				why = r.Why
			}
		}
		return "", "FailedCheck", "the assertion's signature does not hold: " + why
	case !s.Cert.Equal(g.Cert):
		return "", "FailedAuthentication", "the assertion is not of the harbour's gate"
	case a.Outside(now) != "":
		return "", "MessageExpired", "the assertion does not hold now: " + a.Outside(now)
	case strings.TrimSpace(a.Subject) == "":
		return "", "InvalidSecurityToken", fmt.Sprintf("the assertion %s is about nobody", a.ID)
	}
	return a.Subject, "", ""
}
