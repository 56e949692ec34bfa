package trust

import (
	"bytes"
	"crypto/x509"
	"encoding/asn1"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	keystore "github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// openssl runs it in a folder.
func openssl(t *testing.T, dir string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed (make test installs it)")
	}
	cmd := exec.Command("openssl", args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// What openssl writes is read here, in every form that people meet.
func TestWhatOpensslWritesIsRead(t *testing.T) {
	dir := t.TempDir()
	openssl(
		t,
		dir,
		"req",
		"-x509",
		"-newkey",
		"rsa:2048",
		"-nodes",
		"-keyout",
		"key.pem",
		"-out",
		"cert.pem",
		"-subj",
		"/CN=quay.skerry.test",
		"-days",
		"30",
	)
	openssl(
		t,
		dir,
		"req",
		"-x509",
		"-newkey",
		"ec",
		"-pkeyopt",
		"ec_paramgen_curve:P-256",
		"-nodes",
		"-keyout",
		"ec.pem",
		"-out",
		"eccert.pem",
		"-subj",
		"/CN=ec",
		"-days",
		"30",
	)
	for _, c := range [][]string{
		{"x509", "-in", "cert.pem", "-outform", "DER", "-out", "cert.der"},
		{"crl2pkcs7", "-nocrl", "-certfile", "cert.pem", "-certfile", "eccert.pem", "-outform", "DER", "-out",
			"both.p7b"},
		{"crl2pkcs7", "-nocrl", "-certfile", "cert.pem", "-out", "one.p7c"},
		{"pkcs12", "-export", "-inkey", "key.pem", "-in", "cert.pem", "-certfile", "eccert.pem", "-passout",
			"pass:slack water", "-out", "new.p12"},
		{"pkcs12", "-export", "-inkey", "key.pem", "-in", "cert.pem", "-passout", "pass:slack water", "-certpbe",
			"PBE-SHA1-3DES", "-keypbe", "PBE-SHA1-3DES", "-macalg", "sha1", "-out", "old.p12"},
		{"pkcs8", "-topk8", "-in", "key.pem", "-passout", "pass:slack water", "-v2", "aes-256-cbc", "-out",
			"sealed.pem"},
		{"pkcs8", "-topk8", "-in", "ec.pem", "-passout", "pass:slack water", "-v2", "aes-128-cbc", "-outform", "DER",
			"-out", "sealed.der"},
		{"rsa", "-in", "key.pem", "-traditional", "-out", "pkcs1.pem"},
		{"rsa", "-in", "key.pem", "-traditional", "-aes128", "-passout", "pass:slack water", "-out", "oldsealed.pem"},
		{"ec", "-in", "ec.pem", "-out", "sec1.pem"},
	} {
		openssl(t, dir, c...)
	}
	file := func(name string) []byte {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return b
	}
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "mixed.pem"),
			bytes.ReplaceAll(
				append(
					append([]byte("Bag attributes\n  subject: somebody\n"), file("key.pem")...),
					append(file("eccert.pem"), file("cert.pem")...)...),
				[]byte("\n"),
				[]byte("\r\n"),
			),
			0o600,
		),
	)
	for _, c := range []struct {
		name, password string
		format         Format
		certs          int
		key            bool
		first          string
	}{
		{"cert.pem", "", PEMFile, 1, false, "quay.skerry.test"}, {"cert.der", "", DER, 1, false, "quay.skerry.test"},
		{"both.p7b", "", PKCS7, 2, false, ""}, {"one.p7c", "", PEMFile, 1, false, "quay.skerry.test"},
		{"new.p12", "slack water", PKCS12, 2, true, "quay.skerry.test"}, {"old.p12", "slack water", PKCS12, 1, true,
			"quay.skerry.test"},
		{"sealed.pem", "slack water", PEMFile, 0, true, ""}, {"sealed.der", "slack water", KeyFile, 0, true, ""},
		{"pkcs1.pem", "", PEMFile, 0, true, ""}, {"oldsealed.pem", "slack water", PEMFile, 0, true, ""}, {"sec1.pem",
			"", PEMFile, 0, true, ""},
		{"mixed.pem", "", PEMFile, 2, true, "quay.skerry.test"},
	} {
		m, err := ReadMaterial(file(c.name), c.password)
		require.NoError(t, err, c.name)
		assert.Equal(t, c.format, m.Format, c.name)
		assert.Len(t, m.Certs, c.certs, c.name)
		assert.Equal(t, c.key, m.Key != nil, c.name)
		if c.first != "" {
			assert.Equal(t, c.first, m.Certs[0].Subject.CommonName, c.name)
		}
		if c.password == "" {
			continue
		}
		for _, wrong := range []string{"", "high water"} {
			_, err = ReadMaterial(file(c.name), wrong)
			var pe *PasswordError
			require.ErrorAs(t, err, &pe, "%s with %q", c.name, wrong)
			assert.Equal(t, wrong != "", pe.Given, "%s with %q", c.name, wrong)
		}
	}
	pair, err := Client(file("cert.pem"), file("sealed.pem"), "slack water")
	require.NoError(t, err)
	assert.Equal(t, "quay.skerry.test", pair.Leaf.Subject.CommonName)
	_, err = Client(file("new.p12"), nil, "slack water")
	assert.NoError(t, err)
	_, err = Client(file("cert.pem"), file("ec.pem"), "")
	var mismatch *MismatchError
	assert.ErrorAs(t, err, &mismatch)
	_, err = Client(file("cert.pem"), nil, "")
	assert.ErrorContains(t, err, "no private key")
}

