package wssec

import (
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

func block(t *testing.T, h Header) xmltree.Node {
	d, err := xmltree.Parse(
		[]byte(strings.Replace(string(h.XML), "<wsse:Security ", `<wsse:Security xmlns:soap="`+soap.NS11+`" `, 1)),
		xmltree.Limits{},
	)
	require.NoError(t, err, string(h.XML))
	return d.Root()
}

// Nonce and creation can be left out, or be what somebody wants to see refused; the
// digest is always over what is sent.
func TestNonceAndCreatedAsTheyAreWanted(t *testing.T) {
	at := time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		change         func(*Token)
		nonce, created string
		digested       []byte
	}{
		"as usual":    {func(*Token) {}, "AAECAw==", "2027-03-01T08:00:00.000Z", []byte{0, 1, 2, 3}},
		"no nonce":    {func(t *Token) { t.Nonce = nil }, "", "2027-03-01T08:00:00.000Z", nil},
		"no creation": {func(t *Token) { t.Created = time.Time{} }, "AAECAw==", "", []byte{0, 1, 2, 3}},
		"neither":     {func(t *Token) { t.Nonce, t.Created = nil, time.Time{} }, "", "", nil},
		"own values": {func(t *Token) { t.NonceText, t.CreatedAs = "BAUG", "yesterday" }, "BAUG", "yesterday",
			[]byte{4, 5, 6}},
		"hostile values": {func(t *Token) { t.NonceText, t.CreatedAs = `<&"`, "\"><x/>" }, `<&"`, "\"><x/>", nil},
	} {
		tok := &Token{User: "desk", Password: "slack", Type: Digest, Nonce: []byte{0, 1, 2, 3}, Created: at}
		c.change(tok)
		h := Build(tok, nil)
		n := block(t, h).Child(WSSE, "UsernameToken")
		assert.Equal(t, c.nonce, n.Child(WSSE, "Nonce").Text(), name)
		assert.Equal(t, c.nonce == "", n.Child(WSSE, "Nonce").IsZero(), name)
		assert.Equal(t, c.created, n.Child(WSU, "Created").Text(), name)
		assert.Equal(t, PasswordDigest(c.digested, c.created, "slack"), n.Child(WSSE, "Password").Text(), name)
		require.Len(t, h.Secrets, 1)
		assert.Equal(t, n.Child(WSSE, "Password").Text(), string(h.XML[h.Secrets[0].Start:h.Secrets[0].End]), name)
	}
}

func TestWhomAHeaderIsFor(t *testing.T) {
	n := block(t, BuildHeader(nil, nil, HeaderOptions{Actor: "urn:quay&1", MayIgnore: true}))
	v, _ := n.Attr(soap.NS11, "actor")
	assert.Equal(t, "urn:quay&1", v)
	_, must := n.Attr(soap.NS11, "mustUnderstand")
	assert.False(t, must)
	assert.Contains(
		t,
		string(BuildHeader(nil, nil, HeaderOptions{Actor: "urn:a", Version: soap.V12}).XML),
		` soap:mustUnderstand="1" soap:role="urn:a"`,
	)
}

// The example of a derivation, computed step by step with another implementation:
// python3 -c "import hashlib; k=hashlib.sha1(b'slack water'+bytes([1]+[0]*15)).digest(); [k:=hashlib.sha1(k).digest() for _ in range(999)]; print(k.hex())"
func TestAKeyIsDerivedFromAPassword(t *testing.T) {
	d := &Derived{Salt: append([]byte{1}, make([]byte, 15)...), Iterations: 1000}
	assert.Equal(t, "294901d971fdfe21f93b9e21ec2204cc02a87561", hex.EncodeToString(d.Key("slack water")))
	fresh := NewDerived()
	assert.EqualValues(t, 1, fresh.Salt[0])

	tok := NewToken("desk", "slack water", Digest, time.Now())
	tok.Derive = d
	h := Build(tok, &Timestamp{Created: time.Now(), Life: time.Minute})
	assert.Empty(t, h.Secrets, "the password is not sent")
	assert.NotContains(t, string(h.XML), "Password")
	envelope, _ := soap.Build(soap.V11, [][]byte{h.XML}, []byte(`<a xmlns="urn:a">tide</a>`))
	signed, err := Sign(
		envelope,
		&Signing{
			Secret:    d.Key("slack water"),
			Token:     tok.ID(),
			Reference: FromPassword,
			Hash:      crypto.SHA1,
			Parts:     []string{"body", "timestamp"},
		},
	)
	require.NoError(t, err)
	e := opened(t, signed)
	all := Verify(e, Keys{Secret: d.Key("slack water")})
	require.Len(t, all, 1)
	assert.True(t, all[0].Holds(), all[0].Why)
	assert.False(t, Verify(e, Keys{Secret: d.Key("slack")})[0].Holds())
	f := filepath.Join(t.TempDir(), "hmac.key")
	require.NoError(t, os.WriteFile(f, d.Key("slack water"), 0o600))
	out, err := xmlsec(t, signed, "--verify", "--hmackey", f)
	assert.NoError(t, err, out)
}

