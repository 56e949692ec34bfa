package call_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/trust"
)

// pki is an authority with what it issued, as files.
type pki struct {
	t    *testing.T
	dir  string
	root *trust.Pair
}

func newPKI(t *testing.T) *pki {
	p := &pki{t: t, dir: t.TempDir()}
	p.root = p.issue("root", trust.Wish{Name: "Skerry root", Authority: true})
	return p
}

func (p *pki) file(name string) string { return filepath.Join(p.dir, name) }

// issue writes NAME.pem and NAME.key.
func (p *pki) issue(name string, w trust.Wish, above ...*x509.Certificate) *trust.Pair {
	p.t.Helper()
	pair, err := trust.Issue(w)
	require.NoError(p.t, err)
	key, err := (&trust.Material{Key: pair.Key}).Write(trust.PEMFile, "")
	require.NoError(p.t, err)
	require.NoError(p.t, os.WriteFile(p.file(name+".pem"), append(trust.PEM(pair.Cert), trust.PEM(above...)...), 0o600))
	require.NoError(p.t, os.WriteFile(p.file(name+".key"), key, 0o600))
	return pair
}

// sserver is openssl's own server; it answers no SOAP, the handshake is what counts.
func (p *pki) sserver(name string, args ...string) (address string) {
	return daemon(p.t, "openssl", func(port string) []string {
		return append(
			[]string{
				"s_server",
				"-accept",
				"127.0.0.1:" + port,
				"-cert",
				p.file(name + ".pem"),
				"-cert_chain",
				p.file(name + ".pem"),
				"-key",
				p.file(name + ".key"),
				"-www",
				"-quiet",
			},
			args...)
	})
}

// to is a plan to an address over TLS, as far as the handshake and a little more.
func to(t *testing.T, address string, set ...string) call.Plan {
	p := berths(t, harbour(t), "/berths")
	p.Settings.Set("address", "https://"+address+"/berths")
	p.Settings.Set("connect-time", "5s")
	p.Settings.Set("answer-time", "1500ms")
	for i := 0; i+1 < len(set); i += 2 {
		p.Settings.Set(set[i], set[i+1])
	}
	return p
}

