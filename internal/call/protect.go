package call

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// named are the parts that a list setting names; one item may hold several.
func (c *base) named(key string) []string {
	var out []string
	for _, item := range c.plan.Settings.List(key) {
		for _, p := range strings.Split(item, ",") {
			if p = strings.TrimSpace(p); p != "" {
				out = append(out, p)
			}
		}
	}
	return out
}

// signingKey is the key that signs, with its certificate: that of the identity
// that is named for it, or the client certificate.
func (c *securing) signingKey(ctx context.Context) (*wssec.DecryptionKey, error) {
	name := c.plan.Settings.Text("sign-identity")
	if name == "" {
		if len(c.material.certs) == 0 {
			return nil, nil
		}
		return decryptionKeyOf(c.material.certs[0]), nil
	}
	id, password, err := c.identityHere(ctx, name)
	if err != nil {
		return nil, err
	}
	if id.Certificate == "" {
		return nil, &endpoint.FileError{
			Key:  endpoint.KeyOf("sign-identity"),
			Path: name,
			Err:  errors.New("the identity has no certificate"),
		}
	}
	if id.Signer != "" && c.plan.Peek {
		return nil, nil // nothing is signed where only is looked
	}
	pair, bad, err := pairOf(ctx, id, password)
	if _, sealed := errors.AsType[*trust.PasswordError](err); sealed && c.plan.Peek {
		return nil, nil
	}
	if err != nil {
		return nil, &endpoint.FileError{Key: endpoint.KeyOf("sign-identity"), Path: bad, Err: err}
	}
	return decryptionKeyOf(pair), nil
}

// protect signs and encrypts the envelope, which has a security header.
func (c *securing) protect(ctx context.Context) ([]string, error) {
	own, err := c.signingKey(ctx)
	if err != nil {
		return nil, err
	}
	if own != nil {
		c.material.decryption = append(c.material.decryption, *own)
	}
	var notes []string
	sign := func() error { return c.sign(own, &notes) }
	encrypt := func() error { return c.encrypt(&notes) }
	steps := []func() error{sign, encrypt}
	if c.plan.Settings.Text("protect-order") == "encrypt-sign" {
		steps = []func() error{encrypt, sign}
	}
	for _, do := range steps {
		if err := do(); err != nil {
			return nil, err
		}
	}
	return notes, nil
}

// sign signs the parts that are set, with a key of one's own or from a password.
func (c *securing) sign(own *wssec.DecryptionKey, notes *[]string) error {
	s, parts := &c.plan.Settings, c.named("sign")
	if len(parts) == 0 && c.session.key.is() {
		parts = c.confirming()
	}
	if len(parts) == 0 {
		return nil
	}
	how := s.Text("signature")
	hash, pss := strings.CutPrefix(how, "pss-")
	with := &wssec.Signing{
		Hash: wssec.HashOf(hash), PSS: pss, Inclusive: s.Text("sign-canonical") == "inclusive",
		Reference: wssec.KeyReference(s.Text("sign-key")), Parts: parts,
	}
	as := ""
	switch key := &c.session.key; {
	case key.secret != nil:
		with.Secret, with.Reference, as = key.secret, wssec.FromToken, "with the key of the assertion"
	case key.own != nil:
		with.Key, with.Cert, with.Reference = key.own.Key, key.own.Cert, wssec.FromToken
		as = "with the key of the assertion, as " + with.Cert.Subject.String()
	case with.Reference == wssec.FromPassword && c.token != nil && c.token.Derive != nil:
		with.Secret, with.Token = c.token.Derive.Key(c.token.Password), c.token.ID()
		as = "with a key from the password of " + c.token.User
	case with.Reference == wssec.FromPassword:
		err := errors.New("there is no user name token whose password a key could be derived from")
		return c.partError("sign-key", err)
	case own == nil && c.plan.Peek:
		*notes = append(*notes, "signed")
		return nil
	case own == nil:
		return endpoint.ErrNoSigningKey
	default:
		with.Key, with.Cert, with.Above, as = own.Key, own.Cert, own.Above, "as "+own.Cert.Subject.String()
	}
	if with.Reference == wssec.FromToken {
		if c.assertion != nil {
			with.Token, with.SAML1 = c.assertion.ID, c.assertion.Version == "1.1"
		}
		if with.Token == "" {
			return c.partError("sign-key", errors.New("no assertion is set that could name the key (token-file)"))
		}
	}
	signed, err := wssec.Sign(c.envelope, with)
	if _, is := errors.AsType[*trust.SignerError](err); is {
		return err // the setting is good
	}
	if err != nil {
		return c.partError("sign", err)
	}
	c.envelope = signed
	c.rec.Fact(exchange.Security, "signed", strings.Join(parts, ", ")+" · "+how+" "+as)
	*notes = append(*notes, "signed")
	return nil
}

