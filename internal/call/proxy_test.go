package call_test

import (
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

// daemon starts a server of Debian's on a free port, and ends it with the test.
func daemon(t *testing.T, name string, args func(port string) []string) (address string) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skip(name + " is not installed (make test installs it)")
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = ln.Addr().String()
	ln.Close()
	_, port, _ := net.SplitHostPort(address)
	cmd := exec.Command(path, args(port)...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return address
}

// tinyproxy is an HTTP proxy that lets CONNECT through to every port; with
// auth, "user password" is asked for.
func tinyproxy(t *testing.T, auth string) string {
	return daemon(t, "tinyproxy", func(port string) []string {
		conf := fmt.Sprintf("Port %s\nListen 127.0.0.1\nTimeout 20\nMaxClients 20\n", port)
		if auth != "" {
			conf += "BasicAuth " + auth + "\n"
		}
		f := filepath.Join(t.TempDir(), "tinyproxy.conf")
		require.NoError(t, os.WriteFile(f, []byte(conf), 0o600))
		return []string{"-d", "-c", f}
	})
}

// secure is a plan over the harbour's TLS port, with its certificate trusted.
func secure(t *testing.T, h *standin.Harbour) call.Plan {
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "https://"+h.TLS+"/berths")
	f := filepath.Join(t.TempDir(), "harbour.pem")
	require.NoError(t, os.WriteFile(f, trust.PEM(h.Cert.Cert), 0o600))
	p.Settings.Set("trust", f)
	return p
}

func TestThroughAnHTTPProxy(t *testing.T) {
	h := harbour(t)
	open := tinyproxy(t, "")
	p := berths(t, h, "/berths")
	p.Settings.Set("proxy", "http://"+open)
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Empty(t, ids(x))
	assert.Equal(t, "http://"+open, x.Leg().Conn.Proxy)
	assert.True(
		t,
		strings.HasPrefix(string(x.Leg().Out), "POST http://"+h.Plain+"/berths HTTP/1.1\r\n"),
		"the request names the whole address",
	)
	assert.Equal(t, "http://"+open, x.Stage(exchange.Connect).Facts.Get("through the proxy"))

	p = secure(t, h)
	p.Settings.Set("proxy", "http://"+open)
	x = run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	require.Len(t, x.Legs, 2)
	assert.Equal(t, "proxy", x.Legs[0].Purpose)
	assert.True(t, strings.HasPrefix(string(x.Legs[0].Out), "CONNECT "+h.TLS+" HTTP/1.1\r\n"))
	assert.Equal(t, 200, x.Legs[0].Response.Status)
	assert.True(t, strings.HasPrefix(string(x.Leg().Out), "POST /berths HTTP/1.1\r\n"))
}

func TestAProxyThatAsksWhoCalls(t *testing.T) {
	h := harbour(t)
	guarded := tinyproxy(t, "desk s3cret-word")
	for name, p := range map[string]call.Plan{"plain": berths(t, h, "/berths"), "TLS": secure(t, h)} {
		t.Run(name, func(t *testing.T) {
			p.Settings.Set("proxy", "http://"+guarded)
			p.Identities = []diagnose.Identity{{Name: "gate", User: "desk"}}
			x := run(t, p)
			require.NotEmpty(t, x.Findings)
			f := x.Findings[0]
			assert.Equal(t, "connect.proxy-refused", f.ID, "%v", ids(x))
			assert.Equal(t, exchange.Yours, f.Side)
			assert.Contains(t, f.Why, "407")
			assert.Contains(t, f.Evidence[0].Excerpt, "Proxy-Authenticate")
			assert.Equal(t, "endpoint.berths.proxy-identity", f.Remedies[0].All()[0].Key)

			t.Setenv("GATE_WORD", "s3cret-word")
			p.Identity = func(name string) (*identity.Identity, error) {
				return &identity.Identity{Name: name, User: "desk", Secret: "env:GATE_WORD"}, nil
			}
			p.Settings.Set("proxy-identity", "gate")
			x = run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
			kept := fmt.Sprintf("%s %v", x.Redact(nil).Legs[0].Out, x.Redact(nil).Legs[0].Request.Fields)
			assert.Contains(t, kept, "Proxy-Authorization")
			assert.NotContains(t, kept, "ZGVzazpzM2NyZXQtd29yZA", "the password is cut out of what is kept")
		})
	}
}

func TestThroughASOCKSProxy(t *testing.T) {
	h := harbour(t)
	open := daemon(t, "microsocks", func(port string) []string { return []string{"-i", "127.0.0.1", "-p", port} })
	p := secure(t, h)
	p.Settings.Set("proxy", "socks5://"+open)
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, "socks5://"+open, x.Leg().Conn.Proxy)
	assert.Empty(t, ids(x))

	guarded := daemon(t, "microsocks", func(port string) []string {
		return []string{"-i", "127.0.0.1", "-p", port, "-u", "desk", "-P", "word"}
	})
	p.Settings.Set("proxy", "socks5://"+guarded)
	x = run(t, p)
	assert.Equal(t, "connect.proxy-refused", x.Findings[0].ID)
	assert.Equal(t, exchange.Connect, x.StoppedAt)
	p.Settings.Set("proxy", "socks5://desk:word@"+guarded)
	x = run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.NotContains(t, x.Leg().Conn.Proxy, "word")
}

