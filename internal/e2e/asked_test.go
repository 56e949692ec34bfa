package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
	"orenda/internal/trust"
)

// notKept tells that a secret is in no file below a folder.
func notKept(t *testing.T, folder string, secrets ...string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(folder, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(p)
		for _, secret := range secrets {
			assert.NotContains(t, string(b), secret, p)
		}
		return err
	}))
}

// Where a token is demanded and the person has no identity, user and password are asked
// for right there, and kept sealed.
func TestAUserIsTypedWhereATokenIsDemanded(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTablesTLS",
		"address=https://"+h.TLS+"/tides", "default=true").code)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "trust", "add", "TideTablesTLS", "https://"+h.TLS+"/",
		"--fingerprint", trust.Fingerprint(h.Cert.Cert)).code)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("p", "g")
	s.sees("no security header found", "⏎ send a user name token as a user that you type now, digest password")
	s.keys("Enter")
	s.sees("user ›")
	s.types(standin.User)
	s.keys("Enter")
	s.sees("password of " + standin.User)
	s.types(standin.Password)
	s.keys("Enter")
	now := s.sees("a pass phrase for a sealed file of your own")
	assert.NotContains(t, now, standin.Password)
	s.types("ebb and flow")
	s.keys("Enter")
	s.sees("make this change", "identity: not set → "+standin.User)
	s.keys("Enter", "g")
	s.sees("passed after")
	s.keys("i")
	s.sees(standin.User, "secrets/"+standin.User+".age", "TideTablesTLS")
	notKept(t, filepath.Dir(dir), standin.Password, "ebb and flow")
	notKept(t, person, standin.Password, "ebb and flow")

	// On the command line a repair that wants an identity says how to make one.
	r := orenda(t, env, "-w", dir, "repair", "last")
	assert.Equal(t, 1, r.code)
}

// Where a service asks for a client certificate, its file, the file's password and its key
// are asked for right there.
func TestAClientCertificateIsTypedWhereItIsAskedFor(t *testing.T) {
	h := harbour(t)
	made := t.TempDir()
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "trust", "authority", made).code)
	address := guarded(t, made, h.Plain)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables",
		"address=https://"+address+"/tides", "default=true", "trust="+filepath.Join(made, "authority.pem")).code)
	require.NoError(t, os.Mkdir(filepath.Join(made, "mine"), 0o700))
	both, store := filepath.Join(made, "both.pem"), filepath.Join(made, "mine", "quay clerk.p12")
	var parts []byte
	for _, name := range []string{"client.pem", "client.key.pem"} {
		b, err := os.ReadFile(filepath.Join(made, name))
		require.NoError(t, err)
		parts = append(parts, b...)
	}
	require.NoError(t, os.WriteFile(both, parts, 0o600))
	r := orenda(t, append(env, "W=slack water"), "trust", "convert", both, store, "--out-secret-from", "env:W")
	require.Equal(t, 0, r.code, r.err)

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("p", "g")
	s.sees("the service asks for a client certificate", "⏎ send a client certificate: name its file now")
	s.keys("Enter")
	s.sees("file of the client certificate")
	s.types(filepath.Join(made, "no such.pem"))
	s.keys("Enter")
	s.sees("no such.pem: no such file or directory; another file")
	s.types(filepath.Join(made, "mine") + "/")
	s.keys("Tab")
	s.sees("quay clerk.p12")
	s.keys("Enter")
	s.sees("its password (it is not shown)")
	s.types("high water")
	s.keys("Enter")
	s.sees("that password does not open it; another one")
	s.types("slack water")
	s.keys("Enter")
	s.sees("a pass phrase for a sealed file of your own")
	s.types("ebb and flow")
	s.keys("Enter")
	s.sees("client-identity: not set → quay clerk")
	s.keys("Enter", "g")
	s.sees("passed after", "× tide")
	notKept(t, filepath.Dir(dir), "slack water", "ebb and flow")
	notKept(t, strings.TrimPrefix(env[0], "ORENDA_HOME="), "slack water", "ebb and flow")

	// A certificate and its key in two files.
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables", "client-identity=").code)
	s.sees("orenda.toml was changed on disk")
	require.Equal(t, 0, orenda(t, env, "identity", "remove", "quay clerk").code)
	s.keys("g")
	s.sees("attempt 3", "the service asks for a client certificate", "send a client certificate: name")
	s.keys("Tab", "Enter")
	s.sees("file of the client certificate")
	s.types(filepath.Join(made, "client.pem"))
	s.keys("Enter")
	s.sees("file of its private key")
	s.types(filepath.Join(made, "client.key.pem"))
	s.keys("Enter")
	s.sees("client-identity: not set → client")
	s.keys("Enter", "g")
	s.sees("passed after")
}
