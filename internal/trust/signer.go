package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"sync"
)

// Signer is a key that cannot be read: a program, a card or a module signs with it.
type Signer struct {
	public crypto.PublicKey
	run    func(algorithm string, digest, input []byte) ([]byte, error)

	mu  sync.Mutex
	err error
}

// SignerError is a signature that could not be had.
type SignerError struct {
	Algorithm string // rsa-pkcs1-sha256, rsa-pss-sha256, ecdsa-sha256, …
	Err       error  // why
}

func (e *SignerError) Error() string {
	return "the signer gives no signature (" + e.Algorithm + "): " + e.Err.Error()
}

func (e *SignerError) Unwrap() error { return e.Err }

// NewSigner signs for a certificate by run, which is given the algorithm, the digest, and what a
// module signs as it is: for rsa-pkcs1 the DigestInfo (RFC 8017 §9.2), else the digest. It gives
// the signature; that of ECDSA may be its two numbers one behind the other.
func NewSigner(c *x509.Certificate, run func(algorithm string, digest, input []byte) ([]byte, error)) *Signer {
	return &Signer{public: c.PublicKey, run: run}
}

// Public implements crypto.Signer.
func (s *Signer) Public() crypto.PublicKey { return s.public }

// Err is why the last signature could not be had; nil: it could. crypto/tls keeps the words of
// an error only.
func (s *Signer) Err() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// hashNames are those that are signed, by the names that a signer is told.
//
//nolint:gochecknoglobals // a table: it is never written to
var hashNames = map[crypto.Hash]string{
	crypto.SHA1: "sha1", crypto.SHA256: "sha256", crypto.SHA384: "sha384", crypto.SHA512: "sha512",
}

// Sign implements crypto.Signer. A signature that does not fit the certificate is an error.
func (s *Signer) Sign(_ io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	out, algorithm, err := s.sign(digest, opts)
	if err != nil {
		err = &SignerError{algorithm, err}
	}
	s.mu.Lock()
	s.err = err
	s.mu.Unlock()
	return out, err
}

func (s *Signer) sign(digest []byte, opts crypto.SignerOpts) (out []byte, algorithm string, err error) {
	hash, known := hashNames[opts.HashFunc()]
	if !known {
		return nil, fmt.Sprint(opts.HashFunc()), errors.New("this kind of digest is not signed")
	}
	switch key := s.public.(type) {
	case *rsa.PublicKey:
		if pss, is := opts.(*rsa.PSSOptions); is {
			algorithm = "rsa-pss-" + hash
			if out, err = s.run(algorithm, digest, digest); err == nil {
				err = rsa.VerifyPSS(key, opts.HashFunc(), digest, out, &rsa.PSSOptions{SaltLength: pss.SaltLength})
			}
			break
		}
		algorithm = "rsa-pkcs1-" + hash
		if out, err = s.run(algorithm, digest, digestInfo(opts.HashFunc(), digest)); err == nil {
			err = rsa.VerifyPKCS1v15(key, opts.HashFunc(), digest, out)
		}
	case *ecdsa.PublicKey:
		algorithm = "ecdsa-" + hash
		if out, err = s.run(algorithm, digest, digest); err != nil {
			break
		}
		if n := (key.Params().BitSize + 7) / 8; len(out) == 2*n {
			out, err = asn1.Marshal(struct{ R, S *big.Int }{
				new(big.Int).SetBytes(out[:n]), new(big.Int).SetBytes(out[n:]),
			})
		}
		if err == nil && !ecdsa.VerifyASN1(key, digest, out) {
			err = errNotFit
		}
	default:
		return nil, fmt.Sprintf("%T", key), errors.New("this kind of key is not signed with")
	}
	if errors.Is(err, rsa.ErrVerification) {
		err = errNotFit
	}
	if err != nil {
		return nil, algorithm, err
	}
	return out, algorithm, nil
}

var errNotFit = errors.New("what it gives is no signature of the certificate's key")

// digestInfo is a digest with its algorithm, as RSA signs it (RFC 8017 §9.2 note 1).
func digestInfo(h crypto.Hash, digest []byte) []byte {
	oid := map[crypto.Hash]asn1.ObjectIdentifier{
		crypto.SHA1: {1, 3, 14, 3, 2, 26}, crypto.SHA256: {2, 16, 840, 1, 101, 3, 4, 2, 1},
		crypto.SHA384: {2, 16, 840, 1, 101, 3, 4, 2, 2}, crypto.SHA512: {2, 16, 840, 1, 101, 3, 4, 2, 3},
	}[h]
	type algorithm struct {
		OID  asn1.ObjectIdentifier
		Null asn1.RawValue
	}
	b, err := asn1.Marshal(struct {
		Algorithm algorithm
		Digest    []byte
	}{algorithm{oid, asn1.NullRawValue}, digest})
	if err != nil {
		return nil // these values are all that there are
	}
	return b
}

// WithSigner is a certificate, with those above it, whose key a signer has.
func WithSigner(
	cert []byte, run func(algorithm string, digest, input []byte) ([]byte, error),
) (tls.Certificate, error) {
	certs, err := Read(cert)
	if err != nil {
		return tls.Certificate{}, err
	}
	if len(certs) == 0 {
		return tls.Certificate{}, errors.New("it holds no certificate")
	}
	out := tls.Certificate{PrivateKey: NewSigner(certs[0], run), Leaf: certs[0]}
	for _, c := range certs {
		out.Certificate = append(out.Certificate, c.Raw)
	}
	return out, nil
}
