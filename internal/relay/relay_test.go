package relay

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/related"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/wssec"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const (
	asks = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths"><length>%s</length></FindBerths></s:Body></s:Envelope>`
	find = `"urn:skerry:berths:FindBerths"`
)

// watched is a relay with what it kept.
type watched struct {
	*Relay
	t    *testing.T
	mu   sync.Mutex
	kept []*exchange.Exchange
}

func watch(t *testing.T, to string, set ...string) *watched {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	to = strings.NewReplacer("PLAIN", h.Plain, "TLS", h.TLS).Replace(to)
	u, err := url.Parse(to)
	require.NoError(t, err)
	p := call.Plan{Agent: "test", ReadFile: os.ReadFile}
	desk := "/berths"
	if strings.HasPrefix(u.Path, "/tides") {
		desk = "/tides"
	}
	f, err := call.Fetch(t.Context(), "http://"+h.Plain+desk+"?wsdl", p, nil)
	require.NoError(t, err)
	cert := filepath.Join(t.TempDir(), "cert.pem")
	require.NoError(t, os.WriteFile(cert, trust.PEM(h.Cert.Cert), 0o600))
	for i := 0; i+1 < len(set); i += 2 {
		p.Settings.Set(set[i], strings.ReplaceAll(set[i+1], "CERT", cert))
	}
	w := &watched{t: t}
	w.Relay, err = Listen(
		Options{
			To:   u,
			Idle: 400 * time.Millisecond,
			Plan: func(got *call.Imported) call.Plan { return against(p, f.Contract, got) },
			Keep: func(x *exchange.Exchange) {
				w.mu.Lock()
				defer w.mu.Unlock()
				w.kept = append(w.kept, x)
			},
		},
	)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}

func against(p call.Plan, c *contract.Contract, w *call.Imported) call.Plan {
	p.Operation = "?"
	p.Against(w, []*contract.Contract{c}, true)
	return p
}

// post sends as a program does, with Go's own client.
func (w *watched) post(body, action string, change ...func(*http.Request)) (status int, answer string) {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), http.MethodPost, w.Address(), strings.NewReader(body))
	require.NoError(w.t, err)
	req.Header.Set("Content-Type", "text/xml; charset=utf-8")
	req.Header.Set("SOAPAction", action)
	for _, c := range change {
		c(req)
	}
	before := w.count()
	tr := &http.Transport{DisableKeepAlives: true}
	defer tr.CloseIdleConnections()
	resp, err := (&http.Client{Transport: tr}).Do(req)
	require.NoError(w.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(w.t, err)
	w.keeps(before + 1)
	return resp.StatusCode, string(b)
}

func (w *watched) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.kept)
}

// keeps waits until so many exchanges were kept: the program has its answer before.
func (w *watched) keeps(n int) {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return w.count() >= n }, time.Minute, time.Millisecond)
}

// raw sends bytes as they are, and gives what comes back.
func (w *watched) raw(text string) string {
	w.t.Helper()
	c, err := net.Dial("tcp", w.l.Addr().String())
	require.NoError(w.t, err)
	defer c.Close()
	_, _ = io.WriteString(c, text)
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	b, _ := io.ReadAll(c)
	return string(b)
}

func (w *watched) last() *exchange.Exchange {
	w.t.Helper()
	w.mu.Lock()
	defer w.mu.Unlock()
	require.NotEmpty(w.t, w.kept)
	return w.kept[len(w.kept)-1]
}

func ids(x *exchange.Exchange) (out []string) {
	for _, f := range x.Findings {
		out = append(out, f.ID)
	}
	return out
}

func TestCallsOfAnotherProgramArePassedOnAndExplained(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	status, answer := w.post(fmt.Sprintf(asks, "12"), find)
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "FindBerthsResponse")
	x := w.last()
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Empty(t, ids(x))
	assert.Equal(t, "relay", x.Kind)
	assert.Equal(t, "FindBerths", x.Operation)
	assert.Equal(t, answer, string(x.Leg().ResponseBody.Bytes()), "byte for byte")
	assert.Equal(t, fmt.Sprintf(asks, "12"), string(x.Leg().RequestBody))
	assert.Contains(t, string(x.Leg().Out), "Soapaction: "+find, "as it is spelled")

	status, answer = w.post(fmt.Sprintf(asks, "long"), find)
	assert.Equal(t, 500, status)
	assert.Contains(t, answer, "breaks its schema")
	assert.Equal(t, "message.invalid", w.last().Cause().ID)
	_, _ = w.post(fmt.Sprintf(asks, "12"), `"urn:skerry:berths:FindBerth"`)
	assert.Equal(t, []string{"binding.action-differs", "read.fault-action"}, ids(w.last()))
	_, _ = w.post("<broken", find)
	assert.Contains(t, ids(w.last()), "message.not-well-formed")
	assert.NotEmpty(t, w.last().Leg().In.Bytes(), "it was passed on all the same")

	resp, err := http.Get(w.Address() + "?wsdl")
	require.NoError(t, err)
	b, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	assert.Contains(t, string(b), "definitions")
	assert.Equal(t, exchange.OutcomePassed, w.last().Outcome)
	http.DefaultClient.CloseIdleConnections()
}

