package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slowBuffer is written by one goroutine and read by another.
type slowBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *slowBuffer) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(b)
}

func (s *slowBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// What a program sends through a relay is kept, and becomes a draft.
func TestAProgramIsTracedThroughARelay(t *testing.T) {
	l := at(t)
	ws := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", ws, "add", l.berths())
	require.Equal(t, 0, code, errOut)
	for _, flags := range [][]string{{"--to", "BerthDesk11"}, {"--to", "http://" + l.h.Plain + "/berths", "--json"}} {
		ctx, cancel := context.WithCancel(t.Context())
		var out, told slowBuffer
		done := make(chan int)
		go func() { done <- Run(ctx, append([]string{"-w", ws, "relay"}, flags...), &out, &told) }()
		var address string
		require.Eventually(t, func() bool {
			address = regexp.MustCompile(`http://127\.0\.0\.1:\d+/berths\n`).
				FindString(strings.ReplaceAll(told.String(), "relay to http://"+l.h.Plain+"/berths\n", ""))
			return address != ""
		}, 10*time.Second, 10*time.Millisecond, told.String())
		req, err := http.NewRequestWithContext(
			ctx,
			http.MethodPost,
			strings.TrimSpace(address),
			strings.NewReader(
				`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths"><length>much</length></FindBerths></s:Body></s:Envelope>`,
			),
		)
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/xml")
		req.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 500, resp.StatusCode)
		require.Eventually(
			t,
			func() bool { return strings.Contains(out.String(), "message.invalid") },
			10*time.Second,
			10*time.Millisecond,
		)
		cancel()
		assert.Equal(t, 0, <-done, told.String())
		if flags[len(flags)-1] == "--json" {
			var x map[string]any
			lines := strings.Split(strings.TrimSpace(out.String()), "\n")
			require.Len(t, lines, 2, "a line each")
			assert.Contains(t, lines[0], `{"listening":["http://127.0.0.1:`)
			require.NoError(t, json.Unmarshal([]byte(lines[1]), &x))
			assert.Equal(t, "relay", x["kind"])
		}
	}
	code, out, errOut := l.run("-w", ws, "draft", "import", "--exchange", "last", "--name", "theirs")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "FindBerths/theirs")
	code, _, errOut = l.run("relay", "--to", "nothing")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "neither an address nor an endpoint")
	code, _, _ = l.run("relay", "--to", l.berths(), "--listen", "0.0.0.0:0")
	assert.Equal(t, 3, code)
}
