package trust

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"time"
)

// Pair is a certificate with its key, for local work and for stand-ins.
type Pair struct {
	Cert *x509.Certificate // the certificate
	Key  *ecdsa.PrivateKey // that belongs to it
}

// Wish says what a certificate is to be.
type Wish struct {
	Name      string    // common name
	Hosts     []string  // names and addresses it is for
	Authority bool      // may sign others
	Client    bool      // for a client rather than a server
	NotBefore time.Time // zero: now
	NotAfter  time.Time // zero: a year on
	By        *Pair     // who signs; nil: itself
	IssuerAt  string    // where the signer's certificate can be fetched
	StandsAt  string    // where it can be asked whether it was revoked (OCSP)

	Organization string   // "" that of the sample world
	Within       []string // of an authority: the only names and addresses that it may sign for (RFC 5280 §4.2.1.10)
}

// Issue makes a certificate on the curve P-256. Without dates it is valid from
// an hour ago for a year.
func Issue(w Wish) (*Pair, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	if w.NotBefore.IsZero() {
		w.NotBefore = time.Now().Add(-time.Hour)
	}
	if w.NotAfter.IsZero() {
		w.NotAfter = w.NotBefore.AddDate(1, 0, 0)
	}
	t := &x509.Certificate{
		SerialNumber: serial,
		Subject: pkix.Name{
			CommonName:   w.Name,
			Organization: []string{cmp.Or(w.Organization, "Skerry Harbour Trust")},
		},
		NotBefore: w.NotBefore, NotAfter: w.NotAfter,
		KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	if w.Client {
		t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	}
	if w.Authority {
		t.IsCA, t.KeyUsage, t.ExtKeyUsage = true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign, nil
	}
	for _, h := range w.Hosts {
		if ip := net.ParseIP(h); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, h)
		}
	}
	for _, h := range w.Within {
		t.PermittedDNSDomainsCritical = true
		if ip := net.ParseIP(h); ip == nil {
			t.PermittedDNSDomains = append(t.PermittedDNSDomains, h)
		} else if four := ip.To4(); four != nil {
			t.PermittedIPRanges = append(t.PermittedIPRanges, &net.IPNet{IP: four, Mask: net.CIDRMask(32, 32)})
		} else {
			t.PermittedIPRanges = append(t.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(128, 128)})
		}
	}
	if w.IssuerAt != "" {
		t.IssuingCertificateURL = []string{w.IssuerAt}
	}
	if w.StandsAt != "" {
		t.OCSPServer = []string{w.StandsAt}
	}
	parent, signer := t, key
	if w.By != nil {
		parent, signer = w.By.Cert, w.By.Key
	}
	der, err := x509.CreateCertificate(rand.Reader, t, parent, &key.PublicKey, signer)
	if err != nil {
		return nil, fmt.Errorf("making the certificate for %s: %w", w.Name, err)
	}
	cert, err := x509.ParseCertificate(der)
	return &Pair{cert, key}, err
}

// TLS is the pair as crypto/tls takes it, followed by the chain above it.
func (p *Pair) TLS(above ...*x509.Certificate) tls.Certificate {
	c := tls.Certificate{Certificate: [][]byte{p.Cert.Raw}, PrivateKey: p.Key, Leaf: p.Cert}
	for _, a := range above {
		c.Certificate = append(c.Certificate, a.Raw)
	}
	return c
}