// The service is reached as the settings say, whatever the program can do itself.
func TestTheRelayReachesTheServiceAsItIsSet(t *testing.T) {
	w := watch(t, "https://TLS/berths", "trust", "CERT")
	status, _ := w.post(fmt.Sprintf(asks, "12"), find)
	assert.Equal(t, 200, status)
	assert.Equal(t, exchange.Passed, w.last().Stage(exchange.TLS).State)
	w = watch(t, "https://TLS/berths")
	status, answer := w.post(fmt.Sprintf(asks, "12"), find)
	assert.Equal(t, 502, status)
	assert.Contains(t, answer, "self-signed")
	assert.Equal(t, "tls.self-signed", w.last().Cause().ID)
	w = watch(t, "http://127.0.0.1:1/")
	status, answer = w.post(fmt.Sprintf(asks, "12"), find)
	assert.Equal(t, 502, status)
	assert.Contains(t, answer, "nobody listens")
}

func TestWhatProgramsSend(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	body := fmt.Sprintf(asks, "12")
	head := func(more string) string {
		return "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nsoapaction: " + find + "\r\n" + more + "\r\n"
	}
	assert.Contains(
		t,
		w.raw(
			head("Transfer-Encoding: chunked\r\n")+fmt.Sprintf(
				"5\r\n%s\r\n%x;x=1\r\n%s\r\n0\r\nX: y\r\n\r\n",
				body[:5],
				len(body)-5,
				body[5:],
			),
		),
		"200 OK",
	)
	assert.Equal(t, body, string(w.last().Leg().RequestBody))
	assert.Contains(t, string(w.last().Leg().Out), "soapaction: ", "fields keep their spelling")
	assert.Contains(t, string(w.last().Leg().Out), "POST /berths HTTP/1.1", "the path is the service's")
	assert.Contains(
		t,
		w.raw(head(fmt.Sprintf("Expect: 100-continue\r\nContent-Length: %d\r\n", len(body)))+body),
		"100 Continue\r\n\r\nHTTP/1.1 200 OK",
	)

	wide := strings.Replace(body, "<length>", "<!-- é é é --><length>", 1)
	w.raw(head(fmt.Sprintf("Content-Length: %d\r\n", len([]rune(wide)))) + wide)
	assert.Contains(t, ids(w.last()), "send.length-differs")
	for _, f := range w.last().Findings {
		if f.ID == "send.length-differs" {
			assert.Contains(t, f.Why, "It is the number of its characters")
			assert.Equal(t, exchange.InRequestHead, f.Evidence[0].In)
		}
	}
	answer := w.raw(head(fmt.Sprintf("Content-Length: %d\r\n", len(body)+9)) + body)
	assert.Contains(t, answer, "502")
	assert.Equal(t, "send.length-differs", w.last().Cause().ID)
	assert.Equal(t, exchange.Send, w.last().StoppedAt)

	w.raw(head(fmt.Sprintf("Content-Length: %d\r\n", len(body)+2)) + body + "\r\n")
	assert.NotContains(t, ids(w.last()), "send.length-differs")
	latin := strings.Replace(body, "<length>", "<!-- \xe9 --><length>", 1)
	w.raw(head(fmt.Sprintf("Content-Length: %d\r\n", len(latin))) + latin)
	assert.Contains(t, ids(w.last()), "send.charset-differs")
	two := `<?xml version="1.0" encoding="ISO-8859-1"?>` + body
	_, _ = w.post(two, find)
	assert.Contains(t, ids(w.last()), "send.charset-differs")

	odd := strings.Replace(body, "<s:Body>", `<s:Header><w:Security xmlns:w="`+wssec.WSSE+`"><w:UsernameToken>`+
		`<w:Username>bob</w:Username><w:Password Type="PasswordText">x</w:Password></w:UsernameToken></w:Security>`+
		`</s:Header><s:Body>`, 1)
	_, _ = w.post(odd, find)
	assert.Contains(t, ids(w.last()), "security.password-type-differs")

	_, _ = w.post(body, find, func(r *http.Request) { r.Header.Set("Authorization", "Bearer slack-water-nine") })
	assert.Contains(t, string(w.last().Leg().Out), "slack-water-nine", "it is passed on")
	assert.NotContains(t, string(w.last().Redact(nil).Leg().Out), "slack-water-nine")
}

