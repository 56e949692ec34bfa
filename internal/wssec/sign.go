package wssec

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// KeyReference is how a signature says which key it was made with (WSS 1.1 §7.3,
// X.509 Token Profile 1.1 §3).
type KeyReference string

// The ways to refer to a key, in the words of the settings.
const (
	Direct       KeyReference = "direct"        // a binary security token in the header, referred to by its id
	IssuerSerial KeyReference = "issuer-serial" // issuer and serial number
	SubjectKey   KeyReference = "subject-key"   // subject key identifier
	Thumbprint   KeyReference = "thumbprint"    // SHA-1 of the certificate
	Embedded     KeyReference = "embedded"      // the certificate itself, in X509Data
	// PKIPath is as direct, the token being the path from the authority to the certificate.
	PKIPath      KeyReference = "pki-path"
	PKCS7        KeyReference = "pkcs7"     // as direct, the token being a PKCS#7 with certificate and authorities
	FromPassword KeyReference = "password"  // a key derived from the user name token's password makes an HMAC
	FromToken    KeyReference = "assertion" // the assertion in the header that names the key
)

// KeyReferences are all of them.
//
//nolint:gochecknoglobals // a table: it is never written to
var KeyReferences = []string{
	string(Direct),
	string(IssuerSerial),
	string(SubjectKey),
	string(Thumbprint),
	string(Embedded),
	string(PKIPath),
	string(PKCS7),
	string(FromPassword),
	string(FromToken),
}

// CertificateReferences are those that name a certificate.
//
//nolint:gochecknoglobals // a table: it is never written to
var CertificateReferences = []string{
	string(Direct),
	string(IssuerSerial),
	string(SubjectKey),
	string(Thumbprint),
	string(Embedded),
}

// Signing says how an envelope is signed.
type Signing struct {
	Key    crypto.Signer       // private
	Cert   *x509.Certificate   // that belongs to it
	Above  []*x509.Certificate // its issuers, where a token takes them along, from the nearest on
	Secret []byte              // signs with HMAC in the key's place
	// Token is the id of the token in the header that the secret was derived from, or of
	// the assertion that names the key.
	Token     string
	SAML1     bool         // that assertion is one of SAML 1.1
	Hash      crypto.Hash  // of the digests and of the signature
	PSS       bool         // RSASSA-PSS where the key is RSA
	Inclusive bool         // the inclusive canonical form
	Prefixes  []string     // that the exclusive form treats as the inclusive one would
	Reference KeyReference // how the key is named
	Parts     []string     // "body", "timestamp", "token", "addressing", or a path: Envelope/Header/Clerk
}

// PartError is a part that is to be signed or encrypted and is not there.
type PartError struct{ Part string } // that was typed, or could not be found

func (e *PartError) Error() string { return "there is no " + e.Part + " in the message" }

// id is a fresh identifier (an NCName).
func id(kind string) string {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return kind + "-" + hex.EncodeToString(b[:])
}

// parts finds the elements that a name stands for.
func parts(e *soap.Envelope, name string) []xmltree.Node {
	var out []xmltree.Node
	add := func(n xmltree.Node) {
		if !n.IsZero() {
			out = append(out, n)
		}
	}
	sec := e.Header.Child(WSSE, "Security")
	switch name {
	case "body":
		add(e.Body)
	case "timestamp":
		add(sec.Child(WSU, "Timestamp"))
	case "token":
		add(sec.Child(WSSE, "UsernameToken"))
		add(sec.Child(WSSE, "BinarySecurityToken"))
	case "addressing":
		if !e.Header.IsZero() {
			for h := range e.Header.Children() {
				for _, ns := range soap.AddressingNS {
					if h.Name().Space == ns {
						add(h)
					}
				}
			}
		}
	default:
		at := e.Doc.Root()
		steps := strings.Split(strings.Trim(name, "/"), "/")
		if len(steps) > 0 && steps[0] == "Envelope" {
			steps = steps[1:]
		}
	step:
		for _, s := range steps {
			for c := range at.Children() {
				if c.Name().Local == s {
					at = c
					continue step
				}
			}
			return nil
		}
		add(at)
	}
	return out
}

// read parses an envelope that is being built.
func read(envelope []byte) (*soap.Envelope, error) {
	d, err := xmltree.Parse(envelope, xmltree.Limits{})
	if err != nil {
		return nil, err
	}
	e := soap.Read(d)
	if e == nil {
		return nil, errors.New("it is no envelope")
	}
	return e, nil
}

