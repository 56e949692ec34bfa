package trust

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	keystore "github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/smallstep/pkcs7"
	"software.sslmate.com/src/go-pkcs12"
)

// Format is a way in which certificates and keys stand in a file.
type Format string

// The formats that are read; all but JKS and Key are written too.
const (
	PEMFile Format = "PEM"
	DER     Format = "DER"     // one certificate, or several in a row
	PKCS7   Format = "PKCS#7"  // certificates only (RFC 2315 §9.1)
	PKCS12  Format = "PKCS#12" // RFC 7292
	JKS     Format = "JKS"     // the older key store of Java programs
	KeyFile Format = "PKCS#8"  // a key alone
)

// FormatOf is the format that a file's name stands for; PEM where it says nothing.
func FormatOf(name string) Format {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".der", ".cer":
		return DER
	case ".p7b", ".p7c", ".p7":
		return PKCS7
	case ".p12", ".pfx":
		return PKCS12
	case ".jks":
		return JKS
	}
	return PEMFile
}

// Material is what a file holds: certificates, the one that the key belongs to
// first, and the key where there is one.
type Material struct {
	Format Format              // PEM, DER, PKCS#12 and so on
	Certs  []*x509.Certificate // certificates, the leaf first
	Key    crypto.Signer       // nil: none
	Notes  []string            // what was passed over, in words
}

// PasswordError is a file that needs a password, or another one.
type PasswordError struct {
	Format Format // PEM, DER, PKCS#12 and so on
	Given  bool   // a pass phrase was given, and is wrong
}

func (e *PasswordError) Error() string {
	if e.Given {
		return fmt.Sprintf("the password of the %s file is wrong", e.Format)
	}
	return fmt.Sprintf("the %s file needs a password", e.Format)
}

// MismatchError is a key and a certificate that do not belong together.
type MismatchError struct{ Cert *x509.Certificate } // that does not belong to the key

func (e *MismatchError) Error() string {
	return "the key is not that of the certificate " + e.Cert.Subject.String()
}

// ReadMaterial reads a file of any of the formats. What derives a key from the
// password is bounded, so that a hostile file cannot hold the program up.
func ReadMaterial(b []byte, password string) (*Material, error) {
	switch {
	case len(bytes.TrimSpace(b)) == 0:
		return nil, errors.New("it is empty")
	case bytes.Contains(b, []byte("-----BEGIN")):
		return readPEM(b, password)
	case bytes.HasPrefix(b, []byte{0xFE, 0xED, 0xFE, 0xED}):
		return readJKS(b, password)
	}
	if certs, err := x509.ParseCertificates(b); err == nil && len(certs) > 0 {
		return &Material{Format: DER, Certs: certs}, nil
	}
	if err := bounded(b); err != nil {
		return nil, err
	}
	if p7, err := pkcs7.Parse(b); err == nil {
		if len(p7.Certificates) == 0 {
			return nil, errors.New("it is PKCS#7, and holds no certificate")
		}
		return &Material{Format: PKCS7, Certs: p7.Certificates}, nil
	}
	if m, err := readPKCS12(b, password); m != nil || err != nil {
		return m, err
	}
	if key, err := readKey(b, password); err == nil {
		return &Material{Format: KeyFile, Key: key}, nil
	} else if _, ok := errors.AsType[*PasswordError](err); ok {
		return nil, err
	}
	if b[0] == 0x30 {
		return nil, errors.New("it is cut short, or in none of the formats PEM, DER, PKCS#7, PKCS#8, PKCS#12 and JKS")
	}
	return nil, errors.New("it is in none of the formats PEM, DER, PKCS#7, PKCS#8, PKCS#12 and JKS")
}

