package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
	"orenda/internal/trust"
)

func openssl(t *testing.T, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed (make test installs it)")
	}
	out, err := exec.Command("openssl", args...).CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// guarded is nginx in front of the harbour: it asks for a client certificate of
// the authority in dir.
func guarded(t *testing.T, dir, behind string) (address string) {
	path, err := exec.LookPath("nginx")
	if err != nil {
		t.Skip("nginx is not installed (make test installs it)")
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = ln.Addr().String()
	ln.Close()
	run := t.TempDir()
	conf := fmt.Sprintf(`daemon off; master_process off; worker_processes 1; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/body; proxy_temp_path %[1]s/proxy; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
server { listen %[3]s ssl; ssl_certificate %[2]s/server.pem; ssl_certificate_key %[2]s/server.key.pem; ssl_client_certificate %[2]s/authority.pem; ssl_verify_client on;
location / { proxy_pass http://%[4]s; } } }`, run, dir, address, behind)
	require.NoError(t, os.WriteFile(filepath.Join(run, "nginx.conf"), []byte(conf), 0o600))
	cmd := exec.Command(path, "-c", filepath.Join(run, "nginx.conf"), "-e", filepath.Join(run, "start.log"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, patience(), 20*time.Millisecond)
	return address
}

// From a client certificate that is asked for to one that is sent, with keys.
func TestTheClientCertificateStory(t *testing.T) {
	h := harbour(t)
	made := t.TempDir()
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "trust", "authority", made).code)
	assert.Contains(
		t,
		openssl(
			t,
			"verify",
			"-CAfile",
			filepath.Join(made, "authority.pem"),
			filepath.Join(made, "server.pem"),
			filepath.Join(made, "client.pem"),
		),
		"client.pem: OK",
	)
	address := guarded(t, made, h.Plain)
	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"-w",
			dir,
			"endpoint",
			"set",
			"TideTables",
			"address=https://"+address+"/tides",
			"default=true",
		).code,
	)

	// The person's identity: a certificate in PKCS#12 whose password is a secret.
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	both := filepath.Join(made, "both.pem")
	cert, err := os.ReadFile(filepath.Join(made, "client.pem"))
	require.NoError(t, err)
	key, err := os.ReadFile(filepath.Join(made, "client.key.pem"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(both, append(cert, key...), 0o600))
	env = append(env, "DESK_WORD=slack water")
	store := filepath.Join(person, "desk.p12")
	r := orenda(t, env, "trust", "convert", both, store, "--out-secret-from", "env:DESK_WORD")
	require.Equal(t, 0, r.code, r.err)
	info, err := os.Stat(store)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
	assert.Contains(t, openssl(t, "pkcs12", "-in", store, "-passin", "pass:slack water", "-nokeys"), "test client")
	require.NoError(t, os.MkdirAll(filepath.Join(person, "config"), 0o700))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(person, "config", "identities.toml"),
			[]byte(
				fmt.Sprintf(
					"[desk]\nuser = \"\"\nsecret = \"env:DESK_WORD\"\ncertificate = %q\n",
					filepath.Join(made, "client.pem"),
				),
			),
			0o600,
		),
	)
	// The certificate is readable, its key stands sealed beside it.
	m, err := trust.ReadMaterial(key, "")
	require.NoError(t, err)
	sealed, err := m.Write(trust.PEMFile, "slack water")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(person, "desk.key"), sealed, 0o600))
	f, err := os.OpenFile(filepath.Join(person, "config", "identities.toml"), os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	fmt.Fprintf(f, "key = %q\n", filepath.Join(person, "desk.key"))
	f.Close()

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("p", "g")
	s.sees("comes from an authority that is not trusted here")
	s.keys("T")
	s.sees("test server", "364 days left", "issued by", "EC P-256")
	s.keys("p")
	s.repaired()
	s.sees(
		"the service asks for a client certificate, and none is set",
		"send the certificate of desk: it comes from an authority that the service accepts",
	)
	s.keys("Enter")
	s.sees("client-identity: not set → desk", "allow.desk")
	s.keys("Enter", "g")
	s.sees("passed after", "× tide")
	s.keys("T")
	s.sees("trusted here", "ends soonest", "identity desk")
	assert.NotContains(t, settings(t, dir), "slack water")
}