const saml = `<saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ID="a-1" Version="2.0" IssueInstant="2027-03-01T08:00:00Z"><saml:Issuer>urn:skerry:gate</saml:Issuer><saml:Subject><saml:NameID>desk</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:METHOD">KEY</saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="2027-03-01T08:00:00Z" NotOnOrAfter="2027-03-01T09:00:00Z"/></saml:Assertion>`

const saml1 = `<saml:Assertion xmlns:saml="urn:oasis:names:tc:SAML:1.0:assertion" AssertionID="a-1" MajorVersion="1" MinorVersion="1" Issuer="urn:skerry:gate"><saml:Conditions NotOnOrAfter="2027-03-01T09:00:00Z"/><saml:AuthenticationStatement><saml:Subject><saml:NameIdentifier>desk</saml:NameIdentifier><saml:SubjectConfirmation><saml:ConfirmationMethod>urn:oasis:names:tc:SAML:1.0:cm:METHOD</saml:ConfirmationMethod>KEY</saml:SubjectConfirmation></saml:Subject></saml:AuthenticationStatement></saml:Assertion>`

func TestAssertionsAreRead(t *testing.T) {
	read := func(src string) (*Assertion, error) {
		d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
		require.NoError(t, err)
		return ReadAssertion(d.Root())
	}
	for version, src := range map[string]string{"2.0": saml, "1.1": saml1} {
		a, err := read(strings.Replace(src, "METHOD", "bearer", 1))
		require.NoError(t, err)
		assert.Equal(
			t,
			[]string{version, "a-1", "urn:skerry:gate", "desk", "bearer"},
			[]string{a.Version, a.ID, a.Issuer, a.Subject, a.Confirmed},
		)
		assert.Empty(t, a.Outside(time.Date(2027, 3, 1, 8, 30, 0, 0, time.UTC)))
		assert.Contains(
			t,
			a.Outside(time.Date(2027, 3, 1, 9, 0, 0, 0, time.UTC)),
			"it ended at 2027-03-01 09:00:00 UTC",
		)
		assert.Contains(t, a.String(), "not signed")
	}
	a, err := read(saml)
	require.NoError(t, err)
	assert.Contains(t, a.Outside(time.Date(2027, 3, 1, 7, 0, 0, 0, time.UTC)), "holds from")
	_, err = read(strings.Replace(saml, ` ID="a-1"`, "", 1))
	assert.ErrorContains(t, err, "no id")
	_, err = read(strings.Replace(saml, "2027-03-01T09:00:00Z", "soon", 1))
	assert.ErrorContains(t, err, "is no time")
	a, err = read("<pass xmlns='urn:quay'>7</pass>")
	assert.NoError(t, err)
	assert.Nil(t, a)
}

// The holder of the key that an assertion names signs (SAML Token Profile 1.1 §3.5.1).
func TestTheHolderOfTheKeySigns(t *testing.T) {
	key := rsaKey(t)
	cert, _ := signer(t, key)
	info := `<ds:KeyInfo xmlns:ds="` + DSIG + `"><ds:X509Data><ds:X509Certificate>` + base64.StdEncoding.EncodeToString(
		cert.Raw,
	) + `</ds:X509Certificate></ds:X509Data></ds:KeyInfo>`
	for version, src := range map[string]string{"2.0": strings.Replace(saml, "KEY",
		"<saml:SubjectConfirmationData>"+info+"</saml:SubjectConfirmationData>", 1),
		"1.1": strings.Replace(saml1, "KEY", info, 1)} {
		src = strings.Replace(src, "METHOD", "holder-of-key", 1)
		h := BuildHeader(
			nil,
			&Timestamp{Created: time.Now(), Life: time.Minute},
			HeaderOptions{Tokens: [][]byte{[]byte(src)}},
		)
		envelope, _ := soap.Build(soap.V11, [][]byte{h.XML}, []byte(`<a xmlns="urn:a">tide</a>`))
		signed, err := Sign(
			envelope,
			&Signing{
				Key:       key,
				Cert:      cert,
				Token:     "a-1",
				SAML1:     version == "1.1",
				Reference: FromToken,
				Hash:      crypto.SHA256,
				Parts:     []string{"body", "timestamp", "Envelope/Header/Security/Assertion"},
			},
		)
		require.NoError(t, err)
		e := opened(t, signed)
		all := Verify(e, Keys{})
		require.Len(t, all, 1, version)
		assert.True(t, all[0].Holds(), "%s: %s", version, all[0].Why)
		assert.Equal(t, cert.Raw, all[0].Cert.Raw)
		assert.True(t, all[0].Covers(e.Body))
		other := strings.Replace(string(signed), "a-1</wsse:KeyIdentifier>", "a-2</wsse:KeyIdentifier>", 1)
		assert.False(t, Verify(opened(t, []byte(other)), Keys{})[0].Holds())
	}
}

