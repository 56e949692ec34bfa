package call_test

import (
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
		began := time.Now()
		var c *call.Call
		c = call.New(p, func() { // what reads is as slow as it takes
			if c.Snapshot().Stage(at).State == exchange.Open {
				time.Sleep(time.Until(began.Add(500 * time.Millisecond)))
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