// Each fault of TLS is told apart against openssl's server.
func TestTLSFaultsAgainstOpenssl(t *testing.T) {
	p := newPKI(t)
	hosts := []string{"127.0.0.1", "tides.skerry.test"}
	now := time.Now()
	p.issue("good", trust.Wish{Name: "tides", Hosts: hosts, By: p.root})
	p.issue("self", trust.Wish{Name: "alone", Hosts: hosts})
	p.issue(
		"old",
		trust.Wish{
			Name:      "old",
			Hosts:     hosts,
			By:        p.root,
			NotBefore: now.AddDate(-2, 0, 0),
			NotAfter:  now.AddDate(0, -1, 0),
		},
	)
	p.issue("young", trust.Wish{Name: "young", Hosts: hosts, By: p.root, NotBefore: now.AddDate(0, 1, 0)})
	p.issue("other", trust.Wish{Name: "other", Hosts: []string{"elsewhere.skerry.test"}, By: p.root})
	p.issue("client", trust.Wish{Name: "desk", Client: true, By: p.root})
	p.issue("stranger", trust.Wish{Name: "stranger", Client: true})
	p.issue("desk", trust.Wish{Name: "desk", Hosts: hosts, Client: true, By: p.root})
	narrow := p.issue("narrow", trust.Wish{Name: "Skerry quay authority", Authority: true, Within: []string{"quay.skerry.test"}, By: p.root})
	p.issue("beyond", trust.Wish{Name: "beyond", Hosts: hosts, By: narrow}, narrow.Cert)
	ended := p.issue("ended", trust.Wish{Name: "Skerry old authority", Authority: true, By: p.root,
		NotBefore: now.AddDate(-2, 0, 0), NotAfter: now.AddDate(0, -1, 0)})
	p.issue("under", trust.Wish{Name: "under", Hosts: hosts, By: ended}, ended.Cert)
	ask := []string{"-Verify", "2", "-verify_return_error", "-CAfile", p.file("root.pem")}
	for _, c := range []struct {
		name, cert string
		server     []string
		set        []string
		want       string // "" passes the handshake
		says       string
		remedy     string
	}{
		{name: "self-signed", cert: "self", want: "tls.self-signed", remedy: "trust"},
		{name: "authority unknown", cert: "good", want: "tls.authority-unknown", says: "Skerry root"},
		{name: "trusted authority", cert: "good", set: []string{"trust", "root.pem"}},
		{name: "expired", cert: "old", set: []string{"trust", "root.pem"}, want: "tls.expired",
			remedy: "accept-expired"},
		{name: "not yet valid", cert: "young", set: []string{"trust", "root.pem"}, want: "tls.not-yet-valid",
			remedy: "accept-expired"},
		{name: "another name", cert: "other", set: []string{"trust", "root.pem"}, want: "tls.name-differs",
			says: "elsewhere.skerry.test", remedy: "accept-name"},
		{name: "for clients", cert: "desk", set: []string{"trust", "root.pem"}, want: "tls.usage-differs",
			says: "it is for clients"},
		{name: "beyond its authority", cert: "beyond", set: []string{"trust", "root.pem"}, want: "tls.chain-broken",
			says: "its names go beyond those that an authority above it may vouch for", remedy: "trust"},
		{name: "expired authority", cert: "under", set: []string{"trust", "root.pem"}, want: "tls.expired",
			says: "Skerry old authority", remedy: "accept-expired"},
		{name: "old protocol", cert: "good", server: []string{"-tls1_1", "-cipher", "ALL:@SECLEVEL=0"},
			set: []string{"trust",
				"root.pem"}, want: "tls.version-refused", remedy: "tls-min"},
		{name: "old protocol allowed", cert: "good", server: []string{"-tls1_1", "-cipher", "ALL:@SECLEVEL=0"},
			set: []string{"trust",
				"root.pem", "tls-min", "1.0"}},
		{name: "new protocol only", cert: "good", server: []string{"-tls1_3"}, set: []string{"trust", "root.pem",
			"tls-max", "1.2"}, want: "tls.version-refused"},
		{name: "no common cipher", cert: "good", server: []string{"-tls1_2", "-cipher",
			"ECDHE-ECDSA-AES256-GCM-SHA384"}, set: []string{"trust", "root.pem", "tls-max", "1.2", "ciphers",
			"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"}, want: "tls.cipher-refused"},
		{name: "certificate required, 1.3", cert: "good", server: ask, set: []string{"trust", "root.pem"},
			want: "tls.client-certificate-required", says: "Skerry root"},
		{name: "certificate required, 1.2", cert: "good", server: append([]string{"-tls1_2"}, ask...),
			set: []string{"trust",
				"root.pem"}, want: "tls.client-certificate-required", says: "Skerry root"},
		{name: "certificate of a stranger", cert: "good", server: ask, set: []string{"trust", "root.pem",
			"client-cert", "stranger.pem", "client-key", "stranger.key"}, want: "tls.client-certificate-refused"},
		{name: "certificate given", cert: "good", server: ask, set: []string{"trust", "root.pem", "client-cert",
			"client.pem", "client-key", "client.key"}},
		{name: "name not known", cert: "good", server: []string{"-servername", "tides.skerry.test",
			"-servername_fatal", "-cert2", "good.pem", "-key2", "good.key"}, set: []string{"trust", "root.pem",
			"server-name", "quay.skerry.test", "accept-name", "tides.skerry.test"}, want: "tls.name-unrecognized",
			remedy: "server-name"},
		{name: "no common protocol", cert: "good", server: []string{"-alpn", "smoke-signals"}, set: []string{"trust",
			"root.pem"}, want: "tls.protocol-refused", remedy: "alpn"},
	} {
		t.Run(c.name, func(t *testing.T) {
			q := *p
			q.t = t
			for i, a := range c.server {
				if strings.HasSuffix(a, ".pem") || strings.HasSuffix(a, ".key") {
					if !filepath.IsAbs(a) {
						c.server[i] = p.file(a)
					}
				}
			}
			plan := to(t, q.sserver(c.cert, c.server...))
			for i := 0; i+1 < len(c.set); i += 2 {
				v := c.set[i+1]
				if strings.HasSuffix(v, ".pem") || strings.HasSuffix(v, ".key") {
					v = p.file(v)
				}
				plan.Settings.Set(c.set[i], v)
			}
			x := run(t, plan)
			if c.want == "" {
				assert.Equal(t, exchange.Passed, x.Stage(exchange.TLS).State, "%v %s", ids(x), x.Result)
				return
			}
			require.NotEmpty(t, x.Findings)
			f := x.Findings[0]
			assert.Equal(t, c.want, f.ID, "%s", f.Why)
			assert.Equal(t, exchange.TLS, f.Stage)
			assert.NotEmpty(t, f.Evidence)
			assert.Contains(t, f.Why, c.says)
			if c.remedy != "" {
				require.NotEmpty(t, f.Remedies)
				assert.True(t, strings.HasSuffix(f.Remedies[0].All()[0].Key, "."+c.remedy), f.Remedies[0].All()[0].Key)
			}
		})
	}
}

