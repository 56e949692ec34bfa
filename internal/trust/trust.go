// Package trust reads, shows and judges certificates.
package trust

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"
)

// Reason is one way in which a chain is not in order.
type Reason uint8

// The reasons, in the order in which they are told.
const (
	SelfSigned Reason = iota
	ChainIncomplete
	AuthorityUnknown
	Expired
	NotYetValid
	NameDiffers
	KeyWeak
	Revoked // Judge does not tell it: package revocation does
)

//nolint:gochecknoglobals // a table: it is never written to
var reasonText = [...]string{
	"self-signed",
	"chain-incomplete",
	"authority-unknown",
	"expired",
	"not-yet-valid",
	"name-differs",
	"key-weak",
	"revoked",
}

// String is the reason as finding ids have it.
func (r Reason) String() string { return reasonText[r] }

// Fault is one thing that is wrong with a chain.
type Fault struct {
	Reason Reason            // what the service says
	Index  int               // of the certificate in the chain, 0 being the leaf
	Cert   *x509.Certificate // that it is about
	Detail string            // in words
}

// Verdict is the judgement over a chain; it is good where Faults is empty.
type Verdict struct {
	Faults []Fault             // all that is wrong, the worst first
	By     string              // why it is trusted, in words
	Chain  []*x509.Certificate // as it was completed, leaf first; nil where it leads nowhere
}

// Error makes a bad verdict an error.
func (v *Verdict) Error() string {
	var parts []string
	for _, f := range v.Faults {
		parts = append(parts, f.Reason.String())
	}
	return "the server's certificate is not accepted: " + strings.Join(parts, ", ")
}

// Policy is what a chain is judged against.
type Policy struct {
	Trusted       []*x509.Certificate // the endpoint's trust list
	Intermediates []*x509.Certificate // complete the chain, and are not trusted themselves
	Pins          []string            // SHA-256 of public keys that are trusted (PublicKeyPin)
	System        bool                // and what the system trusts
	Host          string              // the name or address asked for
	AcceptName    string              // a name that is accepted in its stead
	AcceptExpired string              // SHA-256 of a certificate accepted outside its dates
	Now           time.Time           // what time it is
}

// Judge judges a chain as sent, leaf first. Trust in a certificate waives the
// question of its authority, never that of dates or names.
func Judge(chain []*x509.Certificate, p Policy) *Verdict {
	v := &Verdict{}
	if len(chain) == 0 {
		return v
	}
	leaf := chain[0]
	v.authority(chain, p)
	for i, c := range chain {
		if i > 0 && isRoot(c) {
			continue // a root that is sent along is not what is trusted
		}
		if p.AcceptExpired != "" && SameFingerprint(p.AcceptExpired, Fingerprint(c)) {
			continue
		}
		switch {
		case p.Now.After(c.NotAfter):
			v.add(
				Expired,
				i,
				c,
				fmt.Sprintf("it was valid until %s; this machine's clock says %s", day(c.NotAfter), day(p.Now)),
			)
		case p.Now.Before(c.NotBefore):
			v.add(
				NotYetValid,
				i,
				c,
				fmt.Sprintf("it is valid from %s; this machine's clock says %s", day(c.NotBefore), day(p.Now)),
			)
		}
	}
	if err := leaf.VerifyHostname(bracket(p.Host)); err != nil &&
		(p.AcceptName == "" || leaf.VerifyHostname(bracket(p.AcceptName)) != nil) {
		v.add(NameDiffers, 0, leaf, strings.Join(Names(leaf), ", "))
	}
	for i, c := range chain {
		if why := weak(c); why != "" {
			v.add(KeyWeak, i, c, why)
		}
	}
	return v
}

// Warm reads what the system trusts, once, so that no handshake need wait for it.
//
//nolint:gochecknoglobals // made once, when it is first asked for
var Warm = sync.OnceFunc(func() { _, _ = x509.SystemCertPool() })