func TestProxiesThatCannotBeUsed(t *testing.T) {
	h := harbour(t)
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	gone.Close()
	p := berths(t, h, "/berths")
	p.Settings.Set("proxy", "http://"+gone.Addr().String())
	x := run(t, p)
	assert.Equal(t, "connect.proxy-refused", x.Findings[0].ID)
	assert.Equal(t, exchange.Connect, x.StoppedAt)
	last := x.Findings[0].Remedies[len(x.Findings[0].Remedies)-1].All()[0]
	assert.Equal(t, "none", last.To)

	p.Settings.Set("proxy", "ftp://gate")
	x = run(t, p)
	assert.Equal(t, "connect.proxy-invalid", x.Findings[0].ID)
	assert.Equal(t, exchange.Connect, x.Findings[0].Stage)
	assert.Equal(t, exchange.Binding, x.StoppedAt, "it is told before anything is sent")

	// A proxy that a workspace names must be allowed for it.
	p = berths(t, h, "/berths")
	p.Settings.Layers = append(
		[]endpoint.Layer{{Source: "endpoint", Values: map[string][]string{"proxy": {"http://gate.test:3128"}}}},
		p.Settings.Layers...)
	p.ProxyOK = func(string) bool { return false }
	x = run(t, p)
	assert.Equal(t, "connect.proxy-new", x.Findings[0].ID)
	assert.Equal(t, "allow.proxy", x.Findings[0].Remedies[0].All()[0].Key)
	assert.NotEmpty(t, x.Findings[0].Remedies[0].Ask)

	// What speaks there is no proxy, or one that will not connect.
	p = secure(t, h)
	p.Settings.Set("proxy", "http://"+h.Plain)
	x = run(t, p)
	assert.Equal(t, "connect.proxy-refused", x.Findings[0].ID)
	assert.Contains(t, x.Findings[0].Title, "will not pass the call on")
}

// The environment's proxy is used and shown, and so are its exceptions.
func TestTheEnvironmentsProxy(t *testing.T) {
	h := harbour(t)
	open := tinyproxy(t, "")
	p := berths(t, h, "/berths")
	_, port, _ := net.SplitHostPort(h.Plain)
	for _, k := range []string{"HTTP_PROXY", "http_proxy", "NO_PROXY", "no_proxy"} {
		t.Setenv(k, "")
	}
	t.Setenv("HTTP_PROXY", "http://"+open)
	x := run(t, p)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Contains(t, x.Stage(exchange.Connect).Facts.Get("proxy"), "exception", "loopback never goes through it")
	assert.Empty(t, x.Leg().Conn.Proxy)

	p.Settings.Set("address", "http://255.255.255.255:"+port+"/berths") // no name to look up, and nobody there
	p.Settings.Set("answer-time", "5s")
	x = run(t, p)
	assert.Equal(t, "http://"+open, x.Leg().Conn.Proxy)
	assert.Contains(t, x.Stage(exchange.Connect).Facts.Get("proxy"), "process environment")
	t.Setenv("NO_PROXY", "255.255.255.255")
	x = run(t, p)
	assert.Empty(t, x.Leg().Conn.Proxy)
}

// A proxy that is spoken to over TLS has a certificate of its own, which what is
// pinned or excepted for the service says nothing about.
func TestThroughAProxyOverTLS(t *testing.T) {
	h := harbour(t)
	open := tinyproxy(t, "")
	pki := newPKI(t)
	gate := pki.issue("gate", trust.Wish{Name: "gate", Hosts: []string{"127.0.0.1"}, By: pki.root})
	ln, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{gate.TLS()}})
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			in, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", open)
				if err != nil {
					return
				}
				defer out.Close()
				go func() { _, _ = io.Copy(out, in); out.Close() }()
				_, _ = io.Copy(in, out)
			}()
		}
	}()
	for name, p := range map[string]call.Plan{"plain": berths(t, h, "/berths"), "TLS": secure(t, h)} {
		t.Run(name, func(t *testing.T) {
			p.Settings.Set("proxy", "https://"+ln.Addr().String())
			x := run(t, p)
			require.NotEmpty(t, x.Findings)
			assert.Equal(t, "connect.proxy-refused", x.Findings[0].ID)
			p.SkipVerify = true
			assert.Equal(t, exchange.Connect, run(t, p).StoppedAt, "it is the service's certificate that is accepted")

			p.SkipVerify = false
			p.Settings.Set("trust", append(p.Settings.List("trust"), pki.file("root.pem"))...)
			p.Settings.Set("pin", trust.Grouped(trust.PublicKeyPin(h.Cert.Cert)))
			x = run(t, p)
			require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
			assert.Equal(t, "https://"+ln.Addr().String(), x.Leg().Conn.Proxy)
		})
	}
}