// A certificate that is signed with SHA-1, or whose key is too short, is told as
// weak; both are made by openssl.
func TestWeakCertificatesOfOpenssl(t *testing.T) {
	p := newPKI(t)
	sh := func(args ...string) {
		cmd := exec.Command("openssl", args...)
		cmd.Dir = p.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%v %s", args, out)
	}
	sh(
		"req",
		"-x509",
		"-newkey",
		"rsa:2048",
		"-nodes",
		"-keyout",
		"ca.key",
		"-out",
		"ca.pem",
		"-subj",
		"/CN=old authority",
		"-days",
		"30",
		"-addext",
		"basicConstraints=critical,CA:true",
	)
	require.NoError(t, os.WriteFile(p.file("ext"), []byte("subjectAltName=IP:127.0.0.1\n"), 0o600))
	for name, how := range map[string][]string{"sha1": {"rsa:2048", "-sha1"}, "short": {"rsa:512", "-sha256"}} {
		sh("req", "-newkey", how[0], "-nodes", "-keyout", name+".key", "-out", name+".csr", "-subj", "/CN="+name)
		sh(
			"x509",
			"-req",
			"-in",
			name+".csr",
			"-CA",
			"ca.pem",
			"-CAkey",
			"ca.key",
			"-CAcreateserial",
			how[1],
			"-days",
			"20",
			"-extfile",
			"ext",
			"-out",
			name+".pem",
		)
		at := p.sserver(name, "-cipher", "ALL:@SECLEVEL=0", "-tls1_2")
		x := run(t, to(t, at, "trust", p.file("ca.pem"), "tls-min", "1.0"))
		assert.Contains(t, ids(x), "tls.key-weak", "%s: %s", name, x.Result)
	}
}

// The clock of the server tells a wrong certificate from a wrong clock here.
func TestWhoseClockIsWrong(t *testing.T) {
	p := newPKI(t)
	old := p.issue(
		"old",
		trust.Wish{
			Name:      "old",
			Hosts:     []string{"127.0.0.1"},
			By:        p.root,
			NotBefore: time.Now().AddDate(-2, 0, 0),
			NotAfter:  time.Now().AddDate(0, -1, 0),
		},
	)
	for said, side := range map[time.Time]exchange.Side{time.Now(): exchange.Theirs, time.Now().AddDate(0, -3,
		0): exchange.Yours} {
		at := nginxLike(t, old, said)
		x := run(t, to(t, at, "trust", p.file("root.pem")))
		require.Equal(t, "tls.expired", x.Findings[0].ID, "%v", ids(x))
		assert.Equal(t, side, x.Findings[0].Side, x.Findings[0].Why)
		assert.Contains(t, x.Findings[0].Why, said.UTC().Format("2006-01-02"))
	}
}

// nginxLike is a TLS server whose clock says something of its own.
func nginxLike(t *testing.T, pair *trust.Pair, said time.Time) string {
	return secureServer(t, pair, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Date", said.UTC().Format(http.TimeFormat))
	})
}

