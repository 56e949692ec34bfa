package e2e

import (
	"bufio"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
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

// Much passes through a relay in little memory: a large request, and a large reply that
// nobody set a limit for.
func TestMuchPassesThroughARelayInLittleMemory(t *testing.T) {
	size := largeReply()
	row := []byte(strings.Repeat(`<berth free="true"><name>N04</name><length>12</length></berth>`, 1000))
	took := make(chan int64, 1)
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		took <- n
		w.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(w, `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
			`<FindBerthsResponse xmlns="urn:skerry:berths">`)
		for sent := 0; sent < size; sent += len(row) {
			_, _ = w.Write(row)
		}
		_, _ = io.WriteString(w, `</FindBerthsResponse></s:Body></s:Envelope>`)
	}))
	t.Cleanup(service.Close)
	cmd := exec.Command(binary(t), "relay", "--to", service.URL+"/berths", "--json")
	cmd.Env = append(os.Environ(), append(home(t), "TMPDIR="+os.TempDir())...)
	told, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	said := json.NewDecoder(told)
	var first struct{ Listening []string }
	require.NoError(t, said.Decode(&first))
	body := io.MultiReader(
		strings.NewReader(`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>`+
			`<FindBerths xmlns="urn:skerry:berths"><length>12</length>`),
		io.LimitReader(&again{of: []byte("<!--slack water-->")}, int64(size/18*18)),
		strings.NewReader(`</FindBerths></s:Body></s:Envelope>`))
	resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Post(
		first.Listening[0],
		"text/xml",
		body,
	)
	require.NoError(t, err)
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, resp.Body)
	require.NoError(t, err)
	assert.Greater(t, n, int64(size))
	assert.Greater(t, <-took, int64(size/18*18))
	var x struct {
		Operation, Outcome, Result string
	}
	require.NoError(t, said.Decode(&x))
	assert.Equal(t, "passed", x.Outcome)
	assert.Equal(t, "FindBerths", x.Operation)
	most := resident(cmd.Process.Pid)
	t.Logf("%d MB resident at most", most/mebi)
	assert.Positive(t, most)
	assert.Less(t, most, maxHeld())
}

// again gives the same bytes again and again.
type again struct {
	of []byte
	at int
}

func (a *again) Read(p []byte) (n int, err error) {
	for n < len(p) {
		k := copy(p[n:], a.of[a.at:])
		n, a.at = n+k, (a.at+k)%len(a.of)
	}
	return n, nil
}
