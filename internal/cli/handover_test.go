package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/trust"
)

// The sheet holds what a program needs, as it was sent, and no secret.
func TestTheSheetOfAWorkingCall(t *testing.T) {
	l := at(t)
	t.Setenv("PILOT", "slack water at nine")
	leaf := l.file("leaf.pem", string(trust.PEM(l.h.Cert.Cert)))
	code, _, errOut := l.run(
		"call",
		"OrderPilot",
		"callSign=SKAL4",
		"boarding=outer ground",
		"at=2027-03-01T08:00:00Z",
		"--contract",
		"http://"+l.h.Plain+"/pilots?wsdl",
		"--port",
		"PilotOrders",
		"--trust",
		leaf,
		"--address",
		"https://"+l.h.TLS+"/pilots",
		"--user",
		"pilot-desk",
		"--secret-from",
		"env:PILOT",
		"--token",
		"digest",
		"--timestamp",
		"5m",
		"--header",
		"Authorization: Bearer neap-tide-seven",
		"--reply",
		"none",
	)
	require.Equal(t, 0, code, errOut)
	code, sheet, errOut := l.run("handover", "settings", "last")
	require.Equal(t, 0, code, errOut)
	for _, want := range []string{"https://" + l.h.TLS + "/pilots", "SOAP version | 1.2", "PasswordDigest",
		"user pilot-desk", "timestamp |", trust.Grouped(trust.Fingerprint(l.h.Cert.Cert)), "POST /pilots HTTP/1.1",
		"a receive limit that does", "## Envelope, as it was sent"} {
		assert.Contains(t, sheet, want)
	}
	for _, secret := range []string{"slack water at nine", "neap-tide-seven"} {
		assert.NotContains(t, sheet, secret)
	}
	var s struct {
		Passed   bool
		Sections []struct {
			Title string
			Rows  []struct{ Name, Value string }
		}
	}
	l.json(0, &s, "handover", "settings", "last")
	assert.True(t, s.Passed)
	assert.Equal(t, "Where", s.Sections[0].Title)
	out := filepath.Join(l.dir, "sheet.md")
	code, _, _ = l.run("handover", "settings", "last", "--out", out)
	assert.Equal(t, 0, code)
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Equal(t, sheet, string(b))

	// One that did not pass says so, and text from outside obeys nothing.
	l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--address",
		"http://"+l.h.Plain+"/quay\x1b[2J|`x",
	)
	l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--address",
		"http://"+l.h.Plain+"/nothing",
	)
	_, sheet, _ = l.run("handover", "settings", "last")
	assert.Contains(t, sheet, "IT DID NOT PASS")
	assert.NotContains(t, sheet, "\x1b")
	code, ticket, _ := l.run("handover", "ticket", "last")
	assert.Equal(t, 0, code)
	for _, want := range []string{"# FindBerths fails", "receive.not-found", "| from | 127.0.0.1:", "HTTP/1.1 404", "POST /nothing HTTP/1.1", "No such quay", "| wait |"} {
		assert.Contains(t, ticket, want)
	}
	l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--address",
		"http://"+l.h.Plain+"/berths/~terminal",
		"--user",
		"clerk",
		"--secret-from",
		"env:PILOT",
		"--token",
		"text",
	)
	_, ticket, _ = l.run("handover", "ticket", "last")
	assert.NotContains(t, ticket, "slack water at nine")
	assert.NotContains(t, ticket, "\x1b")
	l.run(
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--address",
		"http://127.0.0.1:1/",
		"--checks",
	)
	_, ticket, _ = l.run("handover", "ticket", "last")
	assert.Contains(t, ticket, "| checked | the service listens on another port: ")
	code, _, errOut = l.run("handover", "settings", "NoSuch")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "NoSuch is no kept exchange")
}
