package call_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/identity"
)

// kdc starts MIT's key distribution centre for the realm SKERRY.TEST, and Apache with
// auth_gssapi before a page that answers as the berth desk does. It gives Apache's address.
func kdc(t *testing.T) (dir, apache string) {
	t.Helper()
	for _, tool := range []string{"krb5kdc", "kdb5_util", "kadmin.local", "kinit", "apache2"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not here (Debian: krb5-kdc krb5-admin-server krb5-user apache2 libapache2-mod-auth-gssapi)", tool)
		}
	}
	const modules = "/usr/lib/apache2/modules/"
	if _, err := os.Stat(modules + "mod_auth_gssapi.so"); err != nil {
		t.Skip("auth_gssapi is not here (Debian: libapache2-mod-auth-gssapi)")
	}
	dir, err := os.MkdirTemp("", "orenda-krb-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // Apache's workers read it
	port, web := freePort(t), freePort(t)
	write := func(name, text string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644)) //nolint:gosec // the same
		return p
	}
	conf := write("krb5.conf", fmt.Sprintf("[libdefaults]\n default_realm = SKERRY.TEST\n dns_lookup_kdc = false\n rdns = false\n"+
		" dns_canonicalize_hostname = false\n udp_preference_limit = 1\n[realms]\n SKERRY.TEST = {\n  kdc = 127.0.0.1:%s\n }\n"+
		"[domain_realm]\n localhost = SKERRY.TEST\n 127.0.0.1 = SKERRY.TEST\n", port))
	profile := write("kdc.conf", fmt.Sprintf("[kdcdefaults]\n kdc_listen = 127.0.0.1:%[1]s\n kdc_tcp_listen = 127.0.0.1:%[1]s\n[realms]\n SKERRY.TEST = {\n"+
		"  database_name = %[2]s/principal\n  key_stash_file = %[2]s/stash\n  acl_file = %[2]s/acl\n  supported_enctypes = aes256-cts:normal\n }\n", port, dir))
	env := append(os.Environ(), "KRB5_CONFIG="+conf, "KRB5_KDC_PROFILE="+profile)
	run := func(in, name string, args ...string) {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Env, cmd.Stdin = env, strings.NewReader(in)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
	}
	start := func(name string, args ...string) {
		cmd := exec.Command(name, args...)
		cmd.Env = env
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { // killed at once, Apache would leave its workers behind
			_ = cmd.Process.Signal(syscall.SIGTERM)
			kill := time.AfterFunc(10*time.Second, func() { _ = cmd.Process.Kill() })
			_ = cmd.Wait()
			kill.Stop()
		})
	}
	run("", "kdb5_util", "create", "-s", "-r", "SKERRY.TEST", "-P", "master")
	for _, q := range []string{"addprinc -pw slackwater ines", "addprinc -randkey HTTP/localhost", "addprinc -maxlife 1second -pw slackwater brief",
		"ktadd -k " + dir + "/http.keytab HTTP/localhost", "ktadd -norandkey -k " + dir + "/ines.keytab ines"} {
		run("", "kadmin.local", "-r", "SKERRY.TEST", "-q", q)
	}
	require.NoError(t, os.Chmod(dir+"/http.keytab", 0o644)) //nolint:gosec // Apache's workers read it
	start("krb5kdc", "-n", "-r", "SKERRY.TEST")
	root := filepath.Join(dir, "www")
	require.NoError(t, os.Mkdir(root, 0o755)) //nolint:gosec // the same
	require.NoError(t, os.WriteFile(root+"/berths.xml", []byte(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
		`<FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`), 0o644)) //nolint:gosec // the same
	httpd := fmt.Sprintf("ServerRoot %[1]s\nServerName localhost\nPidFile %[1]s/pid\nListen 127.0.0.1:%[2]s\nErrorLog %[1]s/error.log\nDocumentRoot %[3]s\n",
		dir, web, root)
	for _, m := range []string{"mpm_event", "authn_core", "authz_core", "authz_user", "auth_gssapi", "alias", "cgid"} {
		if _, err := os.Stat(modules + "mod_" + m + ".so"); err == nil {
			httpd += fmt.Sprintf("LoadModule %s_module %smod_%s.so\n", m, modules, m)
		}
	}
	script := filepath.Join(dir, "answer.sh")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\ncat > /dev/null\necho 'Content-Type: text/xml; charset=utf-8'\necho\ncat "+root+"/berths.xml\n"), 0o755)) //nolint:gosec // it is run
	httpd += fmt.Sprintf("ScriptSock %[1]s/cgid.sock\nScriptAlias /berths %[2]s\n<Directory %[1]s>\nRequire all granted\n</Directory>\n"+
		"<Location /berths>\nAuthType GSSAPI\nAuthName quay\nGssapiCredStore keytab:%[1]s/http.keytab\nRequire valid-user\n</Location>\n", dir, script)
	if os.Geteuid() == 0 {
		httpd += "User nobody\nGroup nogroup\n"
	}
	t.Cleanup(func() {
		if b, err := os.ReadFile(dir + "/error.log"); err == nil && t.Failed() {
			t.Log(string(b))
		}
	})
	start("apache2", "-f", write("httpd.conf", httpd), "-DFOREGROUND")
	for _, p := range []string{port, web} {
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", "127.0.0.1:"+p)
			if err == nil {
				c.Close()
			}
			return err == nil
		}, 10*time.Second, 20*time.Millisecond, "port %s", p)
	}
	t.Setenv("KRB5_CONFIG", conf)
	return dir, "http://localhost:" + web + "/berths"
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// Kerberos against MIT's key distribution centre and Apache: by tickets, keytab, or user and
// secret; and what goes wrong is told.
func TestNegotiate(t *testing.T) {
	dir, apache := kdc(t)
	h := harbour(t)
	t.Setenv("INES_WORD", "slackwater")
	t.Setenv("WRONG_WORD", "noon")
	tickets := filepath.Join(dir, "tickets")
	kinit := func(who, cache string, more ...string) {
		cmd := exec.Command("kinit", append(more, "-c", cache, who)...)
		cmd.Stdin = strings.NewReader("slackwater\n")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	kinit("ines", tickets)
	brief := filepath.Join(dir, "brief")
	kinit("brief", brief)
	call := func(id identity.Identity, set ...string) *exchange.Exchange {
		p := berths(t, h, "/berths")
		p.Settings.Set("address", apache)
		p.Settings.Set("http-auth", "negotiate")
		p.Settings.Set("identity", "ines")
		for i := 0; i+1 < len(set); i += 2 {
			p.Settings.Set(set[i], set[i+1])
		}
		id.Name = "ines"
		p.Identity = func(string) (*identity.Identity, error) { return &id, nil }
		return run(t, p)
	}
	for _, id := range []identity.Identity{{Tickets: tickets}, {User: "ines", Keytab: dir + "/ines.keytab"},
		{User: "ines@SKERRY.TEST", Secret: "env:INES_WORD"}} {
		x := call(id)
		require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v: %+v", id, x.Findings)
		assert.Contains(t, string(x.Leg().Out), "Authorization: Negotiate ")
		assert.NotRegexp(t, `Negotiate [A-Za-z0-9+/]{40}`, string(x.Redact(nil).Leg().Out))
		assert.Contains(t, x.Stage(exchange.Security).Facts.Get("Kerberos"), "HTTP/localhost")
	}
	time.Sleep(1500 * time.Millisecond) // the brief ticket ends
	for want, c := range map[string]struct {
		id  identity.Identity
		set []string
	}{
		"security.ticket-missing":   {id: identity.Identity{Tickets: dir + "/none"}},
		"security.ticket-expired":   {id: identity.Identity{Tickets: brief}},
		"security.ticket-principal": {id: identity.Identity{Tickets: tickets}, set: []string{"service-principal", "HTTP/quay.skerry.test"}},
		"security.ticket-refused":   {id: identity.Identity{User: "ines", Secret: "env:WRONG_WORD"}},
		"security.ticket-realm":     {id: identity.Identity{User: "ines@NOWHERE.TEST", Secret: "env:INES_WORD"}},
	} {
		x := call(c.id, c.set...)
		require.NotNil(t, x.Cause(), want)
		assert.Equal(t, want, x.Cause().ID, x.Cause().Why)
		assert.Equal(t, exchange.Security, x.StoppedAt)
		assert.NotContains(t, fmt.Sprint(x.Redact(nil)), "slackwater")
	}
	t.Setenv("KRB5_CONFIG", dir+"/nothing.conf")
	assert.Equal(t, "security.ticket-realm", call(identity.Identity{User: "ines", Secret: "env:INES_WORD"}).Cause().ID)
}

// A key distribution centre whose clock differs, made up of its answer alone.
func TestAClockThatKerberosDoesNotTake(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	said := messages.NewKRBError(types.NewPrincipalName(nametype.KRB_NT_SRV_INST, "krbtgt/SKERRY.TEST"), "SKERRY.TEST",
		errorcode.KRB_AP_ERR_SKEW, "the clocks differ")
	b, err := said.Marshal()
	require.NoError(t, err)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			var n [4]byte
			if _, err := io.ReadFull(c, n[:]); err == nil {
				_, _ = io.CopyN(io.Discard, c, int64(binary.BigEndian.Uint32(n[:])))
				_, _ = c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...))
			}
			c.Close()
		}
	}()
	conf := filepath.Join(t.TempDir(), "krb5.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf("[libdefaults]\n default_realm = SKERRY.TEST\n dns_lookup_kdc = false\n"+
		" udp_preference_limit = 1\n[realms]\n SKERRY.TEST = {\n  kdc = %s\n }\n", l.Addr())), 0o600))
	t.Setenv("KRB5_CONFIG", conf)
	t.Setenv("INES_WORD", "slackwater")
	p := berths(t, harbour(t), "/berths")
	p.Settings.Set("http-auth", "negotiate")
	p.Settings.Set("identity", "ines")
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "ines", User: "ines", Secret: "env:INES_WORD"}, nil
	}
	x := run(t, p)
	assert.Equal(t, "security.ticket-clock", x.Cause().ID, x.Cause().Why)
}