// What of a header is secret: passwords, tokens of others; never certificates.
func TestWhatOfAHeaderIsSecret(t *testing.T) {
	opaque := `<pass xmlns="urn:quay"><number>77-1234</number></pass>`
	signed := strings.Replace(
		saml,
		"<saml:Subject>",
		`<ds:Signature xmlns:ds="`+DSIG+`"><ds:SignatureValue>c2xhY2s=</ds:SignatureValue></ds:Signature><saml:Subject>`,
		1,
	)
	h := BuildHeader(
		NewToken("desk", "slack", Text, time.Now()),
		&Timestamp{Created: time.Now()},
		HeaderOptions{Tokens: [][]byte{[]byte(opaque), []byte(signed)}},
	)
	var said []string
	for _, s := range h.Secrets {
		said = append(said, string(h.XML[s.Start:s.End]))
	}
	assert.Equal(t, []string{"slack", "<number>77-1234</number>", "c2xhY2s="}, said)
	envelope, _ := soap.Build(soap.V11, [][]byte{h.XML}, []byte(`<a xmlns="urn:a"/>`))
	said = nil
	for _, s := range Secrets(opened(t, envelope)) {
		said = append(said, string(envelope[s.Start:s.End]))
	}
	assert.Equal(t, []string{"slack", "<number>77-1234</number>", "c2xhY2s="}, said)
}

// A header that somebody else wrote, with prefixes of its own, is signed too.
func TestAHeaderWithOtherPrefixesIsSigned(t *testing.T) {
	key := rsaKey(t)
	cert, _ := signer(t, key)
	for _, open := range []string{`<w:Security xmlns:w="` + WSSE + `">`,
		`<Security xmlns="` + WSSE + `" xmlns:wsu="urn:other" xmlns:wsse="urn:other2">`} {
		name := strings.Trim(strings.Fields(open)[0], "<")
		envelope := `<s:Envelope xmlns:s="` + soap.NS11 + `"><s:Header>` + open + `</` + name +
			`></s:Header><s:Body/></s:Envelope>`
		for _, how := range CertificateReferences {
			signed, err := Sign(
				[]byte(envelope),
				&Signing{
					Key:       key,
					Cert:      cert,
					Reference: KeyReference(how),
					Hash:      crypto.SHA256,
					Parts:     []string{"body"},
				},
			)
			require.NoError(t, err, "%s %s", open, how)
			all := Verify(opened(t, signed), Keys{Certs: []*x509.Certificate{cert}})
			require.Len(t, all, 1)
			assert.True(t, all[0].Holds(), "%s %s: %s", open, how, all[0].Why)
		}
	}
}

// A token may take the certificate's issuers along (X.509 Token Profile 1.1 §3.1).
func TestIssuersTravelWithTheCertificate(t *testing.T) {
	key := rsaKey(t)
	cert, dir := signer(t, key)
	above, _ := signer(t, rsaKey(t))
	for how, kind := range map[KeyReference]string{PKIPath: pkiPath, PKCS7: pkcs7Token} {
		signed, err := Sign(
			message(t),
			&Signing{
				Key:       key,
				Cert:      cert,
				Above:     []*x509.Certificate{above},
				Reference: how,
				Hash:      crypto.SHA256,
				Parts:     []string{"body", "timestamp"},
			},
		)
		require.NoError(t, err, how)
		e := opened(t, signed)
		bst := e.Header.Child(WSSE, "Security").Child(WSSE, "BinarySecurityToken")
		v, _ := bst.Attr("", "ValueType")
		assert.Equal(t, kind, v)
		all := Verify(e, Keys{})
		require.Len(t, all, 1)
		assert.True(t, all[0].Holds(), "%s: %s", how, all[0].Why)
		assert.Equal(t, cert.Raw, all[0].Cert.Raw)
		der, err := decodeBase64(bst.Text())
		require.NoError(t, err)
		if how == PKIPath {
			path, err := pathOf(der)
			require.NoError(t, err)
			require.Len(t, path, 2)
			assert.Equal(t, above.Raw, path[0].Raw, "the authority first")
		} else if openssl, err := exec.LookPath("openssl"); err == nil {
			f := filepath.Join(t.TempDir(), "p7")
			require.NoError(t, os.WriteFile(f, der, 0o600))
			out, err := exec.Command(openssl, "pkcs7", "-inform", "DER", "-in", f, "-print_certs",
				"-noout").CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Equal(t, 2, strings.Count(string(out), "subject"), string(out))
		}
		out, err := xmlsec(t, signed, "--verify", "--pubkey-cert-pem", filepath.Join(dir, "cert.pem"))
		assert.NoError(t, err, out)
	}
}

