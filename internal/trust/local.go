package trust

import (
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io/fs"
	"os"
	"slices"
	"time"
)

// A local authority signs for listeners of this machine alone: it is short-lived, may
// sign for the names that it was made for and no others, and its key stays in the
// person's folder.
const (
	authorityDays = 30
	renewBefore   = 2 * 24 * time.Hour
	leafDays      = 7
)

// LocalAuthority gives the authority that stands in two files, or makes it: where there
// is none, where it ends soon, or where it may not sign for one of the hosts. write is
// given what is to be kept privately.
func LocalAuthority(
	certFile, keyFile string, hosts []string, now time.Time, write func(file string, b []byte) error,
) (*Pair, error) {
	if p, err := readPair(certFile, keyFile); err == nil && p.Cert.NotAfter.After(now.Add(renewBefore)) &&
		p.mayServe(hosts) {
		return p, nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	p, err := Issue(Wish{
		Name: "Orenda, this machine alone", Organization: "Orenda", Authority: true, Within: hosts,
		NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(0, 0, authorityDays),
	})
	if err != nil {
		return nil, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(p.Key)
	if err != nil {
		return nil, err
	}
	if err := write(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})); err != nil {
		return nil, err
	}
	return p, write(certFile, PEM(p.Cert))
}

// mayServe tells whether an authority may sign for all hosts.
func (p *Pair) mayServe(hosts []string) bool {
	for _, h := range hosts {
		named := slices.Contains(p.Cert.PermittedDNSDomains, h)
		for _, r := range p.Cert.PermittedIPRanges {
			named = named || r.IP.String() == h
		}
		if !named {
			return false
		}
	}
	return true
}

func readPair(certFile, keyFile string) (*Pair, error) {
	c, err := os.ReadFile(certFile)
	if err != nil {
		return nil, err
	}
	k, err := os.ReadFile(keyFile)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(c, k)
	if err != nil {
		return nil, err
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New(keyFile + " holds no key of this kind")
	}
	cert, err := x509.ParseCertificate(pair.Certificate[0])
	return &Pair{cert, key}, err
}

// Serve is a certificate for hosts, signed by the authority, as a listener takes it.
func (p *Pair) Serve(hosts []string, now time.Time) (tls.Certificate, error) {
	leaf, err := Issue(Wish{
		Name: hosts[0], Organization: "Orenda", Hosts: hosts, By: p, NotBefore: now.Add(-time.Hour),
		NotAfter: now.AddDate(0, 0, leafDays),
	})
	if err != nil {
		return tls.Certificate{}, err
	}
	return leaf.TLS(p.Cert), nil
}
