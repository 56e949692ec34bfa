package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOperationsAreGivenAsJSON(t *testing.T) {
	l := at(t)
	ctx, cancel := context.WithCancel(t.Context())
	out, in := io.Pipe()
	done := make(chan int, 1)
	var errOut bytes.Buffer
	go func() {
		done <- Run(ctx, []string{"facade", "--contract", l.berths(), "--port", "BerthDesk11"}, in, &errOut)
		in.Close()
	}()
	var first struct {
		Listening []string
		OpenAPI   string
	}
	require.NoError(t, json.NewDecoder(out).Decode(&first))
	require.Len(t, first.Listening, 1)
	tr := &http.Transport{DisableKeepAlives: true}
	defer tr.CloseIdleConnections()
	client := &http.Client{Transport: tr, Timeout: 10 * time.Second}
	resp, err := client.Post(first.Listening[0]+"/FindBerths", "application/json", strings.NewReader(`{"length": 60}`))
	require.NoError(t, err)
	b, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(b), `"code": "E03"`)
	resp, err = client.Get(first.OpenAPI)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
	cancel()
	assert.Zero(t, <-done, errOut.String())
	code, shown, _ := l.run("journal", "list")
	assert.Zero(t, code)
	assert.Contains(t, shown, "FindBerths")
	code, _, _ = l.run("facade", "--contract", l.berths(), "--listen", "0.0.0.0:0")
	assert.Equal(t, 3, code)
}

// A façade calls as call does: by files that stand anywhere, once they are named on the
// command line.
func TestAFacadeTakesFilesFromAnywhere(t *testing.T) {
	l := at(t)
	pem := filepath.Join(t.TempDir(), "c.pem")
	code, _, errOut := l.run("trust", "fetch", "https://"+l.h.TLS+"/", "--out", pem)
	require.Zero(t, code, errOut)
	ctx, cancel := context.WithCancel(t.Context())
	out, in := io.Pipe()
	done := make(chan int, 1)
	var said bytes.Buffer
	go func() {
		done <- Run(ctx, []string{"facade", "--contract", l.berths(), "--port", "BerthDesk11", "--trust", pem,
			"--address", "https://" + l.h.TLS + "/berths"}, in, &said)
		in.Close()
	}()
	var first struct{ Listening []string }
	require.NoError(t, json.NewDecoder(out).Decode(&first))
	tr := &http.Transport{DisableKeepAlives: true}
	defer tr.CloseIdleConnections()
	client := &http.Client{Transport: tr, Timeout: 10 * time.Second}
	resp, err := client.Post(first.Listening[0]+"/FindBerths", "application/json", strings.NewReader(`{"length": 60}`))
	require.NoError(t, err)
	b, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(b), `"code": "E03"`)
	cancel()
	assert.Zero(t, <-done, said.String())
}
