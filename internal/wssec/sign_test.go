package wssec

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
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

// signer is a key with a certificate of its own, also as PEM files.
func signer(t testing.TB, key crypto.Signer) (*x509.Certificate, string) {
	t.Helper()
	tmpl := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject:      pkix.Name{CommonName: "manifest desk"},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
		SubjectKeyId: []byte{1, 2, 3, 4, 5, 6},
	}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, key.Public(), key)
	require.NoError(t, err)
	c, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	dir := t.TempDir()
	k, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "cert.pem"),
			pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
			0o600,
		),
	)
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "key.pem"),
			pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: k}),
			0o600,
		),
	)
	return c, dir
}

func rsaKey(t testing.TB) *rsa.PrivateKey {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return k
}

func ecKey(t testing.TB, curve elliptic.Curve) *ecdsa.PrivateKey {
	k, err := ecdsa.GenerateKey(curve, rand.Reader)
	require.NoError(t, err)
	return k
}

// message is an envelope with white space, prefixes and text that a wrong
// canonical form would stumble over.
func message(t testing.TB) []byte {
	body := `<m:Manifest xmlns:m="urn:skerry:manifests"   xmlns:unused="urn:x" m:b = 'x"y'  a="&#9;&lt;1"
	 xml:lang="en"><!-- a remark --><m:goods>salt &amp; nets` + "\u00e9\U0001D11E" + `<![CDATA[ <raw> ]]></m:goods><goods xmlns="">loose</goods><m:tonnes xsi:type="xs:decimal" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xmlns:xs="http://www.w3.org/2001/XMLSchema">10</m:tonnes><m:empty/></m:Manifest>`
	envelope, _ := soap.Build(
		soap.V11,
		soap.Addressing{Version: soap.Addressing10, To: "http://q/", Action: "urn:a", MessageID: "urn:uuid:1"}.Blocks(),
		[]byte(body),
	)
	h := Build(NewToken("desk", "word", Digest, time.Now()), &Timestamp{Created: time.Now(), Life: time.Minute})
	return []byte(strings.Replace(string(envelope), "<soap:Header>", "<soap:Header>\n"+string(h.XML), 1))
}

func opened(t testing.TB, b []byte) *soap.Envelope {
	t.Helper()
	d, err := xmltree.Parse(b, xmltree.Limits{})
	require.NoError(t, err)
	e := soap.Read(d)
	require.NotNil(t, e)
	return e
}

// xmlsec verifies the first signature of an envelope with a second implementation.
func xmlsec(t *testing.T, src []byte, args ...string) (string, error) {
	t.Helper()
	if _, err := exec.LookPath("xmlsec1"); err != nil {
		t.Skip("xmlsec1 is not installed (make test installs it)")
	}
	f := filepath.Join(t.TempDir(), "m.xml")
	require.NoError(t, os.WriteFile(f, src, 0o600))
	all := append([]string{}, args...)
	for _, el := range []string{soap.NS11 + ":Body", WSU + ":Timestamp", WSSE + ":UsernameToken",
		WSSE + ":BinarySecurityToken", soap.AddressingNS[soap.Addressing10] + ":To",
		soap.AddressingNS[soap.Addressing10] + ":Action", soap.AddressingNS[soap.Addressing10] + ":MessageID",
		soap.AddressingNS[soap.Addressing10] + ":ReplyTo",
		"urn:skerry:manifests:goods"} {
		all = append(all, "--id-attr:Id", el)
	}
	out, err := exec.Command("xmlsec1", append(all, f)...).CombinedOutput()
	return string(out), err
}