func readPEM(b []byte, password string) (*Material, error) {
	m := &Material{Format: PEMFile}
	blocks := 0
	for rest := b; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		blocks++
		switch {
		case strings.HasSuffix(block.Type, "CERTIFICATE"):
			c, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				return nil, fmt.Errorf("a certificate in it cannot be read: %w", err)
			}
			m.Certs = append(m.Certs, c)
		case block.Type == "PKCS7":
			p7, err := pkcs7.Parse(block.Bytes)
			if err != nil {
				return nil, fmt.Errorf("the PKCS#7 in it cannot be read: %w", err)
			}
			m.Certs = append(m.Certs, p7.Certificates...)
		case strings.HasSuffix(block.Type, "PRIVATE KEY"):
			if m.Key != nil {
				m.Notes = append(m.Notes, "a second private key was passed over")
				continue
			}
			der := block.Bytes
			//lint:ignore SA1019 old files are sealed so, and are to be read
			if x509.IsEncryptedPEMBlock(block) {
				if password == "" {
					return nil, &PasswordError{KeyFile, false}
				}
				var err error
				//lint:ignore SA1019 as above
				if der, err = x509.DecryptPEMBlock(block, []byte(password)); err != nil {
					return nil, &PasswordError{KeyFile, true}
				}
			}
			if err := bounded(der); err != nil {
				return nil, err
			}
			key, err := readKey(der, password)
			if err != nil {
				return nil, err
			}
			m.Key = key
		default:
			m.Notes = append(m.Notes, "a "+strings.ToLower(block.Type)+" was passed over")
		}
	}
	switch {
	case blocks == 0:
		return nil, errors.New("its PEM block is damaged or cut short")
	case len(m.Certs) == 0 && m.Key == nil:
		return nil, errors.New("it holds no certificate and no key: " + strings.Join(m.Notes, "; "))
	}
	m.first()
	return m, nil
}

// first puts the certificate that the key belongs to before the others.
func (m *Material) first() {
	if m.Key == nil {
		return
	}
	i := slices.IndexFunc(m.Certs, func(c *x509.Certificate) bool { return belongs(m.Key, c) })
	if i > 0 {
		c := m.Certs[i]
		m.Certs = slices.Insert(slices.Delete(m.Certs, i, i+1), 0, c)
	}
}

func belongs(key crypto.Signer, c *x509.Certificate) bool {
	k, ok := key.Public().(interface{ Equal(crypto.PublicKey) bool })
	return ok && k.Equal(c.PublicKey)
}

// readKey reads a private key in PKCS#8, encrypted or not, PKCS#1 or SEC 1.
func readKey(der []byte, password string) (crypto.Signer, error) {
	signer := func(k any, err error) (crypto.Signer, error) {
		if err != nil {
			return nil, err
		}
		s, ok := k.(crypto.Signer)
		if !ok {
			return nil, fmt.Errorf("a key of the kind %T cannot sign", k)
		}
		return s, nil
	}
	for _, read := range []func() (any, error){
		func() (any, error) { return x509.ParsePKCS8PrivateKey(der) },
		func() (any, error) { return x509.ParsePKCS1PrivateKey(der) },
		func() (any, error) { return x509.ParseECPrivateKey(der) },
	} {
		if k, err := read(); err == nil {
			return signer(k, nil)
		}
	}
	var sealed struct {
		Algorithm asn1.RawValue
		Data      []byte
	}
	if rest, err := asn1.Unmarshal(der, &sealed); err != nil || len(rest) > 0 || len(sealed.Data) == 0 {
		return nil, errors.New("the private key cannot be read")
	}
	if password == "" {
		return nil, &PasswordError{KeyFile, false}
	}
	k, err := openPKCS8(der, password)
	if errors.Is(err, errWrongPassword) {
		return nil, &PasswordError{KeyFile, true}
	}
	if err != nil {
		return nil, fmt.Errorf("the private key is encrypted in a way that is not supported: %w", err)
	}
	return signer(k, nil)
}

func readPKCS12(b []byte, password string) (*Material, error) {
	var outer struct {
		Version int
		Rest    asn1.RawValue
		Mac     asn1.RawValue `asn1:"optional"`
	}
	if rest, err := asn1.Unmarshal(b, &outer); err != nil || len(rest) > 0 || outer.Version != 3 {
		return nil, nil // it is none
	}
	m := &Material{Format: PKCS12}
	key, cert, more, err := pkcs12.DecodeChain(b, password)
	if err == nil {
		s, ok := key.(crypto.Signer)
		if !ok {
			return nil, fmt.Errorf("a key of the kind %T cannot sign", key)
		}
		m.Key, m.Certs = s, append([]*x509.Certificate{cert}, more...)
		return m, nil
	}
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		return nil, &PasswordError{PKCS12, password != ""}
	}
	if _, ok := errors.AsType[pkcs12.NotImplementedError](err); ok {
		return nil, fmt.Errorf("it is PKCS#12 in a way that is not supported: %w", err)
	}
	certs, terr := pkcs12.DecodeTrustStore(b, password)
	if terr == nil && len(certs) > 0 {
		m.Certs = certs
		return m, nil
	}
	return nil, fmt.Errorf("it is PKCS#12 and cannot be read: %w", err)
}

