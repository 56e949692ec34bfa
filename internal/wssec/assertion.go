package wssec

import (
	"cmp"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// The namespaces of SAML assertions.
const (
	SAML1 = "urn:oasis:names:tc:SAML:1.0:assertion"
	SAML2 = "urn:oasis:names:tc:SAML:2.0:assertion"
)

// Assertion is what is read of a SAML assertion (SAML 1.1 core §2.3, SAML 2.0
// core §2.3).
type Assertion struct {
	Version   string    // "1.1", "2.0"
	ID        string    // stable name: stage.cause
	Issuer    string    // who issued it
	Subject   string    // whose it is
	Confirmed string    // how the subject is confirmed: bearer, holder-of-key, sender-vouches
	NotBefore time.Time // zero where it does not say
	NotAfter  time.Time // NotOnOrAfter; zero: not said
	Signed    bool      // it carries a signature
}

// ReadAssertion reads an assertion; nil where the element is another token.
func ReadAssertion(n xmltree.Node) (*Assertion, error) {
	a := &Assertion{}
	ns := n.Name().Space
	if n.Name().Local != "Assertion" || ns != SAML1 && ns != SAML2 {
		return nil, nil
	}
	cond := n.Child(ns, "Conditions")
	if ns == SAML2 {
		a.Version = "2.0"
		a.ID, _ = n.Attr("", "ID")
		a.Issuer = strings.TrimSpace(n.Child(ns, "Issuer").Text())
		a.Subject = strings.TrimSpace(n.Child(ns, "Subject").Child(ns, "NameID").Text())
		method, _ := n.Child(ns, "Subject").Child(ns, "SubjectConfirmation").Attr("", "Method")
		a.Confirmed = method[strings.LastIndexByte(method, ':')+1:]
	} else {
		a.Version = "1.1"
		a.ID, _ = n.Attr("", "AssertionID")
		a.Issuer, _ = n.Attr("", "Issuer")
		sub := n.Find(ns, "Subject")
		a.Subject = strings.TrimSpace(sub.Find(ns, "NameIdentifier").Text())
		method := strings.TrimSpace(sub.Find(ns, "ConfirmationMethod").Text())
		a.Confirmed = method[strings.LastIndexByte(method, ':')+1:]
	}
	if a.ID == "" {
		return nil, errors.New("the assertion has no id")
	}
	for attr, to := range map[string]*time.Time{"NotBefore": &a.NotBefore, "NotOnOrAfter": &a.NotAfter} {
		if v, ok := cond.Attr("", attr); ok && !cond.IsZero() {
			at, err := time.Parse(time.RFC3339Nano, v)
			if err != nil {
				return nil, fmt.Errorf("its %s, %q, is no time", attr, v)
			}
			*to = at
		}
	}
	a.Signed = !n.Child(DSIG, "Signature").IsZero()
	return a, nil
}

// String is the assertion in one line.
func (a *Assertion) String() string {
	out := fmt.Sprintf(
		"SAML %s of %s about %s",
		a.Version,
		cmp.Or(a.Issuer, "nobody named"),
		cmp.Or(a.Subject, "nobody named"),
	)
	if a.Confirmed != "" {
		out += ", " + a.Confirmed
	}
	if !a.NotAfter.IsZero() {
		out += ", until " + a.NotAfter.UTC().Format("2006-01-02 15:04:05 UTC")
	}
	if !a.Signed {
		out += ", not signed"
	}
	return out
}

// Outside says why the assertion does not hold at a time; "" where it does.
func (a *Assertion) Outside(now time.Time) string {
	switch {
	case !a.NotBefore.IsZero() && now.Before(a.NotBefore):
		return "it holds from " + a.NotBefore.UTC().Format("2006-01-02 15:04:05 UTC") + " on"
	case !a.NotAfter.IsZero() && !now.Before(a.NotAfter):
		return "it ended at " + a.NotAfter.UTC().Format("2006-01-02 15:04:05 UTC")
	}
	return ""
}

// SignAssertion signs an assertion with a signature within it (SAML 2.0 core §5,
// SAML 1.1 core §5): after the issuer in 2.0, at the end in 1.1.
func SignAssertion(assertion []byte, key crypto.Signer, cert *x509.Certificate) ([]byte, error) {
	d, err := xmltree.Parse(assertion, xmltree.Limits{})
	if err != nil {
		return nil, err
	}
	a, err := ReadAssertion(d.Root())
	if err != nil || a == nil {
		return nil, errors.Join(err, errors.New("it is no assertion"))
	}
	s := &Signing{Key: key, Cert: cert, Hash: crypto.SHA256, Reference: Embedded}
	m, err := s.method()
	if err != nil {
		return nil, err
	}
	sum := digest(s.Hash, xmltree.Canonical(d.Root(), false))
	signature := `<ds:Signature xmlns:ds="` + DSIG + `"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="` +
		excC14N + `"/><ds:SignatureMethod Algorithm="` + uriOf(
		methods,
		m,
	) + `"/><ds:Reference URI="#` + a.ID + `"><ds:Transforms><ds:Transform Algorithm="` + enveloped +
		`"/><ds:Transform Algorithm="` + excC14N +
		`"/></ds:Transforms><ds:DigestMethod Algorithm="` + uriOf(
		digests,
		s.Hash,
	) + `"/><ds:DigestValue>` + base64.StdEncoding.EncodeToString(
		sum,
	) + `</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue></ds:SignatureValue>` + s.keyInfo(
		"",
	) + `</ds:Signature>`
	at := d.Root().Inner().End
	if issuer := d.Root().Child(SAML2, "Issuer"); a.Version == "2.0" && !issuer.IsZero() {
		at = issuer.Span().End
	}
	out := []byte(string(assertion[:at]) + signature + string(assertion[at:]))
	if d, err = xmltree.Parse(out, xmltree.Limits{}); err != nil {
		return nil, err
	}
	sig := d.Root().Child(DSIG, "Signature")
	value, err := m.sign(key, nil, xmltree.Canonical(sig.Child(DSIG, "SignedInfo"), false))
	if err != nil {
		return nil, err
	}
	v := sig.Child(DSIG, "SignatureValue").Inner().Start
	return []byte(string(out[:v]) + base64.StdEncoding.EncodeToString(value) + string(out[v:])), nil
}

// VerifyAssertion checks the signature within an assertion that stands in an
// envelope: that it holds, and covers the assertion as it stands there.
func VerifyAssertion(e *soap.Envelope, assertion xmltree.Node, keys Keys) Signature {
	sig := assertion.Child(DSIG, "Signature")
	if sig.IsZero() {
		return Signature{Why: "the assertion is not signed"}
	}
	s := verify(e, assertion.Parent(), sig, keys)
	if s.Holds() && !s.Covers(assertion) {
		s.Why = "its signature is of something else"
	}
	return s
}
