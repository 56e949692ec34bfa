package facade

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/standin"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// open gives the operations of a stand-in's port as JSON.
func open(t *testing.T, path, port, at, token string) (address string, kept func() []*exchange.Exchange) {
	t.Helper()
	return openWith(t, path, port, at, Options{Token: token})
}

func openWith(t *testing.T, path, port, at string, with Options) (address string, kept func() []*exchange.Exchange) {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	f, err := call.Fetch(t.Context(), "http://"+h.Plain+"/"+path+"?wsdl", call.Plan{Agent: "test", ReadFile: os.ReadFile}, nil)
	require.NoError(t, err)
	var ops []*Operation
	p := f.Contract.Port(port)
	for _, o := range p.Operations {
		ops = append(ops, &Operation{Name: path, Contract: f.Contract, Operation: o, Get: true, Short: true, Plan: func() (call.Plan, error) {
			plan := call.Plan{Contract: f.Contract, Served: f.Served, Operation: o.Name, Endpoint: path, Agent: "test", Port: p}
			plan.Settings.Layers = []endpoint.Layer{{Source: "contract", Values: map[string][]string{
				"soap": {p.Version.String()}, "action": {o.Action},
			}}}
			plan.Settings.Set("address", "http://"+h.Plain+at)
			return plan, nil
		}})
	}
	var mu sync.Mutex
	var all []*exchange.Exchange
	with.Keep = func(x *exchange.Exchange) {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, x)
	}
	s, err := Listen(with, ops)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close(context.Background()) })
	return s.Address(), func() []*exchange.Exchange {
		mu.Lock()
		defer mu.Unlock()
		return all
	}
}

func ask(t *testing.T, method, url, body string, fields ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
		if fields[i] == "Host" {
			r.Host = fields[i+1]
		}
	}
	tr := &http.Transport{DisableKeepAlives: true, DisableCompression: true}
	defer tr.CloseIdleConnections()
	resp, err := (&http.Client{Transport: tr}).Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(b)
}

func TestAnOperationAnswersJSON(t *testing.T) {
	at, kept := open(t, "berths", "BerthDesk11", "/berths", "")
	resp, body := ask(t, "POST", at+"/berths/FindBerths?fields=berth/code", `{"length": 60}`)
	assert.Equal(t, 200, resp.StatusCode)
	assert.JSONEq(t, `{"berth": [{"code": "E03"}, {"code": "E07"}]}`, body)
	require.Len(t, kept(), 1, "each call is an exchange")
	assert.Equal(t, kept()[0].ID, resp.Header.Get("X-Exchange"))
	resp, _ = ask(t, "POST", at+"/FindBerths?fields=berth/code", `{"length": 60}`, "If-None-Match", resp.Header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, resp.StatusCode)

	for _, c := range []struct {
		method, path, body string
		fields             []string
		status             int
		says               string
	}{
		{"POST", "/FindBerths", `{"length": 60, "colour": 1}`, nil, 400, "no such field"},
		{"POST", "/FindBerths", `{"length": "many"}`, nil, 400, "message.invalid"},
		{"POST", "/FindBerths", `{`, nil, 400, "no JSON"},
		{"POST", "/FindBerths", `{"length": 60}`, []string{"Content-Type", "text/plain"}, 415, "application/json"},
		{"POST", "/Nothing", `{}`, nil, 404, "no such operation"},
		{"DELETE", "/FindBerths", "", nil, 405, "POST"},
		{"GET", "/openapi.json", "", []string{"Host", "evil.skerry.test"}, 421, "not served here"},
		{"POST", "/FindBerths", `{"length": 60, "x": "` + strings.Repeat("a", maxRequest) + `"}`, nil, 413, "too large"},
	} {
		resp, body := ask(t, c.method, at+c.path, c.body, c.fields...)
		assert.Equal(t, c.status, resp.StatusCode, "%s %s", c.path, body)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
		assert.Contains(t, body, c.says)
		var p Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p))
		assert.Equal(t, c.status, p.Status)
	}
}

func TestWhatGoesWrongBehindIsAProblem(t *testing.T) {
	for at, want := range map[string]struct {
		status  int
		finding string
	}{
		"/berths/~read.fault-server":           {502, "read.fault-server"},
		"/berths/~receive.gateway":             {502, "receive.gateway"},
		"/berths/~receive.unauthorized":        {401, "receive.unauthorized"},
		"/berths/~read.not-well-formed":        {502, "read.not-well-formed"},
		"/berths/~receive.not-found":           {502, "receive.not-found"},
		"/berths/~read.fault-security-missing": {401, "read.fault-security-missing"},
	} {
		address, _ := open(t, "berths", "BerthDesk11", at, "")
		resp, body := ask(t, "POST", address+"/FindBerths", `{"length": 60}`)
		var p Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		assert.Equal(t, want.finding, p.Finding, at)
		assert.Equal(t, want.status, resp.StatusCode, at)
		assert.NotEmpty(t, p.Exchange)
	}
}