// What is written here is read by openssl.
func TestWhatIsWrittenIsReadByOpenssl(t *testing.T) {
	dir := t.TempDir()
	root := issue(t, Wish{Name: "Skerry root", Authority: true})
	leaf := issue(t, Wish{Name: "tides", Hosts: []string{"tides.skerry.test"}, By: root})
	m := &Material{Certs: []*x509.Certificate{leaf.Cert, root.Cert}, Key: leaf.Key}
	write := func(name string, m *Material, password string) {
		b, err := m.Write(FormatOf(name), password)
		require.NoError(t, err, name)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o600))
		back, err := ReadMaterial(b, password)
		require.NoError(t, err, name)
		assert.Equal(t, len(m.Certs), len(back.Certs), name)
	}
	write("all.pem", m, "")
	assert.Contains(t, openssl(t, dir, "x509", "-in", "all.pem", "-noout", "-subject"), "tides")
	openssl(t, dir, "pkey", "-in", "all.pem", "-noout")
	write("sealed.pem", m, "slack water")
	openssl(t, dir, "pkey", "-in", "sealed.pem", "-passin", "pass:slack water", "-noout")
	write("all.p12", m, "slack water")
	assert.Contains(
		t,
		openssl(t, dir, "pkcs12", "-in", "all.p12", "-passin", "pass:slack water", "-nokeys"),
		"Skerry root",
	)
	only := &Material{Certs: m.Certs}
	write("all.p7b", only, "")
	assert.Contains(t, openssl(t, dir, "pkcs7", "-inform", "DER", "-in", "all.p7b", "-print_certs"), "Skerry root")
	write("trusted.p12", only, "slack water")
	write("one.der", &Material{Certs: m.Certs[:1]}, "")
	openssl(t, dir, "x509", "-inform", "DER", "-in", "one.der", "-noout")
	_, err := only.Write(DER, "")
	assert.ErrorContains(t, err, "holds one certificate")
	_, err = m.Write(PKCS12, "")
	assert.ErrorContains(t, err, "needs a password")

	// A bundle is added to, and nothing in it is touched.
	bundle := []byte("# mine, by hand\n" + string(PEM(root.Cert)))
	out, added, err := AppendBundle(bundle, root.Cert, leaf.Cert, leaf.Cert)
	require.NoError(t, err)
	assert.Equal(t, 1, added)
	assert.True(t, bytes.HasPrefix(out, bundle))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bundle.pem"), out, 0o600))
	assert.Contains(t, openssl(t, dir, "verify", "-CAfile", "bundle.pem", "all.pem"), "OK")
	_, _, err = AppendBundle([]byte("what is this"), leaf.Cert)
	assert.ErrorContains(t, err, "not changed")
}

