package call_test

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/soap"
	"orenda/internal/wire"
)

// tenKB is a service that answers 10 KB to a request of 10 KB.
func tenKB(b *testing.B) (address string, request []byte) {
	pad := strings.Repeat("<remark>slack water at the north quay, wind south west</remark>\n", 160)
	reply, _ := soap.Build(soap.V11, nil, []byte(`<Answer xmlns="urn:skerry:bench">`+pad+`</Answer>`))
	request = []byte(`<Ask xmlns="urn:skerry:bench">` + pad + `</Ask>`)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "text/xml")
		_, _ = w.Write(reply)
	})}
	go func() { _ = srv.Serve(l) }()
	b.Cleanup(func() { srv.Close() })
	return "http://" + l.Addr().String() + "/", request
}

// BenchmarkCall is one call of 10 KB each way over a kept connection, with
// everything recorded, read and diagnosed.
func BenchmarkCall(b *testing.B) {
	address, request := tenKB(b)
	p := call.Plan{Operation: "Ask", Endpoint: "bench", Agent: "bench", Pool: &wire.Pool{}}
	defer p.Pool.Close()
	p.Settings.Set("address", address)
	p.Settings.Set("soap", "1.1")
	p.SetDraft(request)
	for b.Loop() {
		if x := call.New(p, nil).Run(context.Background()); x.Outcome != "passed" {
			b.Fatal(x.Findings)
		}
	}
}

// BenchmarkBareHTTP is the yardstick: a bare client doing the same exchange.
func BenchmarkBareHTTP(b *testing.B) {
	address, request := tenKB(b)
	envelope, _ := soap.Build(soap.V11, nil, request)
	client := &http.Client{Timeout: time.Minute}
	for b.Loop() {
		req, err := http.NewRequest(http.MethodPost, address, bytes.NewReader(envelope))
		require.NoError(b, err)
		req.Header.Set("Content-Type", "text/xml; charset=utf-8")
		req.Header.Set("SOAPAction", `""`)
		resp, err := client.Do(req)
		require.NoError(b, err)
		_, err = io.ReadAll(resp.Body)
		require.NoError(b, err)
		resp.Body.Close()
	}
	client.CloseIdleConnections()
}