// A program that keeps its connection has one to the service too: some ways to
// log in are bound to it, as that of NTLM is.
func TestAConnectionThatIsKept(t *testing.T) {
	var mu sync.Mutex
	asked := map[string]int{} // requests, by connection
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		mu.Lock()
		defer mu.Unlock()
		if asked[r.RemoteAddr]++; asked[r.RemoteAddr] == 1 {
			w.Header().Set("WWW-Authenticate", "NTLM TlRMTVNTUAAC")
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if asked[r.RemoteAddr] == 4 {
			w.Header().Set("Connection", "close")
		}
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(
			w,
			`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`,
		)
	}))
	defer service.Close()
	w := watch(t, service.URL+"/berths")
	tr := &http.Transport{}
	client := &http.Client{Transport: tr}
	defer tr.CloseIdleConnections()
	var got []int
	for range 5 {
		resp, err := client.Post(w.Address(), "text/xml; charset=utf-8", strings.NewReader(fmt.Sprintf(asks, "12")))
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		got = append(got, resp.StatusCode)
	}
	assert.Equal(t, []int{401, 200, 200, 200, 401}, got, "the fourth closed the connection")
	assert.Len(t, asked, 2)
	w.keeps(5)
	w.mu.Lock()
	defer w.mu.Unlock()
	require.Len(t, w.kept, 5)
	assert.False(t, w.kept[0].Leg().Conn.Reused)
	assert.True(t, w.kept[1].Leg().Conn.Reused)
	assert.NotContains(t, string(w.kept[1].Leg().Out), "Connection:")
}

// Nothing that follows a body that is longer than it says is taken for a request.
func TestWhatIsLeftOverBeginsNoRequest(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	body := fmt.Sprintf(asks, "12")
	answer := w.raw(
		fmt.Sprintf(
			"POST /berths HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nSOAPAction: %s\r\nContent-Length: "+
				"%d\r\n\r\n%s\nGET /berths HTTP/1.1\r\n\r\n",
			find,
			len(body)-4,
			body,
		),
	)
	assert.Equal(t, 1, strings.Count(answer, "HTTP/1.1 "), answer)
	two := fmt.Sprintf(
		"POST /berths HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nSOAPAction: %s\r\nContent-Length: %d\r\n\r\n%s",
		find,
		len(body),
		body,
	)
	answer = w.raw(two + two)
	assert.Equal(t, 2, strings.Count(answer, "HTTP/1.1 200 OK"), "one after the other")
}

func TestManyProgramsAtOnce(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	var wg sync.WaitGroup
	for range 40 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			status, _ := w.post(fmt.Sprintf(asks, "12"), find)
			assert.Equal(t, 200, status)
		}()
	}
	wg.Wait()
	w.keeps(40)
	assert.Equal(t, 40, w.count())
}

