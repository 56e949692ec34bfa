package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// relayed runs the relay command until the returned function ends it, and gives its address.
func relayed(t *testing.T, args ...string) (address string, told *slowBuffer, end func() int) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	var out slowBuffer
	told = &slowBuffer{}
	done := make(chan int, 1)
	go func() { done <- Run(ctx, args, &out, told) }()
	require.Eventually(t, func() bool {
		lines := regexp.MustCompile(`(?m)^  (http://127\.0\.0\.1:\d+/\S*)$`).FindStringSubmatch(told.String())
		if lines != nil {
			address = lines[1]
		}
		return address != ""
	}, 10*time.Second, 10*time.Millisecond, told)
	return address, told, func() int { cancel(); return <-done }
}

func get(t *testing.T, address string) string {
	t.Helper()
	resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Get(address)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(b)
}

// A relay that serves the contract leads a program to itself, through all its documents; each
// request gets the field that is added.
func TestARelayServesTheContractAndAddsAField(t *testing.T) {
	l := at(t)
	ws := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", ws, "add", l.berths())
	require.Equal(t, 0, code, errOut)
	address, told, end := relayed(t, "-w", ws, "relay", "--to", "BerthDesk11", "--describe",
		"--add", "X-Quay: north", "--add", "soapaction: \"urn:skerry:berths:FindBerths\"", "--keep-as", "berths")
	served := get(t, address+"?wsdl")
	assert.Contains(t, served, `location="`+address+`"`)
	assert.NotContains(t, served, l.h.Plain, "nothing leads past the relay")
	assert.Contains(t, get(t, address+"?orenda-part=1"), address+"?orenda-part=2", "nor do the schemas")
	code, _, errOut = l.run("describe", address+"?wsdl")
	require.Equal(t, 0, code, errOut)
	req, err := http.NewRequest(http.MethodPost, address, strings.NewReader(`<s:Envelope `+
		`xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berths">`+
		`<length>60</length></FindBerths></s:Body></s:Envelope>`))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "text/xml")
	req.Header.Set("SOAPAction", `"wrong"`)
	resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
	assert.Equal(t, 0, end(), told)
	assert.Contains(t, told.String(), "with X-Quay: north")
	code, out, _ := l.run("-w", ws, "journal", "show", "last", "--bytes")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "X-Quay: north")
	assert.Equal(t, 1, strings.Count(strings.ToLower(out), "\nsoapaction:"), "in the place of the program's own")
	assert.NotContains(t, out, "wrong")

	kept, err := os.ReadFile(filepath.Join(ws, "relays.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), `endpoint = 'BerthDesk11'`)
	_, told, end = relayed(t, "-w", ws, "relay", "berths")
	assert.Contains(t, told.String(), "with X-Quay: north")
	assert.Equal(t, 0, end())
}

func TestAKeptRelayIsLetOnce(t *testing.T) {
	l := at(t)
	ws := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", ws, "add", l.berths())
	require.Equal(t, 0, code, errOut)
	file := filepath.Join(ws, "relays.toml")
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }

	write(fmt.Sprintf("# ours\n[relay.desk]\nto = \"http://%s/berths\"\nkeep = \"failed\"\n", l.h.Plain))
	code, _, errOut = l.run("-w", ws, "relay", "desk")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--approve")
	address, _, end := relayed(t, "-w", ws, "relay", "desk", "--approve")
	_, before, _ := l.run("-w", ws, "journal", "list", "--json")
	assert.Contains(t, get(t, address+"?wsdl"), "definitions")
	assert.Equal(t, 0, end())
	_, after, _ := l.run("-w", ws, "journal", "list", "--json")
	assert.Equal(t, before, after, "what passed is not kept")
	write(fmt.Sprintf("[relay.desk]\nto = \"http://%s/tides\"\n", l.h.Plain))
	code, _, _ = l.run("-w", ws, "relay", "desk")
	assert.Equal(t, 2, code, "it leads elsewhere now")

	for text, says := range map[string]string{
		"[relay.desk]\n": "one of them",
		"[relay.desk]\nto=\"http://h\"\nlisten=1\n":                         "Listen",
		"[relay.desk]\nto=\"http://h\"\nwhere=\"x\"\n":                      "where",
		"[relay.desk]\nto=\"http://h\"\nkeep=\"some\"\n":                    "1/100",
		"[relay.desk]\nto=\"http://h\"\nadd=[\"Authorization: Basic x\"]\n": "stands in no file",
		"[relay.desk]\nto=\"http://h\"\nadd=[\"X\"]\n":                      "no header field",
	} {
		write(text)
		code, _, errOut = l.run("-w", ws, "relay", "desk")
		assert.Equal(t, 2, code, text)
		assert.Contains(t, errOut, says, text)
	}
	code, _, errOut = l.run("-w", ws, "relay")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--to")
}

// A relay gives requests the endpoint's security: a program that sends none is answered, nothing
// of the secret is kept, and whoever does not know the address is not let in.
func TestARelayAddsTheEndpointsSecurity(t *testing.T) {
	l := at(t)
	ws := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run("-w", ws, "add", "http://"+l.h.Plain+"/pilots?wsdl")
	require.Equal(t, 0, code, errOut)
	t.Setenv("PILOT_WORD", "slack water at nine")
	for _, args := range [][]string{
		{"identity", "set", "pilot", "user=pilot-desk", "secret=env:PILOT_WORD"},
		{"-w", ws, "endpoint", "set", "PilotOrders", "identity=pilot"},
		{"-w", ws, "endpoint", "set", "PilotOrders", "token=digest"},
		{"-w", ws, "endpoint", "set", "PilotOrders", "timestamp=5m"},
	} {
		code, _, errOut = l.run(args...)
		require.Equal(t, 0, code, errOut)
	}
	code, envelope, errOut := l.run("sample", "http://"+l.h.Plain+"/pilots?wsdl", "OrderPilot", "--example")
	require.Equal(t, 0, code, errOut)
	post := func(address string) (int, string) {
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Post(address,
			`application/soap+xml; charset=utf-8; action="urn:skerry:pilots:OrderPilot"`, strings.NewReader(envelope))
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	address, told, end := relayed(t, "-w", ws, "relay", "--to", "PilotOrders")
	_, body := post(address)
	assert.Contains(t, body, "Fault", "the service wants a token")
	assert.Equal(t, 0, end(), told)

	address, told, end = relayed(t, "-w", ws, "relay", "--to", "PilotOrders", "--secure", "--approve")
	status, body := post(address)
	assert.Equal(t, 502, status, "the identity was not let go there: %s", body)
	assert.Contains(t, body, "pilot")
	assert.Equal(t, 0, end(), told)
	code, _, errOut = l.run("-w", ws, "identity", "allow", "pilot", "http://"+l.h.Plain)
	require.Equal(t, 0, code, errOut)

	address, told, end = relayed(t, "-w", ws, "relay", "--to", "PilotOrders", "--secure", "--bodies", "none")
	assert.Contains(t, told.String(), "with the endpoint's security")
	assert.Regexp(t, `/[a-z0-9]{20,}/`, address, "nobody guesses it")
	status, body = post(address)
	assert.Equal(t, 200, status, body)
	assert.Equal(t, 0, end(), told)
	code, out, _ := l.run("-w", ws, "journal", "show", "last", "--bytes", "--json")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "added by the relay")
	assert.NotContains(t, out, "slack water")
	assert.NotContains(t, out, "<OrderPilotResponse", "no body is kept")
}