// A header block is encrypted within another that says for whom it is (WSS 1.1 §9.3),
// and comes back as it was.
func TestAHeaderBlockIsEncrypted(t *testing.T) {
	key := rsaKey(t)
	cert, _ := signer(t, key)
	block := `<q:Clerk xmlns:q="urn:skerry:dues" xmlns:soap="` + soap.NS11 +
		`" soap:mustUnderstand="1" soap:actor="urn:a&amp;b"><q:name>Ines</q:name></q:Clerk>`
	h := Build(nil, &Timestamp{Created: time.Now()})
	envelope, _ := soap.Build(soap.V11, [][]byte{h.XML, []byte(block)}, []byte(`<a xmlns="urn:a">tide</a>`))
	sealed, err := Encrypt(
		envelope,
		&Encryption{
			To:        cert,
			Data:      "aes256-gcm",
			Transport: "rsa-oaep",
			Reference: Thumbprint,
			Parts:     []string{"Envelope/Header/Clerk", "body"},
		},
	)
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "Ines")
	e := opened(t, sealed)
	outer := e.Header.Child(WSSE11, "EncryptedHeader")
	require.False(t, outer.IsZero(), string(sealed))
	v, _ := outer.Attr(soap.NS11, "mustUnderstand")
	assert.Equal(t, "1", v)
	v, _ = outer.Attr(soap.NS11, "actor")
	assert.Equal(t, "urn:a&b", v)
	plain, parts, err := Decrypt(sealed, []DecryptionKey{{Key: key, Cert: cert}})
	require.NoError(t, err)
	assert.Len(t, parts, 2)
	assert.Contains(t, string(plain), block)
	assert.NotContains(t, string(plain), "EncryptedHeader")
}

// An assertion that is signed here is verified by a second implementation; moved,
// changed or signed for another it does not hold.
func TestAssertionsAreSignedAndVerified(t *testing.T) {
	key := rsaKey(t)
	cert, dir := signer(t, key)
	for version, src := range map[string]string{"2.0": saml, "1.1": saml1} {
		src = strings.NewReplacer("METHOD", "bearer", "KEY", "").Replace(src)
		signed, err := SignAssertion([]byte(src), key, cert)
		require.NoError(t, err)
		f := filepath.Join(t.TempDir(), "a.xml")
		require.NoError(t, os.WriteFile(f, signed, 0o600))
		if x, err := exec.LookPath("xmlsec1"); err == nil {
			out, err := exec.Command(x, "--verify", "--pubkey-cert-pem", filepath.Join(dir, "cert.pem"),
				"--id-attr:ID", SAML2+":Assertion", "--id-attr:AssertionID", SAML1+":Assertion", f).
				CombinedOutput()
			assert.NoError(t, err, "%s: %s", version, out)
		}
		within := func(token string) (Signature, *soap.Envelope) {
			h := BuildHeader(nil, nil, HeaderOptions{Tokens: [][]byte{[]byte(token)}})
			envelope, _ := soap.Build(soap.V11, [][]byte{h.XML}, []byte(`<a xmlns="urn:a"/>`))
			e := opened(t, envelope)
			for n := range e.Header.Child(WSSE, "Security").Children() {
				return VerifyAssertion(e, n, Keys{}), e
			}
			return Signature{}, e
		}
		s, _ := within(string(signed))
		assert.True(t, s.Holds(), "%s: %s %+v", version, s.Why, s.References)
		assert.Equal(t, cert.Raw, s.Cert.Raw)
		for what, bad := range map[string]string{
			"changed":    strings.Replace(string(signed), ">desk<", ">mate<", 1),
			"not signed": src,
			"of another": strings.Replace(strings.Replace(string(signed), `="a-1"`, `="a-2"`, 1), `"#a-1"`, `"#a-1"`,
				1),
		} {
			s, _ := within(bad)
			assert.False(t, s.Holds(), "%s %s", version, what)
		}
	}
	_, err := SignAssertion([]byte("<a/>"), key, cert)
	assert.Error(t, err)
}