func TestWhatNoRelayTakes(t *testing.T) {
	to, _ := url.Parse("http://127.0.0.1:1/")
	for _, listen := range []string{"0.0.0.0:0", "192.0.2.1:80", ":8080", "nonsense"} {
		_, err := Listen(Options{Listen: listen, To: to})
		assert.Error(t, err, listen)
	}
	_, err := Listen(Options{To: &url.URL{Scheme: "ftp", Host: "x"}})
	assert.ErrorContains(t, err, "http or https")
	w := watch(t, "http://PLAIN/berths")
	for text, says := range map[string]string{
		"nonsense\r\n\r\n":                                                                    "no request line",
		"\x16\x03\x01\x00\xff\x01\r\n":                                                        "no request line",
		"POST / HTTP/1.1\r\nno colon\r\n\r\n":                                                 "no header field",
		"POST / HTTP/1.1\r\nContent-Length: -4\r\n\r\n":                                       "is not taken",
		"POST / HTTP/1.1\r\nContent-Length: 99999999999999\r\n\r\n":                           "is not taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n":                         "is not taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nfffffffff\r\n":                  "is not taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: gzip\r\n\r\n":                                  "is not taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n1\r\na\r\n7fffffffffffffff\r\n": "is not taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n" + strings.Repeat("1",
			70000): "larger than is taken",
		"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n" + strings.Repeat("X: a\r\n",
			20000): "larger than is taken",
		"POST / HTTP/1.1\r\nX-Quay\rX-Evil: a\r\n\r\n":                                        "no header field",
		"POST / HTTP/1.1\r\nOrigin: https://elsewhere.skerry.test\r\n\r\n":                    "a web page from elsewhere",
		"POST / HTTP/1.1\r\nOrigin: http://127.0.0.1:8080\r\n\r\n":                            "a web page from elsewhere",
		"POST / HTTP/1.1\r\nSec-Fetch-Site: same-site\r\n\r\n":                                "a web page",
		"POST / HTTP/1.1\r\nHost: harbour.skerry.test:80\r\n\r\n":                             "is not this relay",
		"POST / HTTP/1.1\r\nContent-Length: 4\r\nContent-Length: 5\r\n\r\nabcd":               "",
		"POST / HTTP/1.1\r\nContent-Length: +4\r\n\r\nabcd":                                   "",
		"POST / HTTP/1.1\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n": "",
		"POST / HTTP/1.1\r\nX: " + strings.Repeat("a",
			70000) + "\r\n\r\n": "larger than is taken",
		"POST / HTTP/1.1\r\n" + strings.Repeat("X: a\r\n",
			20000) + "\r\n\r\n": "larger than is taken",
	} {
		answer := w.raw(text)
		assert.Contains(t, answer, "400 Bad Request", "%.40q", text)
		assert.Contains(t, answer, says, "%.40q", text)
	}
	assert.Empty(t, w.raw("POST / HT"), "nobody waits for ever")
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.Empty(t, w.kept)
}

// Where the relay adds what the service knows the person by, a part of the path is
// demanded that nobody guesses.
func TestASecretPathIsDemanded(t *testing.T) {
	var asked []string
	service := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.String())
	}))
	defer service.Close()
	to, err := url.Parse(service.URL + "/berths")
	require.NoError(t, err)
	r, err := Listen(Options{To: to, Secret: NewSecret(), Plan: func(*call.Imported) call.Plan { return call.Plan{} }})
	require.NoError(t, err)
	defer r.Close()
	host := "http://" + r.l.Addr().String()
	for path, status := range map[string]int{
		host + "/berths": 404, host + "/": 404, host + "/" + strings.Repeat("a", 26) + "/berths": 404,
		host + "/" + r.o.Load().Secret[:25] + "/berths": 404, host + "/" + r.o.Load().Secret + "x/berths": 404,
		r.Address(): 200, r.Address() + "?wsdl": 200,
	} {
		tr := &http.Transport{DisableKeepAlives: true}
		got, err := (&http.Client{Transport: tr}).Get(path)
		require.NoError(t, err)
		got.Body.Close()
		tr.CloseIdleConnections()
		assert.Equal(t, status, got.StatusCode, path)
	}
	assert.ElementsMatch(t, []string{"/berths", "/berths?wsdl"}, asked)
}

