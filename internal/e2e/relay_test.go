package e2e

import (
	"bufio"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A program's calls through a relay are seen in the application as they happen, with
// why they fail; what was sent becomes a draft.
func TestAProgramIsSeenInTraffic(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/berths?wsdl")
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("FindBerths")
	s.keys("t")
	s.sees("traffic")

	cmd := exec.Command(binary(t), "-w", dir, "relay", "--to", "BerthDesk11")
	cmd.Env = append(os.Environ(), env...)
	told, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(told)
	require.True(t, lines.Scan())
	require.True(t, lines.Scan())
	address := strings.TrimSpace(lines.Text())

	post := func(length string) (int, string) {
		t.Helper()
		req, err := http.NewRequest(
			http.MethodPost,
			address,
			strings.NewReader(
				`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths"><length>`+length+`</length></FindBerths></s:Body></s:Envelope>`,
			),
		)
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/xml")
		req.Header.Set("SOAPAction", `"urn:skerry:berths:FindBerths"`)
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	status, answer := post("12")
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "N01")
	s.sees("5 × berth · code N01")
	status, _ = post("far")
	assert.Equal(t, 500, status)
	s.sees("breaks its schema", "relay: FindBerths → BerthDesk11")
	s.keys("Enter")
	s.sees("relay: FindBerths → http://", "stopped at read", "the message breaks its schema")
	s.keys("t", "D")
	s.sees("a draft of this: FindBerths/sent")
	r := orenda(t, env, "-w", dir, "draft", "import", "--exchange", "last", "--name", "theirs")
	assert.Equal(t, 0, r.code, r.err)
	r = orenda(t, env, "-w", dir, "explain", "last")
	assert.Contains(t, r.err, "length: \"far\" is not a decimal number")
	s.keys("b")
	s.sees("theirs")
}
