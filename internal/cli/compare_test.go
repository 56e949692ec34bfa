package cli

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCallsAreCompared(t *testing.T) {
	l := at(t)
	id := func(args ...string) string {
		var x struct{ ID string }
		l.json(0, &x, append([]string{"call", "FindBerths", "--contract", l.berths(), "--port", "BerthDesk11"}, args...)...)
		return x.ID
	}
	t.Setenv("NEAP", "slack water")
	token := []string{"--user", "desk", "--secret-from", "env:NEAP", "--token", "digest"}
	a := id(append([]string{"length=12"}, token...)...)
	b := id(append([]string{"length=12"}, token...)...)
	var r struct {
		Same        bool
		SetAside    int
		Differences []struct {
			Kind, Where, Path, Why string
			A, B                   *struct {
				Value                string
				Offset, Length, Line int
			}
		}
	}
	l.json(0, &r, "compare", a, b)
	assert.True(t, r.Same, "%+v", r)
	assert.Positive(t, r.SetAside, "nonce, time and digest")

	c := id("length=20")
	l.json(1, &r, "compare", a, c)
	require.NotEmpty(t, r.Differences)
	assert.Equal(t, "missing", r.Differences[0].Kind)
	assert.Equal(t, "Header/Security", r.Differences[0].Path)
	assert.Nil(t, r.Differences[0].B)
	assert.Equal(t, "value", r.Differences[1].Kind)
	assert.Equal(t, "Body/FindBerths/length", r.Differences[1].Path)
	assert.Equal(t, "12", r.Differences[1].A.Value)

	file := l.file("body.xml", `<FindBerths xmlns="urn:skerry:berths"><length>20</length></FindBerths>`)
	code, out, _ := l.run("compare", file, c)
	assert.Zero(t, code, out)
	http := l.file("sent.http", "POST /berths HTTP/1.1\r\nHost: x\r\nSOAPAction: \"other\"\r\n\r\n"+
		`<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerths xmlns="urn:skerry:berth"><length>20</length></FindBerths></s:Body></s:Envelope>`)
	code, out, _ = l.run("compare", http, c)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "namespace")
	assert.Contains(t, out, "SOAPAction")
	for _, bad := range []string{"nothing-like-it", file + "x/y@z"} {
		code, _, _ = l.run("compare", bad, c)
		assert.Equal(t, 3, code, bad)
	}
}

// A draft is compared as it would leave.
func TestADraftIsCompared(t *testing.T) {
	l := at(t)
	ws := filepath.Join(t.TempDir(), "w")
	require.Zero(t, first(l.run("-w", ws, "add", l.berths())))
	code, _, errOut := l.run("-w", ws, "call", "FindBerths", "length=60", "--endpoint", "BerthDesk11", "--reply", "none")
	require.Zero(t, code, errOut)
	code, out, errOut := l.run("-w", ws, "compare", "FindBerths/first@BerthDesk11", "last")
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "Body/FindBerths/length")
}