// Whoever opens connections and says little keeps nobody out.
func TestSlowProgramsDoNotKeepOthersOut(t *testing.T) {
	w := watch(t, "http://PLAIN/berths")
	for range maxOpen + 10 {
		c, err := net.Dial("tcp", w.l.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		_, _ = io.WriteString(c, "POST /berths HTT")
	}
	status, _ := w.post(fmt.Sprintf(asks, "12"), find)
	assert.Equal(t, 200, status)
}

// Closing ends what is under way.
func TestClosingEndsWhatIsUnderWay(t *testing.T) {
	w := watch(t, "http://PLAIN/berths/~wait.timed-out")
	done := make(chan struct{})
	go func() {
		defer close(done)
		c, err := net.Dial("tcp", w.l.Addr().String())
		if err != nil {
			return
		}
		defer c.Close()
		body := fmt.Sprintf(asks, "12")
		fmt.Fprintf(
			c,
			"POST / HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nContent-Length: %d\r\n\r\n%s",
			len(body),
			body,
		)
		_, _ = io.Copy(io.Discard, c)
	}()
	time.Sleep(100 * time.Millisecond)
	began := time.Now()
	w.Close()
	<-done
	assert.Less(t, time.Since(began), 5*time.Second)
}

type anyConn struct {
	net.Conn
	r *bytes.Reader
}

func (c anyConn) Read(b []byte) (int, error)     { return c.r.Read(b) }
func (anyConn) Write(b []byte) (int, error)      { return len(b), nil }
func (anyConn) SetReadDeadline(time.Time) error  { return nil }
func (anyConn) SetWriteDeadline(time.Time) error { return nil }

// Whatever bytes a program sends, the relay answers and goes on.
func FuzzRequests(f *testing.F) {
	f.Add([]byte("POST / HTTP/1.1\r\nContent-Length: 3\r\n\r\n<a/>"))
	f.Add([]byte("POST http://x/y?z HTTP/1.0\nTransfer-Encoding: chunked\n\n1\na\n0\n\n"))
	to, _ := url.Parse("http://127.0.0.1:1/")
	ctx, cancel := context.WithCancel(context.Background())
	cancel() // nothing is sent
	f.Fuzz(func(_ *testing.T, b []byte) {
		r := &Relay{ctx: ctx, conns: map[net.Conn]time.Time{}}
		r.o.Store(&Options{To: to, Idle: time.Second, Plan: func(*call.Imported) call.Plan { return call.Plan{} }})
		r.serve(anyConn{r: bytes.NewReader(b)})
	})
}

// Fields that are for the next hop alone stay here: those that Connection names, and
// those that are so by their names.
func TestFieldsOfTheHopAreNotPassedOn(t *testing.T) {
	seen := make(chan http.Header, 1)
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { seen <- r.Header }))
	t.Cleanup(s.Close)
	w := watch(t, s.URL+"/berths")
	w.raw("POST /berths HTTP/1.1\r\nHost: localhost\r\nConnection: X-Hop, close\r\nX-Hop: a\r\nX-Quay: b\r\n" +
		"Upgrade: h2c\r\nTE: trailers\r\nProxy-Authorization: Basic ZGVzaw==\r\nContent-Length: 0\r\n\r\n")
	h := <-seen
	assert.Equal(t, "b", h.Get("X-Quay"))
	for _, name := range []string{"X-Hop", "Upgrade", "TE", "Proxy-Authorization"} {
		assert.Empty(t, h.Get(name), name)
	}
}

// Programs that call over TLS are shown a certificate of the local authority, which may
// sign for this machine and the service's name alone.
func TestAProgramCallsOverTLS(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "<a/>")
	}))
	t.Cleanup(service.Close)
	to, err := url.Parse(service.URL + "/berths")
	require.NoError(t, err)
	dir := t.TempDir()
	hosts := []string{"localhost", "127.0.0.1", "berths.skerry.test"}
	write := func(file string, b []byte) error { return os.WriteFile(file, b, 0o600) }
	made := func(hosts ...string) *trust.Pair {
		a, err := trust.LocalAuthority(
			filepath.Join(dir, "a.crt"),
			filepath.Join(dir, "a.key"),
			hosts,
			time.Now(),
			write,
		)
		require.NoError(t, err)
		return a
	}
	a := made(hosts...)
	assert.Equal(t, a.Cert.Raw, made(hosts[:2]...).Cert.Raw, "it is made once")
	c, err := a.Serve(hosts, time.Now())
	require.NoError(t, err)
	r, err := Listen(
		Options{
			To:          to,
			ListenTLS:   "127.0.0.1:0",
			Certificate: &c,
			Plan:        func(*call.Imported) call.Plan { return call.Plan{} },
		},
	)
	require.NoError(t, err)
	defer r.Close()
	all := r.Addresses()
	require.Len(t, all, 2)
	roots := x509.NewCertPool()
	roots.AddCert(a.Cert)
	tr := &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots}}
	defer tr.CloseIdleConnections()
	resp, err := (&http.Client{Transport: tr}).Post(all[1], "text/xml", strings.NewReader("<a/>"))
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)

	other, err := a.Serve([]string{"bank.skerry.test"}, time.Now())
	require.NoError(t, err)
	_, err = other.Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: "bank.skerry.test"})
	assert.Error(t, err, "it may sign for no other name")
	_, err = Listen(Options{To: to, ListenTLS: "0.0.0.0:0", Certificate: &c})
	assert.ErrorContains(t, err, "loopback only")
}