// Every way to sign is verified by xmlsec1, and by us; a byte that is changed is
// seen by both.
func TestSignaturesAreVerifiedByXmlsec(t *testing.T) {
	keys := map[string]crypto.Signer{
		"rsa":  rsaKey(t),
		"p256": ecKey(t, elliptic.P256()),
		"p384": ecKey(t, elliptic.P384()),
		"p521": ecKey(t, elliptic.P521()),
	}
	type one struct {
		key string
		s   Signing
	}
	var all []one
	for _, h := range []crypto.Hash{crypto.SHA1, crypto.SHA256, crypto.SHA384, crypto.SHA512} {
		for name := range keys {
			all = append(all, one{name, Signing{Hash: h, Reference: Direct, Parts: []string{"body", "timestamp"}}})
		}
		all = append(all, one{"rsa", Signing{Hash: h, PSS: true, Reference: Direct, Parts: []string{"body"}}})
	}
	for _, r := range CertificateReferences {
		all = append(
			all,
			one{
				"rsa",
				Signing{
					Hash:      crypto.SHA256,
					Reference: KeyReference(r),
					Parts:     []string{"body", "timestamp", "token", "addressing"},
				},
			},
		)
	}
	all = append(
		all,
		one{
			"rsa",
			Signing{
				Hash:      crypto.SHA256,
				Reference: Direct,
				Inclusive: true,
				Parts:     []string{"body", "timestamp", "token"},
			},
		},
		one{
			"p256",
			Signing{
				Hash:      crypto.SHA256,
				Reference: Direct,
				Prefixes:  []string{"soap", "wsse", "m"},
				Parts:     []string{"body", "timestamp"},
			},
		},
		one{"rsa", Signing{Hash: crypto.SHA256, Reference: Embedded, Parts: []string{"Envelope/Body/Manifest/goods"}}},
	)
	src := message(t)
	for _, c := range all {
		cert, dir := signer(t, keys[c.key])
		s := c.s
		s.Key, s.Cert = keys[c.key], cert
		name := fmt.Sprintf(
			"%s %v pss=%v %s inclusive=%v %v %v",
			c.key,
			s.Hash,
			s.PSS,
			s.Reference,
			s.Inclusive,
			s.Prefixes,
			s.Parts,
		)
		signed, err := Sign(src, &s)
		require.NoError(t, err, name)
		e := opened(t, signed)
		if s.PSS { // Debian's xmlsec1 does not know it; openssl checks the value
			assertPSS(t, e, dir, s.Hash)
		} else {
			out, err := xmlsec(t, signed, "--verify", "--pubkey-cert-pem", filepath.Join(dir, "cert.pem"))
			assert.NoError(t, err, "%s\n%s", name, out)
		}
		got := Verify(e, Keys{Certs: []*x509.Certificate{cert}})
		require.Len(t, got, 1, name)
		assert.True(t, got[0].Holds(), "%s: %s %v", name, got[0].Why, got[0].References)
		assert.Equal(t, s.Hash == crypto.SHA1, got[0].Weak != "", name)
		assert.True(t, cert.Equal(got[0].Cert), name)
		if s.Parts[0] == "body" {
			assert.True(t, got[0].Covers(e.Body), name)
			changed := bytes.Replace(signed, []byte("salt &amp;"), []byte("malt &amp;"), 1)
			_, err = xmlsec(t, changed, "--verify", "--pubkey-cert-pem", filepath.Join(dir, "cert.pem"))
			assert.Error(t, err, name)
			got = Verify(opened(t, changed), Keys{Certs: []*x509.Certificate{cert}})
			assert.False(t, got[0].Holds(), name)
			assert.Contains(t, got[0].References[0].Why, "not what was signed")
		}
	}
	t.Logf("%d ways to sign", len(all))
}

