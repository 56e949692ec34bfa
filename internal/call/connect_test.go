package call_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/identity"
)

// A connection can be led elsewhere: the name stays for Host and TLS, and an identity goes only
// where it is allowed to.
func TestAConnectionThatIsLedElsewhere(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("address", "http://quay.skerry.invalid/berths")
	x := run(t, p)
	assert.Equal(t, "connect.name-unknown", x.Cause().ID)
	p.Settings.Set("connect-to", h.Plain)
	x = run(t, p)
	require.Equal(t, exchange.OutcomePassed, x.Outcome, x.Result)
	assert.Contains(t, string(x.Leg().Out), "\r\nHost: quay.skerry.invalid\r\n")
	assert.Equal(t, h.Plain, x.Leg().Conn.Remote)

	p.Settings.Set("connect-to", strings.Replace(h.Plain, "127.0.0.1", "localhost", 1))
	p.Settings.Set("ip", "4")
	assert.Equal(t, exchange.OutcomePassed, run(t, p).Outcome)
	p.Settings.Set("ip", "6")
	p.Settings.Set("connect-to", h.Plain)
	x = run(t, p)
	assert.Equal(t, exchange.Connect, x.StoppedAt)
	assert.Contains(t, x.Cause().Why, "no address of IPv6")

	// What a workspace says leads no identity away.
	p = berths(t, h, "/berths")
	p.Settings.Layers[0].Values["connect-to"] = []string{"127.0.0.1:1"}
	p.Settings.Set("token", "text")
	p.Settings.Set("identity", "desk")
	t.Setenv("DESK_WORD", "slack")
	p.Identity = func(string) (*identity.Identity, error) {
		return &identity.Identity{Name: "desk", User: "desk", Secret: "env:DESK_WORD"}, nil
	}
	p.Allowed = func(_, _, host, port string) bool { return host+":"+port == h.Plain }
	x = run(t, p)
	assert.Equal(t, "security.identity-host-new", x.Cause().ID)
	assert.Contains(t, x.Cause().Title, "127.0.0.1:1")
}

// A call begins a trace, and tells the service of it only where that is asked for.
func TestATraceIsSentOnlyWhereItIsAskedFor(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	assert.NotContains(t, string(run(t, p).Leg().Out), "traceparent")
	p.Settings.Set("trace-header", "true")
	x := run(t, p)
	require.NotNil(t, x.Trace)
	assert.Contains(t, string(x.Leg().Out), "\r\ntraceparent: 00-"+x.Trace.ID+"-"+x.Trace.Span+"-01\r\n")
	for said, goesOn := range map[string]bool{
		"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01":   true,
		"cc-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-x": true,
		"00-00000000000000000000000000000000-00f067aa0ba902b7-01":   false,
		"ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01":   false,
		"00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01":   false,
		"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-x": false,
		"": false,
	} {
		assert.Equal(t, goesOn, exchange.NewTrace(said, "").Parent != "", said)
	}
}