func TestWhoMayCall(t *testing.T) {
	at, _ := open(t, "berths", "BerthDesk11", "/berths", "slack-water")
	resp, _ := ask(t, "POST", at+"/FindBerths", `{"length": 60}`)
	assert.Equal(t, 401, resp.StatusCode)
	resp, _ = ask(t, "POST", at+"/FindBerths", `{"length": 60}`, "Authorization", "Bearer slack-water")
	assert.Equal(t, 200, resp.StatusCode)
	for _, listen := range []string{"0.0.0.0:0", ":0", "192.0.2.1:0"} {
		_, err := Listen(Options{Listen: listen}, nil)
		assert.ErrorContains(t, err, "token", listen)
	}
}

func TestTheDescriptionAndThePage(t *testing.T) {
	at, _ := open(t, "berths", "BerthDesk11", "/berths", "")
	_, body := ask(t, "GET", at+"/openapi.json", "")
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(body), &doc))
	assert.Equal(t, "3.1.0", doc["openapi"])
	required := func(name string) any {
		return doc["components"].(map[string]any)["schemas"].(map[string]any)[name].(map[string]any)["required"]
	}
	assert.Equal(t, []any{"length"}, required("FindBerths"), "what must stand is said")
	assert.Equal(t, []any{"@free", "code", "length", "depth", "quay"}, required("Berth"))
	assert.Contains(t, doc["paths"], "/berths/FindBerths")
	assert.Contains(t, body, `"example": {`, "each operation has an example")
	resp, packed := ask(t, "GET", at+"/openapi.json", "", "Accept-Encoding", "gzip")
	require.Equal(t, "gzip", resp.Header.Get("Content-Encoding"))
	z, err := gzip.NewReader(bytes.NewReader([]byte(packed)))
	require.NoError(t, err)
	again, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, body, string(again))
	_, page := ask(t, "GET", at+"/", "")
	assert.Contains(t, page, `<form action="/berths/FindBerths"`)
	assert.NotContains(t, page, "<script>", "nothing runs but the page's own file")
}

// A page from elsewhere may ask only where its origin is named, and then also with a token due.
func TestOnlyOriginsThatAreNamedMayAsk(t *testing.T) {
	_, err := Listen(Options{Origins: []string{"quay.skerry.test/x"}}, nil)
	assert.ErrorContains(t, err, "is no origin")
	at, _ := openWith(t, "berths", "BerthDesk11", "/berths", Options{Token: "word", Origins: []string{"https://quay.skerry.test"}})
	asks := []string{"Access-Control-Request-Method", "POST", "Origin"}
	resp, _ := ask(t, "OPTIONS", at+"/FindBerths", "", append(asks, "https://quay.skerry.test")...)
	assert.Equal(t, http.StatusNoContent, resp.StatusCode)
	assert.Equal(t, "https://quay.skerry.test", resp.Header.Get("Access-Control-Allow-Origin"))
	assert.Contains(t, resp.Header.Get("Access-Control-Allow-Headers"), "Authorization")
	resp, _ = ask(t, "OPTIONS", at+"/FindBerths", "", append(asks, "https://evil.skerry.test")...)
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	assert.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"))
	resp, _ = ask(t, "POST", at+"/FindBerths", `{"length": 60}`, "Origin", "https://quay.skerry.test", "Authorization", "Bearer word")
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	assert.Equal(t, "https://quay.skerry.test", resp.Header.Get("Access-Control-Allow-Origin"))
	assert.Contains(t, resp.Header.Get("Vary"), "Origin")
	resp, _ = ask(t, "POST", at+"/FindBerths", `{"length": 60}`, "Origin", "https://evil.skerry.test", "Authorization", "Bearer word")
	assert.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"))
}

// The example of an operation is the draft's, but where that holds a secret.
func TestAnExampleIsTheDraftsButForSecrets(t *testing.T) {
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	f, err := call.Fetch(t.Context(), "http://"+h.Plain+"/berths?wsdl", call.Plan{Agent: "test", ReadFile: os.ReadFile}, nil)
	require.NoError(t, err)
	var op *Operation
	for _, o := range f.Contract.Port("BerthDesk11").Operations {
		if o.Name == "FindBerths" {
			op = &Operation{Name: "berths", Contract: f.Contract, Operation: o}
		}
	}
	op.Draft = message.NewDraft(f.Contract.Schemas, op.Operation.Input.Element,
		[]byte(`<FindBerths xmlns="urn:skerry:berths"><length>12.50</length></FindBerths>`))
	assert.JSONEq(t, `{"length": 12.50}`, string(op.example()))
	assert.Contains(t, string(op.example()), "12.50")
	op.Secret = exchange.SecretNames{"length"}
	assert.NotContains(t, string(op.example()), "12.50")
}