// An answer is passed on while it comes: a program has its first part before the service
// has sent the second.
func TestAnAnswerIsPassedOnAsItComes(t *testing.T) {
	seen := make(chan struct{})
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`)
		_ = http.NewResponseController(w).Flush()
		<-seen
		_, _ = io.WriteString(w, `<FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`)
	}))
	defer service.Close()
	w := watch(t, service.URL+"/berths")
	resp, err := http.Post(w.Address(), "text/xml; charset=utf-8", strings.NewReader(fmt.Sprintf(asks, "12")))
	require.NoError(t, err)
	defer resp.Body.Close()
	first := make([]byte, 40)
	_, err = io.ReadFull(resp.Body, first)
	require.NoError(t, err)
	assert.Equal(t, "<s:Envelope xmlns:s=\"http://schemas.xmls", string(first))
	close(seen)
	rest, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(string(rest), "</s:Envelope>"))
	w.keeps(1)
	assert.Equal(t, exchange.OutcomePassed, w.last().Outcome)
	http.DefaultClient.CloseIdleConnections()
}

// A program that does not take its whole answer is told of.
func TestAProgramThatLeaves(t *testing.T) {
	body := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths">` +
		strings.Repeat(
			`<berth free="true"><name>N04</name><length>12</length></berth>`,
			300000,
		) +
		`</FindBerthsResponse></s:Body></s:Envelope>`
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, body)
	}))
	defer service.Close()
	w := watch(t, service.URL+"/berths")
	c, err := net.Dial("tcp", w.l.Addr().String())
	require.NoError(t, err)
	asked := fmt.Sprintf(asks, "12")
	fmt.Fprintf(c, "POST /berths HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nContent-Length: %d\r\n\r\n%s",
		len(asked), asked)
	_, err = io.ReadFull(c, make([]byte, 1000))
	require.NoError(t, err)
	require.NoError(t, c.(*net.TCPConn).SetLinger(0))
	c.Close()
	w.keeps(1)
	x := w.last()
	assert.Contains(t, ids(x), "receive.program-left")
	assert.Equal(t, int64(len(body)), x.Leg().Response.BodySize, "the rest was looked at all the same")
}

// A large request is passed on from disk, byte for byte, plain and in chunks; its
// beginning is looked at.
func TestALargeRequestIsPassedOnFromDisk(t *testing.T) {
	sums := make(chan string, 1)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := sha256.New()
		n, _ := io.Copy(h, r.Body)
		sums <- fmt.Sprintf("%d %x", n, h.Sum(nil))
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
			`<FindBerthsResponse xmlns="urn:skerry:berths"/></s:Body></s:Envelope>`)
	}))
	defer service.Close()
	w := watch(t, service.URL+"/berths")
	large := strings.Replace(
		fmt.Sprintf(asks, "12"),
		"</length>",
		"</length>"+strings.Repeat("<note>x</note>", 700000),
		1,
	)
	for _, chunked := range []bool{false, true} {
		w.post(large, find, func(r *http.Request) {
			if chunked {
				r.ContentLength = -1
				r.Body = io.NopCloser(struct{ io.Reader }{strings.NewReader(large)})
			}
		})
		assert.Equal(t, fmt.Sprintf("%d %x", len(large), sha256.Sum256([]byte(large))), <-sums)
		x := w.last()
		assert.Equal(t, exchange.OutcomePassed, x.Outcome, ids(x))
		assert.Equal(t, "FindBerths", x.Operation)
		assert.Equal(t, int64(len(large)), x.Leg().Request.BodySize)
		assert.Len(t, x.Leg().RequestBody, exchange.MaxKept)
		assert.NotContains(t, ids(x), "message.invalid")
		assert.NotContains(t, ids(x), "message.not-well-formed")
	}
}