func readJKS(b []byte, password string) (*Material, error) {
	if password == "" {
		return nil, &PasswordError{JKS, false}
	}
	ks := keystore.New(keystore.WithOrderedAliases())
	if err := ks.Load(bytes.NewReader(b), []byte(password)); err != nil {
		if strings.Contains(err.Error(), "digest") {
			return nil, &PasswordError{JKS, true}
		}
		return nil, fmt.Errorf("it is JKS and cannot be read: %w", err)
	}
	m := &Material{Format: JKS}
	add := func(alias string, c keystore.Certificate) {
		if cert, err := x509.ParseCertificate(c.Content); err == nil {
			m.Certs = append(m.Certs, cert)
		} else {
			m.Notes = append(m.Notes, fmt.Sprintf("the certificate %q cannot be read", alias))
		}
	}
	for _, alias := range ks.Aliases() {
		switch {
		case ks.IsTrustedCertificateEntry(alias):
			if e, err := ks.GetTrustedCertificateEntry(alias); err == nil {
				add(alias, e.Certificate)
			}
		case ks.IsPrivateKeyEntry(alias):
			e, err := ks.GetPrivateKeyEntry(alias, []byte(password))
			if err != nil {
				m.Notes = append(m.Notes, fmt.Sprintf("the key %q has a password of its own", alias))
				chain, _ := ks.GetPrivateKeyEntryCertificateChain(alias)
				for _, c := range chain {
					add(alias, c)
				}
				continue
			}
			if key, err := readKey(e.PrivateKey, ""); err == nil && m.Key == nil {
				m.Key = key
			}
			for _, c := range e.CertificateChain {
				add(alias, c)
			}
		}
	}
	m.first()
	if len(m.Certs) == 0 && m.Key == nil {
		return nil, errors.New("the key store is empty")
	}
	return m, nil
}

// maxRounds bounds the rounds that derive a key from a password.
const maxRounds = 5_000_000

// bounded looks for a number of rounds, which follows the salt (RFC 8018 §A.2,
// RFC 7292 §4), that is too large to be meant.
func bounded(der []byte) error {
	for depth, rest := 0, der; len(rest) > 0 && depth < 1000; depth++ {
		var v asn1.RawValue
		next, err := asn1.Unmarshal(rest, &v)
		if err != nil {
			return nil
		}
		if err := boundedIn(v, 0); err != nil {
			return err
		}
		rest = next
	}
	return nil
}

func boundedIn(v asn1.RawValue, depth int) error {
	if depth > 12 {
		return nil
	}
	inner := v.Bytes
	if !v.IsCompound {
		if v.Tag != asn1.TagOctetString || len(inner) == 0 || inner[0] != 0x30 {
			return nil
		}
		var in asn1.RawValue
		if rest, err := asn1.Unmarshal(inner, &in); err != nil || len(rest) > 0 {
			return nil
		}
		return boundedIn(in, depth+1)
	}
	salt := false
	for n := 0; len(inner) > 0 && n < 1000; n++ {
		var in asn1.RawValue
		rest, err := asn1.Unmarshal(inner, &in)
		if err != nil {
			return nil
		}
		if salt && in.Class == asn1.ClassUniversal && in.Tag == asn1.TagInteger {
			var rounds int64
			if _, err := asn1.Unmarshal(in.FullBytes, &rounds); err != nil || rounds > maxRounds {
				return fmt.Errorf("it asks for more than %d rounds of key derivation, which is not done", maxRounds)
			}
		}
		salt = in.Class == asn1.ClassUniversal && in.Tag == asn1.TagOctetString && !in.IsCompound
		if err := boundedIn(in, depth+1); err != nil {
			return err
		}
		inner = rest
	}
	return nil
}

