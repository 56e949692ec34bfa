package e2e

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A relay that is started in the application takes calls of a Go program and of curl, plain
// and over TLS; each is seen, opened and compared with what works; and it answers by itself.
func TestARelayInTheApplication(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	fill(t, dir)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "endpoint", "set", "TideTables",
		"address=http://"+h.Plain+"/tides", "default=true").code)
	require.Equal(t, 0, orenda(t, env, "-w", dir, "call", "YearTable", "--reply", "none").code)

	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("o")
	s.sees("endpoints")
	s.keys("+")
	now := s.sees("relays", "your program", "or over TLS", "it has to trust", "waits", "1 listening")
	plain := regexp.MustCompile(`http://127\.0\.0\.1:\d+\S*`).FindString(now[strings.Index(now, "your program    "):])
	over := regexp.MustCompile(`https://127\.0\.0\.1:\d+\S*`).FindString(now)
	file := regexp.MustCompile(`/\S+/authority\.crt`).FindString(now)
	require.NotEmpty(t, file, now)

	body := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><YearTable xmlns="urn:skerry:tides">` +
		`<station>Skerry Sound</station><year>YEAR</year><datum>chart datum</datum><heights><unit>metre</unit></heights>` +
		`</YearTable></s:Body></s:Envelope>`
	send := func(client *http.Client, address, year string) (int, string) {
		req, err := http.NewRequest("POST", address, strings.NewReader(strings.Replace(body, "YEAR", year, 1)))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/xml; charset=utf-8")
		req.Header.Set("SOAPAction", `"urn:skerry:tides:YearTable"`)
		resp, err := client.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	status, answer := send(http.DefaultClient, plain, "2027")
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "YearTableResponse")
	s.sees("1 calls", "■■■■ ■■■ ■■ ■■  YearTable")

	roots := x509.NewCertPool()
	pem, err := os.ReadFile(file)
	require.NoError(t, err)
	require.True(t, roots.AppendCertsFromPEM(pem))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}}
	defer client.CloseIdleConnections()
	status, _ = send(client, over, "20 27")
	assert.Equal(t, 500, status)
	s.sees("2 calls, 1 did not pass", "×")

	if curl, err := exec.LookPath("curl"); err == nil {
		cmd := exec.Command(curl, "-sS", "--cacert", file, "-H", "Content-Type: text/xml; charset=utf-8",
			"-H", `SOAPAction: "urn:skerry:tides:YearTable"`, "--data-binary", "@-", over)
		cmd.Stdin = strings.NewReader(strings.Replace(body, "YEAR", "2027", 1))
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		require.NoError(t, err, errs.String())
		assert.Contains(t, string(out), "YearTableResponse")
		s.sees("3 calls")
	}

	// What came is in the traffic; the wrong one is compared with what works here.
	s.keys("Enter")
	s.sees("only: from relay in TideTables", "relay: YearTable")
	s.keys("/", "C-u")
	s.types("from relay stopped")
	s.keys("Enter")
	s.sees("1 of them")
	s.keys("Enter")
	s.sees("relay: YearTable")
	s.keys("=")
	s.sees("Body/YearTable/year", "20 27", "2027")

	// It answers by itself: loud while it does.
	s.keys("B", "*")
	s.sees("how the relay answers")
	s.types("fault")
	s.keys("Enter")
	s.sees("answers with a fault", "A RELAY DOES MORE THAN PASS ON")
	status, answer = send(http.DefaultClient, plain, "2027")
	assert.Equal(t, 500, status)
	assert.Contains(t, answer, "on purpose")
	s.keys("*")
	s.types("example")
	s.keys("Enter")
	s.sees("answers with an example")
	status, answer = send(http.DefaultClient, plain, "2027")
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "YearTableResponse")
	assert.Less(t, len(answer), 10_000, "an example, and not the service's own")
	s.keys("*")
	s.types("as the last")
	s.keys("Enter")
	s.sees("was answered")
	h.Close() // the service is away, and work goes on
	status, answer = send(http.DefaultClient, plain, "2027")
	assert.Equal(t, 200, status)
	assert.Contains(t, answer, "YearTableResponse")
	s.sees("answered by the relay")
	s.keys("*")
	s.types("header field")
	s.keys("Enter")
	s.sees("Name: value")
	s.types("X-Quay: north")
	s.keys("Enter")
	s.sees("with X-Quay: north")
	s.keys("+")
	s.sees("name of the relay in relays.toml")
	s.keys("C-u")
	s.types("desk")
	s.keys("Enter")
	s.sees("the workspace keeps it as desk")
	s.keys("X")
	s.sees("kept; it does not listen")
	s.keys("Enter")
	s.sees("it listens", plain, "with X-Quay: north") // at the address that the program knows
	s.keys("X")
	s.sees("kept; it does not listen")
	s.keys("X")
	s.sees("none runs")
	_, err = http.Post(plain, "text/xml", strings.NewReader(body))
	assert.Error(t, err)
}
