package truth

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// desk is the mooring office in PHP: what it does depends on the path and on the sign. Its
// faults, pages and habits are PHP's own.
const desk = `<?php
$path = parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
if ($path === '/gone') { http_response_code(404); echo '<html><body>Not here</body></html>'; return; }
if ($path === '/blank') { return; }
if ($path === '/notice') { echo "\nWarning: Undefined variable \$quay in /srv/moor/desk.php on line 7\n"; }
if ($path === '/late') { usleep(1500000); }
if ($path === '/fatal') { quay_of_yesterday(); }
class Desk {
  function Moor($p) {
    switch ($p->sign) {
      case 'RULE': throw new SoapFault('Client', 'no vessel has the call sign RULE');
      case 'LONG': throw new SoapFault('SOAP-ENV:Client', 'length '.$p->length.' exceeds the berth');
      case 'DISK': throw new SoapFault('Server', 'could not write to disk: no space left on device');
      case 'BASE': throw new PDOException("SQLSTATE[HY000] [1045] Access denied for user 'moor'@'localhost' (using password: YES)");
      case 'BOOM': throw new Exception('Undefined index: tide');
    }
    return ['berth' => 'N02'];
  }
}
$server = new SoapServer(__DIR__.'/moor.wsdl', ['cache_wsdl' => WSDL_CACHE_NONE]);
$server->setClass('Desk');
$server->handle();
`

// serving starts a real server on a free port, or says that it is not installed.
func serving(t *testing.T, name string, args func(port string) []string) (address string, ok bool) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Logf("%s is not installed (make test installs it)", name)
		return "", false
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = l.Addr().String()
	l.Close()
	_, port, _ := net.SplitHostPort(address)
	cmd := exec.Command(path, args(port)...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, name)
	return address, true
}

// trial is a failure at a real server.
type trial struct {
	cause
	at  string // the path
	url string // the whole address, where it is another one
}

func calls(sign string) string { return strings.Replace(usual, "SKAB", sign, 1) }

// ofPHP are failures of a PHP service.
func ofPHP() []trial {
	client, server := []string{"read.fault-client"}, []string{"read.fault-server"}
	uncaught := []string{"receive.not-soap", "receive.server-error"} // PHP prints a line of text
	return []trial{
		{cause: cause{name: "php: a rule", want: client, side: exchange.Yours, body: calls("RULE")}, at: "/moor"},
		{cause: cause{name: "php: another rule", want: client, side: exchange.Yours, body: calls("LONG")}, at: "/moor"},
		{
			cause: cause{name: "php: its disk is full", want: server, side: exchange.Theirs, body: calls("DISK")},
			at:    "/moor",
		},
		{
			cause: cause{
				name: "php: its database refuses it",
				want: uncaught,
				side: exchange.Theirs,
				body: calls("BASE"),
			},
			at: "/moor",
		},
		{
			cause: cause{name: "php: an exception", want: uncaught, side: exchange.Theirs, body: calls("BOOM")},
			at:    "/moor",
		},
		{cause: cause{
			name: "php: another body element", want: []string{"message.body-differs", "read.fault-operation"},
			body: strings.ReplaceAll(usual, "Moor", "Anchor"),
		}, at: "/moor"},
		{cause: cause{name: "php: a page that is not there", want: []string{"receive.not-found"}}, at: "/gone"},
		{
			cause: cause{
				name: "php: nothing at all",
				want: []string{"read.empty", "receive.not-soap"},
				side: exchange.Theirs,
			},
			at: "/blank",
		},
		{cause: cause{
			name: "php: a warning before the reply", want: []string{"read.text-outside", "read.not-well-formed"},
			side: exchange.Theirs,
		}, at: "/notice"},
		{
			cause: cause{name: "php: slow", want: []string{"wait.timed-out"}, set: []string{"answer-time", "300ms"}},
			at:    "/late",
		},
		{cause: cause{name: "php: dies", want: uncaught, side: exchange.Theirs}, at: "/fatal"},
	}
}

// ofServers are failures of a web server in front of a service: their own pages.
func ofServers(name string) []trial {
	at := func(path, what string, side exchange.Side, want ...string) trial {
		return trial{cause: cause{name: name + ": " + what, want: want, side: side}, at: path}
	}
	return []trial{
		at("/closed", "the service behind is down", "", "receive.gateway"),
		at("/auth", "asks for a user", "", "receive.unauthorized"),
		at("/deny", "refuses everybody", "", "receive.forbidden"),
		at("/nowhere", "has nothing there", "", "receive.not-found"),
		at("/moved", "moved", "", "receive.redirected"),
		at("/file.txt", "takes no POST", "", "receive.method-refused", "receive.forbidden"), // Apache: LimitExcept
	}
}