// assertPSS has openssl check a signature's value over what it says.
func assertPSS(t *testing.T, e *soap.Envelope, dir string, h crypto.Hash) {
	t.Helper()
	sig := e.Header.Child(WSSE, "Security").Child(DSIG, "Signature")
	value, err := decodeBase64(sig.Child(DSIG, "SignatureValue").Text())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "value"), value, 0o600))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "octets"), xmltree.Canonical(sig.Child(DSIG, "SignedInfo"), false), 0o600),
	)
	run := func(args ...string) {
		cmd := exec.Command("openssl", args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	run("x509", "-in", "cert.pem", "-pubkey", "-noout", "-out", "pub.pem")
	run(
		"dgst",
		"-"+strings.ReplaceAll(strings.ToLower(h.String()), "-", ""),
		"-sigopt",
		"rsa_padding_mode:pss",
		"-sigopt",
		"rsa_pss_saltlen:-1",
		"-verify",
		"pub.pem",
		"-signature",
		"value",
		"octets",
	)
}

// What xmlsec1 signs is accepted here, whatever it is laid out like.
func TestWhatXmlsecSignsIsAccepted(t *testing.T) {
	for _, c := range []struct {
		key                    crypto.Signer
		method, digest, c14n   string
		inner, enveloped, weak bool
	}{
		{key: rsaKey(t), method: dsigMore + "rsa-sha256", digest: XENC + "sha256", c14n: excC14N},
		{key: rsaKey(t), method: DSIG + "rsa-sha1", digest: DSIG + "sha1", c14n: incC14N, weak: true},
		{key: ecKey(t, elliptic.P384()), method: dsigMore + "ecdsa-sha384", digest: dsigMore + "sha384",
			c14n: excC14NWith},
		{key: rsaKey(t), method: dsigMore + "rsa-sha512", digest: XENC + "sha512", c14n: incC14NWith},
	} {
		cert, dir := signer(t, c.key)
		src, _, err := identified(message(t), []string{"body", "timestamp"})
		require.NoError(t, err)
		e := opened(t, src)
		ref := func(n xmltree.Node) string {
			return "<Reference URI=\"#" + idOf(
				n,
			) + "\">\n<Transforms><Transform Algorithm=\"" + c.c14n + "\"/></Transforms><DigestMethod Algorithm=\"" +
				c.digest + "\"/><DigestValue/></Reference>"
		}
		tmpl := "<Signature xmlns=\"" + DSIG + "\"><SignedInfo>\n<CanonicalizationMethod Algorithm=\"" + c.c14n +
			"\"/><SignatureMethod Algorithm=\"" + c.method + "\"/>" + ref(
			e.Body,
		) + ref(
			e.Header.Child(WSSE, "Security").Child(WSU, "Timestamp"),
		) + "</SignedInfo><SignatureValue/><KeyInfo><X509Data><X509Certificate/></X509Data></KeyInfo></Signature>"
		src, _, err = insert(src, tmpl)
		require.NoError(t, err)
		out := filepath.Join(t.TempDir(), "signed.xml")
		said, err := xmlsec(
			t,
			src,
			"--sign",
			"--privkey-pem",
			filepath.Join(dir, "key.pem")+","+filepath.Join(dir, "cert.pem"),
			"--output",
			out,
		)
		require.NoError(t, err, said)
		signed, err := os.ReadFile(out)
		require.NoError(t, err)
		got := Verify(opened(t, signed), Keys{})
		require.Len(t, got, 1)
		assert.True(t, got[0].Holds(), "%s: %s %+v", c.method, got[0].Why, got[0].References)
		assert.True(t, cert.Equal(got[0].Cert))
		assert.Equal(t, c.weak, got[0].Weak != "")
	}
}

// Tricks with where the signed part stands are seen: the signature holds, and
// does not cover the body that would be read.
func TestWrappedSignaturesCoverNothing(t *testing.T) {
	key := rsaKey(t)
	cert, _ := signer(t, key)
	signed, err := Sign(
		message(t),
		&Signing{Key: key, Cert: cert, Hash: crypto.SHA256, Reference: Direct, Parts: []string{"body"}},
	)
	require.NoError(t, err)
	e := opened(t, signed)
	body := string(e.Body.Bytes())
	evil := strings.Replace(
		string(signed),
		body,
		`<soap:Body><m:Manifest xmlns:m="urn:skerry:manifests"><m:goods>gold</m:goods></m:Manifest></soap:Body>`,
		1,
	)
	moved := strings.Replace(evil, "<soap:Header>", "<soap:Header><w:hold xmlns:w=\"urn:w\">"+body+"</w:hold>", 1)
	got := Verify(opened(t, []byte(moved)), Keys{})
	require.Len(t, got, 1)
	assert.True(t, got[0].Holds(), "%s %+v", got[0].Why, got[0].References)
	assert.False(t, got[0].Covers(opened(t, []byte(moved)).Body))
	assert.NotEqual(t, "body", got[0].References[0].What)

	twice := strings.Replace(evil, "<soap:Body>", `<soap:Body xmlns:wsu="`+WSU+`" wsu:Id="`+idOf(e.Body)+`">`, 1)
	twice = strings.Replace(twice, "<soap:Header>", "<soap:Header><w:hold xmlns:w=\"urn:w\">"+body+"</w:hold>", 1)
	got = Verify(opened(t, []byte(twice)), Keys{})
	assert.False(t, got[0].Holds())
	assert.Contains(t, got[0].References[0].Why, "two elements have the id")

	for _, c := range []struct{ from, to, says string }{
		{`URI="#`, `URI="http://evil.test/#`, "not to a part of this message"},
		{`URI="#body`, `URI="#nobody`, "no element has the id"},
		{`Transform Algorithm="` + excC14N + `"`, `Transform Algorithm="http://www.w3.org/TR/1999/REC-xslt-19991116"`,
			"is not done"},
		{XENC + "sha256", "urn:none", "not known here"},
	} {
		bad := strings.Replace(string(signed), c.from, c.to, 1)
		require.NotEqual(t, string(signed), bad, c.from)
		got := Verify(opened(t, []byte(bad)), Keys{})
		require.Len(t, got, 1)
		assert.False(t, got[0].Holds(), c.from)
		assert.Contains(t, got[0].References[0].Why, c.says)
	}
	many := strings.Replace(
		string(signed),
		"</ds:SignedInfo>",
		strings.Repeat(`<ds:Reference URI="#x"/>`, 10000)+"</ds:SignedInfo>",
		1,
	)
	got = Verify(opened(t, []byte(many)), Keys{})
	assert.Contains(t, got[0].Why, "more than 1000 references")
	_, err = Sign(
		message(t),
		&Signing{Key: key, Cert: cert, Hash: crypto.SHA256, Reference: Direct, Parts: []string{"lantern"}},
	)
	var pe *PartError
	require.ErrorAs(t, err, &pe)
	assert.Equal(t, "lantern", pe.Part)
}

func TestHMAC(t *testing.T) {
	signed, err := Sign(
		message(t),
		&Signing{Secret: []byte("a shared secret of the desk"), Hash: crypto.SHA256, Parts: []string{"body"}},
	)
	require.NoError(t, err)
	f := filepath.Join(t.TempDir(), "hmac.key")
	require.NoError(t, os.WriteFile(f, []byte("a shared secret of the desk"), 0o600))
	out, err := xmlsec(t, signed, "--verify", "--hmackey", f)
	assert.NoError(t, err, out)
	assert.True(t, Verify(opened(t, signed), Keys{Secret: []byte("a shared secret of the desk")})[0].Holds())
	assert.False(t, Verify(opened(t, signed), Keys{Secret: []byte("another")})[0].Holds())
}

func FuzzVerify(f *testing.F) {
	key := ecKey(f, elliptic.P256())
	cert, _ := signer(f, key)
	signed, err := Sign(
		message(f),
		&Signing{Key: key, Cert: cert, Hash: crypto.SHA256, Reference: Direct, Parts: []string{"body"}},
	)
	require.NoError(f, err)
	f.Add(signed)
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := xmltree.Parse(b, xmltree.Limits{Depth: 100})
		if err != nil {
			return
		}
		if e := soap.Read(d); e != nil {
			for _, s := range Verify(e, Keys{}) {
				if s.Holds() && s.Covers(e.Body) {
					assert.Contains(t, string(xmltree.Canonical(e.Body, false)), "salt")
				}
			}
		}
	})
}
