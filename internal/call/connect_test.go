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
