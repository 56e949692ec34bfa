package cli

import (
	"cmp"
	"compress/gzip"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/standin"
	"orenda/internal/trust"
)

const goodAnswer = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths">%s</FindBerthsResponse></s:Body></s:Envelope>`

const aBerth = `<berth free="true"><code>N01</code><length>18</length><depth>3.2</depth><quay>%s</quay></berth>`

// answering is a server of one answer.
func answering(t *testing.T, do func(w http.ResponseWriter, r *http.Request)) string {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml")
		do(w, r)
	}))
	t.Cleanup(srv.Close)
	return srv.URL
}

func plain(quay string, n int) func(w http.ResponseWriter, r *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, goodAnswer, strings.Repeat(fmt.Sprintf(aBerth, quay), n))
	}
}

func secured(t *testing.T, pair *trust.Pair, conf *tls.Config, do func(w http.ResponseWriter, r *http.Request)) string {
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		do(w, r)
	}))
	conf.Certificates = []tls.Certificate{pair.TLS()}
	srv.TLS = conf
	srv.Config.ErrorLog = log.New(io.Discard, "", 0)
	srv.StartTLS()
	t.Cleanup(srv.Close)
	return srv.URL
}

// Each remedy is made with a real change of the workspace, and the call gets
// further by it.
func TestRemediesLetTheCallGoFurther(t *testing.T) {
	l := at(t)
	home := filepath.Join(l.dir, "home")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "config"), 0o700))
	t.Setenv("HARBOUR_WORD", standin.Password)
	one := func(do func(w http.ResponseWriter, r *http.Request)) func(*testing.T) string {
		return func(t *testing.T) string { return `address = '` + answering(t, do) + `/'` }
	}
	misbehaves := func(id string) func(*testing.T) string {
		return func(*testing.T) string { return `address = 'http://` + l.h.Plain + `/berths/~` + id + `'` }
	}
	set := func(lines string) func(*testing.T) string { return func(*testing.T) string { return lines } }
	issue := func(t *testing.T, w trust.Wish) *trust.Pair {
		p, err := trust.Issue(w)
		require.NoError(t, err)
		return p
	}
	root := issue(t, trust.Wish{Name: "Skerry root", Authority: true})
	rootFile := func(ws string) {
		require.NoError(t, os.MkdirAll(filepath.Join(ws, "trust"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(ws, "trust", "root.pem"), trust.PEM(root.Cert), 0o600))
	}
	trusted := "trust = ['trust/root.pem']\n"
	overTLS := func(w trust.Wish, conf *tls.Config, lines string) func(*testing.T) string {
		return func(t *testing.T) string {
			if len(w.Hosts) == 0 {
				w.Hosts = []string{"127.0.0.1"}
			}
			return lines + `address = '` + secured(t, issue(t, w), conf, plain("quay", 1)) + `/'`
		}
	}
	for id, c := range map[string]struct {
		make  func(t *testing.T) string // lines of the endpoint's table
		top   string                    // lines of other tables
		call  []string                  // instead of FindBerths
		nth   int                       // which remedy, counted from 1
		first string                    // the warning that explains it, and comes before it
		again string                    // what may still be said first after it; "" it passes
	}{
		"address.variable-unset": {make: set("address = '${Berths}'"), top: "[environment.model]\nberths = " +
			"'BERTHS'\n"},
		"address.scheme-unsupported": {make: func(*testing.T) string {
			return `address = 'ftp://` + l.h.Plain +
				`/berths'`
		}, again: "tls.not-tls"},
		"binding.operation-unknown":  {make: set(""), call: []string{"findberths"}},
		"binding.version-differs":    {make: set("soap = '1.2'")},
		"binding.action-differs":     {make: set("action = 'urn:skerry:berths:FindBerth'")},
		"binding.buffer-differs":     {make: set("buffer-limit = 65536\nstrict-buffer = true")},
		"binding.limit-invalid":      {make: set("receive-limit = 0")},
		"binding.time-limit-invalid": {make: set("answer-time = '0s'")},
		"binding.value-invalid":      {make: set("intake = 'slowly'")},
		"message.too-large":          {make: set("send-limit = 64")},
		"security.identity-unknown": {make: set("token = 'digest'\nidentity = 'Pilot-desk'"),
			again: "security.identity-host-new"},
		"security.identity-host-new": {make: set("token = 'digest'\nidentity = 'pilot-desk'")},
		"security.password-type-unknown": {make: set("token = 'slack water'\nidentity = 'pilot-desk'"),
			again: "security.identity-host-new"},
		"connect.proxy-refused": {make: set("proxy = 'http://127.0.0.1:1'"), again: ""},
		"connect.proxy-invalid": {make: set("proxy = 'quay'")},
		"connect.proxy-new":     {make: set("proxy = 'http://127.0.0.1:1'"), again: "connect.proxy-refused"},
		"tls.not-tls": {make: func(*testing.T) string {
			return `address = 'https://` + l.h.Plain +
				`/berths'`
		}},
		"send.plain-to-tls": {make: func(*testing.T) string {
			return `address = 'http://` + l.h.TLS +
				`/berths'`
		}, again: "tls.self-signed"},
		"tls.self-signed": {make: func(*testing.T) string {
			return `address = 'https://` + l.h.TLS +
				`/berths'`
		}},
		"tls.authority-unknown": {make: overTLS(trust.Wish{Name: "quay", By: root}, &tls.Config{}, "")},
		"tls.expired": {make: overTLS(trust.Wish{Name: "old", By: root,
			NotBefore: time.Now().AddDate(-2, 0, 0), NotAfter: time.Now().AddDate(0, 0, -3)}, &tls.Config{}, trusted)},
		"tls.not-yet-valid": {make: overTLS(trust.Wish{Name: "young", By: root,
			NotBefore: time.Now().AddDate(0, 0, 3)}, &tls.Config{}, trusted)},
		"tls.name-differs": {make: overTLS(trust.Wish{Name: "other", Hosts: []string{"other.skerry.test"},
			By: root}, &tls.Config{}, trusted)},
		"tls.version-refused": {make: overTLS(trust.Wish{Name: "quay", By: root},
			&tls.Config{MinVersion: tls.VersionTLS11, MaxVersion: tls.VersionTLS11}, trusted)},
		"tls.protocol-refused": {make: overTLS(trust.Wish{Name: "quay", By: root}, &tls.Config{},
			trusted+"alpn = 'quay/1'\n")},
		"wait.timed-out": {make: func(t *testing.T) string {
			return "answer-time = '150ms'\n" + one(func(w http.ResponseWriter, r *http.Request) {
				time.Sleep(300 * time.Millisecond)
				plain("quay", 1)(w, r)
			})(t)
		}},
		"receive.over-limit": {make: func(t *testing.T) string {
			return "receive-limit = 1024\n" + one(plain("quay",
				60))(t)
		}},
		"receive.over-buffer": {first: "binding.buffer-differs",
			make: func(t *testing.T) string { return "buffer-limit = 1024\n" + one(plain("quay", 60))(t) }},
		"receive.inflated-over-limit": {make: func(t *testing.T) string {
			return "inflated-limit = 4096\nreceive-limit = 4096\ncompression = 'gzip'\n" +
				one(func(w http.ResponseWriter, _ *http.Request) {
					w.Header().Set("Content-Encoding", "gzip")
					z := gzip.NewWriter(w)
					fmt.Fprintf(z, goodAnswer, strings.Repeat(fmt.Sprintf(aBerth, "quay"), 80))
					_ = z.Close()
				})(t)
		}},
		"receive.stalled": {make: func(t *testing.T) string {
			return "receive-time = '150ms'\n" + one(func(w http.ResponseWriter, _ *http.Request) {
				whole := fmt.Sprintf(goodAnswer, "")
				w.Header().Set("Content-Length", fmt.Sprint(len(whole)))
				_, _ = io.WriteString(w, whole[:20])
				w.(http.Flusher).Flush()
				time.Sleep(300 * time.Millisecond)
				_, _ = io.WriteString(w, whole[20:])
			})(t)
		}},
		"receive.timed-out": {make: func(t *testing.T) string {
			return "total-time = '200ms'\nconnect-time = '100ms'\n" + one(func(w http.ResponseWriter, _ *http.Request) {
				whole := fmt.Sprintf(goodAnswer, "")
				w.Header().Set("Content-Length", fmt.Sprint(len(whole)))
				_, _ = io.WriteString(w, whole[:20])
				w.(http.Flusher).Flush()
				time.Sleep(400 * time.Millisecond)
				_, _ = io.WriteString(w, whole[20:])
			})(t)
		}},
		"receive.unauthorized": {make: one(func(w http.ResponseWriter, r *http.Request) {
			if u, p, _ := r.BasicAuth(); u != standin.User || p != standin.Password {
				w.Header().Set("WWW-Authenticate", `Basic realm="quay"`)
				w.WriteHeader(401)
				return
			}
			plain("quay", 1)(w, r)
		})},
		"receive.not-found": {make: func(*testing.T) string {
			return `address = 'http://` + l.h.Plain +
				`/quay'`
		}},
		"receive.redirected": {make: misbehaves("receive.redirected")},
		"receive.media-type-refused": {make: func(*testing.T) string {
			return "soap = '1.1'\naddress = 'http://" +
				l.h.Plain + "/berths12'"
		}},
		"read.version-differs": {make: misbehaves("read.version-differs"), again: "verify.reply-differs"},
		"read.fault-version":   {make: misbehaves("read.fault-version"), again: "binding.version-differs"},
		"read.depth-over-limit": {make: func(t *testing.T) string {
			return "depth-limit = 4\n" +
				one(plain("quay", 1))(t)
		}},
		"read.text-over-limit": {make: func(t *testing.T) string {
			return "text-limit = 1024\n" +
				one(plain(strings.Repeat("q", 5000), 1))(t)
		}},
		"read.repeats-over-limit": {make: func(t *testing.T) string {
			return "repeat-limit = 20\n" +
				one(plain("quay", 60))(t)
		}},
		"read.names-over-limit": {make: func(t *testing.T) string {
			return "name-limit = 3\n" +
				one(plain("quay", 1))(t)
		}},
		"read.fault-addressing": {make: misbehaves("read.fault-addressing")},
		"read.fault-security-missing": {make: misbehaves("read.fault-security-missing"),
			again: "read.fault-security-invalid"},
		"binding.time-limits-contradict": {make: set("connect-time = '10s'\nanswer-time = '9m'\ntotal-time = '2m'")},
		"binding.limits-contradict":      {make: set("inflated-limit = 1024\nreceive-limit = 4096")},
		"address.environment-unknown": {make: set(""), top: "[environment.model]\nx = 'y'\n",
			call: []string{"FindBerths",
				"--env", "modle"}},
		"binding.endpoint-missing":  {make: set(""), call: []string{"FindBerths", "--endpoint", "BerthDesk1"}},
		"message.body-differs":      {make: set(""), call: []string{"FindBerths/other"}},
		"message.namespace-differs": {make: set(""), call: []string{"FindBerths/bare"}},
	} {
		t.Run(id, func(t *testing.T) {
			ws := filepath.Join(t.TempDir(), "ws")
			code, _, errOut := l.run("-w", ws, "add", l.berths())
			require.Equal(t, 0, code, errOut)
			require.NoError(
				t,
				os.WriteFile(
					filepath.Join(home, "config", "identities.toml"),
					[]byte("[pilot-desk]\nuser = '"+standin.User+"'\nsecret = 'env:HARBOUR_WORD'\n"),
					0o600,
				),
			)
			rootFile(ws)
			file := filepath.Join(ws, "orenda.toml")
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			lines := c.make(t)
			text := strings.Replace(
				string(b),
				"[endpoint.BerthDesk11]\n",
				"[endpoint.BerthDesk11]\ndefault = true\n"+lines+"\n",
				1,
			) + "\n" + strings.ReplaceAll(
				c.top,
				"BERTHS",
				"http://"+l.h.Plain+"/berths",
			)
			if c.top != "" {
				text = "default-environment = 'model'\n" + text
			}
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			drafts := filepath.Join(ws, "drafts", "berth-desk", "BerthDesk", "FindBerths")
			require.NoError(
				t,
				os.WriteFile(
					filepath.Join(drafts, "first.xml"),
					[]byte(`<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`),
					0o600,
				),
			)
			if len(c.call) > 0 {
				switch c.call[0] {
				case "FindBerths/other":
					require.NoError(
						t,
						os.WriteFile(
							filepath.Join(drafts, "other.xml"),
							[]byte(
								`<LogSighting xmlns="urn:skerry:berths"><vessel><name>Alder</name><callSign>SKAL4</callSign></vessel><at>2027-03-01T06:00:00Z</at></LogSighting>`,
							),
							0o600,
						),
					)
				case "FindBerths/bare":
					require.NoError(
						t,
						os.WriteFile(
							filepath.Join(drafts, "bare.xml"),
							[]byte(`<FindBerths><length>12</length></FindBerths>`),
							0o600,
						),
					)
				}
			}
			send := func() (x exchange.Report, reach int) {
				args := append([]string{"-w", ws, "call"}, c.call...)
				if len(c.call) == 0 {
					args = append(args, "FindBerths/first")
				}
				_, out, errOut := l.run(append(args, "--json")...)
				require.NoError(t, json.Unmarshal([]byte(out), &x), "%s%s", out, errOut)
				for _, s := range x.Stages {
					if s.State == exchange.Passed || s.State == exchange.Warned ||
						s.State == exchange.Skipped && reach == int(s.Stage)-1 {
						reach = int(s.Stage)
					}
				}
				return x, reach
			}
			first, _ := send()
			if id == "connect.proxy-refused" { // it is allowed first
				code, _, errOut := l.run("-w", ws, "repair", "last")
				require.Equal(t, 0, code, errOut)
				first, _ = send()
			}
			require.NotEmpty(t, first.Findings, "it passed")
			require.Equal(t, cmp.Or(c.first, id), first.Findings[0].ID, "%+v", first.Findings[0])
			require.NotEmpty(t, first.Findings[0].Remedies)
			code, _, errOut = l.run("-w", ws, "repair", "last", "--remedy", fmt.Sprint(max(c.nth, 1)))
			require.Equal(t, 0, code, errOut)
			if len(c.call) > 1 { // what was said on the command line gives way
				c.call = c.call[:1]
			}
			switch id {
			case "binding.operation-unknown":
				c.call = []string{"FindBerths"}
			case "message.body-differs":
				c.call = []string{"LogSighting/other"}
			}
			second, _ := send()
			if c.again == "" {
				var left []string
				for _, f := range second.Findings {
					if f.Severity != exchange.Note {
						left = append(left, f.ID)
					}
				}
				assert.Equal(t, exchange.OutcomePassed, second.Outcome, "%+v", second.Findings)
				assert.NotContains(t, left, id)
				return
			}
			require.NotEmpty(t, second.Findings)
			assert.Equal(t, c.again, second.Findings[0].ID, "%+v", second.Findings[0])
		})
	}
}