// identified gives every part an identifier and the ids, in order.
func identified(envelope []byte, names []string) (out []byte, ids []string, err error) {
	for {
		e, err := read(envelope)
		if err != nil {
			return nil, nil, err
		}
		ids = ids[:0]
		changed := false
	parts:
		for _, name := range names {
			found := parts(e, name)
			if len(found) == 0 {
				return nil, nil, &PartError{name}
			}
			for _, n := range found {
				have := idOf(n)
				if have == "" {
					have = id(strings.ToLower(n.Name().Local))
					at := n.Span().Start + 1 + len(n.Name().Qualified())
					attr := ` wsu:Id="` + have + `"`
					if uri, ok := n.Lookup("wsu"); !ok || uri != WSU {
						attr = ` xmlns:wsu="` + WSU + `"` + attr
					}
					envelope = []byte(string(envelope[:at]) + attr + string(envelope[at:]))
					changed = true
					break parts
				}
				if !slices.Contains(ids, have) {
					ids = append(ids, have)
				}
			}
		}
		if !changed {
			return envelope, ids, nil
		}
	}
}

// idOf is the identifier of an element: wsu:Id, or the Id of signatures and
// encryption (WSS 1.1 §4.2), or that of an assertion.
func idOf(n xmltree.Node) string {
	if v, ok := n.Attr(WSU, "Id"); ok {
		return v
	}
	for _, name := range []string{"Id", "ID", "AssertionID"} {
		if v, ok := n.Attr("", name); ok {
			return v
		}
	}
	return ""
}

// insert puts XML at the end of the security header, and gives the offset.
func insert(envelope []byte, xml string) ([]byte, int, error) {
	e, err := read(envelope)
	if err != nil {
		return nil, 0, err
	}
	sec := e.Header.Child(WSSE, "Security")
	if sec.IsZero() {
		return nil, 0, errors.New("there is no security header")
	}
	at := sec.Inner().End
	for at > sec.Inner().Start && strings.IndexByte(" \t\r\n", envelope[at-1]) >= 0 {
		at--
	}
	return []byte(string(envelope[:at]) + "\n      " + xml + string(envelope[at:])), at + 7, nil
}

// bound is the declaration of a prefix, "" where it is bound so in the security
// header: a header that somebody else wrote may have prefixes of its own.
func bound(envelope []byte, prefix, space string) string {
	if e, err := read(envelope); err == nil && !e.Header.IsZero() {
		if uri, ok := e.Header.Child(WSSE, "Security").Lookup(prefix); ok && uri == space {
			return ""
		}
	}
	return ` xmlns:` + prefix + `="` + space + `"`
}

// method is the way to sign that suits the key.
func (s *Signing) method() (method, error) {
	m := method{hash: s.Hash}
	var public crypto.PublicKey
	if s.Key != nil {
		public = s.Key.Public()
	}
	switch public.(type) {
	case *rsa.PublicKey:
		if m.kind = "rsa"; s.PSS {
			m.kind = "rsa-pss"
		}
	case *ecdsa.PublicKey:
		m.kind = "ecdsa"
	default:
		if len(s.Secret) == 0 {
			return m, fmt.Errorf("a key of the kind %T makes no XML signature", s.Key)
		}
		m.kind = "hmac"
	}
	if uriOf(methods, m) == "" {
		return m, fmt.Errorf("there is no signature of the kind %s with %v", m.kind, s.Hash)
	}
	return m, nil
}

