// Package trust reads, shows and judges certificates.
package trust

import (
	"bytes"
	"cmp"
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
	ChainBroken // a certificate in it may not do, or did not do, what it is there for
	AuthorityUnknown
	Expired
	NotYetValid
	NameDiffers
	UsageDiffers // it is not for what it is used for: Policy.Usage
	KeyWeak
	Revoked // Judge does not tell it: package revocation does
)

//nolint:gochecknoglobals // a table: it is never written to
var reasonText = [...]string{
	"self-signed",
	"chain-incomplete",
	"chain-broken",
	"authority-unknown",
	"expired",
	"not-yet-valid",
	"name-differs",
	"usage-differs",
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
	Usage         x509.ExtKeyUsage    // what the leaf is used for; 0 (any) is not asked about
}

// Judge judges a chain as sent, leaf first. Trust in a certificate waives the
// question of its authority, never that of dates or names.
func Judge(chain []*x509.Certificate, p Policy) *Verdict {
	v := &Verdict{}
	if len(chain) == 0 {
		return v
	}
	leaf := chain[0]
	led := v.authority(chain, p)
	for i, c := range chain {
		if i > 0 && isRoot(c) || !slices.ContainsFunc(led, c.Equal) {
			continue // a root that is sent along is not what is trusted, and what leads nowhere does no harm
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
		(p.AcceptName == "" || leaf.VerifyHostname(bracket(p.AcceptName)) != nil &&
			!slices.Contains(leaf.DNSNames, p.AcceptName)) {
		v.add(NameDiffers, 0, leaf, strings.Join(Names(leaf), ", "))
	}
	if why := otherUsage(leaf, p.Usage); why != "" {
		v.add(UsageDiffers, 0, leaf, why)
	}
	for i, c := range chain {
		if why := weak(c); why != "" && slices.ContainsFunc(led, c.Equal) {
			v.add(KeyWeak, i, c, why)
		}
	}
	return v
}

// otherUsage says for what a certificate is that may not be used for this (RFC 5280 §4.2.1.3, §4.2.1.12; RFC 8446
// §4.4.2.2); "" it may.
func otherUsage(c *x509.Certificate, usage x509.ExtKeyUsage) string {
	if usage == x509.ExtKeyUsageAny {
		return ""
	}
	if c.KeyUsage != 0 && c.KeyUsage&(x509.KeyUsageDigitalSignature|x509.KeyUsageKeyEncipherment|
		x509.KeyUsageKeyAgreement) == 0 {
		return "its key may neither sign nor agree on keys (key usage)"
	}
	if len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) == 0 || slices.ContainsFunc(c.ExtKeyUsage,
		func(u x509.ExtKeyUsage) bool { return u == usage || u == x509.ExtKeyUsageAny }) {
		return ""
	}
	var names []string
	for _, u := range c.ExtKeyUsage {
		names = append(names, cmp.Or(purposes[u], "something else"))
	}
	for _, id := range c.UnknownExtKeyUsage {
		names = append(names, id.String())
	}
	return "it is for " + strings.Join(names, ", ") + " (extended key usage)"
}

//nolint:gochecknoglobals // a table: it is never written to
var purposes = map[x509.ExtKeyUsage]string{
	x509.ExtKeyUsageAny:             "anything",
	x509.ExtKeyUsageServerAuth:      "servers",
	x509.ExtKeyUsageClientAuth:      "clients",
	x509.ExtKeyUsageCodeSigning:     "signing programs",
	x509.ExtKeyUsageEmailProtection: "e-mail",
	x509.ExtKeyUsageTimeStamping:    "time stamps",
	x509.ExtKeyUsageOCSPSigning:     "answers about revocation",
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

// undated is a certificate that is valid at every time: dates are judged by themselves.
func undated(c *x509.Certificate) *x509.Certificate {
	u := *c
	u.NotBefore, u.NotAfter = time.Time{}, time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	return &u
}

// authority finds out on whose word a chain is trusted. led are the certificates that count: those of the chain as it
// was completed, or as far as it leads.
func (v *Verdict) authority(chain []*x509.Certificate, p Policy) (led []*x509.Certificate) {
	for _, t := range p.Trusted {
		if t.Equal(chain[0]) {
			v.By = "the certificate itself is on the trust list"
			return chain[:1]
		}
	}
	for _, pin := range p.Pins {
		if SameFingerprint(pin, PublicKeyPin(chain[0])) {
			v.By = "its public key is pinned"
			return chain[:1]
		}
	}
	others := slices.Concat(chain[1:], p.Intermediates)
	var broken error // why it leads to nothing, by the rules
	if len(p.Trusted) > 0 {
		if led, broken = complete(chain[0], others, p.Trusted, p.Now); broken == nil {
			v.By, v.Chain = "an authority on the trust list signed it", led
			return led
		}
	}
	if p.System {
		var err error
		if led, err = complete(chain[0], others, nil, p.Now); err == nil {
			v.By, v.Chain = "an authority that the system trusts signed it", led
			return led
		}
		broken = cmp.Or(broken, err)
	}
	led = climb(chain[0], others)
	v.unknown(chain, led, p, broken)
	return led
}

// complete leads from a leaf to what is trusted: by all rules of RFC 5280 §6.1 but those of dates. trusted is nil for
// what the system trusts. Of several ways it gives one whose dates are right now, where there is one.
func complete(
	leaf *x509.Certificate, others, trusted []*x509.Certificate, now time.Time,
) ([]*x509.Certificate, error) {
	of := map[string]*x509.Certificate{}
	pool := func(all []*x509.Certificate) *x509.CertPool {
		out := x509.NewCertPool()
		for _, c := range all {
			of[string(c.Raw)] = c
			out.AddCert(undated(c))
		}
		return out
	}
	of[string(leaf.Raw)] = leaf
	o := x509.VerifyOptions{
		Intermediates: pool(others),
		CurrentTime:   leaf.NotBefore.Add(leaf.NotAfter.Sub(leaf.NotBefore) / 2), // for what the system trusts
		KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
	}
	if trusted != nil {
		o.Roots = pool(trusted)
	}
	ways, err := undated(leaf).Verify(o)
	if err != nil {
		return nil, err
	}
	for _, way := range ways {
		for i, c := range way {
			if own := of[string(c.Raw)]; own != nil {
				way[i] = own
			}
		}
	}
	for _, way := range ways {
		if !slices.ContainsFunc(way, func(c *x509.Certificate) bool {
			return now.After(c.NotAfter) || now.Before(c.NotBefore)
		}) {
			return way, nil
		}
	}
	return ways[0], nil
}

// unknown tells why a chain leads to nothing that is trusted. led is how far it leads, err what the rules say.
func (v *Verdict) unknown(chain, led []*x509.Certificate, p Policy, err error) {
	last := led[len(led)-1]
	at := max(slices.IndexFunc(chain, last.Equal), 0)
	if slices.ContainsFunc(chain, func(c *x509.Certificate) bool {
		return weak(c) != "" && slices.ContainsFunc(led, c.Equal)
	}) && slices.ContainsFunc(p.Trusted, func(t *x509.Certificate) bool { return last.Equal(t) || signedBy(last, t) }) {
		return // nothing but that is wrong with it, and Judge tells it
	}
	if i, why := brokenAt(chain, led, err); why != "" {
		v.add(ChainBroken, i, chain[i], why)
		return
	}
	apart := len(chain) > len(led) // more was sent, which does not belong to it
	switch {
	case isRoot(chain[0]):
		v.add(SelfSigned, 0, chain[0], "")
	case !isRoot(last) && (len(last.IssuingCertificateURL) > 0 || (len(led) == 1 || apart) && p.knowsAbove(last)):
		v.add(ChainIncomplete, at, last, last.Issuer.String())
	default:
		issuer := last.Issuer.String()
		if slices.ContainsFunc(p.Trusted, func(t *x509.Certificate) bool {
			return bytes.Equal(t.RawSubject, last.RawIssuer) && !t.Equal(last) && otherKey(last, t)
		}) {
			issuer += " (one of that name is trusted, and has another key)"
		}
		v.add(AuthorityUnknown, at, last, issuer)
	}
}

// brokenAt is the certificate of a chain that breaks a rule, and which (RFC 5280 §4.2, §6.1); "" none does.
func brokenAt(chain, led []*x509.Certificate, err error) (i int, why string) {
	last := led[len(led)-1]
	if !isRoot(last) {
		for i, c := range chain {
			if bytes.Equal(c.RawSubject, last.RawIssuer) && !slices.ContainsFunc(led, c.Equal) {
				if otherKey(last, c) {
					return i, "it has the name of the issuer of " + last.Subject.String() +
						", and another key than the one that signed it"
				}
				return i, "it is no authority, and signed " + last.Subject.String()
			}
		}
	}
	if i := slices.IndexFunc(chain, func(c *x509.Certificate) bool {
		return len(c.UnhandledCriticalExtensions) > 0 && slices.ContainsFunc(led, c.Equal)
	}); i >= 0 {
		return i, fmt.Sprintf("it has an extension that must be understood, %s, and is not known here",
			chain[i].UnhandledCriticalExtensions[0])
	}
	invalid, ok := errors.AsType[x509.CertificateInvalidError](err)
	if !ok || invalid.Cert == nil {
		return 0, ""
	}
	switch i = max(slices.IndexFunc(chain, invalid.Cert.Equal), 0); invalid.Reason {
	case x509.TooManyIntermediates:
		return i, "it allows fewer authorities below it than there are"
	case x509.NotAuthorizedToSign:
		return i, "it is no authority, and stands in the place of one"
	case x509.CANotAuthorizedForThisName, x509.UnconstrainedName, x509.NameConstraintsWithoutSANs,
		x509.TooManyConstraints:
		return i, "its names go beyond those that an authority above it may vouch for: " +
			cmp.Or(invalid.Detail, invalid.Error())
	}
	return 0, ""
}

// otherKey tells whether a certificate was signed by another key than that of one with its issuer's name, whether
// or not that one may sign. Of a signature that is too weak to be looked at it is not known.
func otherKey(c, issuer *x509.Certificate) bool {
	may := *issuer
	may.IsCA, may.BasicConstraintsValid, may.KeyUsage = true, true, 0
	err := c.CheckSignatureFrom(&may)
	return err != nil && !tooWeak(err)
}

// tooWeak tells whether a signature was not looked at, as its algorithm is not taken any more.
func tooWeak(err error) bool {
	_, is := errors.AsType[x509.InsecureAlgorithmError](err)
	return is
}

// signedBy tells whether a certificate is signed by another, as far as that is known: a signature that is too weak
// is not looked at, and the issuer's name has to do.
func signedBy(c, issuer *x509.Certificate) bool {
	err := c.CheckSignatureFrom(issuer)
	return err == nil || tooWeak(err) && issuer.IsCA && bytes.Equal(issuer.RawSubject, c.RawIssuer)
}

// climb leads from a leaf up as far as signatures lead.
func climb(leaf *x509.Certificate, others []*x509.Certificate) []*x509.Certificate {
	at := []*x509.Certificate{leaf}
	for range 10 {
		last := at[len(at)-1]
		i := slices.IndexFunc(others, func(c *x509.Certificate) bool {
			return !slices.ContainsFunc(at, c.Equal) && signedBy(last, c)
		})
		if i < 0 {
			return at
		}
		at = append(at, others[i])
	}
	return at
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
		if name := purposes[u]; name != "" {
			out = append(out, "for "+name)
		}
	}
	return strings.Join(out, ", ")
}