func TestCertificatesOnTheCommandLine(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	tmp := t.TempDir()
	in := func(name string) string { return filepath.Join(tmp, name) }
	fp := trust.Fingerprint(h.Cert.Cert)
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "endpoint", "set", "TideTablesTLS", "address=https://"+h.TLS+"/tides").code,
	)

	require.Equal(t, 0, orenda(t, env, "trust", "fetch", "https://"+h.TLS+"/", "--out", in("a.pem")).code)
	for _, name := range []string{"a.der", "a.p7b"} {
		r := orenda(t, env, "trust", "convert", in("a.pem"), in(name))
		require.Equal(t, 0, r.code, r.err)
		r = orenda(t, env, "trust", "show", in(name), "--json")
		require.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.out, fp, name)
	}
	assert.Contains(
		t,
		openssl(t, "x509", "-inform", "DER", "-in", in("a.der"), "-noout", "-subject"),
		"tides.skerry.test",
	)
	assert.Contains(
		t,
		openssl(t, "pkcs7", "-inform", "DER", "-in", in("a.p7b"), "-print_certs", "-noout"),
		"tides.skerry.test",
	)

	require.NoError(t, os.WriteFile(in("bundle.pem"), []byte("# by hand\n"+string(trust.PEM(h.Cert.Cert))), 0o600))
	before, err := os.ReadFile(in("bundle.pem"))
	require.NoError(t, err)
	require.Equal(t, 0, orenda(t, env, "trust", "authority", in("ca")).code)
	assert.Equal(
		t,
		2,
		orenda(t, env, "trust", "append", in("bundle.pem"), in("ca/authority.pem")).code,
		"a fingerprint is due",
	)
	r := orenda(t, env, "trust", "append", in("bundle.pem"), in("ca/authority.pem"), "--fingerprint", "00")
	assert.Equal(t, 1, r.code)
	b, err := os.ReadFile(in("ca/authority.pem"))
	require.NoError(t, err)
	certs, err := trust.Read(b)
	require.NoError(t, err)
	r = orenda(
		t,
		env,
		"trust",
		"append",
		in("bundle.pem"),
		in("ca/authority.pem"),
		"--fingerprint",
		trust.Grouped(trust.Fingerprint(certs[0])),
	)
	require.Equal(t, 0, r.code, r.err)
	after, err := os.ReadFile(in("bundle.pem"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(after), string(before)))

	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"trust",
			"request",
			"tides.skerry.test",
			"--for",
			"tides.skerry.test",
			"--for",
			"10.0.0.4",
			"--out",
			in("mine"),
		).code,
	)
	assert.Contains(t, openssl(t, "req", "-in", in("mine.csr.pem"), "-noout", "-text", "-verify"), "10.0.0.4")
	openssl(t, "pkey", "-in", in("mine.key.pem"), "-noout")
	info, err := os.Stat(in("mine.key.pem"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)

	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "trust", "add", "TideTablesTLS", in("a.pem"), "--fingerprint", fp).code,
	)
	r = orenda(t, env, "-w", dir, "trust", "expiring", "--json")
	assert.Equal(t, 0, r.code, r.err)
	var rows []map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &rows))
	require.Len(t, rows, 1)
	assert.Equal(t, fp, rows[0]["sha256"])
	for _, name := range []string{"chain.svg", "chain.pdf"} {
		r = orenda(t, env, "-w", dir, "draw", "chain", "TideTablesTLS", "--out", in(name))
		require.Equal(t, 0, r.code, r.err)
	}
	svg, err := os.ReadFile(in("chain.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(svg), "Nothing is wrong with it.")

	for _, c := range [][]string{{"mine.key.pem", "holds a private key"}, {"bundle.pem", ""}} {
		r = orenda(t, env, "trust", "show", in(c[0]))
		if c[1] != "" {
			assert.Equal(t, 3, r.code)
		} else {
			assert.Equal(t, 0, r.code)
		}
	}
	r = orenda(
		t,
		env,
		"call",
		"YearTable",
		"--contract",
		"http://"+h.Plain+"/tides?wsdl",
		"--address",
		"https://"+h.TLS+"/tides",
		"--port",
		"TideTables",
		"--accept-anything",
		"--until",
		"tls",
	)
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "ANY CERTIFICATE WAS ACCEPTED")
}