// secureServer answers over TLS with a certificate.
func secureServer(t *testing.T, pair *trust.Pair, answer http.HandlerFunc) string {
	s := httptest.NewUnstartedServer(answer)
	s.TLS = &tls.Config{Certificates: []tls.Certificate{pair.TLS()}}
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	s.StartTLS()
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// An issuer that was not sent is fetched from where the certificate says that it
// is, and completes the chain where its root is trusted.
func TestAChainThatWasNotSentWhole(t *testing.T) {
	p := newPKI(t)
	mid := p.issue("mid", trust.Wish{Name: "Skerry quay authority", Authority: true, By: p.root})
	at := server(t, func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write(mid.Cert.Raw) })
	leaf := p.issue(
		"leaf",
		trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: mid, IssuerAt: at + "/quay.cer"},
	)
	address := secureServer(t, leaf, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(204) })
	x := run(t, to(t, address, "trust", p.file("root.pem")))
	require.Equal(t, "tls.chain-incomplete", x.Findings[0].ID, "%v", ids(x))
	f := x.Findings[0]
	assert.Equal(t, exchange.Certain, f.Certainty)
	assert.Contains(t, f.Why, "Skerry quay authority")
	require.Equal(t, "endpoint.berths.intermediates", f.Remedies[0].All()[0].Key)
	assert.Len(t, x.Leg().Conn.TLS.Completed, 2)
	require.NoError(t, os.WriteFile(p.file("middle.pem"), []byte(fmt.Sprint(f.Remedies[0].All()[0].To)), 0o600))
	x = run(t, to(t, address, "trust", p.file("root.pem"), "intermediates", p.file("middle.pem")))
	assert.Equal(t, exchange.Passed, x.Stage(exchange.TLS).State, "%v", ids(x))
	x = run(t, to(t, address, "intermediates", p.file("middle.pem")))
	assert.Equal(t, exchange.Stopped, x.Stage(exchange.TLS).State, "an intermediate is not trusted itself")

	x = run(t, to(t, address, "pin", trust.Grouped(trust.PublicKeyPin(leaf.Cert))))
	assert.Equal(t, exchange.Passed, x.Stage(exchange.TLS).State)
	assert.Equal(t, "its public key is pinned", x.Leg().Conn.TLS.Trusted)
}

// What is looked into after a stage stopped is no part of that stage's time.
func TestTheStageEndsBeforeItIsLookedInto(t *testing.T) {
	p := newPKI(t)
	mid := p.issue("mid", trust.Wish{Name: "Skerry quay authority", Authority: true, By: p.root})
	var c *call.Call
	var seen exchange.StageRecord
	at := server(t, func(w http.ResponseWriter, r *http.Request) {
		seen = *c.Snapshot().Stage(exchange.TLS)
		_, _ = w.Write(mid.Cert.Raw)
	})
	leaf := p.issue(
		"leaf",
		trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: mid, IssuerAt: at + "/quay.cer"},
	)
	address := secureServer(t, leaf, func(http.ResponseWriter, *http.Request) {})
	c = call.New(to(t, address, "trust", p.file("root.pem")), nil)
	x := c.Run(t.Context())
	assert.Equal(t, exchange.Stopped, seen.State)
	assert.Equal(t, x.Stage(exchange.TLS).DurationNs, seen.DurationNs)
	assert.Equal(t, "tls.chain-incomplete", x.Findings[0].ID)
}