func (v *Verdict) add(r Reason, i int, c *x509.Certificate, detail string) {
	v.Faults = append(v.Faults, Fault{r, i, c, detail})
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

func bracket(host string) string {
	if ip := net.ParseIP(host); ip != nil {
		return "[" + host + "]"
	}
	return host
}

func isRoot(c *x509.Certificate) bool { return bytes.Equal(c.RawSubject, c.RawIssuer) }

func (v *Verdict) authority(chain []*x509.Certificate, p Policy) {
	for _, t := range p.Trusted {
		if t.Equal(chain[0]) {
			v.By = "the certificate itself is on the trust list"
			return
		}
	}
	for _, p := range p.Pins {
		if SameFingerprint(p, PublicKeyPin(chain[0])) {
			v.By = "its public key is pinned"
			return
		}
	}
	roots := x509.NewCertPool()
	for _, t := range p.Trusted {
		roots.AddCert(t)
	}
	inter := x509.NewCertPool()
	for _, c := range slices.Concat(chain[1:], p.Intermediates) {
		inter.AddCert(c)
	}
	// Dates are judged apart, so the chain is built at a time that suits it.
	at := chain[0].NotBefore.Add(chain[0].NotAfter.Sub(chain[0].NotBefore) / 2)
	verify := func(roots *x509.CertPool) error {
		chains, err := chain[0].Verify(
			x509.VerifyOptions{
				Roots:         roots,
				Intermediates: inter,
				CurrentTime:   at,
				KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
			},
		)
		if err == nil {
			v.Chain = chains[0]
		}
		return err
	}
	if len(p.Trusted) > 0 && (verify(roots) == nil || v.climb(chain, p)) {
		v.By = "an authority on the trust list signed it"
		return
	}
	if p.System && verify(nil) == nil {
		v.By = "an authority that the system trusts signed it"
		return
	}
	last := chain[len(chain)-1]
	switch {
	case isRoot(chain[0]):
		v.add(SelfSigned, 0, chain[0], "")
	case !isRoot(last) && (len(last.IssuingCertificateURL) > 0 || len(chain) == 1 && p.knowsAbove(last)):
		v.add(ChainIncomplete, len(chain)-1, last, last.Issuer.String())
	default:
		v.add(AuthorityUnknown, len(chain)-1, last, last.Issuer.String())
	}
}

// knowsAbove tells whether an authority that is trusted stands above a certificate's
// issuer, as far as names tell: of the same organisation, or with a word in common. Then
// what is missing is the certificate between them, which the server has to send (RFC 8446
// §4.4.2).
func (p *Policy) knowsAbove(c *x509.Certificate) bool {
	return slices.ContainsFunc(p.Trusted, func(t *x509.Certificate) bool {
		if !t.IsCA || bytes.Equal(t.RawSubject, c.RawIssuer) {
			return false
		}
		for _, o := range t.Subject.Organization {
			if slices.Contains(c.Issuer.Organization, o) {
				return true
			}
		}
		for _, w := range strings.Fields(t.Subject.CommonName) {
			if len(w) > 3 && !slices.Contains(usualWords, strings.ToLower(w)) &&
				slices.Contains(strings.Fields(c.Issuer.CommonName), w) {
				return true
			}
		}
		return false
	})
}

// usualWords are in the names of most authorities.
//
//nolint:gochecknoglobals // a table: it is never written to
var usualWords = []string{
	"root", "issuing", "authority", "certificate", "certification", "intermediate", "trust", "services", "server",
	"global", "public", "secure", "test",
}

// climb leads from the leaf to what is trusted by signatures alone. It serves
// where no moment suits all dates, as with a leaf that ended before its
// authority's certificate was renewed: dates are told by themselves.
func (v *Verdict) climb(chain []*x509.Certificate, p Policy) bool {
	at := chain[:1:1]
	for range 10 {
		last := at[len(at)-1]
		if i := slices.IndexFunc(p.Trusted, func(t *x509.Certificate) bool {
			return last.Equal(t) ||
				last.CheckSignatureFrom(t) == nil
		}); i >= 0 {
			if !last.Equal(p.Trusted[i]) {
				at = append(at, p.Trusted[i])
			}
			v.Chain = at
			return true
		}
		others := slices.Concat(chain[1:], p.Intermediates)
		i := slices.IndexFunc(others, func(c *x509.Certificate) bool {
			return !slices.ContainsFunc(at, c.Equal) && last.CheckSignatureFrom(c) == nil
		})
		if i < 0 {
			return false
		}
		at = append(at, others[i])
	}
	return false
}

func weak(c *x509.Certificate) string {
	if k, ok := c.PublicKey.(*rsa.PublicKey); ok && k.N.BitLen() < 1024 {
		return fmt.Sprintf("its RSA key has %d bits", k.N.BitLen())
	}
	if isRoot(c) {
		return ""
	}
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1:
		return "it is signed with " + c.SignatureAlgorithm.String()
	}
	return ""
}

// Fingerprint is the SHA-256 of a certificate in lower-case hexadecimal.
func Fingerprint(c *x509.Certificate) string { return hash(c.Raw) }