// From "the contract demands" to a call that is signed and encrypted, with keys.
func TestTheSignedAndEncryptedStory(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/manifests?wsdl")
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	clerk, err := h.Desk.Clerk("Ines Hallam")
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(person, "config"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(person, "clerk.pem"), clerk, 0o600))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(person, "config", "identities.toml"),
			[]byte(
				fmt.Sprintf(
					"[ines]\nuser = \"\"\nsecret = \"\"\ncertificate = %q\n",
					filepath.Join(person, "clerk.pem"),
				),
			),
			0o600,
		),
	)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "trust"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "trust", "desk.pem"), trust.PEM(h.Desk.Cert), 0o600))
	found, err := filepath.Glob(filepath.Join(dir, "drafts/*/*/FileManifest/*.xml"))
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(
			found[0],
			[]byte(
				`<FileManifest xmlns="urn:skerry:manifests"><callSign>SKAL4</callSign><line><goods>salt</goods><tonnes>10.5</tonnes></line></FileManifest>`,
			),
			0o600,
		),
	)

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("FileManifest")
	s.keys("p")
	s.sees("the contract demands", "send a timestamp, sign body and timestamp, as ines")
	s.keys("Enter")
	s.sees("sign: not set → body, timestamp", "sign-identity: not set → ines")
	s.keys("Enter", "g")
	s.sees("the reply is signed by a key that is not trusted", "manifest desk")
	s.keys("Enter")
	s.sees("compare the fingerprint")
	s.keys("Enter", "g")
	s.sees("passed after", "receipt M-")
	require.Equal(
		t,
		0,
		orenda(t, env, "-w", dir, "endpoint", "set", "Manifests", "encrypt=body", "encrypt-to=trust/desk.pem").code,
	)
	s.sees("was changed on disk")
	s.keys("g")
	s.sees("attempt 3", "passed after")
	s.keys("s")
	now := s.sees("<xenc:EncryptedKey")
	assert.NotContains(t, now, "salt")
	s.keys("r")
	s.sees("receipt", "M-0003", "Ines Hallam")
	r := orenda(t, env, "-w", dir, "call", "FileManifest", "--reply", "fields")
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "clerk  Ines Hallam")
}

// The person's own editor has the terminal, and what it wrote is taken back: a
// draft, and the identities, whose mistakes are named by line and never overwritten.
func TestYourOwnEditor(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	file := filepath.Join(person, "config", "identities.toml")
	script := filepath.Join(t.TempDir(), "my editor")
	require.NoError(t, os.WriteFile(script, []byte(`#!/bin/sh
echo "the editor of Ines, with $(stat -c %a "$1")"
read go
case "$go $1" in
*draft.xml) sed -i s/2027/2031/ "$1" ;;
wrong*) printf '[desk\n' >>"$1" ;;
right*) sed -i '/^\[desk$/d' "$1"; printf '[desk.log-in] # of the gate\naddress = "https://desk.skerry.test/open"\nbody = "x"\n' >>"$1" ;;
esac
`), 0o700))
	s := open(t, 158, 47, append(env, "VISUAL='"+script+"'", "EDITOR=false"), "-w", dir)
	s.sees("YearTable")
	s.keys("d")
	s.sees("2027")
	s.keys("E")
	s.sees("the editor of Ines, with 600")
	s.keys("Enter")
	s.sees("2031", "Skerry Sound")

	s.keys("Escape", "i")
	s.sees("there is none yet")
	for _, c := range []struct{ does, shows string }{{"wrong", "identities.toml:12:6: expected"}, {"right",
		"https://desk.skerry.test/open, which gives cookies"}} {
		s.keys("E")
		s.sees("the editor of Ines, with 600")
		s.types(c.does)
		s.keys("Enter")
		s.sees("identities", c.shows)
		if c.does == "wrong" {
			before, _ := os.ReadFile(file)
			s.keys("a")
			s.sees("name of the identity")
			s.types("mate")
			s.keys("Enter")
			s.sees("identities.toml:12:")
			after, _ := os.ReadFile(file)
			assert.Equal(t, string(before), string(after), "what cannot be read is not overwritten")
		}
	}
	s.keys("Enter")
	s.sees("change of desk")
	s.keys("Enter")
	s.sees("user name of desk")
	s.types("d-1")
	s.keys("Enter")
	s.sees("d-1")
	b, _ := os.ReadFile(file)
	assert.Contains(t, string(b), "[desk.log-in] # of the gate\n")
	assert.Contains(t, string(b), "# Who you are towards services.")
}