// nginx refuses a missing client certificate with a page of its own.
func TestNginxAsksForACertificate(t *testing.T) {
	p := newPKI(t)
	h := harbour(t)
	p.issue("good", trust.Wish{Name: "tides", Hosts: []string{"127.0.0.1"}, By: p.root})
	client := p.issue("client", trust.Wish{Name: "desk", Client: true, By: p.root})
	address := daemon(t, "nginx", func(port string) []string {
		conf := fmt.Sprintf(
			`daemon off; master_process off; worker_processes 1; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/body; proxy_temp_path %[1]s/proxy; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
server { listen 127.0.0.1:%[2]s ssl; ssl_certificate %[1]s/good.pem; ssl_certificate_key %[1]s/good.key; ssl_client_certificate %[1]s/root.pem; ssl_verify_client on;
location / { proxy_pass http://%[3]s; } } }`,
			p.dir,
			port,
			h.Plain,
		)
		require.NoError(t, os.WriteFile(p.file("nginx.conf"), []byte(conf), 0o600))
		return []string{"-c", p.file("nginx.conf"), "-e", p.file("start.log")}
	})
	plan := to(t, address, "trust", p.file("root.pem"))
	plan.Identities = []diagnose.Identity{{Name: "gate"}, {Name: "desk", Certificate: client.Cert}}
	x := run(t, plan)
	require.Equal(t, "tls.client-certificate-required", x.Findings[0].ID, "%v", ids(x))
	assert.Equal(t, exchange.Receive, x.StoppedAt, "seen as a page, caused by TLS")
	require.NotEmpty(t, x.Findings[0].Remedies)
	assert.Contains(
		t,
		x.Findings[0].Remedies[0].Title,
		"the certificate of desk: it comes from an authority that the service accepts",
	)
	c := x.Findings[0].Remedies[0].All()
	assert.Equal(t, "endpoint.berths.client-identity", c[0].Key)

	// The remedy's identity: its key is sealed, its secret opens it.
	sealed, err := (&trust.Material{Certs: []*x509.Certificate{client.Cert}, Key: client.Key}).Write(
		trust.PKCS12,
		"slack water",
	)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(p.file("desk.p12"), sealed, 0o600))
	t.Setenv("DESK_WORD", "slack water")
	plan.Identity = func(name string) (*identity.Identity, error) {
		return &identity.Identity{Name: name, Secret: "env:DESK_WORD", Certificate: p.file("desk.p12")}, nil
	}
	plan.Settings.Set("client-identity", "desk")
	x = run(t, plan)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, "CN=desk,O=Skerry Harbour Trust", x.Stage(exchange.TLS).Facts.Get("client certificate"))

	// With leave to go there the one that fits is chosen, and that is said.
	plan.Settings.Set("client-identity", "")
	plan.Candidates = func() []*identity.Identity {
		return []*identity.Identity{
			{Name: "gate", Certificate: p.file("good.pem"), Key: p.file("good.key")},
			{Name: "desk", Secret: "env:DESK_WORD", Certificate: p.file("desk.p12")},
		}
	}
	plan.Allowed = func(id, _, _, _ string) bool { return id == "desk" }
	x = run(t, plan)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, []string{"tls.client-certificate-chosen"}, ids(x))
	plan.Allowed = func(string, string, string, string) bool { return false }
	assert.Equal(t, "tls.client-certificate-required", run(t, plan).Findings[0].ID, "nothing goes where it may not")

	// A plain call to the port is told by nginx's page too.
	plan.Settings.Set("address", "http://"+address+"/berths")
	assert.Equal(t, "send.plain-to-tls", run(t, plan).Findings[0].ID)
}

func TestClientCertificatesThatWillNotDo(t *testing.T) {
	p := newPKI(t)
	now := time.Now()
	h := harbour(t)
	p.issue("client", trust.Wish{Name: "desk", Client: true, By: p.root})
	p.issue("server", trust.Wish{Name: "quay", By: p.root})
	old := p.issue(
		"old",
		trust.Wish{
			Name:      "old",
			Client:    true,
			By:        p.root,
			NotBefore: now.AddDate(-2, 0, 0),
			NotAfter:  now.AddDate(-1, 0, 0),
		},
	)
	sealed, err := (&trust.Material{Key: old.Key}).Write(trust.PEMFile, "slack water")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(p.file("sealed.key"), sealed, 0o600))
	for _, c := range []struct {
		cert, key, want string
	}{
		{"client.pem", "server.key", "security.key-mismatch"}, {"old.pem", "old.key", "security.certificate-expired"},
		{"old.pem",
			"sealed.key", "security.key-unreadable"},
		{"client.key", "client.pem", "security.key-unreadable"}, {"none.pem", "", "security.key-unreadable"},
		{"server.pem",
			"server.key", "security.certificate-unfit"},
	} {
		plan := berths(t, h, "/berths")
		plan.Settings.Set("client-cert", p.file(c.cert))
		if c.key != "" {
			plan.Settings.Set("client-key", p.file(c.key))
		}
		assert.Contains(t, ids(run(t, plan)), c.want, "%s %s", c.cert, c.key)
	}
}

