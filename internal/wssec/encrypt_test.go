package wssec

import (
	"bytes"
	"crypto"
	"crypto/elliptic"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

// inline is encrypted data as a document of its own, its key within it, which is
// the form that xmlsec1 takes.
func inline(t *testing.T, src []byte) []byte {
	t.Helper()
	e := opened(t, src)
	data, key := e.Doc.Root().Find(XENC, "EncryptedData"), e.Doc.Root().Find(XENC, "EncryptedKey")
	require.False(t, data.IsZero() || key.IsZero())
	text := string(key.Bytes())
	info := key.Child(DSIG, "KeyInfo")
	text = strings.Replace(text, string(info.Bytes()), "", 1)
	list := key.Child(XENC, "ReferenceList")
	text = strings.Replace(text, string(list.Bytes()), "", 1)
	old := data.Child(DSIG, "KeyInfo")
	return []byte(
		strings.Replace(
			string(data.Bytes()),
			string(old.Bytes()),
			`<ds:KeyInfo xmlns:ds="`+DSIG+`">`+text+`</ds:KeyInfo>`,
			1,
		),
	)
}

// Every way to encrypt is opened by xmlsec1 as far as it knows it, and by us.
func TestEncryptionIsOpenedByXmlsec(t *testing.T) {
	key := rsaKey(t)
	cert, dir := signer(t, key)
	src := message(t)
	want := string(opened(t, src).Body.Child("urn:skerry:manifests", "Manifest").Bytes())
	for _, data := range DataMethods {
		for _, transport := range KeyTransports {
			name := data + " " + transport
			sealed, err := Encrypt(
				src,
				&Encryption{To: cert, Data: data, Transport: transport, Reference: Thumbprint, Parts: []string{"body"}},
			)
			require.NoError(t, err, name)
			assert.NotContains(t, string(sealed), "salt", name)
			out, parts, err := Decrypt(sealed, []DecryptionKey{{Key: key, Cert: cert}})
			require.NoError(t, err, name)
			assert.Equal(t, want, string(opened(t, out).Body.Child("urn:skerry:manifests", "Manifest").Bytes()), name)
			require.Len(t, parts, 1)
			assert.Equal(t, "body", parts[0].What)
			assert.Equal(t, strings.Contains(data, "cbc") || transport == "rsa-1_5", parts[0].Weak != "", name)

			if transport == "rsa-oaep-sha256" {
				continue // Debian's xmlsec1 does not know it
			}
			f := filepath.Join(dir, "sealed.xml")
			require.NoError(t, os.WriteFile(f, inline(t, sealed), 0o600))
			plain, err := exec.Command("xmlsec1", "--decrypt", "--privkey-pem", filepath.Join(dir, "key.pem"), f).
				CombinedOutput()
			assert.NoError(t, err, "%s\n%s", name, plain)
			assert.Contains(t, string(plain), "salt &amp; nets", name)
		}
	}
	for _, r := range KeyReferences {
		sealed, err := Encrypt(
			src,
			&Encryption{
				To:        cert,
				Data:      "aes256-gcm",
				Transport: "rsa-oaep",
				Reference: KeyReference(r),
				Parts:     []string{"body", "token"},
			},
		)
		require.NoError(t, err, r)
		assert.NotContains(t, string(sealed), "UsernameToken", r)
		out, parts, err := Decrypt(sealed, []DecryptionKey{{Key: key, Cert: cert}})
		require.NoError(t, err, r)
		assert.Len(t, parts, 2, r)
		assert.Contains(t, string(out), "<wsse:UsernameToken", r)
	}
}

// What xmlsec1 encrypts is opened here.
func TestWhatXmlsecEncryptsIsOpened(t *testing.T) {
	key := rsaKey(t)
	_, dir := signer(t, key)
	for _, c := range [][2]string{{XENC + "aes128-cbc", rsaOAEP}, {XENC + "aes256-cbc", rsa15}, {XENC11 + "aes256-gcm",
		rsaOAEP}} {
		tmpl := `<EncryptedData xmlns="` + XENC + `" Type="` + content + `"><EncryptionMethod Algorithm="` + c[0] +
			`"/><KeyInfo xmlns="` + DSIG + `"><EncryptedKey xmlns="` + XENC + `"><EncryptionMethod Algorithm="` + c[1] +
			`"/><KeyInfo xmlns="` + DSIG +
			`"><KeyName/></KeyInfo><CipherData><CipherValue/></CipherData></EncryptedKey></KeyInfo><CipherData><CipherValue/></CipherData></EncryptedData>`
		src := message(t)
		in, tm := filepath.Join(dir, "m.xml"), filepath.Join(dir, "t.xml")
		require.NoError(t, os.WriteFile(in, src, 0o600))
		require.NoError(t, os.WriteFile(tm, []byte(tmpl), 0o600))
		size := map[string]string{"aes128-cbc": "aes-128", "aes256-cbc": "aes-256",
			"aes256-gcm": "aes-256"}[Words(c[0])]
		out, err := exec.Command("xmlsec1", "--encrypt", "--pubkey-cert-pem", filepath.Join(dir, "cert.pem"),
			"--session-key", size, "--xml-data", in, "--node-xpath",
			"/*[local-name()='Envelope']/*[local-name()='Body']/*", "--output", filepath.Join(dir, "o.xml"), tm).
			CombinedOutput()
		if err != nil && strings.Contains(string(out), "executable file not found") {
			t.Skip("xmlsec1 is not installed (make test installs it)")
		}
		require.NoError(t, err, "%s", out)
		sealed, err := os.ReadFile(filepath.Join(dir, "o.xml"))
		require.NoError(t, err)
		plain, parts, err := Decrypt(sealed, []DecryptionKey{{Key: key}})
		require.NoError(t, err, c[0])
		assert.NotEmpty(t, parts)
		assert.Contains(t, string(plain), "salt &amp; nets")
	}
}

// Signed, then encrypted: what was signed is what comes out again.
func TestSignedThenEncrypted(t *testing.T) {
	mine, theirs := ecKey(t, elliptic.P256()), rsaKey(t)
	cert, _ := signer(t, mine)
	to, _ := signer(t, theirs)
	signed, err := Sign(
		message(t),
		&Signing{Key: mine, Cert: cert, Hash: crypto.SHA256, Reference: Direct, Parts: []string{"body", "timestamp"}},
	)
	require.NoError(t, err)
	sealed, err := Encrypt(
		signed,
		&Encryption{
			To:        to,
			Data:      "aes256-gcm",
			Transport: "rsa-oaep",
			Reference: IssuerSerial,
			Parts:     []string{"body"},
		},
	)
	require.NoError(t, err)
	out, _, err := Decrypt(sealed, []DecryptionKey{{Key: theirs, Cert: to}})
	require.NoError(t, err)
	got := Verify(opened(t, out), Keys{})
	require.Len(t, got, 1)
	assert.True(t, got[0].Holds(), "%s %+v", got[0].Why, got[0].References)
	assert.True(t, got[0].Covers(opened(t, out).Body) || got[0].References[0].What == "body")
}

func TestWhatCannotBeOpened(t *testing.T) {
	key, other := rsaKey(t), rsaKey(t)
	cert, _ := signer(t, key)
	for _, transport := range KeyTransports {
		sealed, err := Encrypt(
			message(t),
			&Encryption{
				To:        cert,
				Data:      "aes128-gcm",
				Transport: transport,
				Reference: Embedded,
				Parts:     []string{"body"},
			},
		)
		require.NoError(t, err)
		back, _, err := Decrypt(sealed, []DecryptionKey{{Key: other}})
		assert.Error(t, err)
		assert.Equal(t, sealed, back, "what cannot be opened comes back as it is")
		_, _, err = Decrypt(sealed, nil)
		assert.ErrorContains(t, err, "no private key is set")
		e := opened(t, sealed)
		v := e.Doc.Root().Find(XENC, "EncryptedData").Child(XENC, "CipherData").Child(XENC, "CipherValue").Inner()
		broken := bytes.Clone(sealed)
		broken[v.Start+40] ^= 1
		_, _, err = Decrypt(broken, []DecryptionKey{{Key: key}})
		assert.Error(t, err, "a changed byte is seen")
	}
	ec, _ := signer(t, ecKey(t, elliptic.P256()))
	_, err := Encrypt(
		message(t),
		&Encryption{To: ec, Data: "aes128-gcm", Transport: "rsa-oaep", Parts: []string{"body"}},
	)
	assert.ErrorContains(t, err, "cannot be encrypted for")
}

func FuzzDecrypt(f *testing.F) {
	key := rsaKey(f)
	cert, _ := signer(f, key)
	sealed, err := Encrypt(
		message(f),
		&Encryption{To: cert, Data: "aes128-gcm", Transport: "rsa-oaep", Reference: Embedded, Parts: []string{"body"}},
	)
	require.NoError(f, err)
	f.Add(sealed)
	f.Fuzz(func(t *testing.T, b []byte) {
		if out, _, err := Decrypt(b, []DecryptionKey{{Key: key, Cert: cert}}); err == nil {
			_, err := xmltree.Parse(out, xmltree.Limits{})
			assert.NoError(t, err)
		}
	})
}
