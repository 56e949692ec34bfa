package call_test

import (
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A service that stops taking the request in, or breaks off, says so by what it does.
func TestRequestsThatDoNotLeaveWhole(t *testing.T) {
	for want, end := range map[string]func(*net.TCPConn, chan struct{}){
		"send.timed-out": func(_ *net.TCPConn, over chan struct{}) { <-over },
		"send.reset": func(c *net.TCPConn, _ chan struct{}) {
			_, _ = c.Read(make([]byte, 1000))
			_ = c.SetLinger(0)
		},
	} {
		ln, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		over, done := make(chan struct{}), make(chan struct{})
		go func() {
			defer close(done)
			c, err := ln.AcceptTCP()
			if err != nil {
				return
			}
			_ = c.SetReadBuffer(4096)
			end(c, over)
			c.Close()
		}()
		p := berths(t, harbour(t), "/berths")
		p.Settings.Set("address", "http://"+ln.Addr().String()+"/berths")
		p.Settings.Set("send-time", (300 * time.Millisecond).String())
		p.Settings.Set("send-limit", "64 MiB")
		p.SetDraft([]byte(strings.Replace(find, "20", "20"+strings.Repeat(" ", 24<<20), 1)))
		x := run(t, p)
		close(over)
		ln.Close()
		<-done
		require.NotEmpty(t, x.Findings)
		assert.Equal(t, want, x.Findings[0].ID, "%v", ids(x))
		assert.Equal(t, "send", x.StoppedAt.String())
	}
}

// A status that no other finding speaks of, and a status that contradicts its answer.
func TestStatusesOverASocket(t *testing.T) {
	reply := `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body>` +
		`<FindBerthsResponse xmlns="urn:skerry:berths"/></soap:Body></soap:Envelope>`
	for want, answer := range map[string]string{
		"receive.client-error": "HTTP/1.1 409 Conflict\r\nContent-Type: text/plain\r\nContent-Length: 4\r\n\r\nbusy",
		"receive.status-differs": fmt.Sprintf("HTTP/1.1 500 Oops\r\nContent-Type: text/xml\r\nContent-Length: "+
			"%d\r\n\r\n%s", len(reply), reply),
	} {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		done := make(chan struct{})
		go func() {
			defer close(done)
			c, err := ln.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			_, _ = c.Read(make([]byte, 4096))
			_, _ = io.WriteString(c, answer)
		}()
		p := berths(t, harbour(t), "/berths")
		p.Settings.Set("address", "http://"+ln.Addr().String()+"/berths")
		x := run(t, p)
		ln.Close()
		<-done
		assert.Contains(t, ids(x), want)
	}
}

// A limit of the whole call that falls before one of its parts is no mistake: all
// limits hold, and the first that falls ends the call.
func TestTheLimitThatFallsFirstIsNoMistake(t *testing.T) {
	h := harbour(t)
	p := berths(t, h, "/berths")
	p.Settings.Set("total-time", "8s") // less than connecting alone is given
	x := run(t, p)
	assert.Equal(t, "passed", string(x.Outcome))
	require.Len(t, x.Findings, 1)
	assert.Equal(t, "binding.time-limits-contradict", x.Findings[0].ID)
	assert.Equal(t, "note", string(x.Findings[0].Severity))

	p = berths(t, h, "/berths/~wait.timed-out")
	p.Settings.Set("total-time", "300ms")
	x = run(t, p)
	assert.Equal(t, "wait.timed-out", x.Findings[0].ID)
	assert.Equal(t, "no answer began before the whole call had to end", x.Findings[0].Title)
	assert.Contains(t, x.Findings[0].Why, "The limit on the whole call, 300ms, ran out here")
	require.Len(t, x.Findings[0].Remedies, 1)
	assert.Equal(t, "raise the total time to 1.2s", x.Findings[0].Remedies[0].Title, "more for the answer alone would help nothing")

	f := fetch(t, "http://"+h.Plain+"/berths?wsdl", "total-time", "8s")
	assert.NotNil(t, f.Contract)
}