const nginxConf = `daemon off; master_process off; pid DIR/nginx.pid; error_log DIR/error.log;
events {}
http {
  access_log off; client_body_temp_path DIR/body; proxy_temp_path DIR/proxy; fastcgi_temp_path DIR/f; uwsgi_temp_path DIR/u; scgi_temp_path DIR/s;
  server {
    listen 127.0.0.1:PORT;
    root DIR;
    location /moor { proxy_pass http://PHP; }
    location /late { proxy_pass http://PHP; proxy_read_timeout 1s; }
    location /closed { proxy_pass http://127.0.0.1:1; }
    location /auth { auth_basic "quay"; auth_basic_user_file DIR/users; proxy_pass http://PHP; }
    location /deny { deny all; }
    location /moved { return 301 /elsewhere; }
    location /small { client_max_body_size 100; proxy_pass http://PHP; }
    location /busy { return 503; }
  }
}
`

const apacheConf = `ServerName 127.0.0.1
Listen 127.0.0.1:PORT
PidFile DIR/apache.pid
ErrorLog DIR/apache.log
DocumentRoot DIR
LoadModule mpm_event_module MODULES/mod_mpm_event.so
LoadModule authz_core_module MODULES/mod_authz_core.so
LoadModule authn_core_module MODULES/mod_authn_core.so
LoadModule authn_file_module MODULES/mod_authn_file.so
LoadModule authz_user_module MODULES/mod_authz_user.so
LoadModule auth_basic_module MODULES/mod_auth_basic.so
LoadModule alias_module MODULES/mod_alias.so
LoadModule proxy_module MODULES/mod_proxy.so
LoadModule proxy_http_module MODULES/mod_proxy_http.so
<Directory DIR>
  Require all granted
</Directory>
ProxyPass /moor http://PHP/moor
ProxyPass /late http://PHP/late timeout=1
ProxyPass /closed http://127.0.0.1:1/
ProxyPass /auth http://PHP/moor
<Location /auth>
  AuthType Basic
  AuthName quay
  AuthUserFile DIR/users
  Require valid-user
</Location>
<Location /deny>
  Require all denied
</Location>
<Location /file.txt>
  <LimitExcept GET>
    Require all denied
  </LimitExcept>
</Location>
Redirect 301 /moved /elsewhere
`

// folder has what the servers serve.
func folder(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		"desk.php": desk, "moor.wsdl": strings.ReplaceAll(description, "ADDRESS", "http://127.0.0.1"),
		"users": "quay:{PLAIN}quay\n", "file.txt": "slack water\n",
	} {
		require.NoError(
			t,
			os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644),
		) //nolint:gosec // nginx and Apache read it
	}
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // the same
	return dir
}

// realServers plays failures at real servers, each beside every oddity, in both versions.
func (b *bench) realServers() *tally {
	t, r := b.t, &tally{}
	dir := folder(t)
	php, ok := serving(t, "php", func(port string) []string {
		return []string{"-d", "display_errors=1", "-d", "html_errors=0", "-S", "127.0.0.1:" + port, dir + "/desk.php"}
	})
	if !ok {
		return r
	}
	b.playReal(r, php, ofPHP())
	write := func(name, conf, port string) string {
		file := filepath.Join(dir, name)
		modules := "/usr/lib/apache2/modules"
		conf = strings.NewReplacer("DIR", dir, "PORT", port, "PHP", php, "MODULES", modules).Replace(conf)
		require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
		return file
	}
	late := func(name string) trial {
		return trial{
			cause: cause{name: name + ": the service behind is slow", want: []string{"receive.gateway"}},
			at:    "/late",
		}
	}
	at, ok := serving(t, "nginx", func(port string) []string {
		return []string{"-c", write("nginx.conf", nginxConf, port), "-e", dir + "/start.log"}
	})
	if ok {
		b.playReal(r, at, append(
			ofServers("nginx"),
			late("nginx"),
			trial{cause: cause{name: "nginx: busy",
				want: []string{"receive.gateway", "receive.server-error"}}, at: "/busy"},
			trial{
				cause: cause{name: "nginx: takes no message of that size", want: []string{"receive.too-large"}},
				at:    "/small",
			},
		))
	}
	b.realTLS(r, dir, php)
	at, also := serving(t, "apache2", func(port string) []string {
		return []string{"-X", "-f", write("apache.conf", apacheConf, port)}
	})
	if also {
		b.playReal(r, at, append(ofServers("Apache"), late("Apache")))
	}
	r.complete = ok && also
	return r
}

// tlsConf is nginx over TLS, a server for each certificate.
const tlsConf = `daemon off; master_process off; pid DIR/tls.pid; error_log DIR/tls.log;
events {}
http {
  access_log off; client_body_temp_path DIR/body; proxy_temp_path DIR/proxy; fastcgi_temp_path DIR/f; uwsgi_temp_path DIR/u; scgi_temp_path DIR/s;
  server { listen 127.0.0.1:PORT; return 200; }
  SERVERS
}
`