// Anything may be accepted for one call: loudly, and never with a secret.
func TestAnythingIsAcceptedLoudly(t *testing.T) {
	h := harbour(t)
	plan := berths(t, h, "/berths")
	plan.Settings.Set("address", "https://"+h.TLS+"/berths")
	plan.SkipVerify = true
	x := run(t, plan)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Equal(t, []string{"tls.not-verified"}, ids(x))
	assert.Equal(t, exchange.Warned, x.Stage(exchange.TLS).State)
	plan.Settings.Set("token", "text")
	plan.Settings.Set("identity", "desk")
	plan.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", Secret: "env:X"}, nil
	}
	x = run(t, plan)
	assert.Equal(t, "security.secret-unverified", x.Findings[0].ID)
	assert.Empty(t, x.Legs)
}

func TestKeysAreLoggedByLeave(t *testing.T) {
	h := harbour(t)
	plan := secure(t, h)
	path := filepath.Join(t.TempDir(), "keys.log")
	plan.Settings.Set("key-log", path)
	x := run(t, plan)
	assert.Equal(t, []string{"tls.keys-logged"}, ids(x))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(b), "CLIENT_TRAFFIC_SECRET_0")
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077)
}

// A server that stalls in the handshake, drops it, or speaks nonsense.
func TestHandshakesThatComeToNothing(t *testing.T) {
	for want, serve := range map[string]func(net.Conn){
		"tls.timed-out": func(c net.Conn) { time.Sleep(3 * time.Second) },
		"tls.closed":    func(c net.Conn) { _, _ = c.Read(make([]byte, 100)) },
		"tls.not-tls":   func(c net.Conn) { _, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n")) },
		"tls.alert": func(c net.Conn) { // internal error, in clear (RFC 8446 §6)
			_, _ = c.Read(make([]byte, 4096))
			_, _ = c.Write([]byte{21, 3, 3, 0, 2, 2, 80})
		},
	} {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		done := make(chan struct{})
		go func() {
			defer close(done)
			for {
				c, err := ln.Accept()
				if err != nil {
					return
				}
				serve(c)
				c.Close()
			}
		}()
		plan := to(t, ln.Addr().String(), "connect-time", "1s")
		x := run(t, plan)
		assert.Equal(t, want, x.Findings[0].ID, "%v", ids(x))
		ln.Close()
		<-done
	}
}

// A certificate that is none is named so, not the handshake.
func TestACertificateThatCannotBeRead(t *testing.T) {
	h := harbour(t)
	der := slices.Clone(h.Cert.Cert.Raw)
	i := bytes.Index(der, []byte{0x02, 0x01, 0x02}) // version, then the serial number: made negative
	require.Positive(t, i)
	serial := i + 5
	der[serial] |= 0x80
	ln, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{
		Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: h.Cert.Key}},
	})
	require.NoError(t, err)
	done := make(chan struct{})
	go func() {
		defer close(done)
		c, err := ln.Accept()
		if err == nil {
			_, _ = c.Read(make([]byte, 1))
			c.Close()
		}
	}()
	x := run(t, to(t, ln.Addr().String()))
	assert.Equal(t, "tls.certificate-unreadable", x.Findings[0].ID, "%v", ids(x))
	assert.Contains(t, x.Findings[0].Why, "serial number")
	ln.Close()
	<-done
}

// To see a chain no secret is needed, and none is asked for.
func TestAChainIsSeenWithoutASecret(t *testing.T) {
	h := harbour(t)
	p := secure(t, h)
	p.Settings.Set("identity", "desk")
	p.Settings.Set("token", "digest")
	p.Settings.Set("http-auth", "basic")
	p.Identity = func(name string) (*identity.Identity, error) {
		t.Errorf("%s was asked for", name)
		return &identity.Identity{Name: name}, nil
	}
	x := call.Chain(t.Context(), p)
	assert.Empty(t, ids(x))
	assert.Len(t, x.Leg().Conn.TLS.Chain, 1)
	assert.Empty(t, x.Leg().Out)
}