// Write puts material into a file's bytes. A key goes into PEM, unsealed or
// sealed with the password, and into PKCS#12; the other formats take none.
func (m *Material) Write(f Format, password string) ([]byte, error) {
	switch f {
	case PEMFile:
		out := PEM(m.Certs...)
		if m.Key == nil {
			return out, nil
		}
		kind, der := "PRIVATE KEY", []byte(nil)
		var err error
		if password != "" {
			kind = "ENCRYPTED PRIVATE KEY"
			der, err = sealPKCS8(m.Key, password)
		} else {
			der, err = x509.MarshalPKCS8PrivateKey(m.Key)
		}
		return append(out, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})...), err
	case DER:
		if len(m.Certs) != 1 {
			return nil, fmt.Errorf("DER holds one certificate, and there are %d", len(m.Certs))
		}
		return m.Certs[0].Raw, nil
	case PKCS7:
		var all []byte
		for _, c := range m.Certs {
			all = append(all, c.Raw...)
		}
		return pkcs7.DegenerateCertificate(all)
	case PKCS12:
		if len(m.Certs) == 0 {
			return nil, errors.New("there is no certificate")
		}
		if password == "" {
			return nil, &PasswordError{PKCS12, false}
		}
		if m.Key == nil {
			return pkcs12.Modern.WithRand(rand.Reader).EncodeTrustStore(m.Certs, password)
		}
		return pkcs12.Modern.WithRand(rand.Reader).Encode(m.Key, m.Certs[0], m.Certs[1:], password)
	}
	return nil, fmt.Errorf("%s is read, and not written", f)
}

// Client is a certificate with its key as crypto/tls takes it. The key may stand
// in the same file or in one of its own.
func Client(cert, key []byte, password string) (tls.Certificate, error) {
	m, err := ReadMaterial(cert, password)
	if err != nil {
		return tls.Certificate{}, err
	}
	if len(m.Certs) == 0 {
		return tls.Certificate{}, errors.New("it holds a key, and no certificate")
	}
	if len(key) > 0 {
		k, err := ReadMaterial(key, password)
		if err != nil {
			return tls.Certificate{}, err
		}
		if k.Key == nil {
			return tls.Certificate{}, errors.New("the key file holds no private key")
		}
		m.Key = k.Key
		m.first()
	}
	if m.Key == nil {
		return tls.Certificate{}, errors.New("it holds no private key, and no other file is named for it")
	}
	if !belongs(m.Key, m.Certs[0]) {
		return tls.Certificate{}, &MismatchError{m.Certs[0]}
	}
	out := tls.Certificate{PrivateKey: m.Key, Leaf: m.Certs[0]}
	for _, c := range m.Certs {
		out.Certificate = append(out.Certificate, c.Raw)
	}
	return out, nil
}

// Unfit says why a certificate will hardly do for a client, or "".
func Unfit(c *x509.Certificate, now time.Time) string {
	switch {
	case now.After(c.NotAfter):
		return "it was valid until " + day(c.NotAfter)
	case now.Before(c.NotBefore):
		return "it is valid from " + day(c.NotBefore)
	case len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) > 0 && !slices.Contains(c.ExtKeyUsage,
		x509.ExtKeyUsageClientAuth) && !slices.Contains(c.ExtKeyUsage, x509.ExtKeyUsageAny):
		return "it is not for clients"
	}
	return ""
}

// AppendBundle adds certificates to a PEM bundle that holds others, each with a
// comment that says which follows; those that it has are left out. What stood
// there stays, byte for byte.
func AppendBundle(bundle []byte, certs ...*x509.Certificate) (out []byte, added int, err error) {
	have := []*x509.Certificate{}
	if len(bytes.TrimSpace(bundle)) > 0 {
		if have, err = Read(bundle); err != nil {
			return nil, 0, fmt.Errorf("the bundle is not changed: %w", err)
		}
	}
	out = slices.Clone(bundle)
	if n := len(out); n > 0 && out[n-1] != '\n' {
		out = append(out, '\n')
	}
	for _, c := range certs {
		if slices.ContainsFunc(have, c.Equal) {
			continue
		}
		out = append(out, PEM(c)...)
		have = append(have, c)
		added++
	}
	return out, added, nil
}

// PublicKeyPin is the SHA-256 of a certificate's public key (RFC 7469 §2.4), in
// lower-case hexadecimal: it stays the same where a certificate is renewed with
// the same key.
func PublicKeyPin(c *x509.Certificate) string {
	return hash(c.RawSubjectPublicKeyInfo)
}