// Identities are the person's own: added with keys, never with a secret, and
// tried on purpose to see them refused.
func TestIdentitiesWithKeys(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	env = append(env, "PILOT_WORD="+standin.Password, "MATE_WORD=not the word at all")
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"-w",
			dir,
			"endpoint",
			"set",
			"TideTablesTLS",
			"address=https://"+h.TLS+"/tides",
			"default=true",
			"identity=desk",
			"token=digest",
		).code,
	)
	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"-w",
			dir,
			"trust",
			"add",
			"TideTablesTLS",
			"https://"+h.TLS+"/",
			"--fingerprint",
			trust.Fingerprint(h.Cert.Cert),
		).code,
	)
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("i")
	s.sees("there is none yet")
	add := func(name, user, source string) {
		s.keys("a")
		s.sees("name of the identity")
		s.types(name)
		s.keys("Enter")
		s.sees("user name of " + name)
		s.types(user)
		s.keys("Enter")
		s.sees("where its secret is: keyring (type it now), or env:VAR")
		s.types(source)
		s.keys("Enter")
	}
	add("desk", standin.User, standin.Password) // the secret itself, typed where its source is due
	s.sees("that is no source, and was not kept")
	b, err := os.ReadFile(filepath.Join(person, "config", "identities.toml"))
	require.NoError(t, err)
	assert.NotContains(t, string(b), standin.Password)
	s.keys("Enter")
	s.sees("change of desk")
	s.keys("Down", "Enter")
	s.sees("where its secret is (env:VAR")
	s.types("env:PILOT_WORD")
	s.keys("Enter")
	s.sees("env:PILOT_WORD", "TideTablesTLS", "it is asked for before it goes")
	add("mate", "first-mate", "env:MATE_WORD")
	s.sees("env:MATE_WORD")
	s.keys("b", "g")
	s.keys("p")
	s.sees("the identity desk has not been used at")
	s.repaired()
	s.sees("passed after")
	s.keys("i", "Home", "Down", "*")
	s.sees("the identity mate has not been used at")
	s.keys("i")
	s.sees("may go to")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "repair", "last").code)
	s.keys("*")
	s.sees("authenticat", "after identity mate, for this call only")
	assert.NotContains(t, settings(t, dir), "mate", "nothing of it is kept")

	// What changes things at the service asks first, whichever key sends it.
	s.keys("b", "!")
	s.sees("YearTable/first changes things at the service")
	refuse := func() {
		t.Helper()
		s.sees("changes things at the service, and was sent before. Send it again?")
		s.types("no")
		s.keys("Enter")
		s.sees("nothing was sent")
	}
	s.keys("i", "*")
	refuse()
	s.keys("b", "g")
	refuse()
	s.sees("4 kept")
	s.keys(
		"p",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Up",
		"Down",
		"Down",
		"Down",
		"Down",
		"Down",
		"Down",
		"G",
	)
	refuse()
	s.keys("Up", "G") // tls: nothing is sent
	s.sees("5 kept")

	// Distinctive secrets are in no file, but for what the person wrote.
	require.NoError(t, filepath.Walk(filepath.Dir(dir), func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			b, _ := os.ReadFile(p)
			assert.NotContains(t, string(b), standin.Password, p)
			assert.NotContains(t, string(b), "not the word at all", p)
		}
		return nil
	}))
	require.NoError(t, filepath.Walk(person, func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			b, _ := os.ReadFile(p)
			assert.NotContains(t, string(b), standin.Password, p)
			assert.NotContains(t, string(b), "not the word at all", p)
		}
		return nil
	}))
}

// A service that takes digests is sent the password in the clear: its refusal is told
// apart from that of a wrong user, and the repair sends what it takes.
func TestDigestAgainstText(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/pilots?wsdl")
	env = append(env, "PILOT_WORD="+standin.Password, "MATE_WORD=not the word at all")
	person := strings.TrimPrefix(env[0], "ORENDA_HOME=")
	require.NoError(t, os.MkdirAll(filepath.Join(person, "config"), 0o700))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(person, "config", "identities.toml"),
			[]byte(
				"[pilot]\nuser = \""+standin.User+"\"\nsecret = \"env:PILOT_WORD\"\n[mate]\nuser = \"mate\"\nsecret "+
					"= \"env:MATE_WORD\"\n",
			),
			0o600,
		),
	)
	found, err := filepath.Glob(filepath.Join(dir, "drafts/*/*/OrderPilot/*.xml"))
	require.NoError(t, err)
	require.NoError(
		t,
		os.WriteFile(
			found[0],
			[]byte(
				`<OrderPilot xmlns="urn:skerry:pilots"><callSign>SKAL4</callSign><boarding>outer ground</boarding><at>2027-03-01T08:00:00Z</at></OrderPilot>`,
			),
			0o600,
		),
	)
	require.Equal(
		t,
		0,
		orenda(
			t,
			env,
			"-w",
			dir,
			"endpoint",
			"set",
			"PilotOrders",
			"token=text",
			"identity=pilot",
			"timestamp=5m",
		).code,
	)

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("OrderPilot")
	s.keys("p")
	s.keys("g")
	s.sees("pilot has not been used at")
	s.repaired()
	s.sees(
		"the service does not accept the security header",
		"a password of type text is not accepted here",
		"send a digest password",
	)
	s.keys("Enter")
	s.sees("token: text → digest")
	s.keys("Enter", "g")
	s.sees("passed after")
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "PilotOrders", "identity=mate").code)
	s.sees("was changed on disk")
	s.keys("g")
	s.sees("mate has not been used at")
	s.repaired()
	s.sees(
		"the service refused the user or the password",
		"as mate.",
		"last passed",
		"pilot → mate",
		"take the identity back to what was set when this call passed",
	)
}