func hash(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// FingerprintSHA1 is the SHA-1 of a certificate in lower-case hexadecimal.
func FingerprintSHA1(c *x509.Certificate) string {
	s := sha1.Sum(c.Raw)
	return hex.EncodeToString(s[:])
}

// Grouped writes a fingerprint in upper-case pairs, as people compare them.
func Grouped(hexText string) string {
	t := strings.ToUpper(hexText)
	var parts []string
	for i := 0; i+2 <= len(t); i += 2 {
		parts = append(parts, t[i:i+2])
	}
	if len(parts) == 32 { // a place to break the line
		return strings.Join(parts[:16], ":") + " " + strings.Join(parts[16:], ":")
	}
	return strings.Join(parts, ":")
}

// SameFingerprint compares two fingerprints, however they are written.
func SameFingerprint(a, b string) bool {
	clean := func(s string) string {
		return strings.ToLower(
			strings.NewReplacer(":", "", " ", "", "-", "").Replace(strings.TrimPrefix(strings.ToLower(s), "sha256:")),
		)
	}
	return clean(a) == clean(b)
}

// maxNames bounds how many names of a certificate are shown.
const maxNames = 50

// Names are the names and addresses that a certificate is for.
func Names(c *x509.Certificate) []string {
	out := append([]string(nil), c.DNSNames...)
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	if len(out) == 0 && c.Subject.CommonName != "" {
		out = append(out, c.Subject.CommonName+" (common name only)")
	}
	if len(out) > maxNames {
		out = append(out[:maxNames], fmt.Sprintf("and %d more", len(out)-maxNames))
	}
	return out
}

// KeyWords describes a certificate's public key.
func KeyWords(c *x509.Certificate) string {
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d bits", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "EC " + k.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return c.PublicKeyAlgorithm.String()
}

// Read finds the certificates in a file's bytes: PEM blocks, text around them
// being allowed, or one or more in DER.
func Read(b []byte) ([]*x509.Certificate, error) {
	if !bytes.Contains(b, []byte("-----BEGIN")) {
		if certs, err := x509.ParseCertificates(b); err == nil && len(certs) > 0 {
			return certs, nil
		}
		m, err := ReadMaterial(b, "")
		if _, sealed := errors.AsType[*PasswordError](err); sealed {
			return nil, err
		}
		if err != nil || len(m.Certs) == 0 {
			return nil, errors.New("it holds no certificate, neither as PEM nor as DER nor as PKCS#7")
		}
		return m.Certs, nil
	}
	var out []*x509.Certificate
	var kinds []string
	for rest := b; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" && block.Type != "X509 CERTIFICATE" && block.Type != "TRUSTED CERTIFICATE" {
			kinds = append(kinds, block.Type)
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("a certificate in it cannot be read: %w", err)
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		if kinds != nil {
			return nil, fmt.Errorf("it holds no certificate but a %s", strings.ToLower(kinds[0]))
		}
		return nil, errors.New("its PEM block is damaged or cut short")
	}
	return out, nil
}

// PEM writes certificates with a comment line before each that says whose it is.
func PEM(certs ...*x509.Certificate) []byte {
	var b bytes.Buffer
	for _, c := range certs {
		fmt.Fprintf(&b, "# %s\n# SHA-256 %s\n", clean(c.Subject.String()), Grouped(Fingerprint(c)))
		_ = pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return b.Bytes()
}

// clean keeps a name on one line of a file.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '?'
		}
		return r
	}, s)
}

// Left says how long a certificate is still valid, or since when it is not.
func Left(c *x509.Certificate, now time.Time) string {
	days := func(d time.Duration) string {
		n := int(d.Hours() / 24)
		switch {
		case n == 0:
			return fmt.Sprintf("%d hours", int(d.Hours()))
		case n == 1:
			return "1 day"
		}
		return fmt.Sprintf("%d days", n)
	}
	switch {
	case now.Before(c.NotBefore):
		return "in " + days(c.NotBefore.Sub(now)) + " it begins"
	case now.After(c.NotAfter):
		return "ended " + days(now.Sub(c.NotAfter)) + " ago"
	}
	return days(c.NotAfter.Sub(now)) + " left"
}

//nolint:gochecknoglobals // a table: it is never written to
var usageNames = []struct {
	use  x509.KeyUsage
	name string
}{{x509.KeyUsageDigitalSignature, "signs"}, {x509.KeyUsageContentCommitment, "commits"}, {x509.KeyUsageKeyEncipherment,
	"wraps keys"}, {x509.KeyUsageDataEncipherment, "encrypts"},
	{
		x509.KeyUsageKeyAgreement,
		"agrees on keys",
	}, {x509.KeyUsageCertSign, "signs certificates"}, {x509.KeyUsageCRLSign, "signs revocations"}}

// Uses says in words what a certificate is for (RFC 5280 §4.2.1.3, §4.2.1.9, §4.2.1.12).
func Uses(c *x509.Certificate) string {
	var out []string
	if c.BasicConstraintsValid && c.IsCA {
		a := "authority"
		if c.MaxPathLen > 0 || c.MaxPathLenZero {
			a += fmt.Sprintf(" of at most %d more below it", c.MaxPathLen)
		}
		out = append(out, a)
	}
	for _, u := range usageNames {
		if c.KeyUsage&u.use != 0 {
			out = append(out, u.name)
		}
	}
	for _, u := range c.ExtKeyUsage {
		switch u {
		case x509.ExtKeyUsageServerAuth:
			out = append(out, "for servers")
		case x509.ExtKeyUsageClientAuth:
			out = append(out, "for clients")
		case x509.ExtKeyUsageAny:
			out = append(out, "for anything")
		}
	}
	return strings.Join(out, ", ")
}
