package call_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/standin"
)

// A request may be compressed, or have fields behind its last chunk: what is recorded of it is the message.
func TestRequestsAreCoded(t *testing.T) {
	h := harbour(t)
	var body []byte
	var trailer http.Header
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ = io.ReadAll(r.Body)
		trailer = r.Trailer
		r.Body = io.NopCloser(bytes.NewReader(body))
		h.ServeHTTP(w, r)
	}))
	defer gate.Close()
	p := berths(t, h, "/berths")
	p.Settings.Set("address", gate.URL+"/berths")
	p.Settings.Set("request-coding", "gzip")
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	z, err := gzip.NewReader(bytes.NewReader(body))
	require.NoError(t, err)
	plain, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, string(plain), string(x.Leg().RequestBody))
	assert.True(t, bytes.HasSuffix(x.Leg().Out, body), "the bytes are those that left")
	assert.Regexp(t, `gzip, \d+ bytes of \d+`, x.Stage(exchange.Send).Facts.Get("compressed"))
	assert.EqualValues(t, len(body), x.Leg().Request.Declared)

	p.Settings.Set("transfer", "chunked")
	p.Settings.Set("trailer", "Checked: by Ines", "Tide: ebb")
	x = run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	assert.Equal(t, "by Ines", trailer.Get("Checked"))
	assert.Equal(t, "ebb", trailer.Get("Tide"))
	assert.Contains(t, string(x.Leg().Out), "Trailer: Checked, Tide\r\n")
	assert.Equal(t, string(plain), string(x.Leg().RequestBody))
}

// A secret is in none of the bytes that are kept, also where they were compressed.
func TestACompressedSecretIsCut(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", "slack-water-word")
	p := berths(t, h, "/berths")
	p.Settings.Set("request-coding", "gzip")
	p.Settings.Set("token", "text")
	p.Settings.Set("identity", "desk")
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: standin.User, Secret: "env:DESK_WORD"}, nil
	}
	for _, how := range []string{"length", "chunked"} {
		p.Settings.Set("transfer", how)
		x := run(t, p)
		c := x.Redact(nil)
		require.NotEmpty(t, c.Leg().Out)
		at := bytes.Index(c.Leg().Out, []byte("\r\n\r\n")) + 4
		assert.NotContains(t, string(c.Leg().Out[at:]), "\x1f\x8b", "the compressed bytes are masked, %s", how)
		assert.NotContains(t, string(c.Leg().RequestBody), "slack-water-word")
	}
}

// A field behind the last chunk is as secret as one of the head; its name is one, and says nothing of the framing.
func TestTrailersAreFields(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("transfer", "chunked")
	p.Settings.Set("trailer", "X-Token: slack-water-word")
	x := run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, "%+v", x.Findings)
	require.Contains(t, string(x.Leg().Out), "slack-water-word")
	n := fmt.Sprint(len(x.Leg().Out))
	assert.Equal(t, n+" of "+n+" bytes", x.Stage(exchange.Send).Facts.Get("handed over"))
	b, err := x.Redact(nil).Marshal()
	require.NoError(t, err)
	assert.NotContains(t, string(b)+string(x.Redact(nil).Leg().Out), "slack-water-word")
	for _, bad := range []string{"Tide", "Ti de: ebb", "Tide\r\nX: ebb", "Content-Length: 3", "transfer-encoding: chunked", "Host: h"} {
		p.Settings.Set("trailer", bad)
		x = run(t, p)
		assert.Equal(t, exchange.Binding, x.StoppedAt, bad)
		assert.Equal(t, "binding.value-invalid", x.Cause().ID, bad)
	}
}

// How a call is sent is not how its log-in is: that goes to another service.
func TestALogInIsSentPlain(t *testing.T) {
	h := harbour(t)
	t.Setenv("DESK_WORD", standin.Password)
	p, dir := manifests(t, h)
	p.Settings.Set("session", "desk")
	p.Settings.Set("transfer", "chunked")
	p.Settings.Set("trailer", "X-Token: slack-water-word")
	p.Settings.Set("request-coding", "gzip")
	p.Settings.Set("expect-continue", "true")
	p.Identity = func(string) (*identity.Identity, error) { return deskIdentity(h, dir, identity.KeyBearer), nil }
	var kept []*exchange.Exchange
	p.Keep = func(x *exchange.Exchange) { kept = append(kept, x) }
	x := run(t, p)
	assert.Equal(t, "gzip", x.Leg().Request.Get("Content-Encoding"))
	require.Len(t, kept, 1)
	for _, field := range []string{"Transfer-Encoding", "Trailer", "Content-Encoding", "Expect"} {
		assert.Empty(t, kept[0].Leg().Request.Get(field), field)
	}
	assert.NotContains(t, string(kept[0].Leg().Out), "slack-water-word")
}

// Servers that take no compressed request, or no chunks, are named, and the remedy mends it.
func TestCodingsThatAreRefused(t *testing.T) {
	h := harbour(t)
	for id, set := range map[string][2]string{
		"receive.coding-refused":  {"request-coding", "gzip"},
		"receive.length-required": {"transfer", "chunked"},
	} {
		p := berths(t, h, "/berths/~"+id)
		p.Settings.Set(set[0], set[1])
		x := run(t, p)
		require.Equal(t, id, x.Cause().ID)
		assert.Equal(t, exchange.Certain, x.Cause().Certainty)
		require.NotEmpty(t, x.Cause().Remedies)
		ch := x.Cause().Remedies[0].All()[0]
		assert.Equal(t, "endpoint.berths."+set[0], ch.Key)
		p.Settings.Set(set[0], map[string]string{"request-coding": "none", "transfer": "length"}[set[0]])
		assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
	}
}
