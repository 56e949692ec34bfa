package diagnose

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/wire"
)

// What is recognised is called by its name, with what to do.
func TestWhatIsNotReadHereIsNamed(t *testing.T) {
	for media, want := range map[string]string{
		"application/fastinfoset": "Fast Infoset", "application/soap+msbin1": "binary XML", "application/dime": "DIME",
		"application/exi": "EXI",
	} {
		c := answered(200, media, "\x01\x02\x03")
		c.ReplyDoc, c.Reply = nil, nil
		fs := Run(c)
		require.NotEmpty(t, fs, media)
		assert.Equal(t, "receive.not-soap", fs[0].ID)
		assert.Contains(t, fs[0].Title, want)
		assert.NotEmpty(t, fs[0].Program)
	}
	for in, want := range map[string]string{
		"\x00\x00\x12\x04\x00\x00\x00\x00\x00": "HTTP/2 alone", "SSH-2.0-x\r\n": "SSH", "220 quay ready\r\n": "mail or FTP", "hello": "",
	} {
		c := answered(200, "text/xml", "")
		c.X.Legs[0].In = exchange.NewBody([]byte(in))
		c.Err = &wire.Error{Stage: exchange.Receive, Reason: wire.NotHTTP, Err: errors.New("no status line")}
		fs := Run(c)
		require.NotEmpty(t, fs)
		assert.Equal(t, "receive.not-http", fs[0].ID)
		assert.Contains(t, fs[0].Why, want)
	}
	for scheme, want := range map[string]string{"jms": "message queue", "net.pipe": "named pipes", "gopher": "http or https"} {
		c := answered(200, "text/xml", "<a/>")
		c.Err = &endpoint.AddressError{Address: scheme + "://quay/berths", Scheme: scheme}
		fs := schemeUnsupported(c)
		require.Len(t, fs, 1)
		assert.Contains(t, fs[0].Why, want)
	}
}