// Sign signs parts of an envelope that has a security header (XML Signature 1.1
// §3.1, WSS 1.1 §8). What is signed is not changed any more.
//
//revive:disable-next-line:function-length the steps of the standard, in its order
//revive:disable-next-line:cyclomatic the steps of the standard, in its order
func Sign(envelope []byte, s *Signing) ([]byte, error) {
	m, err := s.method()
	if err != nil {
		return nil, err
	}
	if s.Token == "" && (s.Reference == FromPassword || s.Reference == FromToken) {
		return nil, errors.New("there is no token in the header that names the key")
	}
	token := ""
	if s.Cert != nil && (s.Reference == Direct || s.Reference == PKIPath || s.Reference == PKCS7) {
		token = id("token")
		kind, content, err := s.binary()
		if err != nil {
			return nil, err
		}
		bst := `<wsse:BinarySecurityToken` + bound(
			envelope,
			"wsse",
			WSSE,
		) + bound(
			envelope,
			"wsu",
			WSU,
		) + ` wsu:Id="` + token + `" EncodingType="` + base64Encoding + `" ValueType="` + kind + `">` +
			base64.StdEncoding.EncodeToString(content) + `</wsse:BinarySecurityToken>`
		if envelope, _, err = insert(envelope, bst); err != nil {
			return nil, err
		}
	}
	envelope, ids, err := identified(envelope, s.Parts)
	if err != nil {
		return nil, err
	}
	e, err := read(envelope)
	if err != nil {
		return nil, err
	}
	form, with := excC14N, ""
	if s.Inclusive {
		form = incC14N
	} else if len(s.Prefixes) > 0 {
		with = `<ec:InclusiveNamespaces xmlns:ec="` + excC14N + `" PrefixList="` +
			xmltree.EscapeAttr(strings.Join(s.Prefixes, " ")) + `"/>`
	}
	algorithm := func(name, uri, inner string) string {
		if inner == "" {
			return "<ds:" + name + ` Algorithm="` + uri + `"/>`
		}
		return "<ds:" + name + ` Algorithm="` + uri + `">` + inner + "</ds:" + name + ">"
	}
	var b strings.Builder
	b.WriteString(
		`<ds:Signature xmlns:ds="` + DSIG + `"` + bound(
			envelope,
			"wsse",
			WSSE,
		) + ` Id="` + id(
			"signature",
		) + `"><ds:SignedInfo>` + algorithm(
			"CanonicalizationMethod",
			form,
			with,
		) + algorithm("SignatureMethod", uriOf(methods, m), ""),
	)
	for _, i := range ids {
		n, err := byID(e.Doc, i)
		if err != nil {
			return nil, err
		}
		octets := xmltree.Canonical(n, false, s.Prefixes...)
		if s.Inclusive {
			octets = xmltree.CanonicalInclusive(n, false)
		}
		b.WriteString(
			`<ds:Reference URI="#` + i + `"><ds:Transforms>` + algorithm(
				"Transform",
				form,
				with,
			) + `</ds:Transforms>` + algorithm(
				"DigestMethod",
				uriOf(digests, s.Hash),
				"",
			) +
				`<ds:DigestValue>` + base64.StdEncoding.EncodeToString(
				digest(s.Hash, octets),
			) + `</ds:DigestValue></ds:Reference>`,
		)
	}
	b.WriteString(`</ds:SignedInfo><ds:SignatureValue></ds:SignatureValue>` + s.keyInfo(token) + `</ds:Signature>`)
	envelope, at, err := insert(envelope, b.String())
	if err != nil {
		return nil, err
	}
	if e, err = read(envelope); err != nil {
		return nil, err
	}
	sig := xmltree.Node{}
	for n := range e.Header.Child(WSSE, "Security").Children() {
		if n.Span().Start == at {
			sig = n
		}
	}
	info := sig.Child(DSIG, "SignedInfo")
	octets := xmltree.Canonical(info, false, s.Prefixes...)
	if s.Inclusive {
		octets = xmltree.CanonicalInclusive(info, false)
	}
	value, err := m.sign(s.Key, s.Secret, octets)
	if err != nil {
		return nil, err
	}
	v := sig.Child(DSIG, "SignatureValue").Inner().Start
	return []byte(string(envelope[:v]) + base64.StdEncoding.EncodeToString(value) + string(envelope[v:])), nil
}

// binary is what a binary security token holds (X.509 Token Profile 1.1 §3.1).
func (s *Signing) binary() (kind string, content []byte, err error) {
	switch s.Reference {
	case PKIPath:
		var path []asn1.RawValue // the authority first
		for _, c := range slices.Backward(s.Above) {
			path = append(path, asn1.RawValue{FullBytes: c.Raw})
		}
		content, err = asn1.Marshal(append(path, asn1.RawValue{FullBytes: s.Cert.Raw}))
		return pkiPath, content, err
	case PKCS7:
		all := slices.Clone(s.Cert.Raw)
		for _, c := range s.Above {
			all = append(all, c.Raw...)
		}
		content, err = pkcs7.DegenerateCertificate(all)
		return pkcs7Token, content, err
	}
	return x509v3, s.Cert.Raw, nil
}