func TestJavaKeyStores(t *testing.T) {
	leaf := issue(t, Wish{Name: "tides"})
	ks := keystore.New()
	der, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	require.NoError(t, err)
	require.NoError(
		t,
		ks.SetPrivateKeyEntry(
			"desk",
			keystore.PrivateKeyEntry{
				CreationTime:     time.Now(),
				PrivateKey:       der,
				CertificateChain: []keystore.Certificate{{Type: "X509", Content: leaf.Cert.Raw}},
			},
			[]byte("slack water"),
		),
	)
	require.NoError(
		t,
		ks.SetTrustedCertificateEntry(
			"root",
			keystore.TrustedCertificateEntry{
				CreationTime: time.Now(),
				Certificate:  keystore.Certificate{Type: "X509", Content: issue(t, Wish{Name: "root"}).Cert.Raw},
			},
		),
	)
	var b bytes.Buffer
	require.NoError(t, ks.Store(&b, []byte("slack water")))
	m, err := ReadMaterial(b.Bytes(), "slack water")
	require.NoError(t, err)
	assert.Equal(t, JKS, m.Format)
	assert.Len(t, m.Certs, 2)
	assert.NotNil(t, m.Key)
	assert.Equal(t, "tides", m.Certs[0].Subject.CommonName)
	var pe *PasswordError
	_, err = ReadMaterial(b.Bytes(), "nope")
	require.ErrorAs(t, err, &pe)
	assert.True(t, pe.Given)
}

func TestHostileMaterial(t *testing.T) {
	leaf := issue(t, Wish{Name: "evil\x1b[2J\nname"})
	good := PEM(leaf.Cert)
	assert.NotContains(t, string(good), "\x1b", "a name cannot leave its line")
	for _, c := range []struct{ in, says string }{
		{"", "empty"}, {"-----BEGIN CERTIFICATE-----\nabc", "damaged or cut short"}, {string(good[:len(good)-40]),
			"damaged"},
		{"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", "cannot be read"}, {"hello", "none of the " +
			"formats"}, {string(leaf.Cert.Raw[:100]), "cut short"},
		{"-----BEGIN DH PARAMETERS-----\nAAAA\n-----END DH PARAMETERS-----\n", "no certificate and no key"},
		{"\xfe\xed\xfe\xed\x00",
			"password"},
	} {
		_, err := ReadMaterial([]byte(c.in), "")
		assert.ErrorContains(t, err, c.says, "%q", c.in)
	}
	// A key whose password would be derived for hours is refused at once.
	type alg struct {
		ID     asn1.ObjectIdentifier
		Params any `asn1:"optional"`
	}
	kdf := alg{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}, struct {
		Salt   []byte
		Rounds int
	}{[]byte("12345678"), 2_000_000_000}}
	params, err := asn1.Marshal(
		struct{ KDF, Cipher alg }{
			kdf,
			alg{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}, []byte("1234567890123456")},
		},
	)
	require.NoError(t, err)
	der, err := asn1.Marshal(struct {
		Alg struct {
			ID     asn1.ObjectIdentifier
			Params asn1.RawValue
		}
		Data []byte
	}{struct {
		ID     asn1.ObjectIdentifier
		Params asn1.RawValue
	}{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}, asn1.RawValue{FullBytes: params}}, make([]byte, 64)})
	require.NoError(t, err)
	for _, in := range [][]byte{der, pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der})} {
		began := time.Now()
		_, err = ReadMaterial(in, "slack water")
		assert.ErrorContains(t, err, "rounds")
		assert.Less(t, time.Since(began), 20*time.Second)
	}
	assert.True(t, strings.Contains(Unfit(leaf.Cert, time.Now()), "not for clients"))
	assert.Empty(t, Unfit(issue(t, Wish{Name: "c", Client: true}).Cert, time.Now()))
}

func FuzzReadMaterial(f *testing.F) {
	p, err := Issue(Wish{Name: "x"})
	require.NoError(f, err)
	f.Add(p.Cert.Raw)
	f.Add(PEM(p.Cert))
	for _, format := range []Format{PKCS7, PKCS12} {
		b, err := (&Material{Certs: []*x509.Certificate{p.Cert}, Key: p.Key}).Write(format, "slack")
		require.NoError(f, err)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := ReadMaterial(b, "slack")
		assert.True(t, (m == nil) != (err == nil))
	})
}