// realTLS plays what can be wrong with a certificate, or with the protocol, at nginx.
func (b *bench) realTLS(r *tally, dir, php string) {
	t := b.t
	now := time.Now()
	issue := func(name string, w trust.Wish) *trust.Pair {
		w.Name = name
		p, err := trust.Issue(w)
		require.NoError(t, err)
		return p
	}
	root := issue("quay root", trust.Wish{Authority: true})
	mid := issue("quay authority", trust.Wish{Authority: true, By: root})
	here := []string{"127.0.0.1"}
	trusted := filepath.Join(dir, "root.pem")
	require.NoError(t, os.WriteFile(trusted, trust.PEM(root.Cert), 0o600))
	servers, all := "", []trial{}
	add := func(what string, p *trust.Pair, more string, set []string, want ...string) {
		n := fmt.Sprint(len(all))
		chain, key := filepath.Join(dir, "leaf"+n+".pem"), filepath.Join(dir, "leaf"+n+".key")
		require.NoError(t, os.WriteFile(chain, trust.PEM(p.Cert), 0o600))
		der, err := x509.MarshalPKCS8PrivateKey(p.Key)
		require.NoError(t, err)
		block := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
		require.NoError(t, os.WriteFile(key, block, 0o600))
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at := l.Addr().String()
		l.Close()
		servers += fmt.Sprintf("server { listen %s ssl; ssl_certificate %s; ssl_certificate_key %s; %s "+
			"location / { proxy_pass http://%s; } }\n", at, chain, key, more, php)
		scheme := "https://"
		if strings.HasPrefix(what, "plain") {
			scheme = "http://"
		}
		all = append(all, trial{
			cause: cause{name: "nginx, TLS: " + what, want: want, set: append([]string{"trust", trusted}, set...)},
			url:   scheme + at + "/moor",
		})
	}
	good := trust.Wish{Hosts: here, By: root}
	add("self-signed", issue("quay", trust.Wish{Hosts: here}), "", nil, "tls.self-signed")
	add("another name", issue("quay", trust.Wish{Hosts: []string{"quay.skerry.example"}, By: root}), "", nil,
		"tls.name-differs")
	add("expired", issue("quay", trust.Wish{Hosts: here, By: root, NotBefore: now.AddDate(-2, 0, 0),
		NotAfter: now.AddDate(-1, 0, 0)}), "", nil, "tls.expired")
	add("not yet valid", issue("quay", trust.Wish{Hosts: here, By: root, NotBefore: now.AddDate(0, 1, 0),
		NotAfter: now.AddDate(1, 0, 0)}), "", nil, "tls.not-yet-valid")
	add("its issuer is not sent", issue("quay", trust.Wish{Hosts: here, By: mid}), "", nil, "tls.chain-incomplete")
	add("an unknown authority", issue("quay", trust.Wish{Hosts: here, By: issue("other", trust.Wish{Authority: true})}),
		"", nil, "tls.authority-unknown", "tls.chain-incomplete")
	add("no version in common", issue("quay", good), "ssl_protocols TLSv1.2;", []string{"tls-min", "1.3"},
		"tls.version-refused")
	add("a client certificate is demanded", issue("quay", good),
		"ssl_client_certificate "+trusted+"; ssl_verify_client on;", nil, "tls.client-certificate-required")
	add("plain to its TLS port", issue("quay", good), "", nil, "send.plain-to-tls")
	at, ok := serving(t, "nginx", func(port string) []string {
		conf := strings.NewReplacer("DIR", dir, "PORT", port, "SERVERS", servers).Replace(tlsConf)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tls.conf"), []byte(conf), 0o600))
		return []string{"-c", filepath.Join(dir, "tls.conf"), "-e", dir + "/start.log"}
	})
	if !ok {
		return
	}
	all = append(all, trial{
		cause: cause{
			name: "nginx, TLS: to a plain port",
			want: []string{"tls.not-tls"},
		}, url: "https://" + at + "/moor",
	})
	b.playReal(r, at, all)
}

func (b *bench) playReal(r *tally, at string, all []trial) {
	for i := range all {
		c := &all[i]
		for _, ns := range []string{soap11, soap12} {
			for i, odd := range oddities {
				if c.at == "/late" && i > 0 {
					break // it takes its time
				}
				body := usual
				if c.body != "" {
					body = c.body
				}
				if odd.body != nil && strings.Contains(body, "<Moor ") {
					body = odd.body(body)
				}
				address := "http://" + at + c.at
				if c.url != "" {
					address = c.url
				}
				set := append([]string{"address", address}, c.set...)
				x := b.own(ns, false, append(set, odd.set...), body)
				where := fmt.Sprintf(
					"%s · %s · %s",
					c.name,
					map[bool]string{true: "1.1", false: "1.2"}[ns == soap11],
					odd.name,
				)
				r.count(&c.cause, x, where)
				b.judgedAgain(r, x, ns, where)
			}
		}
	}
}
