package wssec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	_ "crypto/sha1" // what old services ask for
	_ "crypto/sha256"
	_ "crypto/sha512"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
	"strings"
)

// Namespaces of signatures and encryption, and the prefixes of their algorithms.
const (
	DSIG   = "http://www.w3.org/2000/09/xmldsig#"
	XENC   = "http://www.w3.org/2001/04/xmlenc#"
	XENC11 = "http://www.w3.org/2009/xmlenc11#"
	WSSE11 = "http://docs.oasis-open.org/wss/oasis-wss-wssecurity-secext-1.1.xsd"

	dsigMore   = "http://www.w3.org/2001/04/xmldsig-more#"
	dsigMore07 = "http://www.w3.org/2007/05/xmldsig-more#"

	excC14N     = "http://www.w3.org/2001/10/xml-exc-c14n#"
	excC14NWith = excC14N + "WithComments"
	incC14N     = "http://www.w3.org/TR/2001/REC-xml-c14n-20010315"
	incC14NWith = incC14N + "#WithComments"
	enveloped   = DSIG + "enveloped-signature"
	strTransf   = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#STR-Transform"
	x509Profile = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-x509-token-profile-1.0#"
	x509v3      = x509Profile + "X509v3"
	pkiPath     = x509Profile + "X509PKIPathv1"
	pkcs7Token  = x509Profile + "PKCS7"
	subjectKey  = x509Profile + "X509SubjectKeyIdentifier"
	thumbSHA1   = "http://docs.oasis-open.org/wss/oasis-wss-soap-message-security-1.1#ThumbprintSHA1"
)

// digests are the hash functions of references (XML Signature §6.2, RFC 6931).
//
//nolint:gochecknoglobals // a table: it is never written to
var digests = map[string]crypto.Hash{
	DSIG + "sha1": crypto.SHA1, XENC + "sha256": crypto.SHA256, dsigMore + "sha384": crypto.SHA384,
	XENC + "sha512": crypto.SHA512,
}

// method is a way to sign (XML Signature §6.3, §6.4, RFC 6931 §2.3).
type method struct {
	kind string // rsa, rsa-pss, ecdsa, hmac
	hash crypto.Hash
}

//nolint:gochecknoglobals // a table: it is never written to
var methods = map[string]method{
	DSIG + "rsa-sha1": {
		"rsa",
		crypto.SHA1,
	}, dsigMore + "rsa-sha256": {"rsa", crypto.SHA256}, dsigMore + "rsa-sha384": {"rsa", crypto.SHA384},
	dsigMore + "rsa-sha512": {"rsa", crypto.SHA512},
	dsigMore07 + "sha1-rsa-MGF1": {
		"rsa-pss",
		crypto.SHA1,
	}, dsigMore07 + "sha256-rsa-MGF1": {"rsa-pss", crypto.SHA256}, dsigMore07 + "sha384-rsa-MGF1": {"rsa-pss",
		crypto.SHA384}, dsigMore07 + "sha512-rsa-MGF1": {"rsa-pss", crypto.SHA512},
	dsigMore + "ecdsa-sha1": {
		"ecdsa",
		crypto.SHA1,
	}, dsigMore + "ecdsa-sha256": {"ecdsa", crypto.SHA256}, dsigMore + "ecdsa-sha384": {"ecdsa", crypto.SHA384},
	dsigMore + "ecdsa-sha512": {"ecdsa", crypto.SHA512},
	DSIG + "hmac-sha1": {
		"hmac",
		crypto.SHA1,
	}, dsigMore + "hmac-sha256": {"hmac", crypto.SHA256}, dsigMore + "hmac-sha384": {"hmac", crypto.SHA384},
	dsigMore + "hmac-sha512": {"hmac", crypto.SHA512},
}

func uriOf[T comparable](table map[string]T, v T) string {
	for uri, x := range table {
		if x == v {
			return uri
		}
	}
	return ""
}

// Hashes are the words of settings for the hash functions, the weakest first.
//
//nolint:gochecknoglobals // a table: it is never written to
var Hashes = []string{"sha1", "sha256", "sha384", "sha512"}

// HashOf is the hash function of a word.
func HashOf(word string) crypto.Hash {
	return map[string]crypto.Hash{"sha1": crypto.SHA1, "sha256": crypto.SHA256, "sha384": crypto.SHA384,
		"sha512": crypto.SHA512}[word]
}

// Words is an algorithm as people name it: rsa-sha256.
func Words(uri string) string {
	if i := strings.LastIndexByte(uri, '#'); i >= 0 {
		return uri[i+1:]
	}
	return uri
}

func digest(h crypto.Hash, b []byte) []byte {
	d := h.New()
	d.Write(b)
	return d.Sum(nil)
}

//nolint:gochecknoglobals // a table: it is never written to
var pssOptions = func(h crypto.Hash) *rsa.PSSOptions {
	return &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash, Hash: h}
}

// sign makes the value of a signature over octets.
func (m method) sign(key crypto.Signer, secret, octets []byte) ([]byte, error) {
	if m.kind == "hmac" {
		h := hmac.New(m.hash.New, secret)
		h.Write(octets)
		return h.Sum(nil), nil
	}
	sum := digest(m.hash, octets)
	switch m.kind {
	case "rsa":
		return key.Sign(rand.Reader, sum, m.hash)
	case "rsa-pss":
		return key.Sign(rand.Reader, sum, pssOptions(m.hash))
	case "ecdsa":
		k, ok := key.Public().(*ecdsa.PublicKey)
		if !ok {
			return nil, fmt.Errorf("a key of the kind %T makes no ECDSA signature", key)
		}
		der, err := key.Sign(rand.Reader, sum, m.hash)
		if err != nil {
			return nil, err
		}
		var both struct{ R, S *big.Int } // RFC 3279 §2.2.3; XML has them one behind the other (RFC 4050 §3.3)
		if _, err := asn1.Unmarshal(der, &both); err != nil {
			return nil, err
		}
		n := (k.Params().BitSize + 7) / 8
		return append(both.R.FillBytes(make([]byte, n)), both.S.FillBytes(make([]byte, n))...), nil
	}
	return nil, errors.New("there is no such way to sign")
}

// check tells whether a signature's value is that of the key over octets.
func (m method) check(key crypto.PublicKey, secret, octets, value []byte) bool {
	if m.kind == "hmac" {
		want, _ := m.sign(nil, secret, octets)
		return len(secret) > 0 && hmac.Equal(want, value)
	}
	sum := digest(m.hash, octets)
	switch k := key.(type) {
	case *rsa.PublicKey:
		switch m.kind {
		case "rsa":
			return rsa.VerifyPKCS1v15(k, m.hash, sum, value) == nil
		case "rsa-pss":
			return rsa.VerifyPSS(k, m.hash, sum, value, &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthAuto}) == nil
		}
	case *ecdsa.PublicKey:
		if n := len(value) / 2; m.kind == "ecdsa" && n > 0 && len(value)%2 == 0 {
			return ecdsa.Verify(k, sum, new(big.Int).SetBytes(value[:n]), new(big.Int).SetBytes(value[n:]))
		}
	}
	return false
}
