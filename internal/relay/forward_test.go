package relay

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// A program with fixed addresses goes through a forward proxy: its calls are traced, plain and over
// TLS that may be opened; all else passes, and is counted.
func TestAForwardProxy(t *testing.T) {
	reply := quayList("FindBerthsResponse")
	service := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		if r.Method == http.MethodGet {
			fmt.Fprint(w, "a page of ", r.Host)
			return
		}
		_, _ = w.Write(reply)
	})
	plain := httptest.NewServer(service)
	defer plain.Close()
	secure := httptest.NewTLSServer(service)
	defer secure.Close()
	closed := httptest.NewTLSServer(service)
	defer closed.Close()

	dir := t.TempDir()
	authority, err := trust.LocalAuthority(dir+"/a.crt", dir+"/a.key", []string{"localhost", "127.0.0.1"}, time.Now(), writeFile)
	require.NoError(t, err)
	cert, err := authority.Serve([]string{"localhost"}, time.Now())
	require.NoError(t, err)
	var mu sync.Mutex
	var kept []*exchange.Exchange
	others := map[string]int64{}
	base := call.Plan{Agent: call.Agent, Endpoint: "forward"}
	base.Settings.Set("trust", "service.pem")
	base.Settings.Set("accept-name", "example.com")
	base.ReadFile = func(string) ([]byte, error) { return trust.PEM(secure.Certificate()), nil }
	r, err := Listen(Options{
		Plan: func(*call.Imported) call.Plan { p := base; p.Operation = "any"; return p },
		Keep: func(x *exchange.Exchange) { mu.Lock(); kept = append(kept, x); mu.Unlock() },
		Forward: &Forward{
			Opens: func(host string) *tls.Certificate {
				if host == "localhost" {
					return &cert
				}
				return nil
			},
			Other: func(host string, n int64, read bool) {
				mu.Lock()
				others[fmt.Sprint(host, " ", read)] += n
				mu.Unlock()
			},
		},
	})
	require.NoError(t, err)
	defer r.Close()

	roots := x509.NewCertPool()
	roots.AddCert(authority.Cert)
	roots.AddCert(closed.Certificate())
	proxy, err := url.Parse("http://" + r.ListensAt()[0])
	require.NoError(t, err)
	client := &http.Client{Transport: &http.Transport{Proxy: func(*http.Request) (*url.URL, error) { return proxy, nil },
		TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}}
	defer client.CloseIdleConnections()
	do := func(method, address string) (int, string) {
		t.Helper()
		q, err := http.NewRequest(method, address, bytes.NewReader(quayList("FindBerths")))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "text/xml; charset=utf-8")
		resp, err := client.Do(q)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	named := func(address string) string { return strings.Replace(address, "127.0.0.1", "localhost", 1) }
	for range 2 { // the second over the connections that are kept
		for _, address := range []string{plain.URL + "/berths", named(secure.URL) + "/berths", closed.URL + "/berths"} {
			status, body := do(http.MethodPost, address)
			require.Equal(t, 200, status, "%s: %s", address, body)
			require.Equal(t, string(reply), body)
		}
	}
	_, page := do(http.MethodGet, plain.URL+"/")
	assert.Contains(t, page, "a page of "+strings.TrimPrefix(plain.URL, "http://"))
	client.CloseIdleConnections()
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return len(kept) == 4 && len(others) == 2 },
		5*time.Second, 10*time.Millisecond)
	mu.Lock()
	defer mu.Unlock()
	var hosts []string
	for _, x := range kept {
		hosts = append(hosts, x.Host())
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, x.Result)
	}
	assert.Contains(t, hosts, strings.TrimPrefix(plain.URL, "http://"))
	assert.Contains(t, hosts, strings.TrimPrefix(named(secure.URL), "https://"))
	assert.NotContains(t, hosts, strings.TrimPrefix(closed.URL, "https://"), "what is not opened is not read")
	assert.Positive(t, others[strings.TrimPrefix(closed.URL, "https://")+" false"], "%v", others)

	for _, bad := range []string{"GET /berths HTTP/1.1\r\nHost: " + r.ListensAt()[0] + "\r\n\r\n", "CONNECT nowhere HTTP/1.1\r\nHost: x\r\n\r\n",
		"GET ftp://127.0.0.1/x HTTP/1.1\r\nHost: x\r\n\r\n"} {
		assert.Contains(t, raw(t, r.ListensAt()[0], bad), "400 Bad Request", bad)
	}
	assert.Contains(t, raw(t, r.ListensAt()[0], "CONNECT 127.0.0.1:1 HTTP/1.1\r\nHost: x\r\n\r\n"), "502 Bad Gateway")
}

func writeFile(file string, b []byte) error { return os.WriteFile(file, b, 0o600) }

// raw sends bytes, and gives what comes back.
func raw(t *testing.T, address, request string) string {
	t.Helper()
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, request)
	require.NoError(t, err)
	_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
	b, _ := io.ReadAll(c)
	return string(b)
}
