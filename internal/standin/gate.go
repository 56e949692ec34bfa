package standin

//revive:disable:line-length-limit an answer is one line

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

const (
	gatePath = "/gate"
	wsTrust  = wssec.Trust
	gateName = "urn:skerry:gate"
	gateLife = 5 * time.Minute
)

// Gate is the harbour's token service (WS-Trust 1.3 §4): to those who show a user
// name and a password it gives an assertion about them, signed by its own key.
type Gate struct {
	Cert    *x509.Certificate // that signs its assertions
	key     *rsa.PrivateKey
	checker *wssec.Checker

	mu     sync.Mutex
	agreed map[string][]byte // symmetric keys, by the ids of assertions: the desks ask here
}

func newGate() (*Gate, error) {
	key, cert, err := rsaPair("harbour gate", nil)
	return &Gate{
		Cert: cert,
		key:  key,
		checker: &wssec.Checker{
			Types:    []wssec.PasswordType{wssec.Text, wssec.Digest},
			Window:   5 * time.Minute,
			Password: func(u string) (string, bool) { return Password, u == User },
		},
		agreed: map[string][]byte{},
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
	assertion, proof, err := g.confirmable(e.Payload, user, now)
	if err != nil {
		return refuse(&fault{code: "Client", reason: err.Error()})
	}
	reply, _ := soap.Build(
		soap.V11,
		nil,
		[]byte(
			`    <t:RequestSecurityTokenResponseCollection xmlns:t="`+wsTrust+`"><t:RequestSecurityTokenResponse><t:RequestedSecurityToken>`+string(
				assertion,
			)+`</t:RequestedSecurityToken>`+proof+`</t:RequestSecurityTokenResponse></t:RequestSecurityTokenResponseCollection>`,
		),
	)
	return reply, http.StatusOK
}

// confirmable is an assertion that is confirmed by the key that is asked for, and what is said besides of
// that key.
func (g *Gate) confirmable(ask xmltree.Node, user string, now time.Time) (assertion []byte, proof string, err error) {
	var r [10]byte
	_, _ = rand.Read(r[:])
	id := "a-" + hex.EncodeToString(r[:])
	switch kind := strings.TrimSpace(ask.Child(wsTrust, "KeyType").Text()); kind {
	case wsTrust + wssec.KeyPublic:
		cert := ask.Child(wsTrust, "UseKey").Find(wssec.DSIG, "X509Certificate")
		if cert.IsZero() {
			return nil, "", errors.New("a UseKey with a certificate is due")
		}
		assertion, err = g.issue(id, user, holder(`<ds:X509Data><ds:X509Certificate>`+
			strings.TrimSpace(cert.Text())+`</ds:X509Certificate></ds:X509Data>`), now, gateLife)
	case wsTrust + wssec.KeySymmetric:
		theirs, err := base64.StdEncoding.DecodeString(strings.TrimSpace(ask.Find(wsTrust, "BinarySecret").Text()))
		if err != nil || len(theirs) < 16 {
			return nil, "", errors.New("entropy of 16 bytes at least is due")
		}
		ours := make([]byte, len(theirs))
		_, _ = rand.Read(ours)
		g.mu.Lock()
		g.agreed[id] = wssec.PSHA1(theirs, ours, wssec.ProofBits/8)
		g.mu.Unlock()
		assertion, err = g.issue(id, user, holder(`<ds:KeyName>`+id+`</ds:KeyName>`), now, gateLife)
		return assertion, wssec.Computed() + wssec.Entropy(ours), err
	default:
		assertion, err = g.issue(id, user, `<saml:SubjectConfirmation Method="`+confirmedBy+`bearer"/>`, now, gateLife)
	}
	return assertion, "", err
}

// confirmedBy begins the names of the ways in which a subject is confirmed (SAML 2.0 profiles §3).
const confirmedBy = "urn:oasis:names:tc:SAML:2.0:cm:"

// holder says that whoever has a key is who the assertion is about.
func holder(key string) string {
	return `<saml:SubjectConfirmation Method="` + confirmedBy + `holder-of-key"><saml:SubjectConfirmationData>` +
		`<ds:KeyInfo xmlns:ds="` + wssec.DSIG + `">` + key +
		`</ds:KeyInfo></saml:SubjectConfirmationData></saml:SubjectConfirmation>`
}

// Issue makes an assertion about a user, for a while: whoever bears it is that user.
func (g *Gate) Issue(user string, now time.Time, life time.Duration) ([]byte, error) {
	var r [10]byte
	_, _ = rand.Read(r[:])
	return g.issue("a-"+hex.EncodeToString(r[:]), user, `<saml:SubjectConfirmation Method="`+confirmedBy+`bearer"/>`,
		now, life)
}

func (g *Gate) issue(id, user, confirmed string, now time.Time, life time.Duration) ([]byte, error) {
	at := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	return wssec.SignAssertion(
		[]byte(
			`<saml:Assertion xmlns:saml="`+wssec.SAML2+`" ID="`+id+`" Version="2.0" IssueInstant="`+at(
				now,
			)+`"><saml:Issuer>`+gateName+`</saml:Issuer><saml:Subject><saml:NameID>`+xmltree.EscapeText(
				user,
			)+
				`</saml:NameID>`+confirmed+`</saml:Subject><saml:Conditions NotBefore="`+at(
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
	if a.Confirmed == "holder-of-key" && !g.holds(e, n, a.ID) {
		return "", "FailedCheck", "nothing in the message is signed by the key that the assertion names"
	}
	return a.Subject, "", ""
}

// holds tells whether body or timestamp are signed by the key that an assertion names.
func (g *Gate) holds(e *soap.Envelope, assertion xmltree.Node, id string) bool {
	g.mu.Lock()
	secret := g.agreed[id]
	g.mu.Unlock()
	named := assertion.Find(wssec.SAML2, "SubjectConfirmation").Find(wssec.DSIG, "X509Certificate")
	for _, s := range wssec.Verify(e, wssec.Keys{Secret: secret}) {
		covers := s.Covers(e.Body) || s.Covers(e.Header.Child(wssec.WSSE, "Security").Child(wssec.WSU, "Timestamp"))
		byKey := secret != nil && strings.HasPrefix(s.Method, "hmac") ||
			s.Cert != nil && base64.StdEncoding.EncodeToString(s.Cert.Raw) == strings.TrimSpace(named.Text())
		if covers && byKey {
			return true
		}
	}
	return false
}
