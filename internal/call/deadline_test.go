package call_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/call"
	"orenda/internal/exchange"
)

// The limit on the whole call holds after everything has come, too: while the reply is
// read, and while it is verified.
func TestTheWholeCallEndsWhileItsReplyIsReadAndVerified(t *testing.T) {
	h := harbour(t)
	for at, id := range map[exchange.Stage]string{
		exchange.Read: "read.timed-out", exchange.Verify: "verify.timed-out",
	} {
		p := berths(t, h, "/berths")
		p.SetDraft([]byte(find))
		p.Settings.Set("total-time", "400ms")
		p.Settings.Set("connect-time", "200ms")
		var c *call.Call
		var slow sync.Once
		c = call.New(p, func() { // what reads is as slow as it takes
			if c.Snapshot().Stage(at).State == exchange.Open {
				slow.Do(func() { time.Sleep(500 * time.Millisecond) })
			}
		})
		x := c.Run(t.Context())
		require.Equal(t, exchange.OutcomeStopped, x.Outcome, id)
		assert.Equal(t, at, x.StoppedAt)
		f := x.Cause()
		require.NotNil(t, f)
		assert.Equal(t, id, f.ID)
		assert.Equal(t, exchange.Yours, f.Side)
		assert.Contains(t, f.Why, "The limit on the whole call, 400ms, ran out here.")
	}
}

// Where the whole call had to end while nothing came any more, it is not said that bytes were coming.
func TestTheWholeCallEndsWhileNothingComes(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~receive.stalled")
	p.SetDraft([]byte(find))
	p.Settings.Set("total-time", "1500ms")
	x := run(t, p)
	f := x.Cause()
	require.NotNil(t, f)
	assert.Equal(t, "receive.timed-out", f.ID)
	assert.Contains(t, f.Why, "14 bytes of body came, then nothing for 1.")
	assert.NotContains(t, f.Why, "still coming")
}

// A service that refuses who calls, where nobody was named, refused no password.
func TestARefusalWithoutATokenIsOfNoPassword(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths/~read.fault-security-refused")
	p.SetDraft([]byte(find))
	f := run(t, p).Cause()
	require.NotNil(t, f)
	assert.Equal(t, "the service does not know who calls: no token was sent", f.Title)
	assert.NotContains(t, f.Program, "password")
}
