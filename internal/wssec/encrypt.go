package wssec

import (
	"cmp"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// dataMethod is a way to encrypt data (XML Encryption 1.1 §5.2).
type dataMethod struct {
	size int // of the key, in bytes
	gcm  bool
}

//nolint:gochecknoglobals // a table: it is never written to
var dataMethods = map[string]dataMethod{
	XENC + "aes128-cbc": {16, false}, XENC + "aes192-cbc": {24, false}, XENC + "aes256-cbc": {32, false},
	XENC11 + "aes128-gcm": {16, true}, XENC11 + "aes192-gcm": {24, true}, XENC11 + "aes256-gcm": {32, true},
}

// DataMethods and KeyTransports are the words of settings.
var (
	//nolint:gochecknoglobals // a table: it is never written to
	DataMethods = []string{"aes128-cbc", "aes192-cbc", "aes256-cbc", "aes128-gcm", "aes192-gcm", "aes256-gcm"}
	//nolint:gochecknoglobals // a table: it is never written to
	KeyTransports = []string{"rsa-oaep", "rsa-oaep-sha256", "rsa-1_5"}
)

const (
	rsa15     = XENC + "rsa-1_5"
	rsaOAEP   = XENC + "rsa-oaep-mgf1p"
	rsaOAEP11 = XENC11 + "rsa-oaep"
	mgfSHA256 = XENC11 + "mgf1sha256"
	mgfSHA1   = XENC11 + "mgf1sha1"
	content   = XENC + "Content"
	element   = XENC + "Element"
	encrypted = "http://docs.oasis-open.org/wss/oasis-wss-soap-message-security-1.1#EncryptedKey"
)

// Encryption says how parts of an envelope are encrypted.
type Encryption struct {
	To        *x509.Certificate // who can read it
	Data      string            // one of DataMethods
	Transport string            // one of KeyTransports
	Reference KeyReference      // how the key is named
	Parts     []string          // as in Signing; of the body its content is encrypted
}

// dataURI is the algorithm of a word.
func dataURI(word string) string {
	for uri := range dataMethods {
		if Words(uri) == word {
			return uri
		}
	}
	return ""
}

// seal encrypts octets under a fresh nonce, which comes first.
func (m dataMethod) seal(key, octets []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if m.gcm { // §5.2.4
		g, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		nonce := make([]byte, g.NonceSize())
		_, _ = rand.Read(nonce)
		return g.Seal(nonce, nonce, octets, nil), nil
	}
	pad := aes.BlockSize - len(octets)%aes.BlockSize // §5.2: the last byte tells how many
	padded := make([]byte, len(octets)+pad)
	copy(padded, octets)
	_, _ = rand.Read(padded[len(octets):])
	padded[len(padded)-1] = byte(pad)
	out := make([]byte, aes.BlockSize+len(padded))
	_, _ = rand.Read(out[:aes.BlockSize])
	cipher.NewCBCEncrypter(block, out[:aes.BlockSize]).CryptBlocks(out[aes.BlockSize:], padded)
	return out, nil
}

var errSealed = errors.New("what is encrypted cannot be opened with the key")

func (m dataMethod) open(key, sealed []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil || len(key) != m.size {
		return nil, errSealed
	}
	if m.gcm {
		g, err := cipher.NewGCM(block)
		if err != nil || len(sealed) < g.NonceSize() {
			return nil, errSealed
		}
		out, err := g.Open(nil, sealed[:g.NonceSize()], sealed[g.NonceSize():], nil)
		if err != nil {
			return nil, errSealed
		}
		return out, nil
	}
	if len(sealed) < 2*aes.BlockSize || len(sealed)%aes.BlockSize != 0 {
		return nil, errSealed
	}
	out := make([]byte, len(sealed)-aes.BlockSize)
	cipher.NewCBCDecrypter(block, sealed[:aes.BlockSize]).CryptBlocks(out, sealed[aes.BlockSize:])
	pad := int(out[len(out)-1])
	if pad < 1 || pad > aes.BlockSize {
		return nil, errSealed
	}
	return out[:len(out)-pad], nil
}

// wrap encrypts a key for somebody and gives the method's element.
func wrap(to *rsa.PublicKey, transport string, key []byte) (sealed []byte, method string, err error) {
	switch transport {
	case "rsa-oaep":
		sealed, err = rsa.EncryptOAEP(sha1.New(), rand.Reader, to, key, nil)
		return sealed, `<xenc:EncryptionMethod Algorithm="` + rsaOAEP + `"><ds:DigestMethod xmlns:ds="` + DSIG +
			`" Algorithm="` + DSIG + `sha1"/></xenc:EncryptionMethod>`, err
	case "rsa-oaep-sha256":
		sealed, err = rsa.EncryptOAEP(sha256.New(), rand.Reader, to, key, nil)
		return sealed, `<xenc:EncryptionMethod Algorithm="` + rsaOAEP11 + `"><ds:DigestMethod xmlns:ds="` + DSIG +
			`" Algorithm="` + XENC + `sha256"/><xenc11:MGF xmlns:xenc11="` + XENC11 + `" Algorithm="` + mgfSHA256 +
			`"/></xenc:EncryptionMethod>`, err
	case "rsa-1_5":
		//lint:ignore SA1019 old services ask for it, and it is warned of
		sealed, err = rsa.EncryptPKCS1v15(rand.Reader, to, key)
		return sealed, `<xenc:EncryptionMethod Algorithm="` + rsa15 + `"/>`, err
	}
	return nil, "", fmt.Errorf("there is no key transport %q", transport)
}

// Encrypt encrypts parts of an envelope that has a security header, with one
// fresh key for all, which is encrypted for the receiver (WSS 1.1 §9).
//
//revive:disable-next-line:function-length the steps of the standard, in its order
func Encrypt(envelope []byte, c *Encryption) ([]byte, error) {
	uri := dataURI(c.Data)
	m, known := dataMethods[uri]
	if !known {
		return nil, fmt.Errorf("there is no encryption %q", c.Data)
	}
	to, ok := c.To.PublicKey.(*rsa.PublicKey)
	if !ok {
		return nil, fmt.Errorf("a key of the kind %T cannot be encrypted for", c.To.PublicKey)
	}
	key := make([]byte, m.size)
	_, _ = rand.Read(key)
	sealedKey, method, err := wrap(to, c.Transport, key)
	if err != nil {
		return nil, err
	}
	keyID, token := id("key"), id("token")
	var ids []string
	for _, name := range c.Parts {
		e, err := read(envelope)
		if err != nil {
			return nil, err
		}
		found := parts(e, name)
		if len(found) == 0 {
			return nil, &PartError{name}
		}
		for _, n := range slices.Backward(found) { // from the end, so that places stay right
			span, kind := n.Span(), element
			if name == "body" {
				span, kind = n.Inner(), content
			}
			plain := envelope[span.Start:span.End]
			if kind == content {
				plain = withNamespaces(n, plain)
			}
			sealed, err := m.seal(key, plain)
			if err != nil {
				return nil, err
			}
			i := id("encrypted")
			ids = append(ids, i)
			data := `<xenc:EncryptedData xmlns:xenc="` + XENC + `" Id="` + i + `" Type="` + kind +
				`"><xenc:EncryptionMethod Algorithm="` + uri + `"/><ds:KeyInfo xmlns:ds="` + DSIG +
				`"><wsse:SecurityTokenReference xmlns:wsse="` + WSSE + `" xmlns:wsse11="` + WSSE11 +
				`" wsse11:TokenType="` + encrypted + `"><wsse:Reference URI="#` + keyID + `" ValueType="` + encrypted +
				`"/></wsse:SecurityTokenReference></ds:KeyInfo><xenc:CipherData><xenc:CipherValue>` +
				base64.StdEncoding.EncodeToString(
					sealed,
				) + `</xenc:CipherValue></xenc:CipherData></xenc:EncryptedData>`
			if n.Parent() == e.Header { // WSS 1.1 §9.3: a header block is encrypted within another
				data = encryptedHeader(e, n) + data + `</wsse11:EncryptedHeader>`
			}
			envelope = []byte(string(envelope[:span.Start]) + data + string(envelope[span.End:]))
		}
	}
	var b strings.Builder
	if c.Reference == Direct {
		b.WriteString(
			`<wsse:BinarySecurityToken wsu:Id="` + token + `" EncodingType="` + base64Encoding + `" ValueType="` +
				x509v3 + `">` + base64.StdEncoding.EncodeToString(
				c.To.Raw,
			) + `</wsse:BinarySecurityToken>` + "\n      ",
		)
	}
	b.WriteString(
		`<xenc:EncryptedKey xmlns:xenc="` + XENC + `" Id="` + keyID + `">` + method + `<ds:KeyInfo xmlns:ds="` + DSIG +
			`">` + keyReference(
			c.To,
			c.Reference,
			token,
		) + `</ds:KeyInfo><xenc:CipherData><xenc:CipherValue>` +
			base64.StdEncoding.EncodeToString(
				sealedKey,
			) + `</xenc:CipherValue></xenc:CipherData><xenc:ReferenceList>`,
	)
	for _, i := range ids {
		b.WriteString(`<xenc:DataReference URI="#` + i + `"/>`)
	}
	b.WriteString(`</xenc:ReferenceList></xenc:EncryptedKey>`)
	// What must be read first stands first.
	e, err := read(envelope)
	if err != nil {
		return nil, err
	}
	sec := e.Header.Child(WSSE, "Security")
	if sec.IsZero() {
		return nil, errors.New("there is no security header")
	}
	at := sec.Inner().Start
	return []byte(string(envelope[:at]) + "\n      " + b.String() + string(envelope[at:])), nil
}

// encryptedHeader opens the block in which a header block is encrypted: who must
// understand it, and for whom it is, is said outside.
func encryptedHeader(e *soap.Envelope, n xmltree.Node) string {
	out := `<wsse11:EncryptedHeader xmlns:wsse11="` + WSSE11 + `"`
	ns := e.Version.Namespace()
	for _, name := range []string{"mustUnderstand", "actor", "role", "relay"} {
		if v, ok := n.Attr(ns, name); ok {
			out += ` s:` + name + `="` + xmltree.EscapeAttr(v) + `"`
		}
	}
	return out + ` xmlns:s="` + ns + `">`
}

// withNamespaces makes what a body holds stand on its own: namespaces that are
// bound around it and used in it are bound in it too, so that it means the same
// wherever it is put back.
func withNamespaces(body xmltree.Node, plain []byte) []byte {
	out := plain
	base := body.Inner().Start
	for c := range body.Nodes() {
		if c.Kind() != xmltree.StartElement {
			continue
		}
		add := ""
		for _, p := range prefixesOf(c) {
			own := false
			for a := range c.Attrs() {
				own = own ||
					a.Name.Space == xmltree.XMLNSNamespace &&
						(a.Name.Local == p && a.Name.Prefix != "" || p == "" && a.Name.Prefix == "")
			}
			if uri, ok := c.Lookup(p); ok && !own && p != "xml" && uri != "" {
				if p == "" {
					add += ` xmlns="` + xmltree.EscapeAttr(uri) + `"`
				} else {
					add += ` xmlns:` + p + `="` + xmltree.EscapeAttr(uri) + `"`
				}
			}
		}
		if add == "" {
			continue
		}
		at := c.Span().Start + 1 + len(c.Name().Qualified()) - base + len(out) - len(plain)
		out = []byte(string(out[:at]) + add + string(out[at:]))
	}
	return out
}

// prefixesOf are the prefixes that an element and what is below it use.
func prefixesOf(n xmltree.Node) []string {
	var out []string
	var walk func(n xmltree.Node, depth int)
	add := func(p string) {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	walk = func(n xmltree.Node, depth int) {
		add(n.Name().Prefix)
		for a := range n.Attrs() {
			if a.Name.Space != xmltree.XMLNSNamespace && a.Name.Prefix != "" {
				add(a.Name.Prefix)
			}
			if p, _, ok := strings.Cut(a.Value, ":"); ok && a.Name.Local == "type" { // a prefix in a value
				add(p)
			}
		}
		for c := range n.Children() {
			if depth < 200 {
				walk(c, depth+1)
			}
		}
	}
	walk(n, 0)
	return out
}

// Opened is a part that was decrypted.
type Opened struct {
	What   string       // "body", or the element's name
	Method string       // algorithm
	Weak   string       // why it is weak, "" it is not
	At     xmltree.Span // in what Decrypt gives
}

// DecryptionKey is a private key with its certificate.
type DecryptionKey struct {
	Key   crypto.Signer       // private
	Cert  *x509.Certificate   // that belongs to it
	Above []*x509.Certificate // its issuers, as far as they are there
}

const maxEncrypted = 200

// Decrypt opens what is encrypted in an envelope for a key, and gives the
// envelope as it was before. An envelope with nothing encrypted comes back as it is.
func Decrypt(envelope []byte, with []DecryptionKey) (out []byte, opened []Opened, err error) {
	out = envelope
	for range maxEncrypted {
		e, err := read(out)
		if err != nil {
			return envelope, opened, err
		}
		data := e.Doc.Root().Find(XENC, "EncryptedData")
		if data.IsZero() {
			return out, opened, nil
		}
		algorithm, _ := data.Child(XENC, "EncryptionMethod").Attr("", "Algorithm")
		m, known := dataMethods[algorithm]
		if !known {
			return envelope, opened, fmt.Errorf("the encryption %s is not known here",
				cmp.Or(algorithm, "without an algorithm"))
		}
		key, weak, err := keyFor(e, data, with)
		if err != nil {
			return envelope, opened, err
		}
		sealed, err := decodeBase64(data.Child(XENC, "CipherData").Child(XENC, "CipherValue").Text())
		if err != nil {
			return envelope, opened, errSealed
		}
		plain, err := m.open(key, sealed)
		if err != nil {
			return envelope, opened, err
		}
		if !m.gcm && weak == "" {
			weak = "AES in CBC mode does not show whether it was changed on the way"
		}
		what := "an element"
		if data.Parent() == e.Body {
			what = "body"
		} else if p, err := xmltree.Parse(plain, xmltree.Limits{}); err == nil {
			what = p.Root().Name().Local
		}
		s := data.Span()
		if data.Parent().Is(WSSE11, "EncryptedHeader") {
			s = data.Parent().Span()
		}
		opened = append(
			opened,
			Opened{what, Words(algorithm), weak, xmltree.Span{Start: s.Start, End: s.Start + len(plain)}},
		)
		out = []byte(string(out[:s.Start]) + string(plain) + string(out[s.End:]))
	}
	return envelope, opened, fmt.Errorf("more than %d parts are encrypted", maxEncrypted)
}

// keyFor finds the key of encrypted data: the one that is encrypted within it, the
// one that it refers to, or the one that lists it.
func keyFor(e *soap.Envelope, data xmltree.Node, with []DecryptionKey) ([]byte, string, error) {
	info := data.Child(DSIG, "KeyInfo")
	wrapped := info.Child(XENC, "EncryptedKey")
	if uri, _ := info.Child(WSSE, "SecurityTokenReference").Child(WSSE, "Reference").Attr("",
		"URI"); wrapped.IsZero() &&
		strings.HasPrefix(uri, "#") {
		if n, err := byID(e.Doc, uri[1:]); err == nil && n.Is(XENC, "EncryptedKey") {
			wrapped = n
		}
	}
	if wrapped.IsZero() && !e.Header.IsZero() {
		for sec := range e.Header.Named(WSSE, "Security") {
			for k := range sec.Named(XENC, "EncryptedKey") {
				for r := range k.Child(XENC, "ReferenceList").Named(XENC, "DataReference") {
					if uri, _ := r.Attr("", "URI"); uri == "#"+idOf(data) {
						wrapped = k
					}
				}
			}
		}
	}
	if wrapped.IsZero() {
		return nil, "", errors.New("the message does not hold the key that a part is encrypted with")
	}
	sealed, err := decodeBase64(wrapped.Child(XENC, "CipherData").Child(XENC, "CipherValue").Text())
	if err != nil {
		return nil, "", errSealed
	}
	method := wrapped.Child(XENC, "EncryptionMethod")
	algorithm, _ := method.Attr("", "Algorithm")
	var why error
	for _, o := range with {
		k, ok := o.Key.(*rsa.PrivateKey)
		if !ok {
			continue
		}
		key, weak, err := unwrap(k, algorithm, method, sealed, data)
		if err == nil {
			return key, weak, nil
		}
		why = err
	}
	if why == nil {
		why = errors.New("no private key is set that could open what is encrypted")
	}
	return nil, "", why
}

func unwrap(
	k *rsa.PrivateKey,
	algorithm string,
	method xmltree.Node,
	sealed []byte,
	data xmltree.Node,
) ([]byte, string, error) {
	switch algorithm {
	case rsa15:
		of, _ := data.Child(XENC, "EncryptionMethod").Attr("", "Algorithm")
		key := make([]byte, max(dataMethods[of].size, 1))
		_, _ = rand.Read(key) // what is wrong opens nothing, and tells nothing
		//lint:ignore SA1019 old services send it
		err := rsa.DecryptPKCS1v15SessionKey(nil, k, sealed, key)
		if err != nil {
			return nil, "", errSealed
		}
		return key, "its key is encrypted with RSA 1.5", nil
	case rsaOAEP, rsaOAEP11:
		digest, _ := method.Child(DSIG, "DigestMethod").Attr("", "Algorithm")
		mgf, _ := method.Child(XENC11, "MGF").Attr("", "Algorithm")
		hashes := map[string]func() hash.Hash{"": sha1.New, DSIG + "sha1": sha1.New, XENC + "sha256": sha256.New}
		h, m := hashes[digest], hashes[map[string]string{"": "", mgfSHA1: DSIG + "sha1",
			mgfSHA256: XENC + "sha256"}[mgf]]
		if h == nil || m == nil || m().Size() != h().Size() {
			return nil, "", fmt.Errorf(
				"a key that is encrypted with OAEP with the digest %s and the mask %s is not opened here",
				Words(digest),
				Words(mgf),
			)
		}
		key, err := rsa.DecryptOAEP(h(), nil, k, sealed, nil)
		if err != nil {
			return nil, "", errSealed
		}
		return key, "", nil
	}
	return nil, "", fmt.Errorf("the key transport %s is not known here", cmp.Or(algorithm, "without an algorithm"))
}