// confirming are the parts that confirm an assertion where none are set: the timestamp, else the body.
func (c *securing) confirming() []string {
	if life, err := c.plan.Settings.Duration("timestamp"); err == nil && life > 0 {
		return []string{"timestamp"}
	}
	return []string{"body"}
}

// encrypt encrypts the parts that are set, for the certificate that is.
func (c *securing) encrypt(notes *[]string) error {
	s, parts := &c.plan.Settings, c.named("encrypt")
	if len(parts) == 0 {
		return nil
	}
	path := s.Text("encrypt-to")
	fail := func(path string, err error) error {
		return &endpoint.FileError{Key: endpoint.KeyOf("encrypt-to"), Path: path, Err: err}
	}
	if path == "" {
		return fail("(none)", errors.New("no certificate says who is to read what is encrypted"))
	}
	to, err := c.certificates(path)
	if err != nil {
		return fail(path, err)
	}
	encrypted, err := wssec.Encrypt(c.envelope, &wssec.Encryption{
		To: to[0], Data: s.Text("encrypt-data"), Transport: s.Text("encrypt-key"),
		Reference: wssec.KeyReference(s.Text("encrypt-reference")), Parts: parts,
	})
	if err != nil {
		return c.partError("encrypt", err)
	}
	c.envelope = encrypted
	said := strings.Join(parts, ", ") + " · " + s.Text("encrypt-data") + ", " + s.Text("encrypt-key")
	c.rec.Fact(exchange.Security, "encrypted", said+" for "+to[0].Subject.String())
	*notes = append(*notes, "encrypted")
	return nil
}

func (c *base) partError(key string, err error) error {
	v := c.plan.Settings.Get(key)
	return &endpoint.ValueError{Key: v.Key, Value: v, Err: err}
}

// placesWithin are the places of secrets in the envelope, where the draft or its header
// blocks have any: it brought no token.
func (c *securing) placesWithin() []int {
	names := c.secretNames()
	if len(c.draft.Secrets(names))+len(c.header.Secrets(names)) == 0 {
		return nil
	}
	return c.secretPlaces(c.envelope)
}

// secretPlaces are the places of the passwords in an envelope, and of what is secret by
// its name or place: begin, end, begin, end.
func (c *base) secretPlaces(envelope []byte) []int {
	d, err := xmltree.Parse(envelope, xmltree.Limits{})
	if err != nil {
		return c.secretPlacesIn(envelope)
	}
	return c.secretPlacesOf(d)
}

// secretPlacesIn are those of bytes that are no document.
func (c *base) secretPlacesIn(b []byte) (out []int) {
	for _, s := range c.secretNames().In(b) {
		out = append(out, int(s.Offset), int(s.Offset+s.Length))
	}
	return out
}

// secretPlacesOf are those of a document that was parsed, in its bytes as they came.
func (c *base) secretPlacesOf(d *xmltree.Document) []int {
	var spans []xmltree.Span
	var payload xmltree.Node
	if e := soap.Read(d); e != nil {
		spans, payload = wssec.Secrets(e), e.Payload
	}
	for _, s := range message.SecretsIn(d, payload, c.secretNames()) {
		if !slices.Contains(spans, s.Span) {
			spans = append(spans, s.Span)
		}
	}
	out := make([]int, 0, 2*len(spans))
	for _, s := range spans {
		out = append(out, d.SourceOffset(s.Start), d.SourceOffset(s.End))
	}
	return out
}

// opened decrypts a reply, and reads it anew where anything was encrypted.
func (c *reading) opened(body []byte, limits xmltree.Limits) {
	e := c.reply
	if e == nil || !e.Doc.Has(wssec.XENC, "EncryptedData") {
		return
	}
	plain, parts, err := wssec.Decrypt(e.Doc.Src, c.decryption)
	if err != nil {
		c.notOpened = err
		c.rec.Fact(exchange.Read, "encrypted", err.Error())
		return
	}
	doc, err := xmltree.Parse(plain, limits)
	if err != nil {
		c.notOpened = errors.New("what was decrypted is not well-formed")
		return
	}
	for _, p := range parts {
		c.rec.Fact(exchange.Read, "decrypted", p.What+" · "+p.Method)
	}
	c.encrypted = e
	c.doc, c.reply = doc, soap.Read(doc)
	c.rec.Update(func(*exchange.Exchange) { c.leg.Decrypted = plain })
}

