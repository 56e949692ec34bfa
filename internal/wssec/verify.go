package wssec

import (
	"crypto"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/subtle"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Reference is one part that a signature says something of.
type Reference struct {
	URI  string       // as written
	What string       // "body", "timestamp", …, or the element's name
	Node xmltree.Node // zero where it was not found
	At   xmltree.Span // of the Reference
	Why  string       // why it does not hold, "" where it does
}

// Signature is what checking one signature showed.
type Signature struct {
	Node       xmltree.Node      // the element
	Method     string            // "rsa-sha256"
	Weak       string            // what is weak about it, ""
	Cert       *x509.Certificate // nil where none is named
	By         string            // how it refers to its key
	References []Reference       // what it covers
	Why        string            // why the signature itself does not hold, "" where it does
}

// Holds tells whether the signature and all it refers to are in order.
func (s *Signature) Holds() bool {
	return s.Why == "" && !slices.ContainsFunc(s.References, func(r Reference) bool { return r.Why != "" })
}

// Covers tells whether it covers an element: itself, not one of the same name
// that stands elsewhere.
func (s *Signature) Covers(n xmltree.Node) bool {
	return s.Holds() &&
		slices.ContainsFunc(s.References, func(r Reference) bool { return !r.Node.IsZero() && r.Node == n })
}

// Keys is where certificates and secrets are looked for that a signature only
// names.
type Keys struct {
	Certs  []*x509.Certificate // that may have signed
	Secret []byte              // for HMAC
}

const (
	maxReferences = 1000
	maxSignatures = 20
)

// Verify checks all signatures in the security headers of an envelope.
func Verify(e *soap.Envelope, keys Keys) []Signature {
	var out []Signature
	if e.Header.IsZero() {
		return nil
	}
	for sec := range e.Header.Named(WSSE, "Security") {
		for n := range sec.Named(DSIG, "Signature") {
			if len(out) == maxSignatures {
				return out
			}
			out = append(out, verify(e, sec, n, keys))
		}
	}
	return out
}

func verify(e *soap.Envelope, sec, n xmltree.Node, keys Keys) Signature {
	s := Signature{Node: n}
	info := n.Child(DSIG, "SignedInfo")
	uri, _ := info.Child(DSIG, "SignatureMethod").Attr("", "Algorithm")
	s.Method = Words(uri)
	m, known := methods[uri]
	if m.hash == crypto.SHA1 {
		s.Weak = "it is made with SHA-1"
	}
	for r := range info.Named(DSIG, "Reference") {
		if len(s.References) == maxReferences {
			s.Why = fmt.Sprintf("it has more than %d references", maxReferences)
			return s
		}
		s.References = append(s.References, reference(e, n, r))
	}
	var key crypto.PublicKey
	var err error
	if key, s.Cert, s.By, err = keyOf(sec, n.Child(DSIG, "KeyInfo"), keys); err != nil && m.kind != "hmac" {
		s.Why = err.Error()
		return s
	}
	octets, cerr := canonical(info, info.Child(DSIG, "CanonicalizationMethod"), xmltree.Node{}, true)
	value, verr := decodeBase64(n.Child(DSIG, "SignatureValue").Text())
	switch {
	case info.IsZero():
		s.Why = "it has no SignedInfo"
	case !known:
		s.Why = fmt.Sprintf("the algorithm %s is not known here", uri)
	case len(s.References) == 0:
		s.Why = "it refers to nothing"
	case cerr != nil:
		s.Why = cerr.Error()
	case verr != nil || !m.check(key, keys.Secret, octets, value):
		s.Why = "its value is not that of its key over what it says"
	}
	if k, ok := key.(*rsa.PublicKey); ok && k.N.BitLen() < 2048 && s.Weak == "" {
		s.Weak = fmt.Sprintf("its RSA key has %d bits", k.N.BitLen())
	}
	return s
}

// reference checks one reference: by an id in this document alone, with the
// transforms that cannot make anything else of what is signed.
func reference(e *soap.Envelope, sig, r xmltree.Node) Reference {
	uri, _ := r.Attr("", "URI")
	out := Reference{URI: uri, At: r.Span()}
	fail := func(format string, args ...any) Reference {
		out.Why = fmt.Sprintf(format, args...)
		return out
	}
	if !strings.HasPrefix(uri, "#") || len(uri) == 1 {
		return fail("it refers to %q, and not to a part of this message", uri)
	}
	n, err := byID(e.Doc, strings.TrimPrefix(uri, "#"))
	if err != nil {
		return fail("%v", err)
	}
	out.Node, out.What = n, what(e, n)
	without := xmltree.Node{}
	var form xmltree.Node
	target := n
	count := 0
	for t := range r.Child(DSIG, "Transforms").Named(DSIG, "Transform") {
		if count++; count > 4 {
			return fail("it has more than four transforms")
		}
		switch a, _ := t.Attr("", "Algorithm"); a {
		case excC14N, excC14NWith, incC14N, incC14NWith:
			form = t
		case enveloped:
			without = sig
		case strTransf:
			if target, err = dereferenced(e, n); err != nil {
				return fail("%v", err)
			}
			form = t.Child(WSSE, "TransformationParameters").Child(DSIG, "CanonicalizationMethod")
		default:
			return fail("the transform %s is not done", a)
		}
	}
	octets, err := canonical(target, form, without, false) // what an id leads to has no comments (§4.4.3.3)
	if err != nil {
		return fail("%v", err)
	}
	algorithm, _ := r.Child(DSIG, "DigestMethod").Attr("", "Algorithm")
	h, known := digests[algorithm]
	if !known {
		return fail("the digest %s is not known here", algorithm)
	}
	want, err := decodeBase64(r.Child(DSIG, "DigestValue").Text())
	if err != nil || subtle.ConstantTimeCompare(want, digest(h, octets)) != 1 {
		return fail("the %s is not what was signed: its digest differs", out.What)
	}
	return out
}

// what is the name of a part where it stands where that part must stand; an
// element of the same name elsewhere has only its own name.
func what(e *soap.Envelope, n xmltree.Node) string {
	for _, name := range []string{"body", "timestamp", "token", "addressing"} {
		for _, p := range parts(e, name) {
			if p == n {
				if name == "addressing" {
					return "addressing " + n.Name().Local
				}
				return name
			}
		}
	}
	return n.Name().Local
}

// dereferenced is what a SecurityTokenReference leads to (WSS 1.1 §8.3).
func dereferenced(e *soap.Envelope, n xmltree.Node) (xmltree.Node, error) {
	uri, _ := n.Child(WSSE, "Reference").Attr("", "URI")
	if !n.Is(WSSE, "SecurityTokenReference") || !strings.HasPrefix(uri, "#") {
		return n, errors.New("the token that is signed through a reference is not in the message")
	}
	return byID(e.Doc, uri[1:])
}

// canonical applies a canonical form that a method or transform names; none is
// the inclusive one (XML Signature §4.4.3.2). Comments are left out where there
// are none to be.
func canonical(n, method, without xmltree.Node, comments bool) ([]byte, error) {
	algorithm := incC14N
	if !method.IsZero() {
		algorithm, _ = method.Attr("", "Algorithm")
		if algorithm == strTransf {
			algorithm = excC14N
		}
	}
	list, _ := method.Child(excC14N, "InclusiveNamespaces").Attr("", "PrefixList")
	switch algorithm {
	case excC14N, excC14NWith:
		return xmltree.CanonicalWithout(
			n,
			without,
			comments && algorithm == excC14NWith,
			false,
			strings.Fields(list)...), nil
	case incC14N, incC14NWith:
		return xmltree.CanonicalWithout(n, without, comments && algorithm == incC14NWith, true), nil
	}
	return nil, fmt.Errorf("the canonical form %s is not done", algorithm)
}

// keyOf finds the key that a KeyInfo means.
func keyOf(sec, info xmltree.Node, keys Keys) (crypto.PublicKey, *x509.Certificate, string, error) {
	c, by, err := certificateOf(sec, info, keys.Certs)
	if err != nil {
		return nil, nil, by, err
	}
	return c.PublicKey, c, by, nil
}

func certificateOf(sec, info xmltree.Node, certs []*x509.Certificate) (*x509.Certificate, string, error) {
	pick := func(by string, fits func(*x509.Certificate) bool) (*x509.Certificate, string, error) {
		if i := slices.IndexFunc(certs, fits); i >= 0 {
			return certs[i], by, nil
		}
		return nil, by, fmt.Errorf("the certificate that it names by %s is not known here", by)
	}
	str := info.Child(WSSE, "SecurityTokenReference")
	data := info.Child(DSIG, "X509Data")
	if data.IsZero() {
		data = str.Child(DSIG, "X509Data")
	}
	if c := data.Child(DSIG, "X509Certificate"); !c.IsZero() {
		cert, err := parsedCertificate(c.Text(), x509v3)
		return cert, string(Embedded), err
	}
	if is := data.Child(DSIG, "X509IssuerSerial"); !is.IsZero() {
		serial, _ := new(big.Int).SetString(strings.TrimSpace(is.Child(DSIG, "X509SerialNumber").Text()), 10)
		return pick(
			"issuer and serial",
			func(c *x509.Certificate) bool { return serial != nil && c.SerialNumber.Cmp(serial) == 0 },
		)
	}
	if ski := data.Child(DSIG, "X509SKI"); !ski.IsZero() {
		want, _ := decodeBase64(ski.Text())
		return pick(
			"subject key",
			func(c *x509.Certificate) bool { return len(want) > 0 && string(c.SubjectKeyId) == string(want) },
		)
	}
	if k := str.Child(WSSE, "KeyIdentifier"); !k.IsZero() {
		want, _ := decodeBase64(k.Text())
		switch kind, _ := k.Attr("", "ValueType"); kind {
		case subjectKey:
			return pick(
				"subject key",
				func(c *x509.Certificate) bool { return len(want) > 0 && string(c.SubjectKeyId) == string(want) },
			)
		case thumbSHA1:
			return pick(
				"thumbprint",
				func(c *x509.Certificate) bool { s := sha1.Sum(c.Raw); return string(s[:]) == string(want) },
			)
		case x509v3:
			cert, err := parsedCertificate(k.Text(), x509v3)
			return cert, string(Embedded), err
		case samlID, saml1ID:
			return holderOf(sec, strings.TrimSpace(k.Text()))
		}
		return nil, "", errors.New("it names its key in a way that is not known here")
	}
	if r := str.Child(WSSE, "Reference"); !r.IsZero() {
		uri, _ := r.Attr("", "URI")
		if !strings.HasPrefix(uri, "#") {
			return nil, string(Direct), fmt.Errorf("its token %q is not in the message", uri)
		}
		token, err := byID(sec.Doc(), uri[1:])
		if err != nil {
			return nil, string(Direct), err
		}
		if !token.Is(WSSE, "BinarySecurityToken") {
			return nil, string(
				Direct,
			), fmt.Errorf("its token is a %s, which holds no certificate that is read here", token.Name().Local)
		}
		kind, _ := token.Attr("", "ValueType")
		cert, err := parsedCertificate(token.Text(), kind)
		return cert, string(Direct), err
	}
	return nil, "", errors.New("it does not say which key it was made with")
}

// holderOf is the certificate of the holder that an assertion in the header names
// (SAML Token Profile 1.1 §3.5.1).
func holderOf(sec xmltree.Node, id string) (*x509.Certificate, string, error) {
	n, err := byID(sec.Doc(), id)
	if err != nil {
		return nil, string(FromToken), err
	}
	c := n.Find(n.Name().Space, "SubjectConfirmation").Find(DSIG, "X509Certificate")
	if n.Name().Local != "Assertion" || c.IsZero() {
		return nil, string(FromToken), errors.New("the assertion that it names says nothing of a key")
	}
	cert, err := parsedCertificate(c.Text(), x509v3)
	return cert, string(FromToken), err
}

// parsedCertificate reads a token's certificate, the leaf where there are several.
func parsedCertificate(text, kind string) (*x509.Certificate, error) {
	b, err := decodeBase64(text)
	if err != nil {
		return nil, errors.New("the certificate in it is no base64")
	}
	switch kind {
	case pkcs7Token:
		p7, err := pkcs7.Parse(b)
		if err != nil || len(p7.Certificates) == 0 {
			return nil, errors.New("the PKCS#7 in it holds no certificate")
		}
		return p7.Certificates[0], nil
	case pkiPath: // a sequence from the root on (X.509 Token Profile 1.1 §3.1)
		certs, err := pathOf(b)
		if err != nil || len(certs) == 0 {
			return nil, errors.New("the PKI path in it cannot be read")
		}
		return certs[len(certs)-1], nil
	}
	c, err := x509.ParseCertificate(b)
	if err != nil {
		return nil, fmt.Errorf("the certificate in it cannot be read: %w", err)
	}
	return c, nil
}

func pathOf(b []byte) ([]*x509.Certificate, error) {
	var raw []asn1.RawValue
	if rest, err := asn1.Unmarshal(b, &raw); err != nil || len(rest) > 0 {
		return nil, errors.New("it is no sequence")
	}
	var out []*x509.Certificate
	for _, r := range raw {
		c, err := x509.ParseCertificate(r.FullBytes)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}