func (s *Signing) keyInfo(token string) string {
	switch {
	case s.Token != "" && s.Reference == FromPassword:
		return `<ds:KeyInfo><wsse:SecurityTokenReference><wsse:Reference URI="#` + s.Token + `" ValueType="` + profile +
			`UsernameToken"/></wsse:SecurityTokenReference></ds:KeyInfo>`
	case s.Token != "" && s.Reference == FromToken: // SAML Token Profile 1.1 §3.4
		return `<ds:KeyInfo><wsse:SecurityTokenReference><wsse:KeyIdentifier ValueType="` +
			map[bool]string{true: saml1ID, false: samlID}[s.SAML1] + `">` + xmltree.EscapeText(
			s.Token,
		) + `</wsse:KeyIdentifier></wsse:SecurityTokenReference></ds:KeyInfo>`
	case s.Cert == nil:
		return ""
	}
	return `<ds:KeyInfo>` + keyReference(s.Cert, s.Reference, token) + `</ds:KeyInfo>`
}

// They say that a key identifier is the id of an assertion of SAML 2.0, or 1.1.
const (
	samlID  = "http://docs.oasis-open.org/wss/oasis-wss-saml-token-profile-1.1#SAMLID"
	saml1ID = "http://docs.oasis-open.org/wss/oasis-wss-saml-token-profile-1.0#SAMLAssertionID"
)

// keyReference says which certificate is meant.
func keyReference(c *x509.Certificate, how KeyReference, token string) string {
	ref := func(inner, attr string) string {
		return `<wsse:SecurityTokenReference` + attr + `>` + inner + `</wsse:SecurityTokenReference>`
	}
	switch how {
	case IssuerSerial:
		return ref(
			`<ds:X509Data><ds:X509IssuerSerial><ds:X509IssuerName>`+xmltree.EscapeText(
				c.Issuer.String(),
			//revive:disable-next-line:line-length-limit one literal
			)+`</ds:X509IssuerName><ds:X509SerialNumber>`+c.SerialNumber.String()+`</ds:X509SerialNumber></ds:X509IssuerSerial></ds:X509Data>`,
			"",
		)
	case SubjectKey:
		return ref(
			//revive:disable-next-line:line-length-limit one literal
			`<wsse:KeyIdentifier EncodingType="`+base64Encoding+`" ValueType="`+subjectKey+`">`+base64.StdEncoding.EncodeToString(
				c.SubjectKeyId,
			)+`</wsse:KeyIdentifier>`,
			"",
		)
	case Thumbprint:
		sum := sha1.Sum(c.Raw)
		return ref(
			//revive:disable-next-line:line-length-limit one literal
			`<wsse:KeyIdentifier EncodingType="`+base64Encoding+`" ValueType="`+thumbSHA1+`">`+base64.StdEncoding.EncodeToString(
				sum[:],
			)+`</wsse:KeyIdentifier>`,
			"",
		)
	case Embedded:
		return `<ds:X509Data><ds:X509Certificate>` + base64.StdEncoding.EncodeToString(
			c.Raw,
		) + `</ds:X509Certificate></ds:X509Data>`
	}
	kind := map[KeyReference]string{PKIPath: pkiPath, PKCS7: pkcs7Token}[how]
	if kind == "" {
		kind = x509v3
	}
	return ref(`<wsse:Reference URI="#`+token+`" ValueType="`+kind+`"/>`, "")
}

// byID is the one element with an identifier. Two with the same are refused: a
// signature could mean either.
func byID(d *xmltree.Document, want string) (xmltree.Node, error) {
	var found xmltree.Node
	if want == "" {
		return found, errors.New("no id is given")
	}
	for i := 1; i <= d.Len(); i++ {
		n := d.NodeAt(i)
		if n.Kind() != xmltree.StartElement || idOf(n) != want {
			continue
		}
		if !found.IsZero() {
			return n, fmt.Errorf("two elements have the id %q", want)
		}
		found = n
	}
	if found.IsZero() {
		return found, fmt.Errorf("no element has the id %q", want)
	}
	return found, nil
}

// trimmed is base64 as people and programs write it: with white space.
func decodeBase64(s string) ([]byte, error) {
	return base64.StdEncoding.DecodeString(string(bytes.Map(func(r rune) rune {
		if strings.ContainsRune(" \t\r\n", r) {
			return -1
		}
		return r
	}, []byte(s))))
}