// signatures checks those of a reply, and says what they cover.
//
//revive:disable-next-line:cyclomatic one stage, in the order of what it does
func (c *verifying) signatures() error {
	s := &c.plan.Settings
	how := s.Text("reply-signature")
	e := c.reply
	if how == "ignore" {
		return nil
	}
	keys := wssec.Keys{}
	for _, path := range s.List("reply-trust") {
		certs, err := c.certificates(path)
		if err != nil {
			return &endpoint.FileError{Key: endpoint.KeyOf("reply-trust"), Path: path, Err: err}
		}
		keys.Certs = append(keys.Certs, certs...)
	}
	trusted := append(append([]*x509.Certificate{}, keys.Certs...), c.trusted...)
	if path := s.Text("encrypt-to"); path != "" {
		if certs, err := c.certificates(path); err == nil {
			keys.Certs = append(keys.Certs, certs...)
			trusted = append(trusted, certs...)
		}
	}
	keys.Certs = append(keys.Certs, c.trusted...)
	all, signed := wssec.Verify(e, keys), e
	broken := func(s wssec.Signature) bool { return !s.Holds() }
	if c.encrypted != nil && slices.ContainsFunc(all, broken) { // what was encrypted first was signed as it came
		if other := wssec.Verify(c.encrypted, keys); !slices.ContainsFunc(other, broken) {
			all, signed = other, c.encrypted
		}
	}
	c.signed = all
	covered := false
	for i := range all {
		g := &all[i]
		var parts []string
		for _, r := range g.References {
			parts = append(parts, r.What)
		}
		said := fmt.Sprintf("%s over %s", g.Method, strings.Join(parts, ", "))
		if g.Cert != nil {
			said += " by " + g.Cert.Subject.String()
		}
		if !g.Holds() {
			c.rec.Fact(exchange.Verify, "signature", said+": it does not hold")
			return diagnose.SignatureError{}
		}
		c.rec.Fact(exchange.Verify, "signature", said)
		covered = covered || g.Covers(signed.Body)
		if g.Cert != nil {
			v := trust.Judge(
				[]*x509.Certificate{g.Cert},
				trust.Policy{Trusted: trusted, System: s.Switch("system-trust"), Now: time.Now(), Pins: s.List("pin")},
			)
			for _, f := range v.Faults {
				if f.Reason <= trust.AuthorityUnknown {
					c.signer = g.Cert
					return diagnose.SignatureError{}
				}
				if f.Reason == trust.Expired || f.Reason == trust.NotYetValid {
					c.signerOver = f.Detail
				}
			}
		}
	}
	if how == "demand" && !covered {
		c.unsigned = true
		return diagnose.SignatureError{}
	}
	if len(all) > 0 && !covered {
		c.rec.Fact(exchange.Verify, "not signed", "the body: no signature covers it where it stands")
	}
	c.stale(e)
	return c.confirmed(e)
}

// confirmed looks whether what the reply confirms is what was signed here (WSS 1.1
// §8.5).
func (c *verifying) confirmed(e *soap.Envelope) error {
	if e.Header.IsZero() {
		return nil
	}
	var sent []string
	if d, err := xmltree.Parse(c.envelope, xmltree.Limits{}); err == nil {
		if own := soap.Read(d); own != nil {
			for sec := range own.Header.Named(wssec.WSSE, "Security") {
				for sig := range sec.Named(wssec.DSIG, "Signature") {
					sent = append(
						sent,
						strings.Join(strings.Fields(sig.Child(wssec.DSIG, "SignatureValue").Text()), ""),
					)
				}
			}
		}
	}
	for n := range e.Header.Child(wssec.WSSE, "Security").Named(wssec.WSSE11, "SignatureConfirmation") {
		value, has := n.Attr("", "Value")
		value = strings.Join(strings.Fields(value), "")
		switch {
		case has && !slices.Contains(sent, value), !has && len(sent) > 0:
			return &diagnose.ConfirmationError{At: n.Span(), Signed: len(sent)}
		case has:
			c.rec.Fact(
				exchange.Verify,
				"signature confirmed",
				"the service says that it checked the signature that was sent",
			)
		}
	}
	return nil
}

// skew is how far two clocks may differ.
const skew = 5 * time.Minute

// stale looks at the reply's timestamp.
func (c *verifying) stale(e *soap.Envelope) {
	ts := e.Header.Child(wssec.WSSE, "Security").Child(wssec.WSU, "Timestamp")
	if e.Header.IsZero() || ts.IsZero() {
		return
	}
	now := time.Now()
	created, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(ts.Child(wssec.WSU, "Created").Text()))
	if err == nil && created.After(now.Add(skew)) {
		c.staleWhy = fmt.Sprintf("it was created at %s, which is yet to come", created.UTC().Format(time.RFC3339))
	}
	if at, err := time.Parse(time.RFC3339Nano, strings.TrimSpace(ts.Child(wssec.WSU, "Expires").Text())); err == nil &&
		now.After(at.Add(skew)) {
		c.staleWhy = fmt.Sprintf("it expired at %s", at.UTC().Format(time.RFC3339))
	}
	if c.staleWhy != "" {
		c.staleAt = ts.Span()
	}
}

func decryptionKeyOf(pair tls.Certificate) *wssec.DecryptionKey {
	s, ok := pair.PrivateKey.(crypto.Signer)
	if !ok {
		return nil
	}
	o := &wssec.DecryptionKey{Key: s, Cert: pair.Leaf}
	for _, raw := range pair.Certificate[1:] {
		if c, err := x509.ParseCertificate(raw); err == nil {
			o.Above = append(o.Above, c)
		}
	}
	return o
}
