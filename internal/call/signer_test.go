package call_test

import (
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

// signedWith is a plan that signs body and timestamp as an identity with a signer.
func signedWith(t *testing.T, h *standin.Harbour, id *identity.Identity) call.Plan {
	p, dir := manifests(t, h)
	p.Identity = func(string) (*identity.Identity, error) { return id, nil }
	p.Settings.Set("sign", "body,timestamp")
	p.Settings.Set("sign-identity", "ines")
	p.Settings.Set("timestamp", "5m")
	p.Settings.Set("reply-trust", filepath.Join(dir, "desk.pem"))
	return p
}

// parts are the certificates and the key of a file, as two files.
func parts(t *testing.T, b []byte) (cert, key string) {
	dir := t.TempDir()
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	var certs, keys []byte
	for block, rest := pem.Decode(b); block != nil; block, rest = pem.Decode(rest) {
		if strings.Contains(block.Type, "KEY") {
			keys = append(keys, pem.EncodeToMemory(block)...)
		} else {
			certs = append(certs, pem.EncodeToMemory(block)...)
		}
	}
	require.NoError(t, os.WriteFile(cert, certs, 0o600))
	require.NoError(t, os.WriteFile(key, keys, 0o600))
	return cert, key
}

// bySigner is a signer that openssl is.
func bySigner(key string) string {
	return `command:case $ORENDA_ALGORITHM in
rsa-pss-*) openssl pkeyutl -sign -inkey '` + key + `' -pkeyopt rsa_padding_mode:pss -pkeyopt digest:${ORENDA_ALGORITHM##*-} -pkeyopt rsa_pss_saltlen:digest;;
*) openssl pkeyutl -sign -inkey '` + key + `';;
esac`
}

// A key that cannot be read signs messages through a program.
func TestASignerSignsMessages(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed (make test installs it)")
	}
	h := harbour(t)
	clerk, err := h.Desk.Clerk("Ines Hallam")
	require.NoError(t, err)
	cert, key := parts(t, clerk)
	id := &identity.Identity{Name: "ines", Certificate: cert, Signer: bySigner(key)}
	p := signedWith(t, h, id)
	for _, how := range []string{"sha256", "sha1", "pss-sha256"} {
		p.Settings.Set("signature", how)
		x := run(t, p)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%s %+v", how, x.Findings)
	}
	for command, says := range map[string]string{
		"command:echo the card is not in >&2; exit 3": "the card is not in", "command:true": "writes no signature",
		"command:echo slack water": "no signature of the certificate's key",
	} {
		id.Signer = command
		x := run(t, signedWith(t, h, id))
		f := found(t, x, "security.signer-failed")
		assert.Equal(t, "security.signer-failed", x.Findings[0].ID)
		assert.Equal(t, exchange.Security, x.StoppedAt)
		assert.Contains(t, f.Why, says)
	}
	id.Signer, id.Secret = "command:echo PIN $ORENDA_PIN is wrong >&2; exit 1", "env:ORENDA_TEST_PIN"
	t.Setenv("ORENDA_TEST_PIN", "4711-ebb")
	x := run(t, signedWith(t, h, id))
	assert.NotContains(t, found(t, x, "security.signer-failed").Why, "4711-ebb", "what is said is kept")
}

// It logs in by TLS, RSA and elliptic curves, in both versions.
func TestASignerLogsInByTLS(t *testing.T) {
	p := newPKI(t)
	p.issue("good", trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: p.root})
	p.issue("desk", trust.Wish{Name: "desk", Client: true, By: p.root})
	ask := []string{"-Verify", "2", "-verify_return_error", "-CAfile", p.file("root.pem")}
	cert := p.file("desk.pem")
	for _, version := range []string{"1.2", "1.3"} {
		address := p.sserver("good", append(ask, map[string]string{"1.2": "-tls1_2", "1.3": "-tls1_3"}[version])...)
		id := &identity.Identity{Name: "desk", Certificate: cert, Signer: bySigner(p.file("desk.key"))}
		plan := to(t, address, "trust", p.file("root.pem"), "client-identity", "desk")
		plan.Identity = func(string) (*identity.Identity, error) { return id, nil }
		x := run(t, plan)
		assert.NotContains(t, ids(x), "security.signer-failed", version)
		assert.Equal(t, exchange.Passed, x.Stage(exchange.TLS).State, "%s %+v", version, x.Findings)
		assert.True(t, x.Leg().Conn.TLS.CertSent)
		id.Signer = "command:exit 4"
		x = run(t, plan)
		found(t, x, "security.signer-failed")
		assert.Equal(t, "security.signer-failed", x.Findings[0].ID, version)
		assert.Equal(t, exchange.TLS, x.StoppedAt)
	}
}

// A PKCS#11 token (SoftHSM) signs through OpenSC's tool; make outside installs both.
func TestAKeyInAToken(t *testing.T) {
	module := "/usr/lib/softhsm/libsofthsm2.so"
	for _, tool := range []string{"softhsm2-util", "pkcs11-tool"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(tool + " is not installed (make outside installs it)")
		}
	}
	h := harbour(t)
	clerk, err := h.Desk.Clerk("Ines Hallam")
	require.NoError(t, err)
	cert, key := parts(t, clerk)
	dir := t.TempDir()
	conf := filepath.Join(dir, "softhsm2.conf")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "tokens"), 0o700))
	require.NoError(t, os.WriteFile(conf, []byte("directories.tokendir = "+filepath.Join(dir, "tokens")+"\n"), 0o600))
	t.Setenv("SOFTHSM2_CONF", conf)
	t.Setenv("ORENDA_TEST_PIN", "4711")
	pkcs8 := filepath.Join(dir, "key8.pem")
	for _, args := range [][]string{
		{"openssl", "pkcs8", "-topk8", "-nocrypt", "-in", key, "-out", pkcs8},
		{"softhsm2-util", "--init-token", "--free", "--label", "quay", "--pin", "4711", "--so-pin", "1147"},
		{"softhsm2-util", "--import", pkcs8, "--token", "quay", "--label", "ines", "--id", "01", "--pin", "4711"},
	} {
		out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
		require.NoError(t, err, "%v %s", args, out)
	}
	require.NoError(t, os.Remove(key))
	require.NoError(t, os.Remove(pkcs8))
	id := &identity.Identity{Name: "ines", Certificate: cert, Secret: "env:ORENDA_TEST_PIN",
		Signer: "command:pkcs11-tool --module " + module + ` --token-label quay --login --pin "$ORENDA_PIN" --id 01 --sign -m RSA-PKCS 2>/dev/null`}
	x := run(t, signedWith(t, h, id))
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	t.Setenv("ORENDA_TEST_PIN", "0000")
	found(t, run(t, signedWith(t, h, id)), "security.signer-failed")
}