// A relay that is closed does not wait until an answer is due.
func TestWhatWaitsEndsWithTheRelay(t *testing.T) {
	asked := make(chan struct{})
	r, err := Listen(Options{
		To:   &url.URL{Scheme: "http", Host: "127.0.0.1:1"},
		Plan: func(*call.Imported) call.Plan { return call.Plan{} },
		Answer: func(*call.Imported) ([]byte, time.Duration, bool) {
			close(asked)
			return nil, time.Hour, false
		},
	})
	require.NoError(t, err)
	c, err := net.Dial("tcp", strings.TrimPrefix(r.Address(), "http://"))
	require.NoError(t, err)
	defer c.Close()
	fmt.Fprint(c, "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/xml\r\nContent-Length: 4\r\n\r\n<a/>")
	<-asked
	done := make(chan struct{})
	go func() { r.Close(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("it waits for an hour")
	}
}

// A program may compress what it sends: it goes on as it came, and is judged by what it holds. What is
// compressed hides no secret from the record.
func TestACompressedRequestIsPassedOn(t *testing.T) {
	var came []byte
	var coding string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came, _ = io.ReadAll(r.Body)
		coding = r.Header.Get("Content-Encoding")
		w.Header().Set("Content-Type", "text/xml; charset=utf-8")
		_, _ = w.Write(quayList("FindBerthsResponse"))
	}))
	defer s.Close()
	to, err := url.Parse(s.URL + "/berths")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "quays.wsdl")
	require.NoError(t, os.WriteFile(file, []byte(quays), 0o600))
	f, err := call.Fetch(t.Context(), file, call.Plan{ReadFile: os.ReadFile}, nil)
	require.NoError(t, err)
	kept := make(chan *exchange.Exchange, 3)
	r, err := Listen(Options{
		To: to,
		Plan: func(w *call.Imported) call.Plan {
			return against(call.Plan{Agent: call.Agent, Endpoint: "relay"}, f.Contract, w)
		},
		Keep: func(x *exchange.Exchange) { kept <- x },
	})
	require.NoError(t, err)
	defer r.Close()
	post := func(body []byte, coding string) *exchange.Exchange {
		q, err := http.NewRequest(http.MethodPost, r.Address(), bytes.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", "text/xml; charset=utf-8")
		q.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
		q.Header.Set("Content-Encoding", coding)
		a, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		_, _ = io.Copy(io.Discard, a.Body)
		a.Body.Close()
		return <-kept
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, _ = z.Write(quayList("FindBerths"))
	require.NoError(t, z.Close())
	x := post(packed.Bytes(), "gzip")
	assert.Equal(t, "FindBerths", x.Operation)
	assert.Equal(t, exchange.OutcomePassed, x.Outcome)
	assert.Empty(t, x.Findings)
	assert.Equal(t, packed.Bytes(), came)
	assert.Equal(t, "gzip", coding)
	assert.Equal(t, string(quayList("FindBerths")), string(x.Leg().RequestBody))

	secret := strings.Replace(string(quayList("FindBerths")), "<e:Body>", `<e:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/`+
		`oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>ines</w:Username><w:Password>slack-water-word`+
		`</w:Password></w:UsernameToken></w:Security></e:Header><e:Body>`, 1)
	packed.Reset()
	z.Reset(&packed)
	_, _ = z.Write([]byte(secret))
	require.NoError(t, z.Close())
	c := post(packed.Bytes(), "gzip").Redact(nil)
	assert.NotContains(t, string(c.Leg().RequestBody), "slack-water-word")
	assert.NotContains(t, string(c.Leg().Out), "\x1f\x8b", "the compressed bytes are masked")

	// What cannot be taken off is not called a broken message.
	x = post([]byte{0x8b, 0x12, 0x80, 'q', 'u', 'a', 'y', 0x03}, "br")
	assert.Empty(t, x.Findings, "%+v", x.Findings)
	assert.Equal(t, "br", coding)
	assert.Equal(t, "compressed (br), not read", x.Stage(exchange.Message).Note)

	// What only says that it is compressed is looked at as it is.
	x = post(quayList("FindBerths"), "gzip")
	assert.Equal(t, "FindBerths", x.Operation)
}

// A program may send files beside its message (RFC 2387): the message is judged by its part, however that is
// encoded, what is beside it is passed on, and no secret of it is kept.
func TestARequestInPartsIsJudgedByItsMessage(t *testing.T) {
	file := "%PDF\xff\xfe\x80\xc3(\r\n"
	parts := func(message, coding, start string) string {
		p := related.Part{Coding: coding}
		return "--quay\r\nContent-Type: application/pdf\r\nContent-ID: <plan@quay>\r\nContent-Transfer-Encoding: binary\r\n\r\n" +
			file + "\r\n--quay\r\nContent-Type: text/xml; charset=utf-8\r\nContent-ID: " + start + "\r\nContent-Transfer-Encoding: " + coding +
			"\r\n\r\n" + string(p.Write([]byte(message))) + "\r\n--quay--\r\n"
	}
	inParts := func(q *http.Request) {
		q.Header.Set("Content-Type", `multipart/related; boundary=quay; type="text/xml"; start="<envelope@quay>"`)
	}
	message := strings.Replace(fmt.Sprintf(asks, "40"), "<s:Body>", `<s:Header><w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/`+
		`oasis-200401-wss-wssecurity-secext-1.0.xsd"><w:UsernameToken><w:Username>inés</w:Username><w:Password>slack-water-word`+
		`</w:Password></w:UsernameToken></w:Security></s:Header><s:Body>`, 1)
	w := watch(t, "http://PLAIN/berths")
	for _, coding := range []string{"8bit", "base64", "quoted-printable"} {
		status, answer := w.post(parts(message, coding, "<envelope@quay>"), find, inParts)
		x := w.last()
		if coding == "8bit" { // the stand-in reads no other
			assert.Equal(t, 200, status, answer)
			assert.Empty(t, x.Findings, "%+v", x.Findings)
		}
		assert.Equal(t, "FindBerths", x.Operation, coding)
		assert.NotContains(t, ids(x), "message.not-well-formed", coding)
		assert.NotContains(t, ids(x), "send.charset-differs", coding)
		assert.Equal(t, message, string(x.Leg().Sent()), coding)
		assert.Contains(t, string(x.Leg().Out), file, "the file is passed on as it is")
		kept := x.Redact(nil)
		assert.NotContains(t, string(kept.Leg().Out), "slack-water-word", coding)
		secret := "slack-water-word" // alone, or, where it is encoded, all of its part
		if coding != "8bit" {
			secret = string((&related.Part{Coding: coding}).Write([]byte(message)))
		}
		body := strings.Replace(parts(message, coding, "<envelope@quay>"), secret, strings.Repeat(string(exchange.Masked), len(secret)), 1)
		assert.Equal(t, body, string(kept.Leg().RequestBody), coding)
	}

	// A file beside the message that is text is looked through as well.
	list := strings.Replace(parts(message, "8bit", "<envelope@quay>"), "--quay--", "--quay\r\nContent-Type: application/json\r\n"+
		"Content-ID: <l>\r\n\r\n{\"apiKey\": \"ebb-tide-word\"}\r\n--quay--", 1)
	w.post(list, find, inParts)
	assert.Contains(t, string(w.last().Redact(nil).Leg().RequestBody), `{"apiKey": "*************"}`)

	// The message breaks its schema, and its bytes are not what they say: both are found at their places.
	w.post(parts(fmt.Sprintf(asks, "long"), "8bit", "<envelope@quay>"), find, inParts)
	assert.Contains(t, ids(w.last()), "message.invalid")
	w.post(parts(fmt.Sprintf(asks, "40<!--\xe9-->"), "8bit", "<envelope@quay>"), find, inParts)
	x := w.last()
	require.Contains(t, ids(x), "send.charset-differs")
	i := slices.IndexFunc(x.Findings, func(f exchange.Finding) bool { return f.ID == "send.charset-differs" })
	e := x.Findings[i].Evidence[0]
	assert.Equal(t, byte(0xe9), x.Leg().RequestBody[e.Offset])

	// Where the message is not to be found, it is not called a broken one.
	w.post(parts(message, "8bit", "<other@quay>"), find, inParts)
	x = w.last()
	assert.NotContains(t, ids(x), "message.not-well-formed")
	assert.Contains(t, x.Stage(exchange.Message).Note, "in parts, not read: the part \"envelope@quay\"")
	assert.NotContains(t, string(x.Redact(nil).Leg().Out), "slack-water-word")
}

// What is added to a message that travels in parts is added in its part.
func TestAnAnswerThatComesLaterIsAskedForInAPart(t *testing.T) {
	in := &call.Imported{Header: [][2]string{{"Content-Type", "multipart/related; boundary=q"}},
		Body: []byte("--q\r\nContent-Type: text/xml\r\n\r\n<a/>\r\n--q\r\nContent-ID: <f>\r\n\r\nfile\r\n--q--\r\n")}
	in.SetMessage([]byte("<b>longer</b>"))
	assert.Equal(t, "--q\r\nContent-Type: text/xml\r\n\r\n<b>longer</b>\r\n--q\r\nContent-ID: <f>\r\n\r\nfile\r\n--q--\r\n", string(in.Body))
	assert.Equal(t, "<b>longer</b>", string(in.Readable()))
	assert.Contains(t, in.Header, [2]string{"Content-Length", strconv.Itoa(len(in.Body))})
}
